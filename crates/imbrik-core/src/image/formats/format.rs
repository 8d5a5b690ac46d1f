//! The trait that every container format implements.

use crate::image::{
    ImageFinding,
    frames::{Codec, FramedStore},
};
use imbrik_store::{
    ReadAt,
    bytes::is_zero,
    error::{Error, Result},
    units::{ByteLen, ByteOffset},
};
use std::{
    io::{self, BufReader, Read, Seek, SeekFrom},
    ops::RangeInclusive,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
};

/// A container format: how it is recognised, read and written.
pub(in crate::image) trait Format: Sync {
    /// Its name in messages.
    fn name(&self) -> &'static str;

    /// Recognises a file by `head`, its first 16 bytes.
    fn is_at(&self, head: &[u8]) -> bool;

    /// Its file name extensions, in lower case, the usual one first.
    fn endings(&self) -> &'static [&'static str];

    /// Its writer; `None` for formats that are only read.
    fn writing(&self) -> Option<&'static dyn Writing> {
        None
    }

    /// Reads its properties without decoding it.
    ///
    /// # Errors
    /// [`crate::Class::Corrupt`] when it is truncated or inconsistent.
    fn look(&self, _file: &Arc<dyn ReadAt>) -> Result<Inside> {
        Ok(Inside::default())
    }

    /// Checks header fields that only other decoders need: lengths and checksums. Returns the error, as the end of a
    /// sentence.
    ///
    /// # Errors
    /// When the file can't be read.
    fn verify(&self, _file: &Arc<dyn ReadAt>) -> Result<Option<String>> {
        Ok(None)
    }

    /// Passes its content to `work` as a stream; of an archive, that of `entry`, or of the only image in it.
    ///
    /// # Errors
    /// [`crate::Class::Unsupported`] when it contains no image or more than one, and the errors of `work`. Damaged
    /// content is an error of the stream.
    fn decode(&self, file: Packed, entry: Option<&str>, work: UseContent<'_>) -> Result<()>;
}

/// Receives a stream of content.
pub(in crate::image) type UseContent<'a> = &'a mut dyn FnMut(&mut dyn Read) -> Result<()>;

/// Properties of a container that need no decoding.
#[derive(Default)]
pub(in crate::image) struct Inside {
    /// Its content, if random access is possible; otherwise it is decoded from the start.
    pub(in crate::image) framed: Option<FramedStore>,
    /// The JSON of its manifest.
    pub(in crate::image) manifest: Option<Vec<u8>>,
    /// Errors, one sentence each.
    pub(in crate::image) findings: Vec<ImageFinding>,
}

/// The writer of a container format: one frame per tile, in order, and a trailer.
pub(in crate::image) trait Writing: Sync {
    /// Its name in options: `zst`.
    fn word(&self) -> &'static str;

    /// A short description for help.
    fn about(&self) -> &'static str;

    /// The levels of its codec, from fast to small; `None` without a codec.
    fn levels(&self) -> Option<RangeInclusive<i32>>;

    /// The default level.
    fn usual_level(&self) -> i32;

    /// A codec for one thread, for a card of `card` bytes; `None` if tiles are written uncompressed, with holes for
    /// zeros.
    ///
    /// # Errors
    /// When memory is insufficient.
    fn packer(&self, level: i32, card: ByteLen) -> Result<Option<Box<dyn Packer>>>;

    /// The trailer after `frames` tiles, if it contains the manifest; `None` if the manifest is a separate file.
    ///
    /// # Errors
    /// When a count exceeds the range of the format.
    fn tail(&self, _manifest: &[u8], _frames: &[FrameLens]) -> Result<Option<Vec<u8>>> {
        Ok(None)
    }

    /// `len` bytes, at least 8, of padding between frames that decoders skip; `None` if the format has none.
    fn padding(&self, _len: usize) -> Option<Vec<u8>> {
        None
    }

