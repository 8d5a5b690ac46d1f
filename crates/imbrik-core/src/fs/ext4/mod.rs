//! ext2, ext3 and ext4: one on-disk format with features, after the kernel's documentation
//! ("ext4 Data Structures and Algorithms").

mod checksum;
mod group;
mod inode;
mod journal;
mod map;
mod replay;
mod settle;
mod superblock;
mod usage;

pub(super) use settle::settle;
pub(super) use usage::usage;

use super::{Least, State, Usage, Volume, VolumeKind, uuid_text};
use crate::{error::Result, store::ReadAt, units::ByteLen};
use group::Group;
use inode::Reader;
use superblock::Superblock;

/// Names an ext volume.
pub(super) fn recognise(store: &dyn ReadAt) -> Result<Option<Volume>> {
    let Some(superblock) = Superblock::read(store)? else { return Ok(None) };
    Ok(Some(Volume {
        kind: superblock.kind(),
        uuid: uuid_text(superblock.uuid),
        size: superblock.volume_len(),
        label: superblock.label,
    }))
}

/// What state the volume in `store` was left in.
///
/// # Errors
/// When the store cannot be read.
pub(super) fn state(store: &dyn ReadAt) -> Result<State> {
    Ok(match Superblock::read(store)? {
        None => State::Unknown,
        Some(superblock) if superblock.has_errors() => State::Errors,
        Some(superblock) if superblock.needs_recovery() => State::ToReplay,
        Some(superblock) if !superblock.was_unmounted() => State::Unclean,
        Some(_) => State::Clean,
    })
}

/// How small the volume in `store` could become, `usage` being what it has in use: as many groups
/// as its files' blocks fill, or its inodes.
///
/// # Errors
/// When the store cannot be read.
pub(super) fn least(store: &dyn ReadAt, usage: &Usage) -> Result<Option<Least>> {
    let Some(superblock) = Superblock::read(store)? else { return Ok(None) };
    let groups = superblock.groups();
    let mut free_inodes = 0u64;
    for number in 0..groups {
        free_inodes =
            free_inodes.saturating_add(Group::read(store, &superblock, number)?.free_inodes);
    }
    let inodes = superblock.inodes_per_group.saturating_mul(groups).saturating_sub(free_inodes);
    let for_inodes = inodes.div_ceil(superblock.inodes_per_group.max(1)).max(1);
    // What is in use of files and journal: everything but the metadata that groups bring along.
    let used = usage.in_use();
    let a_group = superblock.metadata_blocks_a_group();
    let own = a_group.saturating_mul(groups);
    let data = used.get().checked_div(superblock.block_len).unwrap_or(0).saturating_sub(own);
    let room = superblock.blocks_per_group.saturating_sub(a_group).max(1);
    let for_data = data.div_ceil(room);
    // One group less than the inodes need can still have a short last group of blocks.
    let by_inodes = for_inodes
        .saturating_sub(1)
        .saturating_mul(superblock.blocks_per_group)
        .saturating_add(a_group);
    let by_data = data.saturating_add(a_group.saturating_mul(for_data.max(for_inodes)));
    let (blocks, limit) = match by_inodes > by_data {
        true => (by_inodes, "its number of files (inodes)"),
        false => (by_data, "its data"),
    };
    let blocks = blocks.saturating_add(superblock.first_data_block).min(superblock.blocks);
    let size = ByteLen::new(blocks.saturating_mul(superblock.block_len));
    Ok(Some(Least { size, limit }))
}

/// The small file at `path`, up to `most` bytes of it; `None` when there is none, or when the
/// volume makes no sense.
///
/// # Errors
/// When the store cannot be read.
pub(super) fn small_file(
    store: &dyn ReadAt,
    path: &[&[u8]],
    most: usize,
) -> Result<Option<Vec<u8>>> {
    match Superblock::read(store)?.filter(|superblock| superblock.has_sound_numbers()) {
        Some(superblock) => Reader { store, superblock: &superblock }.file(path, most),
        None => Ok(None),
    }
}

/// Whether there is anything at `path`; `None` when that cannot be told.
///
/// # Errors
/// When the store cannot be read.
pub(super) fn has_entry(store: &dyn ReadAt, path: &[&[u8]]) -> Result<Option<bool>> {
    match Superblock::read(store)?.filter(Superblock::has_sound_numbers) {
        Some(superblock) => Reader { store, superblock: &superblock }.has(path),
        None => Ok(None),
    }
}

impl Superblock {
    /// Which of the three names people give it: features that ext3 doesn't know make it ext4, a
    /// journal makes it ext3.
    fn kind(&self) -> VolumeKind {
        if self.has_features_since_ext4() {
            VolumeKind::Ext4
        } else if self.has_journal() {
            VolumeKind::Ext3
        } else {
            VolumeKind::Ext2
        }
    }
}
