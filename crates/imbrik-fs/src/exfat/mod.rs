//! exFAT, after the exFAT file system specification.

mod boot;
mod folders;
mod reshape;
mod usage;

use super::{Examined, Least, State, Usage, Volume, VolumeKind, serial_text};
use boot::BootSector;
pub(super) use boot::{seal_region, with_serial};
use imbrik_store::{
    ReadAt, bytes,
    error::Result,
    read_up_to,
    units::{ByteLen, ByteOffset, Span},
};
pub(super) use reshape::{check, reshape, smallest};
use usage::usage;

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

/// What is in use, the state, and how small it could become.
///
/// # Errors
/// When the store cannot be read.
pub(super) fn examine(store: &dyn ReadAt) -> Result<Examined> {
    let sector = read_up_to(store, ByteOffset::ZERO, 512)?;
    let Some(boot) = BootSector::decode(&sector) else {
        let usage = Usage::whole(store.size(), "its boot sector is gone");
        return Ok(Examined { state: State::Unknown, usage, settled: None, least: None });
    };
    let usage = usage(store, &boot)?;
    let data = boot.data();
    let used: ByteLen =
        usage.used.iter().filter_map(|span| span.intersect(data)).map(Span::len).sum();
    let size = ByteLen::new(data.start().saturating_add(used).get());
    let least =
        usage.whole_because.is_none().then_some(Least { size, limit: "its data", is_exact: false });
    let state = match (boot.has_failed, boot.is_dirty) {
        (true, _) => State::Errors,
        (false, true) => State::Unclean,
        (false, false) => State::Clean,
    };
    Ok(Examined { state, usage, settled: None, least })
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
