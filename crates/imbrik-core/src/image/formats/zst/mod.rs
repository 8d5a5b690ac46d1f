//! Zstandard images: one independent frame a tile, then the manifest and a seek table in skippable
//! frames, which every decoder passes over.
//!
//! After RFC 8878 and the Zstandard seekable format 0.1.0:
//!
//! ```text
//! frame of tile 0 │ frame of tile 1 │ … │ skippable: manifest │ skippable: seek table
//! ```
//!
//! A skippable frame of zeros before a long frame aligns that to a block, so that another file can share its blocks on
//! the disk.

mod frame;
mod index;
mod seek_table;

use super::{
    format::{Format, FrameLens, Inside, Packed, Packer, UseContent, Writing},
    members::{Decoder, MemberKind},
};
use crate::image::{
    ImageFinding,
    frames::{Codec, FramedStore},
};
use frame::{MANIFEST_MAGIC, MANIFEST_TAG, PADDING_MAGIC, skippable_header};
use imbrik_store::{
    ReadAt,
    error::{Error, Result},
    exact::invariant_error,
    units::{ByteLen, ByteOffset},
};
pub(in crate::image) use index::ZstCodec;
use index::ZstIndex;
use std::{ops::RangeInclusive, sync::Arc};
use zstd::{bulk::Compressor, stream::read, zstd_safe::CParameter};

const MEMBERS: MemberKind = MemberKind {
    name: "zstd",
    // A frame, or a skippable one.
    first_bytes: &[
        0x28, 0x50, 0x51, 0x52, 0x53, 0x54, 0x55, 0x56, 0x57, 0x58, 0x59, 0x5a, 0x5b, 0x5c, 0x5d,
        0x5e, 0x5f,
    ],
    start: |source| Ok(Box::new(read::Decoder::with_buffer(source)?.single_frame())),
};

impl Decoder for read::Decoder<'static, Packed> {
    fn into_inner(self: Box<Self>) -> Packed {
        self.finish()
    }
}

/// Zstandard files.
pub(super) struct Zst;

impl Format for Zst {
    fn name(&self) -> &'static str {
        MEMBERS.name
    }

    fn is_at(&self, head: &[u8]) -> bool {
        // A skippable frame: 0x184D2A50 to 0x184D2A5F.
        head.starts_with(b"\x28\xb5\x2f\xfd") || matches!(head, [0x50..=0x5f, 0x2a, 0x4d, 0x18, ..])
    }

    fn endings(&self) -> &'static [&'static str] {
        &["zst", "zstd"]
    }

    fn writing(&self) -> Option<&'static dyn Writing> {
        Some(&Self)
    }

    fn look(&self, file: &Arc<dyn ReadAt>) -> Result<Inside> {
        let index = ZstIndex::of(&**file)?;
        let mut findings = Vec::new();
        if index.manifest.is_some() && !index.has_seek_table {
            findings.push(ImageFinding::NoSeekTable);
        }
        let framed = index
            .frames
            .map(|frames| FramedStore::new(Arc::clone(file), Box::<ZstCodec>::default(), frames));
        Ok(Inside { framed, manifest: index.manifest, findings })
    }

    fn verify(&self, file: &Arc<dyn ReadAt>) -> Result<Option<String>> {
        index::verify_skippable_frames(&**file)
    }

    fn decode(&self, file: Packed, _entry: Option<&str>, work: UseContent<'_>) -> Result<()> {
        const { &MEMBERS }.decode(file, work)
    }
}

impl Writing for Zst {
    fn frame_at(&self, file: &dyn ReadAt, at: ByteOffset) -> Option<FrameLens> {
        let found = frame::shape(file, at).ok()?;
        Some(FrameLens {
            packed: found.packed.get().try_into().ok()?,
            content: found.content?.get().try_into().ok()?,
        })
    }

    fn padding(&self, len: usize) -> Option<Vec<u8>> {
        let content = u32::try_from(len.checked_sub(8)?).ok()?;
        let mut padding = skippable_header(PADDING_MAGIC, content).to_vec();
        padding.resize(len, 0);
        Some(padding)
    }

    fn codec(&self) -> Option<Box<dyn Codec>> {
        Some(Box::new(ZstCodec::default()))
    }

    fn word(&self) -> &'static str {
        "zst"
    }

    fn about(&self) -> &'static str {
        "Zstandard with random access"
    }

    fn levels(&self) -> Option<RangeInclusive<i32>> {
        Some(1..=22)
    }

    /// Fast enough to keep up with a card reader.
    fn usual_level(&self) -> i32 {
        3
    }

    fn packer(&self, level: i32, _card: ByteLen) -> Result<Option<Box<dyn Packer>>> {
        let start = || {
            let mut compressor = Compressor::new(level)?;
            // A checksum a frame lets `zstd -t` prove the content, not only the shape.
            compressor.set_parameter(CParameter::ChecksumFlag(true))?;
            Ok(compressor)
        };
        let mut compressor = start().map_err(|e| Error::io("starting to compress", e))?;
        Ok(Some(Box::new(move |tile: &[u8]| compressor.compress(tile))))
    }

    fn tail(&self, manifest: &[u8], frames: &[FrameLens]) -> Result<Option<Vec<u8>>> {
        let len = manifest.len().checked_add(MANIFEST_TAG.len());
        let len = len.and_then(|len| u32::try_from(len).ok());
        let len = len.ok_or_else(|| invariant_error("the manifest is too long"))?;
        let mut tail = skippable_header(MANIFEST_MAGIC, len).to_vec();
        tail.extend_from_slice(MANIFEST_TAG);
        tail.extend_from_slice(manifest);
        let packed = u32::try_from(tail.len()).ok();
        let packed = packed.ok_or_else(|| invariant_error("the manifest is too long"))?;
        let all = [frames, &[FrameLens { packed, content: 0 }]].concat();
        let table = seek_table::encode(&all);
        tail.extend(table.ok_or_else(|| Error::unsupported("the card has too many tiles"))?);
        Ok(Some(tail))
    }

    fn holds_manifest(&self) -> bool {
        true
    }
}
