//! F2FS, after the kernel's documentation of its on-disk layout ("WHAT IS Flash-Friendly File
//! System", "On-disk Layout") and `f2fs_fs.h`.
//!
//! ```text
//! superblock, twice │ 2 checkpoints │ SIT, twice │ NAT, twice │ SSA       │ main area
//! location of       │ the valid     │ valid      │ location   │ owners of │ nodes and data in
//! all areas         │ copies of SIT │ blocks of  │ of each    │ blocks    │ segments of 2 MiB
//!                   │ and NAT       │ a segment  │ node       │           │
//! ```
//!
//! The superblock is accepted if its copy is the same, and the newer of two checkpoints if both are intact. A block of
//! the main area counts as unused if its segment's SIT entry says so, every entry's map matches its count, the sum of
//! all counts is that of the checkpoint, and every node in the NAT, and every data block of a node, is in a valid
//! block. A volume that was not unmounted has newer nodes after its checkpoint: it counts as used in full.

mod checkpoint;
mod node;
mod nodes;
mod segments;
mod superblock;
mod versioned;

use crate::{Examined, State, Usage, Volume, VolumeKind, filesystem::Filesystem, ids::uuid_text};
use checkpoint::Checkpoint;
use imbrik_store::{
    ReadAt, bytes,
    error::{Class, Error, Result},
    read_up_to,
    units::{ByteLen, ByteOffset, Span},
};
use segments::Segments;
use std::sync::Arc;
use superblock::Superblock;
use versioned::Blocks;

const F2FS: VolumeKind = VolumeKind::new("F2FS");
/// The block size in bytes, and the blocks per segment: other sizes are not supported.
const BLOCK: usize = 4096;
const SEGMENT: u64 = 512;

/// F2FS volumes.
pub(crate) struct F2fs;

impl Filesystem for F2fs {
    fn kinds(&self) -> &'static [VolumeKind] {
        &[F2FS]
    }

    fn recognise(&self, store: &dyn ReadAt) -> Result<Option<Volume>> {
        let superblock = read_up_to(store, ByteOffset::new(1024), 2048)?;
        if bytes::le_u32(&superblock, 0) != Some(superblock::MAGIC) {
            return Ok(None);
        }
        let block = bytes::le_u32(&superblock, 16).and_then(|log| 1u64.checked_shl(log));
        let size =
            bytes::le_u64(&superblock, 36).zip(block).and_then(|(n, len)| n.checked_mul(len));
        Ok(Some(Volume {
            kind: F2FS,
            label: superblock.get(124..124 + 1024).and_then(bytes::text_utf16),
            uuid: bytes::array(&superblock, 108).and_then(uuid_text),
            size: ByteLen::new(size.unwrap_or(0)),
        }))
    }

    /// The second superblock is one block after the first.
    fn copies(&self, _len: u64) -> Vec<(u64, u64)> {
        vec![(4096 + 1024, 1024)]
    }

    fn examine(&self, store: &Arc<dyn ReadAt>, _kind: VolumeKind) -> Result<Examined> {
        let mut state = State::Unknown;
        let usage = match examined(&**store, &mut state) {
            Err(error) if matches!(error.class(), Class::Corrupt | Class::Unsupported) => {
                Usage::distrusted(store.size(), &error)
            }
            usage => usage?,
        };
        Ok(Examined { state, usage, recovered: None, least: None })
    }
}

fn examined(store: &dyn ReadAt, state: &mut State) -> Result<Usage> {
    let superblock = Superblock::read(store)?;
    let checkpoint = Checkpoint::newest(store, &superblock)?;
    *state = checkpoint.state();
    match state {
        State::Clean => {}
        State::Errors => return Err(Error::unsupported("its system found errors in it")),
        State::ToReplay | State::Unclean | State::Unknown => {
            return Err(Error::unsupported("it was not unmounted"));
        }
    }
    let mut blocks = Blocks::default();
    let segments = Segments::read(store, &superblock, &checkpoint, &mut blocks)?;
    nodes::check(store, &superblock, &checkpoint, &segments, &mut blocks)?;
    let Blocks { mut used, zero: mut cleared } = blocks;
    // Superblocks and checkpoints.
    used.push((0, superblock.sit));
    used.extend(segments.used(&superblock, &checkpoint));
    let mut used = spans(&used);
    // The space after the last segment.
    let end = place(superblock.main_end());
    used.push(Span::between(end, ByteOffset::new(store.size().get())));
    // The kernel searches for newer nodes right after the last ones: old nodes on a card must not be there.
    cleared.extend(segments.behind_the_logs(&superblock, &checkpoint));
    let cleared = spans(&cleared);
    Ok(Usage::of(used, cleared))
}

/// Converts runs of blocks to ranges.
fn spans(runs: &[(u64, u64)]) -> Vec<Span> {
    runs.iter().map(|(first, end)| Span::between(place(*first), place(*end))).collect()
}

/// The offset of block `number`.
fn place(number: u64) -> ByteOffset {
    ByteOffset::new(number.saturating_mul(ByteLen::from_usize(BLOCK).get()))
}
