//! What there is to know about a kind of volume: the one trait behind which each stands.

use crate::{
    commit::Commit,
    edit::{EditOptions, EditedVolume, FileEdit},
    examined::{DerivedVolume, Examined, Least, State},
    files::Files,
    reshaped::{NewSize, ReshapeOptions, Reshaped},
    unchanged::{LEAST_USED, Unchanged, by_names},
    usage::Usage,
    volume::{Volume, VolumeKind},
};
use imbrik_store::{
    Edited, ReadAt,
    error::{Error, Result},
    progress::Cancel,
    units::{ByteOffset, Span},
};
use std::sync::Arc;
use uuid::Uuid;

/// A filesystem, or another kind of content, with all the kinds that share its format.
///
/// What a filesystem doesn't say of itself gets the cautious answer: all of it counts as used, and
/// nothing in it is read, changed or moved. Of the stores that are handed in, none is changed, and
/// no number found in one is believed.
pub(crate) trait Filesystem: Sync {
    /// The kinds of volumes that are this filesystem's.
    fn kinds(&self) -> &'static [VolumeKind];

    /// Names the volume in `store`, by a few kilobytes of its content; `None` for anything that
    /// isn't plainly its own.
    ///
    /// # Errors
    /// When the store cannot be read.
    fn recognise(&self, store: &dyn ReadAt) -> Result<Option<Volume>>;

    /// Where copies of what names a volume stand in one of `len` bytes: from its start, and how far
    /// in front of the copy a volume would start whose first one it were.
    fn copies(&self, _len: u64) -> Vec<(u64, u64)> {
        Vec::new()
    }

    /// Names the volume by a copy that stands where the first one would in `store`.
    ///
    /// # Errors
    /// When the store cannot be read.
    fn recognise_copy(&self, store: &dyn ReadAt) -> Result<Option<Volume>> {
        self.recognise(store)
    }

    /// Puts into `draft`, whose superblock or boot sector is sound, what copies tell of tables behind it
    /// that are in `lost`, in which it has zeros.
    ///
    /// # Errors
    /// When the store cannot be read.
    fn take_tables_from_copies(&self, _draft: &mut Edited, _lost: &[Span]) -> Result<()> {
        Ok(())
    }

    /// Looks closely at a volume of kind `kind`.
    ///
    /// # Errors
    /// When the store cannot be read.
    fn examine(&self, store: &Arc<dyn ReadAt>, kind: VolumeKind) -> Result<Examined> {
        let because = format!("what {kind} has in use is not known");
        let usage = Usage::whole(store.size(), because);
        Ok(Examined { state: State::Unknown, usage, settled: None, least: None })
    }

    /// The volume as its own system would have it once it is mounted: with its journal replayed; `None`
    /// when it would be just as it is.
    ///
    /// # Errors
    /// When the store cannot be read; [`imbrik_store::Class::Corrupt`] and
    /// [`imbrik_store::Class::Unsupported`] when that cannot be told.
    fn settle(&self, _store: &Arc<dyn ReadAt>) -> Result<Option<DerivedVolume>> {
        Ok(None)
    }

    /// How often it was mounted, and when it was last written to, as far as it counts that.
    ///
    /// # Errors
    /// When the store cannot be read.
    fn history(&self, _store: &dyn ReadAt) -> Result<History> {
        Ok(History::default())
    }

