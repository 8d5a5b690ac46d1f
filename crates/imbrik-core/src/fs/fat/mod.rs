//! FAT12, FAT16 and FAT32, after the FAT file system specification 1.03.

mod boot;
mod usage;

pub(super) use usage::usage;

use super::{Volume, VolumeKind, serial_text};
use crate::{
    bytes,
    error::Result,
    store::{ReadAt, read_up_to},
    units::ByteOffset,
};
use boot::{BootSector, Width};

/// How much of the root directory is searched for the label: tools write it first.
const ROOT_PREFIX: usize = 16 << 10;
const ATTR_VOLUME_ID: u8 = 0x08;
const ATTR_LONG_NAME: u8 = 0x0f;

/// Names a FAT volume. The label in the root directory counts: the copy in the boot sector is
/// what it was at the time of formatting.
pub(super) fn recognise(store: &dyn ReadAt) -> Result<Option<Volume>> {
    let sector = read_up_to(store, ByteOffset::ZERO, 512)?;
    let Some(boot) = BootSector::decode(&sector) else { return Ok(None) };
    let root = read_up_to(store, boot.root_directory, ROOT_PREFIX)?;
    Ok(Some(Volume {
        kind: match boot.width {
            Width::Bits12 => VolumeKind::Fat12,
            Width::Bits16 => VolumeKind::Fat16,
            Width::Bits32 => VolumeKind::Fat32,
        },
        label: label_in(&root).or(boot.label),
        uuid: serial_text(boot.serial),
        size: boot.volume_len,
    }))
}

fn label_in(root: &[u8]) -> Option<String> {
    let entries = root.as_chunks::<32>().0;
    let attributes = |entry: &[u8; 32]| bytes::u8(entry, 11).unwrap_or(0);
    entries
        .iter()
        .take_while(|entry| entry.first() != Some(&0))
        .filter(|entry| entry.first() != Some(&0xe5))
        .filter(|entry| attributes(entry) & ATTR_LONG_NAME != ATTR_LONG_NAME)
        .find(|entry| attributes(entry) & ATTR_VOLUME_ID != 0)
        .and_then(|entry| bytes::text(entry.get(..11)?))
}