    /// The frame at `at` of an incomplete file, if it is complete; `None` if its start doesn't contain its length.
    fn frame_at(&self, _file: &dyn ReadAt, _at: ByteOffset) -> Option<FrameLens> {
        None
    }

    /// A decoder for such frames; `None` if there are none.
    fn codec(&self) -> Option<Box<dyn Codec>> {
        None
    }

    /// Returns whether a frame depends on the size of its card, so that it can't be reused in an image of another size.
    fn frames_tell_the_card(&self) -> bool {
        false
    }

    /// Returns whether the manifest is inside the file.
    fn holds_manifest(&self) -> bool {
        false
    }
}

/// The sizes of a frame.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::image) struct FrameLens {
    /// In the file, in bytes.
    pub(in crate::image) packed: u32,
    /// Of its content, in bytes.
    pub(in crate::image) content: u32,
}

/// The codec of one thread.
pub(in crate::image) trait Packer: Send {
    /// Compresses a tile into an independent frame.
    ///
    /// # Errors
    /// When the codec fails for insufficient memory.
    fn pack(&mut self, tile: &[u8]) -> io::Result<Vec<u8>>;
}

impl<F: FnMut(&[u8]) -> io::Result<Vec<u8>> + Send> Packer for F {
    fn pack(&mut self, tile: &[u8]) -> io::Result<Vec<u8>> {
        self(tile)
    }
}

/// The size of `tile` after compression by `packer`.
///
/// # Errors
/// When the codec fails.
pub(in crate::image) fn packed_len(packer: Option<Box<dyn Packer>>, tile: &[u8]) -> Result<usize> {
    match packer {
        // A hole takes no space.
        None if is_zero(tile) => Ok(0),
        None => Ok(tile.len()),
        Some(mut packer) => {
            let packed = packer.pack(tile).map_err(|e| Error::io("compressing", e))?;
            Ok(packed.len())
        }
    }
}

/// A compressed file as a stream.
pub(in crate::image) type Packed = BufReader<Stream>;

/// Bytes of a file that are read at once.
const BUFFER: usize = 1 << 18;

/// A store as a stream that counts the bytes read.
pub(in crate::image) struct Stream {
    store: Arc<dyn ReadAt>,
    at: u64,
    read: Arc<AtomicU64>,
}

impl Stream {
    /// `store` from its start; `read` is the counter.
    pub(in crate::image) fn of(store: Arc<dyn ReadAt>, read: Arc<AtomicU64>) -> Packed {
        BufReader::with_capacity(BUFFER, Self { store, at: 0, read })
    }
}

impl Read for Stream {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let left = self.store.size().get().saturating_sub(self.at);
        let len = usize::try_from(left).unwrap_or(usize::MAX).min(buf.len());
        let buf = buf.get_mut(..len).unwrap_or_default();
        if buf.is_empty() {
            return Ok(0);
        }
        self.store.read_at(ByteOffset::new(self.at), buf).map_err(io::Error::other)?;
        let len = ByteLen::of(buf).get();
        self.at = self.at.saturating_add(len);
        self.read.fetch_add(len, Ordering::Relaxed);
        Ok(buf.len())
    }
}

impl Seek for Stream {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let place = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::End(by) => self.store.size().get().checked_add_signed(by),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
        };
        self.at = place.ok_or(io::ErrorKind::InvalidInput)?;
        Ok(self.at)
    }
}

/// Converts an error of the stream into an error of the image.
pub(in crate::image) fn broken(error: io::Error) -> Error {
    // Errors of the store are passed unchanged.
    let error = match error.downcast::<Error>() {
        Ok(error) => return error,
        Err(error) => error,
    };
    match error.kind() {
        io::ErrorKind::UnexpectedEof => Error::corrupt("it is truncated"),
        io::ErrorKind::InvalidData | io::ErrorKind::InvalidInput | io::ErrorKind::Other => {
            Error::corrupt(format!("it is damaged: {}", error.to_string().to_lowercase()))
        }
        _ => Error::io("unpacking it", error),
    }
}
