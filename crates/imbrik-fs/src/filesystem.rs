//! The trait that every filesystem implements.

use crate::{
    commit::Commit,
    edit::{EditOptions, EditedVolume, FileEdit},
    examined::{DerivedVolume, Examined, Least, State},
    files::Files,
    resized::{NewSize, ResizeOptions, ResizedVolume},
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

/// A filesystem, or another type of content, with all kinds of volumes that share its format.
///
/// The default implementations are cautious: all of the volume counts as used, and nothing in it is read, changed or
/// moved. No store that is passed in is changed, and every number in one is validated.
pub(crate) trait Filesystem: Sync {
    /// The kinds of volumes of this filesystem.
    fn kinds(&self) -> &'static [VolumeKind];

    /// Recognises a volume in `store` by a few kilobytes of its content; `None` for other content, also in doubt.
    ///
    /// # Errors
    /// When the store cannot be read.
    fn recognise(&self, store: &dyn ReadAt) -> Result<Option<Volume>>;

    /// The locations of backup copies of the superblock or boot sector in a volume of `len` bytes: the offset of each,
    /// and its distance from the start that a volume would have if it were the first one.
    fn copies(&self, _len: u64) -> Vec<(u64, u64)> {
        Vec::new()
    }

    /// Recognises a volume by a backup copy, at the usual offset of the first one in `store`.
    ///
    /// # Errors
    /// When the store cannot be read.
    fn recognise_copy(&self, store: &dyn ReadAt) -> Result<Option<Volume>> {
        self.recognise(store)
    }

    /// Restores tables in `lost`, which are zeros in `draft`, from their backup copies. The superblock or boot sector
    /// is valid.
    ///
    /// # Errors
    /// When the store cannot be read.
    fn take_tables_from_copies(&self, _draft: &mut Edited, _lost: &[Span]) -> Result<()> {
        Ok(())
    }

    /// Examines a volume of the kind `kind`.
    ///
    /// # Errors
    /// When the store cannot be read.
    fn examine(&self, store: &Arc<dyn ReadAt>, kind: VolumeKind) -> Result<Examined> {
        let because = format!("the used space of {kind} is unknown");
        let usage = Usage::whole(store.size(), because);
        Ok(Examined { state: State::Unknown, usage, recovered: None, least: None })
    }

    /// The volume in the state that its own system would give it when it mounts it, with its journal replayed; `None`
    /// if that is the present state.
    ///
    /// # Errors
    /// When the store can't be read; [`imbrik_store::Class::Corrupt`] and [`imbrik_store::Class::Unsupported`] when
    /// that state can't be determined.
    fn recover(&self, _store: &Arc<dyn ReadAt>) -> Result<Option<DerivedVolume>> {
        Ok(None)
    }

    /// The number of mounts, and the time of the last write, if recorded.
    ///
    /// # Errors
    /// When the store cannot be read.
    fn history(&self, _store: &dyn ReadAt) -> Result<History> {
        Ok(History::default())
    }

    /// Its files; `None` if they are not supported.
    ///
    /// # Errors
    /// When the store cannot be read.
    fn files<'a>(&self, _store: &'a dyn ReadAt) -> Result<Option<Box<dyn Files + 'a>>> {
        Ok(None)
    }

    /// Checks all files of a volume without a journal to replay, and compares them with its bitmaps and counters.
    ///
    /// # Errors
    /// As [`crate::OpenVolume::check`].
    fn check(&self, _store: &Arc<dyn ReadAt>, _cancel: &Cancel) -> Result<()> {
        Err(Error::unsupported("its files cannot be read"))
    }

    /// The content of files that is unchanged since `before`, according to metadata.
    ///
    /// # Errors
    /// As [`crate::OpenVolume::unchanged_since`].
    fn unchanged(
        &self,
        _store: &Arc<dyn ReadAt>,
        _before: &Arc<dyn ReadAt>,
        _cancel: &Cancel,
    ) -> Result<Unchanged> {
        Ok(Unchanged::unknown("its files have no reliable change times"))
    }

    /// The volume after `edits` of its files, in order.
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

    /// The order in which `edited`, an edit of the volume in `store`, is written to it.
    ///
    /// # Errors
    /// As [`crate::OpenVolume::commit`].
    fn commit(&self, _store: &Arc<dyn ReadAt>, _edited: &EditedVolume) -> Result<Commit> {
        Err(Error::unsupported("it is not changed in its place"))
    }

    /// The next step of journal recovery in place, and the volume after it; `None` when no step is left.
    ///
    /// # Errors
    /// As [`crate::OpenVolume::recovery`].
    fn recovery(&self, _store: &Arc<dyn ReadAt>) -> Result<Option<(DerivedVolume, Commit)>> {
        Ok(None)
    }

    /// The volume with another id, or as many bytes of it as the format stores.
    ///
    /// # Errors
    /// As [`crate::OpenVolume::with_id`].
    fn with_id(
        &self,
        _store: &Arc<dyn ReadAt>,
        kind: VolumeKind,
        _id: Uuid,
        _options: ResizeOptions<'_>,
    ) -> Result<DerivedVolume> {
        Err(Error::unsupported(format!("{kind} keeps its id")))
    }

    /// Its implementation of resizing; `None` if it can't be resized.
    fn resize(&self) -> Option<&dyn Resize> {
        None
    }

    /// The bytes to write, by offset in the volume, when the volume moves on the card from `from` to `to`.
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

    /// The bytes to write, by offset in the volume, to mark it as unmounted.
    ///
    /// # Errors
    /// When the store cannot be read.
    fn unmounted(&self, _store: &dyn ReadAt) -> Result<Vec<(ByteOffset, Vec<u8>)>> {
        Ok(Vec::new())
    }

    /// The range of boot code that can depend on the offset of the volume; `None` without such code, or if
    /// [`Filesystem::at_another_place`] updates it.
    fn boot_code(&self) -> Option<Span> {
        None
    }

    /// Returns whether its content is worthless after the machine was switched off.
    fn is_scratch(&self) -> bool {
        false
    }

    /// Returns whether it has only files and folders: no owners, links or devices.
    fn has_only_files(&self) -> bool {
        false
    }

    /// Returns whether the firmware of boards reads it, so that the volume can consist of boot files.
    fn is_read_by_firmware(&self) -> bool {
        false
    }
}

/// [`Filesystem::unchanged`] for filesystems whose files have only names, sizes, times and locations.
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
        _ => Ok(Unchanged::unknown("its files cannot be read")),
    }
}

/// Resizing of a filesystem.
pub(crate) trait Resize {
    /// The name of the resizable kinds in a list.
    fn names(&self) -> &'static [&'static str];

    /// The volume in `store` at another size, as a view; `replayed` are the blocks that its journal replaced.
    ///
    /// # Errors
    /// As [`crate::OpenVolume::resize`].
    fn resize(
        &self,
        store: &Arc<dyn ReadAt>,
        replayed: &[Span],
        size: NewSize,
        options: ResizeOptions<'_>,
    ) -> Result<ResizedVolume>;

    /// The minimum size, where `least` is the result of [`Filesystem::examine`].
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

/// Usage counters of a volume.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct History {
    /// The number of mounts since the last check; 0 if it isn't recorded.
    pub mounts: u64,
    /// The time of the last write, in seconds since 1970; `None` if it isn't recorded.
    pub written: Option<u64>,
}
