//! FAT12, FAT16 and FAT32, after the FAT file system specification 1.03.

mod boot;
mod commit;
mod edit;
mod files;
mod folder;
mod loader;
mod resize;
mod table;
mod tree;
mod usage;

use crate::{
    DerivedVolume, Examined, Least, NewSize, ResizeOptions, ResizedVolume, State, Unchanged, Usage,
    Volume, VolumeKind,
    commit::Commit,
    edit::{EditOptions, EditedVolume, FileEdit},
    files::Files,
    filesystem::{Filesystem, Resize, unchanged_by_names},
    hidden_sectors::hidden_sectors,
    ids::{serial_of, serial_text},
};
use boot::{BootSector, Width};
use files::Reader;
use folder::{ENTRY, Use, use_of};
use imbrik_store::{
    Edited, ReadAt, bytes,
    error::Result,
    progress::Cancel,
    read_up_to,
    units::{ByteLen, ByteOffset, Span},
};
use std::sync::Arc;
use usage::usage;
use uuid::Uuid;

const FAT12: VolumeKind = VolumeKind::new("FAT12");
const FAT16: VolumeKind = VolumeKind::new("FAT16");
const FAT32: VolumeKind = VolumeKind::new("FAT32");

/// FAT volumes of all three widths.
pub(crate) struct Fat;

impl Filesystem for Fat {
    fn kinds(&self) -> &'static [VolumeKind] {
        &[FAT12, FAT16, FAT32]
    }

    fn recognise(&self, store: &dyn ReadAt) -> Result<Option<Volume>> {
        recognise(store)
    }

    /// FAT32's, in sector 6, of 512 bytes or 4 KiB.
    fn copies(&self, _len: u64) -> Vec<(u64, u64)> {
        vec![(6 * 512, 0), (6 * 4096, 0)]
    }

    /// Replaces the lost part of one allocation table from the other.
    fn take_tables_from_copies(&self, draft: &mut Edited, lost: &[Span]) -> Result<()> {
        let sector = read_up_to(&*draft, ByteOffset::ZERO, 512)?;
        match BootSector::decode(&sector) {
            Some(boot) => table::take_from_copies(draft, &boot, lost),
            None => Ok(()),
        }
    }

    fn examine(&self, store: &Arc<dyn ReadAt>, _kind: VolumeKind) -> Result<Examined> {
        examine(&**store)
    }

    fn files<'a>(&self, store: &'a dyn ReadAt) -> Result<Option<Box<dyn Files + 'a>>> {
        let sector = read_up_to(store, ByteOffset::ZERO, 512)?;
        let boot = BootSector::decode(&sector);
        let reader = boot.and_then(|boot| Reader::new(store, boot));
        Ok(reader.map(|reader| -> Box<dyn Files + 'a> { Box::new(reader) }))
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
        unchanged_by_names(self, FAT32, store, before, cancel)
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
        edit::with_serial(store, serial_of(id)).map(DerivedVolume::from)
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
        let boot = read_up_to(store, ByteOffset::ZERO, 512)?;
        let sector = u64::from(bytes::le_u16(&boot, 11).unwrap_or(512));
        let is_32 = bytes::le_u16(&boot, 22) == Some(0);
        let copy = bytes::le_u16(&boot, 50).filter(|copy| is_32 && *copy != 0);
        let copy = copy.map(|copy| sector.saturating_mul(copy.into()));
        hidden_sectors(store, [Some(0), copy], sector, from, to)
    }

    fn is_read_by_firmware(&self) -> bool {
        true
    }
}

impl Resize for Fat {
    fn names(&self) -> &'static [&'static str] {
        &["FAT"]
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

/// How much of the root directory is searched for the label: tools write it first.
const ROOT_PREFIX: usize = 16 << 10;

/// Identifies a FAT volume. The label in the root directory is used: the copy in the boot sector is as of formatting.
fn recognise(store: &dyn ReadAt) -> Result<Option<Volume>> {
    let sector = read_up_to(store, ByteOffset::ZERO, 512)?;
    let Some(boot) = BootSector::decode(&sector) else { return Ok(None) };
    let root = read_up_to(store, boot.root_directory, ROOT_PREFIX)?;
    Ok(Some(Volume {
        kind: match boot.width {
            Width::Bits12 => FAT12,
            Width::Bits16 => FAT16,
            Width::Bits32 => FAT32,
        },
        label: label_in(&root).or(boot.label),
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
    let least = usage.whole_because.is_none().then(|| least(&boot, &usage));
    Ok(Examined { state: state(store, &boot, &sector)?, usage, recovered: None, least })
}

/// The second entry of the table holds the bits for "unmounted" and "no errors"; some systems mark
/// a mounted volume in the boot sector instead.
fn state(store: &dyn ReadAt, boot: &BootSector, sector: &[u8]) -> Result<State> {
    let heads = boot.tables().map(|table| read_up_to(store, table.start(), 8));
    let entries = heads.reduce(Result::or).transpose()?.unwrap_or_default();
    let (mark_at, unmounted, no_errors) = match boot.width {
        Width::Bits12 => (0x25, true, true),
        Width::Bits16 => {
            let bits = bytes::le_u16(&entries, 2).unwrap_or(0);
            (0x25, bits & 0x8000 != 0, bits & 0x4000 != 0)
        }
        Width::Bits32 => {
            let bits = bytes::le_u32(&entries, 4).unwrap_or(0);
            (0x41, bits & 0x0800_0000 != 0, bits & 0x0400_0000 != 0)
        }
    };
    let is_marked = bytes::u8(sector, mark_at).unwrap_or(0) & 1 != 0;
    Ok(match (no_errors, unmounted && !is_marked) {
        (false, _) => State::Errors,
        (true, false) => State::Unclean,
        (true, true) => State::Clean,
    })
}

/// Its width decides how few clusters it may have.
fn least(boot: &BootSector, usage: &Usage) -> Least {
    let data = boot.data();
    let used: ByteLen =
        usage.used.iter().filter_map(|span| span.intersect(data)).map(Span::len).sum();
    let used = used.get().div_ceil(boot.cluster.get().max(1));
    let (fewest, _) = boot.bounds();
    let limit = match boot.width {
        Width::Bits16 => "FAT16 needs 4,101 clusters",
        Width::Bits12 | Width::Bits32 => "FAT32 needs 65,541 clusters",
    };
    let clusters = used.max(fewest).min(boot.clusters);
    let limit = if used >= fewest { "its data" } else { limit };
    let data_len = boot.cluster.checked_mul(clusters).unwrap_or_default();
    Least {
        size: ByteLen::new(data.start().saturating_add(data_len).get()),
        limit,
        is_exact: false,
    }
}

fn label_in(root: &[u8]) -> Option<String> {
    let used = root.as_chunks::<ENTRY>().0.iter().take_while(|raw| use_of(raw) != Use::End);
    let label = used.into_iter().find(|raw| use_of(raw) == Use::Label);
    label.and_then(|raw| bytes::text(raw.get(..11)?))
}
