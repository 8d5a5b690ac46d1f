//! ext2, ext3 and ext4: one on-disk format with features, after the kernel's documentation
//! ("ext4 Data Structures and Algorithms").

mod checksum;
mod commit;
mod edit;
mod files;
mod fixed;
mod group;
mod journal;
mod mapped;
mod orphans;
mod quota;
mod recover;
mod redo;
mod reseed;
mod resize;
mod space;
mod structure;
mod superblock;
mod unchanged;
mod usage;

use crate::{
    DerivedVolume, Examined, Least, NewSize, ResizeOptions, ResizedVolume, State, Usage, Volume,
    VolumeKind,
    commit::Commit,
    edit::{EditOptions, EditedVolume, FileEdit},
    files::Files,
    filesystem::{Filesystem, History, Resize},
    ids::uuid_text,
    unchanged::Unchanged,
};
use files::Reader;
use imbrik_store::{
    Edited, ReadAt, bytes,
    error::{Class, Result},
    progress::Cancel,
    read_up_to,
    units::{ByteLen, ByteOffset, Span},
};
use std::sync::Arc;
use superblock::{RawSuperblock, Superblock};
use uuid::Uuid;

const EXT2: VolumeKind = VolumeKind::new("ext2");
const EXT3: VolumeKind = VolumeKind::new("ext3");
const EXT4: VolumeKind = VolumeKind::new("ext4");

/// The space for boot loaders: everything before the superblock.
const BOOT_CODE: ByteLen = ByteLen::new(1024);

/// ext2, which has no journal, ext3, which has one and nothing newer, and ext4.
pub(crate) struct Ext;

impl Filesystem for Ext {
    fn kinds(&self) -> &'static [VolumeKind] {
        &[EXT2, EXT3, EXT4]
    }

    fn recognise(&self, store: &dyn ReadAt) -> Result<Option<Volume>> {
        recognise(store)
    }

    /// In the second group, of 1, 2 or 4 KiB blocks.
    fn copies(&self, _len: u64) -> Vec<(u64, u64)> {
        vec![(8193 << 10, 1024), (16_384 << 11, 1024), (32_768 << 12, 1024)]
    }

    fn recognise_copy(&self, store: &dyn ReadAt) -> Result<Option<Volume>> {
        let raw = read_up_to(store, ByteOffset::new(1024), Superblock::LEN)?;
        let is_copy = bytes::le_u16(&raw, 0x5a) == Some(1);
        if is_copy { recognise(store) } else { Ok(None) }
    }

    /// Reads the descriptors from the first backup superblock with valid ones.
    fn take_tables_from_copies(&self, draft: &mut Edited, lost: &[Span]) -> Result<()> {
        let superblock = RawSuperblock::read(&*draft)?.and_then(RawSuperblock::readable);
        let Some(superblock) = superblock else { return Ok(()) };
        group::take_from_copies(draft, &superblock, lost)
    }

    fn examine(&self, store: &Arc<dyn ReadAt>, _kind: VolumeKind) -> Result<Examined> {
        let state = state(&**store)?;
        let recovered = match recover::recover(Arc::clone(store)) {
            Err(error) if matches!(error.class(), Class::Corrupt | Class::Unsupported) => {
                let usage = Usage::distrusted(store.size(), &error);
                return Ok(Examined { state, usage, recovered: None, least: None });
            }
            recovered => recovered?,
        };
        let whole = recovered.as_ref().map_or(store, |recovered| &recovered.store);
        let (usage, least) = usage::usage(whole)?;
        Ok(Examined { state, usage, recovered, least })
    }

    fn recover(&self, store: &Arc<dyn ReadAt>) -> Result<Option<DerivedVolume>> {
        recover::recover(Arc::clone(store))
    }

    /// `s_mnt_count`, and `s_wtime` with its high byte.
    fn history(&self, store: &dyn ReadAt) -> Result<History> {
        let raw = read_up_to(store, ByteOffset::new(1024), Superblock::LEN)?;
        let low = bytes::le_u32(&raw, 0x30).map(u64::from).filter(|low| *low != 0);
        let high = bytes::u8(&raw, 0x274).map_or(0, u64::from);
        Ok(History {
            mounts: bytes::le_u16(&raw, 0x34).map_or(0, u64::from),
            written: low.map(|low| high << 32 | low),
        })
    }

    fn files<'a>(&self, store: &'a dyn ReadAt) -> Result<Option<Box<dyn Files + 'a>>> {
        let superblock = RawSuperblock::read(store)?.and_then(RawSuperblock::readable);
        Ok(superblock
            .map(|superblock| -> Box<dyn Files + 'a> { Box::new(Reader::new(store, superblock)) }))
    }

    fn unchanged(
        &self,
        store: &Arc<dyn ReadAt>,
        before: &Arc<dyn ReadAt>,
        cancel: &Cancel,
    ) -> Result<Unchanged> {
        unchanged::unchanged(store, before, cancel)
    }

    fn check(&self, store: &Arc<dyn ReadAt>, cancel: &Cancel) -> Result<()> {
        resize::check(Arc::clone(store), cancel)
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

    fn recovery(&self, store: &Arc<dyn ReadAt>) -> Result<Option<(DerivedVolume, Commit)>> {
        commit::recovery(store)
    }

    fn with_id(
        &self,
        store: &Arc<dyn ReadAt>,
        _kind: VolumeKind,
        id: Uuid,
        options: ResizeOptions<'_>,
    ) -> Result<DerivedVolume> {
        reseed::with_uuid(store, *id.as_bytes(), options).map(DerivedVolume::from)
    }

    fn resize(&self) -> Option<&dyn Resize> {
        Some(self)
    }

    fn boot_code(&self) -> Option<Span> {
        Some(Span::whole(BOOT_CODE))
    }
}

impl Resize for Ext {
    fn names(&self) -> &'static [&'static str] {
        &["ext2", "ext3", "ext4"]
    }

    fn resize(
        &self,
        store: &Arc<dyn ReadAt>,
        replayed: &[Span],
        size: NewSize,
        options: ResizeOptions<'_>,
    ) -> Result<ResizedVolume> {
        resize::resize(Arc::clone(store), replayed, size, options)
    }

    fn smallest(
        &self,
        store: &Arc<dyn ReadAt>,
        _least: &Least,
        cancel: &Cancel,
    ) -> Result<ByteLen> {
        resize::smallest(Arc::clone(store), cancel)
    }
}

/// Names an ext volume.
fn recognise(store: &dyn ReadAt) -> Result<Option<Volume>> {
    let Some(superblock) = RawSuperblock::read(store)? else { return Ok(None) };
    Ok(Some(Volume {
        kind: superblock.kind(),
        uuid: uuid_text(superblock.uuid()),
        size: superblock.volume_len(),
        label: superblock.label(),
    }))
}

/// The state of the volume in `store`.
///
/// # Errors
/// When the store cannot be read.
fn state(store: &dyn ReadAt) -> Result<State> {
    Ok(match RawSuperblock::read(store)? {
        None => State::Unknown,
        Some(superblock) if superblock.has_errors() => State::Errors,
        Some(superblock) if superblock.needs_recovery() => State::ToReplay,
        Some(superblock) if !superblock.was_unmounted() => State::Unclean,
        Some(_) => State::Clean,
    })
}

impl RawSuperblock {
    /// The usual name: ext4 with features that ext3 does not have, ext3 with a journal, ext2 otherwise.
    fn kind(&self) -> VolumeKind {
        if self.has_features_since_ext4() {
            EXT4
        } else if self.has_journal() {
            EXT3
        } else {
            EXT2
        }
    }
}
