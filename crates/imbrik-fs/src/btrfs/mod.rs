//! btrfs, after its developers' documentation ("On-disk Format") and the kernel's `btrfs_tree.h`.
//!
//! ```text
//!  superblock ──► chunk tree: the bytes of the device for each range of logical addresses
//!       └───────► root tree ──► extent tree: the allocated logical addresses
//!                          └──► block group tree: the used bytes of each range, if not in the extent tree
//! ```
//!
//! The superblock and tree blocks are verified by their checksums, owners and generations. Space outside of all chunks
//! is unused, if the chunks don't overlap and add up to the allocated space of the device. Within a chunk, space
//! outside of all extents is unused, if the extents add up to the used bytes of the block group, and all of them to
//! those of the superblock. Otherwise all chunks count as used.

mod chunks;
mod extents;
mod superblock;
mod tree;

use crate::{
    Examined, State, Usage, Volume, VolumeKind, filesystem::Filesystem, finding::VolumeFinding,
    ids::uuid_text,
};
use chunks::Chunks;
use imbrik_store::{
    ReadAt, bytes,
    error::{Class, Error, Result},
    read_up_to,
    units::{ByteLen, ByteOffset, Span},
};
use std::sync::Arc;
use superblock::Superblock;
use tree::Trees;

const BTRFS: VolumeKind = VolumeKind::new("btrfs");
/// The space before the first chunk: boot loaders, and the first superblock.
const FRONT: ByteLen = ByteLen::mib(1);

/// btrfs volumes.
pub(crate) struct Btrfs;

impl Filesystem for Btrfs {
    fn kinds(&self) -> &'static [VolumeKind] {
        &[BTRFS]
    }

    fn recognise(&self, store: &dyn ReadAt) -> Result<Option<Volume>> {
        let superblock = read_up_to(store, superblock::PLACES[0], superblock::LEN)?;
        if superblock.get(0x40..0x48) != Some(superblock::MAGIC) {
            return Ok(None);
        }
        Ok(Some(Volume {
            kind: BTRFS,
            label: superblock.get(0x12b..0x22b).and_then(bytes::text),
            uuid: bytes::array(&superblock, 0x20).and_then(uuid_text),
            size: ByteLen::new(bytes::le_u64(&superblock, 0x70).unwrap_or(0)),
        }))
    }

    fn examine(&self, store: &Arc<dyn ReadAt>, _kind: VolumeKind) -> Result<Examined> {
        let mut state = State::Unknown;
        let usage = match examined(&**store, &mut state) {
            Err(error) if is_doubt(&error) => Usage::distrusted(store.size(), &error),
            usage => usage?,
        };
        Ok(Examined { state, usage, recovered: None, least: None })
    }
}

fn is_doubt(error: &Error) -> bool {
    matches!(error.class(), Class::Corrupt | Class::Unsupported)
}

fn examined(store: &dyn ReadAt, state: &mut State) -> Result<Usage> {
    let superblock = Superblock::read(store)?;
    *state = if superblock.log_root == 0 { State::Clean } else { State::ToReplay };
    let chunks = Chunks::read(store, &superblock)?;
    let mut used = vec![Span::whole(FRONT.min(store.size()))];
    let copies = superblock::PLACES.into_iter().filter_map(|at| Span::new(at, ByteLen::kib(4)));
    used.extend(copies.filter(|copy| copy.end() <= ByteOffset::new(store.size().get())));
    // Space past the end of its device is unused.
    let end = ByteOffset::new(superblock.device_len);
    used.push(Span::between(end, ByteOffset::new(store.size().get())));
    let mut findings = Vec::new();
    let trees = Trees { store, superblock: &superblock, chunks: &chunks };
    match extents::spans(&trees) {
        // The blocks of a log are allocated, but not in the extent tree yet.
        Ok(extents) if superblock.log_root == 0 => used.extend(extents),
        Ok(_) => used.extend(chunks.spans()),
        Err(error) if is_doubt(&error) => {
            findings.push(VolumeFinding::AllGivenOutCounts { why: error.to_string() });
            used.extend(chunks.spans());
        }
        Err(error) => return Err(error),
    }
    let mut usage = Usage::of(used, Vec::new());
    usage.findings = findings;
    Ok(usage)
}
