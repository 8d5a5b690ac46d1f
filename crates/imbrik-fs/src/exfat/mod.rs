//! exFAT, after the exFAT file system specification.

mod boot;
mod commit;
mod edit;
mod files;
mod folders;
mod moved;
mod resize;
mod up_case;
mod usage;

use crate::{
    DerivedVolume, Examined, Least, NewSize, ResizeOptions, ResizedVolume, State, Unchanged, Usage,
    Volume, VolumeKind,
    commit::Commit,
    edit::{EditOptions, EditedVolume, FileEdit},
    files::Files,
    filesystem::{Filesystem, Resize, unchanged_by_names},
    ids::{serial_of, serial_text},
};
use boot::BootSector;
use imbrik_store::{
    ReadAt, bytes,
    error::Result,
    progress::Cancel,
    read_up_to,
    units::{ByteLen, ByteOffset, Span},
};
use std::sync::Arc;
use usage::usage;
use uuid::Uuid;

const EXFAT: VolumeKind = VolumeKind::new("exFAT");

/// exFAT volumes.
pub(crate) struct ExFat;

impl Filesystem for ExFat {
    fn kinds(&self) -> &'static [VolumeKind] {
        &[EXFAT]
    }

    fn recognise(&self, store: &dyn ReadAt) -> Result<Option<Volume>> {
        recognise(store)
    }

    /// In sector 12, of 512 bytes or 4 KiB.
    fn copies(&self, _len: u64) -> Vec<(u64, u64)> {
        vec![(12 * 512, 0), (12 * 4096, 0)]
    }

    fn examine(&self, store: &Arc<dyn ReadAt>, _kind: VolumeKind) -> Result<Examined> {
        examine(&**store)
    }

    fn files<'a>(&self, store: &'a dyn ReadAt) -> Result<Option<Box<dyn Files + 'a>>> {
        let sector = read_up_to(store, ByteOffset::ZERO, 512)?;
        let boot = BootSector::decode(&sector);
        Ok(boot.map(|boot| -> Box<dyn Files + 'a> { Box::new(files::Reader::new(store, boot)) }))
    }

    fn unmounted(&self, store: &dyn ReadAt) -> Result<Vec<(ByteOffset, Vec<u8>)>> {
        commit::unmounted(store)
    }

    fn unchanged(
        &self,
        store: &Arc<dyn ReadAt>,
        before: &Arc<dyn ReadAt>,
        cancel: &Cancel,
    ) -> Result<Unchanged> {
        unchanged_by_names(self, EXFAT, store, before, cancel)
    }

    fn check(&self, store: &Arc<dyn ReadAt>, cancel: &Cancel) -> Result<()> {
        resize::check(&**store, cancel)
    }

    fn edit(
        &self,
        store: &Arc<dyn ReadAt>,
        _kind: VolumeKind,
        edits: &[FileEdit],
        options: EditOptions,
    ) -> Result<EditedVolume> {
        edit::edit(store, edits, options)
    }

    fn commit(&self, store: &Arc<dyn ReadAt>, edited: &EditedVolume) -> Result<Commit> {
        commit::commit(store, edited)
    }

    fn with_id(
        &self,
        store: &Arc<dyn ReadAt>,
        _kind: VolumeKind,
        id: Uuid,
        _options: ResizeOptions<'_>,
    ) -> Result<DerivedVolume> {
        boot::with_serial(store, serial_of(id)).map(DerivedVolume::from)
    }

    fn has_only_files(&self) -> bool {
        true
    }

    fn resize(&self) -> Option<&dyn Resize> {
        Some(self)
    }

    fn at_another_place(
        &self,
        store: &dyn ReadAt,
        from: ByteOffset,
        to: ByteOffset,
    ) -> Result<Vec<(ByteOffset, Vec<u8>)>> {
        moved::at_another_place(store, from, to)
    }
}

impl Resize for ExFat {
    fn names(&self) -> &'static [&'static str] {
        &["exFAT"]
    }

    fn resize(
        &self,
        store: &Arc<dyn ReadAt>,
        _replayed: &[Span],
        size: NewSize,
        options: ResizeOptions<'_>,
    ) -> Result<ResizedVolume> {
        resize::resize(store, size, options.cancel)
    }

    fn smallest(
        &self,
        store: &Arc<dyn ReadAt>,
        _least: &Least,
        cancel: &Cancel,
    ) -> Result<ByteLen> {
        resize::smallest(&**store, cancel)
    }
}

/// The root directory's entry that holds the volume's label.
const VOLUME_LABEL: u8 = 0x83;
/// The part of the root directory that is searched for the label, which is among the first entries.
const ROOT_PREFIX: usize = 16 << 10;

/// Names an exFAT volume.
fn recognise(store: &dyn ReadAt) -> Result<Option<Volume>> {
    let sector = read_up_to(store, ByteOffset::ZERO, 512)?;
    let Some(boot) = BootSector::decode(&sector) else { return Ok(None) };
    let root = read_up_to(store, boot.root_directory(), ROOT_PREFIX)?;
    Ok(Some(Volume {
        kind: EXFAT,
        label: label_in(&root),
        uuid: serial_text(boot.serial),
        size: boot.volume_len,
    }))
}

/// The used space, the state, and the smallest size.
///
/// # Errors
/// When the store cannot be read.
fn examine(store: &dyn ReadAt) -> Result<Examined> {
    let sector = read_up_to(store, ByteOffset::ZERO, 512)?;
    let Some(boot) = BootSector::decode(&sector) else {
        let usage = Usage::whole(store.size(), "its boot sector is gone");
        return Ok(Examined { state: State::Unknown, usage, recovered: None, least: None });
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
    Ok(Examined { state, usage, recovered: None, least })
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
