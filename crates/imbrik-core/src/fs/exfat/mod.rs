//! exFAT, after the exFAT file system specification.

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
use boot::BootSector;

/// The root directory's entry that holds the volume's label.
const VOLUME_LABEL: u8 = 0x83;
/// How much of the root directory is searched for the label: it stands among the first entries.
const ROOT_PREFIX: usize = 16 << 10;

/// Names an exFAT volume.
pub(super) fn recognise(store: &dyn ReadAt) -> Result<Option<Volume>> {
    let sector = read_up_to(store, ByteOffset::ZERO, 512)?;
    let Some(boot) = BootSector::decode(&sector) else { return Ok(None) };
    let root = read_up_to(store, boot.root_directory(), ROOT_PREFIX)?;
    Ok(Some(Volume {
        kind: VolumeKind::ExFat,
        label: label_in(&root),
        uuid: serial_text(boot.serial),
        size: boot.volume_len,
    }))
}

fn label_in(root: &[u8]) -> Option<String> {
    let entries = root.as_chunks::<32>().0;
    let entry = entries
        .iter()
        .take_while(|entry| entry.first() != Some(&0))
        .find(|entry| entry.first() == Some(&VOLUME_LABEL))?;
    let units = usize::from(bytes::u8(entry, 1)?.min(11));
    bytes::text_utf16(entry.get(2..units.checked_mul(2)?.checked_add(2)?)?)
}
