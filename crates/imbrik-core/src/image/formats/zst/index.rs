//! The frames of a Zstandard file, and the content of its skippable ones.

use super::{frame, seek_table};
use crate::image::frames::{Codec, Frames, MOST_CONTENT};
use imbrik_store::{
    ReadAt,
    error::{Error, Result},
    read_up_to, read_vec,
    units::{ByteLen, ByteOffset, Span},
};
use std::sync::{Mutex, PoisonError};
use zstd::bulk::Decompressor;

/// The maximum length of a manifest: 64 MiB list the tiles of four terabytes.
const MOST_MANIFEST: ByteLen = ByteLen::mib(64);

/// The metadata of a Zstandard file, available without decoding it.
#[derive(Default)]
pub(super) struct ZstIndex {
    /// Its frames; `None` when one of them is too large, or doesn't say how large it is, so that
    /// the file can only be decoded from its start.
    pub(super) frames: Option<Frames>,
    /// The manifest's JSON, when the file holds one.
    pub(super) manifest: Option<Vec<u8>>,
    /// True if the file ends in a seek table.
    pub(super) has_seek_table: bool,
}

impl ZstIndex {
    /// Reads the seek table of a Zstandard file, or, if it has none, the headers of all frames.
    ///
    /// # Errors
    /// [`crate::Class::Corrupt`] when it is truncated or contradicts itself.
    pub(super) fn of(file: &dyn ReadAt) -> Result<Self> {
        let mut this = Self { frames: Some(Frames::default()), ..Self::default() };
        match seek_table::read(file)? {
            Some(entries) => {
                this.has_seek_table = true;
                let mut end = ByteOffset::ZERO;
                for entry in &entries {
                    let (packed, content) = (entry.packed.into(), entry.content.into());
                    end = this.add(end, ByteLen::new(packed), Some(ByteLen::new(content)))?;
                }
                // The manifest is at the end: thousands of other frames all over the file are not read.
                for entry in entries.iter().rev() {
                    let start = ByteOffset::new(end.get().saturating_sub(entry.packed.into()));
                    if entry.content == 0
                        && let Some(json) = manifest_in(file, Span::between(start, end))?
                    {
                        this.manifest = Some(json);
                        break;
                    }
                    end = start;
                }
            }
            None => {
                let mut at = ByteOffset::ZERO;
                let end = ByteOffset::new(file.size().get());
                while at < end {
                    let frame::FrameHead { packed, content } = frame::shape(file, at)?;
                    let behind = this.add(at, packed, content)?;
                    if content == Some(ByteLen::ZERO)
                        && let Some(json) = manifest_in(file, Span::between(at, behind))?
                    {
                        this.manifest = Some(json);
                    }
                    at = behind;
                }
            }
        }
        Ok(this)
    }

    /// Adds the frame at `at`, and returns the start of the next one.
    fn add(
        &mut self,
        at: ByteOffset,
        packed: ByteLen,
        content: Option<ByteLen>,
    ) -> Result<ByteOffset> {
        let end = at.saturating_add(packed);
        match (content, &mut self.frames) {
            (Some(ByteLen::ZERO), _) => {}
            (Some(len), Some(frames)) if len <= MOST_CONTENT => {
                frames.push(Span::between(at, end), len)?;
            }
            _ => self.frames = None,
        }
        Ok(end)
    }
}

/// Compares the headers of all skippable frames with the seek table, which is enough to read the file here; other
/// decoders go by the headers. Returns the first difference.
///
/// # Errors
/// When the file cannot be read.
pub(super) fn verify_skippable_frames(file: &dyn ReadAt) -> Result<Option<String>> {
    let Some(entries) = seek_table::read(file)? else { return Ok(None) };
    let end = ByteOffset::new(file.size().get());
    // The table itself is the last frame, and not listed.
    let listed = entries.iter().map(|entry| (ByteLen::new(entry.packed.into()), entry.content));
    let table = listed.clone().map(|(packed, _)| packed).sum::<ByteLen>();
    let table = Span::between(ByteOffset::new(table.get()), end).len();
    let mut at = ByteOffset::ZERO;
    for (packed, content) in listed.chain([(table, 0)]) {
        let expected = frame::FrameHead { packed, content: Some(ByteLen::ZERO) };
        if content == 0 && frame::shape(file, at).ok() != Some(expected) {
            return Ok(Some(format!("the header of the frame at {at} is damaged")));
        }
        at = at.saturating_add(packed);
    }
    Ok(None)
}

/// The manifest, when the skippable frame at `packed` holds one.
fn manifest_in(file: &dyn ReadAt, packed: Span) -> Result<Option<Vec<u8>>> {
    let head = read_up_to(file, packed.start(), 24)?;
    let header = frame::skippable_header(frame::MANIFEST_MAGIC, 0);
    if head.get(..4) != header.get(..4) || head.get(8..24) != Some(frame::MANIFEST_TAG) {
        return Ok(None);
    }
    if packed.len() > MOST_MANIFEST {
        return Err(Error::corrupt(format!("the manifest is {} long", packed.len())));
    }
    let at = packed.start().saturating_add(ByteLen::new(24));
    let len = packed.len().saturating_sub(ByteLen::new(24)).to_usize().unwrap_or(0);
    read_vec(file, at, len).map(Some)
}

/// Decodes Zstandard frames, with a decoder a thread that is used again.
#[derive(Default)]
pub(in crate::image) struct ZstCodec {
    decoders: Mutex<Vec<Decompressor<'static>>>,
}

impl Codec for ZstCodec {
    fn decode(&self, packed: &[u8], _: Span, out: &mut [u8]) -> std::result::Result<(), String> {
        let pooled = self.decoders.lock().unwrap_or_else(PoisonError::into_inner).pop();
        let mut decoder = match pooled {
            Some(decoder) => decoder,
            None => Decompressor::new().map_err(|e| e.to_string())?,
        };
        let got = decoder.decompress_to_buffer(packed, out);
        self.decoders.lock().unwrap_or_else(PoisonError::into_inner).push(decoder);
        match got {
            Ok(len) if len == out.len() => Ok(()),
            Ok(len) => Err(format!("{len} bytes where {} should be", out.len())),
            Err(why) => Err(why.to_string().to_lowercase()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::{super::Zst, *};
    use crate::image::formats::format::{FrameLens, Writing as _};
    use imbrik_store::{Counted, SparseStore, Tally};

    /// Fails if data between frames are read all over the file: on a hard disk, that takes a minute.
    #[test]
    fn file_of_many_members_is_indexed_in_a_few_reads() {
        let mut file = Vec::new();
        let mut frames = Vec::new();
        for _ in 0..3000 {
            let padding = Zst.padding(40).unwrap();
            let frame = zstd::bulk::compress(b"brood", 1).unwrap();
            for (bytes, content) in [(padding, 0), (frame, 5)] {
                frames.push(FrameLens { packed: bytes.len() as u32, content });
                file.extend_from_slice(&bytes);
            }
        }
        file.extend(Zst.tail(b"{}", &frames).unwrap().unwrap());
        let tally = Tally::default();
        let index = ZstIndex::of(&Counted::new(SparseStore::of(&file), &tally)).unwrap();
        assert_eq!(index.manifest.as_deref(), Some(&b"{}"[..]));
        assert_eq!(index.frames.unwrap().size(), ByteLen::new(15_000));
        assert!(tally.reads() < 10, "{}", tally.reads());
    }
}
