//! A Zstandard image, readable at any offset.

use super::{frame, seek_table};
use crate::{
    bytes::is_zero,
    error::{Error, Result},
    image::tile::TILE,
    store::{FileStore, ReadAt, check_range, read_up_to, read_vec},
    units::{ByteLen, ByteOffset, SectorSize, Span},
};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use zstd::bulk::Decompressor;

/// Frames up to this content can be read at random; larger ones would cost memory and time without
/// bound for a few bytes.
const MOST_CONTENT: ByteLen = ByteLen::mib(64);
/// A frame this short is worth comparing with the known frame of zeros.
const ZERO_FRAME: usize = 4096;
/// A manifest longer than this is no manifest: 64 MiB list the tiles of four terabytes.
const MOST_MANIFEST: ByteLen = ByteLen::mib(64);
/// Decoded frames that are kept for small reads.
const KEPT: usize = 4;

/// A frame with content.
#[derive(Clone, Copy, Debug)]
struct Frame {
    packed: Span,
    content: Span,
}

/// The content of a Zstandard file.
pub(in crate::image) struct ZstStore {
    file: Arc<FileStore>,
    size: ByteLen,
    frames: Vec<Frame>,
    manifest: Option<Vec<u8>>,
    has_seek_table: bool,
    decoders: Mutex<Vec<Decompressor<'static>>>,
    kept: Mutex<Vec<(ByteOffset, Arc<Vec<u8>>)>>,
    zero_frame: OnceLock<Vec<u8>>,
}

impl ZstStore {
    /// Opens a Zstandard file, by its seek table or, when there is none, by walking its frames.
    ///
    /// # Errors
    /// [`crate::Class::Corrupt`] when it is cut short or contradicts itself,
    /// [`crate::Class::Unsupported`] when a frame is too large to be read at random.
    pub(in crate::image) fn open(file: Arc<FileStore>) -> Result<Self> {
        let mut this = Self {
            size: ByteLen::ZERO,
            frames: Vec::new(),
            manifest: None,
            has_seek_table: false,
            decoders: Mutex::default(),
            kept: Mutex::default(),
            zero_frame: OnceLock::new(),
            file,
        };
        match seek_table::read(&*this.file)? {
            Some(entries) => {
                this.has_seek_table = true;
                let mut at = ByteOffset::ZERO;
                for entry in entries {
                    let packed = ByteLen::new(entry.packed.into());
                    let content = Some(ByteLen::new(entry.content.into()));
                    at = this.add(at, frame::Shape { packed, content })?;
                }
            }
            None => {
                let mut at = ByteOffset::ZERO;
                let end = ByteOffset::new(this.file.size().get());
                while at < end {
                    let shape = frame::shape(&*this.file, at)?;
                    at = this.add(at, shape)?;
                }
            }
        }
        Ok(this)
    }

    /// Adds the frame at `at` and answers where the next one starts.
    fn add(&mut self, at: ByteOffset, shape: frame::Shape) -> Result<ByteOffset> {
        let end = at.saturating_add(shape.packed);
        let packed = Span::between(at, end);
        match shape.content {
            Some(ByteLen::ZERO) => {
                if let Some(json) = self.manifest_in(packed)? {
                    self.manifest = Some(json);
                }
            }
            Some(len) if len <= MOST_CONTENT => {
                let start = ByteOffset::new(self.size.get());
                let content = Span::new(start, len)
                    .ok_or_else(|| Error::corrupt("the frames hold more than 64 bits can count"))?;
                self.frames.push(Frame { packed, content });
                self.size = ByteLen::new(content.end().get());
            }
            _ => {
                return Err(Error::unsupported(
                    "this zstd file was made in one piece and cannot be read at random: unpack it \
                     first (zstd -d)",
                ));
            }
        }
        Ok(end)
    }

    /// The manifest, when the skippable frame at `packed` holds one.
    fn manifest_in(&self, packed: Span) -> Result<Option<Vec<u8>>> {
        let head = read_up_to(&*self.file, packed.start(), 24)?;
        let header = frame::skippable_header(frame::MANIFEST_MAGIC, 0);
        if head.get(..4) != header.get(..4) || head.get(8..24) != Some(frame::MANIFEST_TAG) {
            return Ok(None);
        }
        if packed.len() > MOST_MANIFEST {
            return Err(Error::corrupt(format!("the manifest is {} long", packed.len())));
        }
        let at = packed.start().saturating_add(ByteLen::new(24));
        let len = packed.len().saturating_sub(ByteLen::new(24)).to_usize().unwrap_or(0);
        read_vec(&*self.file, at, len).map(Some)
    }

    /// The manifest's JSON, when the file holds one.
    pub(in crate::image) fn manifest(&self) -> Option<&[u8]> {
        self.manifest.as_deref()
    }

