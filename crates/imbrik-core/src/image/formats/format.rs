//! What there is to know of a container: the one trait behind which each stands.

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

/// A container by content: how it is known, and how it is read and written.
pub(in crate::image) trait Format: Sync {
    /// What it is called in a message.
    fn name(&self) -> &'static str;

    /// Whether a file that starts with `head`, its first 16 bytes, is one.
    fn is_at(&self, head: &[u8]) -> bool;

    /// What file names of it end in, in small letters, the usual one first.
    fn endings(&self) -> &'static [&'static str];

    /// How it is written; `None` when it is only read.
    fn writing(&self) -> Option<&'static dyn Writing> {
        None
    }

    /// What it tells without being decoded.
    ///
    /// # Errors
    /// [`crate::Class::Corrupt`] when it is cut short or contradicts itself.
    fn look(&self, _file: &Arc<dyn ReadAt>) -> Result<Inside> {
        Ok(Inside::default())
    }

    /// Checks what is not needed to read the content here, but by other decoders: lengths and checksums in headers.
    /// Returns what is wrong, as the end of a sentence.
    ///
    /// # Errors
    /// When the file cannot be read.
    fn verify(&self, _file: &Arc<dyn ReadAt>) -> Result<Option<String>> {
        Ok(None)
    }

    /// Hands its content to `work` as a stream, from its start; of an archive, that of `entry`, or of
    /// the only image in it.
    ///
    /// # Errors
    /// [`crate::Class::Unsupported`] when it holds no image or not plainly one, and what `work` answers. What
    /// is wrong with the content itself is an error of the stream.
    fn decode(&self, file: Packed, entry: Option<&str>, work: UseContent<'_>) -> Result<()>;
}

/// What is done with a stream of content.
pub(in crate::image) type UseContent<'a> = &'a mut dyn FnMut(&mut dyn Read) -> Result<()>;

/// What a container tells without being decoded.
#[derive(Default)]
pub(in crate::image) struct Inside {
    /// Its content, when that can be read at random; otherwise it is decoded from its start.
    pub(in crate::image) framed: Option<FramedStore>,
    /// The JSON of the manifest that it holds.
    pub(in crate::image) manifest: Option<Vec<u8>>,
    /// What is wrong with it, a sentence each.
    pub(in crate::image) findings: Vec<ImageFinding>,
}

/// How a container is written: a frame a tile, in order, and what stands behind them.
pub(in crate::image) trait Writing: Sync {
    /// What it is asked for by: `zst`.
    fn word(&self) -> &'static str;

    /// What it is, in a few words for whoever chooses.
    fn about(&self) -> &'static str;

    /// The levels of its codec, from fast to small; `None` when it has none.
    fn levels(&self) -> Option<RangeInclusive<i32>>;

    /// The level used unless another is asked for.
    fn usual_level(&self) -> i32;

    /// A codec for one thread, for a card of `card` bytes; `None` when tiles are written as they are,
    /// and zeros as holes.
    ///
    /// # Errors
    /// When it cannot be started for want of memory.
    fn packer(&self, level: i32, card: ByteLen) -> Result<Option<Box<dyn Packer>>>;

    /// What stands behind the tiles, `frames` of them, when the manifest is kept in the file; `None`
    /// when it stands beside it.
    ///
    /// # Errors
    /// When there is more of something than the format can count.
    fn tail(&self, _manifest: &[u8], _frames: &[FrameLens]) -> Result<Option<Vec<u8>>> {
        Ok(None)
    }

    /// `len` bytes, at least 8, that decoders pass over, to stand between frames; `None`
    /// when the format has none.
    fn padding(&self, _len: usize) -> Option<Vec<u8>> {
        None
    }

    /// The frame that starts at `at` of a file that was never finished, when all of it is there; `None`
    /// where that cannot be told from its start.
    fn frame_at(&self, _file: &dyn ReadAt, _at: ByteOffset) -> Option<FrameLens> {
        None
    }

    /// Decodes such frames; `None` when there are none.
    fn codec(&self) -> Option<Box<dyn Codec>> {
        None
    }

    /// Whether a frame tells of the card that it is of, so that it can stand in no image of another size.
    fn frames_tell_the_card(&self) -> bool {
        false
    }

    /// Whether the manifest is kept in the file.
    fn holds_manifest(&self) -> bool {
        false
    }
}

/// How long a frame is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::image) struct FrameLens {
    /// Bytes in the file.
    pub(in crate::image) packed: u32,
    /// Bytes of content.
    pub(in crate::image) content: u32,
}

/// The codec of one thread.
pub(in crate::image) trait Packer: Send {
    /// Packs a tile into a frame that is complete in itself.
    ///
    /// # Errors
    /// When the codec fails, which takes a lack of memory.
    fn pack(&mut self, tile: &[u8]) -> io::Result<Vec<u8>>;
}

impl<F: FnMut(&[u8]) -> io::Result<Vec<u8>> + Send> Packer for F {
    fn pack(&mut self, tile: &[u8]) -> io::Result<Vec<u8>> {
        self(tile)
    }
}

/// How long `tile` would be when it is packed by `packer`.
///
/// # Errors
/// When the codec fails.
pub(in crate::image) fn packed_len(packer: Option<Box<dyn Packer>>, tile: &[u8]) -> Result<usize> {
    match packer {
        // A hole takes no room.
        None if is_zero(tile) => Ok(0),
        None => Ok(tile.len()),
        Some(mut packer) => {
            let packed = packer.pack(tile).map_err(|e| Error::io("compressing", e))?;
            Ok(packed.len())
        }
    }
}

/// A packed file as a stream.
pub(in crate::image) type Packed = BufReader<Stream>;

/// How much of a file is read at once.
const BUFFER: usize = 1 << 18;

/// A store as a stream that counts how many of its bytes were read.
pub(in crate::image) struct Stream {
    store: Arc<dyn ReadAt>,
    at: u64,
    read: Arc<AtomicU64>,
}

impl Stream {
    /// `store` from its start; `read` counts.
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

/// An error of the stream itself, as an error of the image.
pub(in crate::image) fn broken(error: io::Error) -> Error {
    // What the store below said is said as it was.
    let error = match error.downcast::<Error>() {
        Ok(error) => return error,
        Err(error) => error,
    };
    match error.kind() {
        io::ErrorKind::UnexpectedEof => Error::corrupt("it is cut short"),
        io::ErrorKind::InvalidData | io::ErrorKind::InvalidInput | io::ErrorKind::Other => {
            Error::corrupt(format!("it is damaged: {}", error.to_string().to_lowercase()))
        }
        _ => Error::io("unpacking it", error),
    }
}