    /// Its files; `None` where they are not looked into.
    ///
    /// # Errors
    /// When the store cannot be read.
    fn files<'a>(&self, _store: &'a dyn ReadAt) -> Result<Option<Box<dyn Files + 'a>>> {
        Ok(None)
    }

    /// Looks at every file of a settled volume, and compares them with the volume's own bookkeeping.
    ///
    /// # Errors
    /// As [`crate::OpenVolume::check`].
    fn check(&self, _store: &Arc<dyn ReadAt>, _cancel: &Cancel) -> Result<()> {
        Err(Error::unsupported("its files are not looked into"))
    }

    /// Which content of files is what it was in `before`, by what describes them.
    ///
    /// # Errors
    /// As [`crate::OpenVolume::unchanged_since`].
    fn unchanged(
        &self,
        _store: &Arc<dyn ReadAt>,
        _before: &Arc<dyn ReadAt>,
        _cancel: &Cancel,
    ) -> Result<Unchanged> {
        Ok(Unchanged::unknown("its files do not tell whether they changed"))
    }

    /// The volume with all of `edits` done to its files, one after the other.
    ///
    /// # Errors
    /// As [`crate::OpenVolume::edit`].
    fn edit(
        &self,
        _store: &Arc<dyn ReadAt>,
        kind: VolumeKind,
        _edits: &[FileEdit],
        _options: EditOptions,
    ) -> Result<EditedVolume> {
        Err(Error::unsupported(format!("the files in {kind} are not changed")))
    }

    /// In which order `edited`, which was made of the settled volume in `store`, is written there.
    ///
    /// # Errors
    /// As [`crate::OpenVolume::commit`].
    fn commit(&self, _store: &Arc<dyn ReadAt>, _edited: &EditedVolume) -> Result<Commit> {
        Err(Error::unsupported("it is not changed in its place"))
    }

    /// What brings the volume nearer to its settled state, in its place, and what it is then; `None` once
    /// it is settled.
    ///
    /// # Errors
    /// As [`crate::OpenVolume::settling`].
    fn settling(&self, _store: &Arc<dyn ReadAt>) -> Result<Option<(DerivedVolume, Commit)>> {
        Ok(None)
    }

    /// The volume under another id, or as much of it as it has room for.
    ///
    /// # Errors
    /// As [`crate::OpenVolume::with_id`].
    fn with_id(
        &self,
        _store: &Arc<dyn ReadAt>,
        kind: VolumeKind,
        _id: Uuid,
        _options: ReshapeOptions<'_>,
    ) -> Result<DerivedVolume> {
        Err(Error::unsupported(format!("{kind} keeps its id")))
    }

    /// How it gets another size; `None` when it keeps its own.
    fn reshape(&self) -> Option<&dyn Reshape> {
        None
    }

    /// What must be written where, in bytes from the volume's start, when it moves on the card from
    /// `from` to `to`.
    ///
    /// # Errors
    /// When the store cannot be read.
    fn at_another_place(
        &self,
        _store: &dyn ReadAt,
        _from: ByteOffset,
        _to: ByteOffset,
    ) -> Result<Vec<(ByteOffset, Vec<u8>)>> {
        Ok(Vec::new())
    }

    /// What must be written where, in bytes from the volume's start, for it to count as unmounted.
    ///
    /// # Errors
    /// When the store cannot be read.
    fn unmounted(&self, _store: &dyn ReadAt) -> Result<Vec<(ByteOffset, Vec<u8>)>> {
        Ok(Vec::new())
    }

    /// Where a boot loader may keep code of its own, which may count on the volume's place; `None`
    /// when nothing is left to boot loaders, or [`Filesystem::at_another_place`] sees to it.
    fn boot_code(&self) -> Option<Span> {
        None
    }

    /// Whether what it holds is worth nothing once the machine is off.
    fn is_scratch(&self) -> bool {
        false
    }

    /// Whether it holds nothing but files and folders: no owners, no links, no devices.
    fn has_only_files(&self) -> bool {
        false
    }

    /// Whether the firmware of boards reads it, so that such a volume may be all about starting.
    fn is_read_by_firmware(&self) -> bool {
        false
    }
}

/// [`Filesystem::unchanged`] for one whose files have nothing but names, sizes, times and places.
///
/// # Errors
/// As [`crate::OpenVolume::unchanged_since`].
pub(crate) fn unchanged_by_names(
    filesystem: &dyn Filesystem,
    kind: VolumeKind,
    store: &Arc<dyn ReadAt>,
    before: &Arc<dyn ReadAt>,
    cancel: &Cancel,
) -> Result<Unchanged> {
    for (store, when) in [(store, ""), (before, " before")] {
        let examined = filesystem.examine(store, kind)?;
        if examined.state != State::Clean {
            let why = format!("it was not unmounted in an orderly way{when}");
            return Ok(Unchanged::unknown(why));
        }
        if examined.usage.read() < LEAST_USED {
            return Ok(Unchanged::default());
        }
    }
    match (filesystem.files(&**store)?, filesystem.files(&**before)?) {
        (Some(now), Some(then)) => by_names(&*now, &*then, cancel),
        _ => Ok(Unchanged::unknown("its files cannot be looked into")),
    }
}

/// How a filesystem gets another size.
pub(crate) trait Reshape {
    /// What those of its kinds that get one are called in a list.
    fn names(&self) -> &'static [&'static str];

    /// The volume in `store` at another size, as a view; `replayed` is where its journal had newer
    /// blocks than what is in place.
    ///
    /// # Errors
    /// As [`crate::OpenVolume::reshape`].
    fn reshape(
        &self,
        store: &Arc<dyn ReadAt>,
        replayed: &[Span],
        size: NewSize,
        options: ReshapeOptions<'_>,
    ) -> Result<Reshaped>;

    /// The smallest size that it can get, where `least` is what [`Filesystem::examine`] found.
    ///
    /// # Errors
    /// As [`crate::OpenVolume::smallest`].
    fn smallest(
        &self,
        store: &Arc<dyn ReadAt>,
        least: &Least,
        cancel: &Cancel,
    ) -> Result<imbrik_store::units::ByteLen>;
}

/// What a volume counts of its own use.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct History {
    /// How often it was mounted since it was checked; 0 when it counts nothing.
    pub mounts: u64,
    /// When it was last written to, in seconds since 1970; `None` when it doesn't tell.
    pub written: Option<u64>,
}
