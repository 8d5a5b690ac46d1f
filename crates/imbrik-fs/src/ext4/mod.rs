//! ext2, ext3 and ext4: one on-disk format with features, after the kernel's documentation
//! ("ext4 Data Structures and Algorithms").

mod checksum;
mod edit;
mod extents;
mod files;
mod fixed;
mod group;
mod journal;
mod orphans;
mod quota;
mod redo;
mod reseed;
mod reshape;
mod settle;
mod space;
mod strict;
mod superblock;
mod usage;

pub(super) use edit::put_file;
pub(super) use reseed::with_uuid;
pub(super) use reshape::{check, reshape, smallest};
pub(super) use settle::settle;
pub(super) use usage::usage;

use super::{State, Volume, VolumeKind, uuid_text};
use files::Reader;
use imbrik_store::{ReadAt, bytes, error::Result, read_up_to, units::ByteOffset};
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

/// Names an ext volume by the copy of its superblock in its second group, which stands where the
/// first one would in `store`.
pub(super) fn recognise_copy(store: &dyn ReadAt) -> Result<Option<Volume>> {
    let raw = read_up_to(store, ByteOffset::new(1024), Superblock::LEN)?;
    let is_copy = bytes::le_u16(&raw, 0x5a) == Some(1);
    if is_copy { recognise(store) } else { Ok(None) }
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

/// `s_wtime`, with its high byte.
///
/// # Errors
/// When the store cannot be read.
pub(super) fn last_written(store: &dyn ReadAt) -> Result<Option<u64>> {
    let raw = read_up_to(store, ByteOffset::new(1024), Superblock::LEN)?;
    let low = bytes::le_u32(&raw, 0x30).map(u64::from).filter(|low| *low != 0);
    let high = bytes::u8(&raw, 0x274).map(u64::from).unwrap_or(0);
    Ok(low.map(|low| high << 32 | low))
}

/// `s_mnt_count`.
///
/// # Errors
/// When the store cannot be read.
pub(super) fn mount_count(store: &dyn ReadAt) -> Result<u64> {
    let raw = read_up_to(store, ByteOffset::new(1024), Superblock::LEN)?;
    Ok(bytes::le_u16(&raw, 0x34).map_or(0, u64::from))
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

/// The names in the folder at `path`; `None` when there is none that can be read.
///
/// # Errors
/// When the store cannot be read.
pub(super) fn names(store: &dyn ReadAt, path: &[&[u8]]) -> Result<Option<Vec<Vec<u8>>>> {
    match Superblock::read(store)?.filter(Superblock::has_sound_numbers) {
        Some(superblock) => Reader { store, superblock: &superblock }.names(path),
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