    /// Whether the file ends in a seek table.
    pub(in crate::image) fn has_seek_table(&self) -> bool {
        self.has_seek_table
    }

    fn frame_at(&self, at: ByteOffset) -> Option<(usize, Frame)> {
        let index = self.frames.partition_point(|frame| frame.content.end() <= at);
        self.frames.get(index).map(|frame| (index, *frame))
    }

    fn packed_bytes(&self, frame: Frame) -> Result<Vec<u8>> {
        // Bounded by the file: a frame's place was checked against its size.
        read_vec(&*self.file, frame.packed.start(), frame.packed.len().to_usize().unwrap_or(0))
    }

    /// Decodes a whole frame into `out`, which has exactly the length of its content.
    fn decode(&self, frame: Frame, out: &mut [u8]) -> Result<()> {
        let packed = self.packed_bytes(frame)?;
        if self.is_zero_frame(&packed, frame) {
            out.fill(0);
            return Ok(());
        }
        let pooled = self.decoders.lock().unwrap_or_else(PoisonError::into_inner).pop();
        let mut decoder = match pooled {
            Some(decoder) => decoder,
            None => Decompressor::new().map_err(|e| Error::io("starting to decode", e))?,
        };
        let got = decoder.decompress_to_buffer(&packed, out);
        self.decoders.lock().unwrap_or_else(PoisonError::into_inner).push(decoder);
        let damaged = |why: String| {
            Error::mismatch(format!("the image is damaged at its {}: {why}", frame.packed))
        };
        match got {
            Ok(len) if len == out.len() => {}
            Ok(len) => {
                return Err(damaged(format!("{len} bytes where {} should be", out.len())));
            }
            Err(why) => return Err(damaged(why.to_string().to_lowercase())),
        }
        if frame.content.len() == TILE && packed.len() <= ZERO_FRAME && is_zero(out) {
            let _ = self.zero_frame.set(packed);
        }
        Ok(())
    }

    /// Whether a frame is byte for byte the one that was decoded to zeros before.
    fn is_zero_frame(&self, packed: &[u8], frame: Frame) -> bool {
        frame.content.len() == TILE && self.zero_frame.get().is_some_and(|zero| zero == packed)
    }

    /// Decodes a frame for a small read, or takes it from those kept.
    fn decoded(&self, frame: Frame) -> Result<Arc<Vec<u8>>> {
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(place) = kept.iter().position(|(at, _)| *at == frame.content.start()) {
            let found = kept.remove(place);
            let content = Arc::clone(&found.1);
            kept.push(found);
            return Ok(content);
        }
        let mut content = vec![0; frame.content.len().to_usize().unwrap_or(0)];
        self.decode(frame, &mut content)?;
        let content = Arc::new(content);
        if kept.len() >= KEPT {
            kept.remove(0);
        }
        kept.push((frame.content.start(), Arc::clone(&content)));
        Ok(content)
    }
}

impl ReadAt for ZstStore {
    fn size(&self) -> ByteLen {
        self.size
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        check_range(at, ByteLen::of(buf), self.size)?;
        let mut at = at;
        let mut rest = buf;
        while !rest.is_empty() {
            let Some((_, frame)) = self.frame_at(at) else {
                return Err(Error::corrupt(format!("no frame holds {at}")));
            };
            let room = frame.content.end().saturating_since(at).to_usize().unwrap_or(0);
            let (now, later) = rest.split_at_mut(room.min(rest.len()));
            if at == frame.content.start() && ByteLen::of(now) == frame.content.len() {
                self.decode(frame, now)?;
            } else {
                let content = self.decoded(frame)?;
                let skip = at.saturating_since(frame.content.start()).to_usize().unwrap_or(0);
                let part = content.get(skip..skip.saturating_add(now.len())).unwrap_or_default();
                now.copy_from_slice(part);
            }
            at = at.saturating_add(ByteLen::of(now));
            rest = later;
        }
        Ok(())
    }

    fn next_data(&self, from: ByteOffset) -> Result<Option<Span>> {
        let Some((index, _)) = self.frame_at(from) else { return Ok(None) };
        for frame in self.frames.get(index..).unwrap_or_default() {
            let short = frame.packed.len() <= ByteLen::from_usize(ZERO_FRAME);
            if short && self.zero_frame.get().is_some() {
                let packed = self.packed_bytes(*frame)?;
                if self.is_zero_frame(&packed, *frame) {
                    continue;
                }
            }
            return Ok(Some(Span::between(frame.content.start().max(from), frame.content.end())));
        }
        Ok(None)
    }

    fn sector_size(&self) -> SectorSize {
        SectorSize::B512
    }
}
