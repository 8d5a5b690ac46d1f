//! An open volume: a store together with the description of the volume in it.

use crate::{
    commit::Commit,
    edit::{EditOptions, EditedVolume, FileEdit},
    examined::{DerivedVolume, Examined, Least},
    files::Files,
    filesystem::{Filesystem, History, Resize},
    registry::{by_copy, filesystem, recognise},
    resized::{NewSize, ResizeOptions, ResizedVolume},
    unchanged::Unchanged,
    volume::Volume,
};
use imbrik_store::{
    Edited, ReadAt,
    error::{Class, Error, Result},
    progress::Cancel,
    read_up_to,
    units::{ByteOffset, Span},
};
use std::sync::Arc;
use uuid::Uuid;

/// The size of the largest superblock or boot sector, in bytes.
const HEAD: usize = 1024;

/// A volume and the store that contains it. No operation changes the store.
#[derive(Clone)]
pub struct OpenVolume {
    store: Arc<dyn ReadAt>,
    volume: Volume,
}

/// A volume in the state that its own system would give it when it mounts it, if that is known.
pub struct RecoveredVolume {
    /// The volume.
    pub volume: OpenVolume,
    /// True if its journal was replayed.
    pub was_replayed: bool,
    /// The reason why it is unchanged although its journal needs a replay.
    pub recovery_error: Option<Error>,
}

impl Volume {
    /// The files of this volume, which is in `store`; `None` if its filesystem is not supported.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn files<'a>(&self, store: &'a dyn ReadAt) -> Result<Option<Box<dyn Files + 'a>>> {
        filesystem(self.kind).files(store)
    }

    /// The usage counters of this volume, which is in `store`.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn history(&self, store: &dyn ReadAt) -> Result<History> {
        filesystem(self.kind).history(store)
    }
}

impl OpenVolume {
    /// Recognises the volume in `store` by its content; `None` for unknown content.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn open(store: Arc<dyn ReadAt>) -> Result<Option<Self>> {
        Ok(recognise(&*store)?.map(|volume| Self { store, volume }))
    }

    /// Opens the volume in `store`, in which the ranges `lost` are unreadable zeros, for reading only: copies of the
    /// superblock, boot sector and tables replace them. Copies can be older than the originals. `None` for unknown
    /// content.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn open_with_copies(store: Arc<dyn ReadAt>, lost: &[Span]) -> Result<Option<Self>> {
        let mut draft = Edited::new(Arc::clone(&store));
        let volume = match recognise(&*store)? {
            Some(volume) => volume,
            None => {
                let Some((volume, at, to)) = by_copy(&*store)? else { return Ok(None) };
                draft.put(to, &read_up_to(&*store, at, HEAD)?)?;
                volume
            }
        };
        filesystem(volume.kind).take_tables_from_copies(&mut draft, lost)?;
        Ok(Some(Self { store: Arc::new(draft), volume }))
    }

    /// A volume that was recognised in `store` earlier.
    #[must_use]
    pub fn known(store: Arc<dyn ReadAt>, volume: Volume) -> Self {
        Self { store, volume }
    }

    /// Its store.
    #[must_use]
    pub fn store(&self) -> &Arc<dyn ReadAt> {
        &self.store
    }

    /// Its description.
    #[must_use]
    pub fn volume(&self) -> &Volume {
        &self.volume
    }

    fn filesystem(&self) -> &'static dyn Filesystem {
        filesystem(self.volume.kind)
    }

    /// Its files; `None` if its filesystem is not supported.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn files(&self) -> Result<Option<Box<dyn Files + '_>>> {
        self.volume.files(&*self.store)
    }

    /// Examines its metadata and determines its used space. If the metadata can't be trusted, or the filesystem is
    /// unknown, all bytes count as used.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn examine(&self) -> Result<Examined> {
        self.filesystem().examine(&self.store, self.volume.kind)
    }

    /// The volume in the state that its own system would give it when it mounts it. If that is unknown, the volume is
    /// unchanged.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn recovered(&self) -> Result<RecoveredVolume> {
        let (derived, recovery_error) = match self.filesystem().recover(&self.store) {
            Err(error) if matches!(error.class(), Class::Corrupt | Class::Unsupported) => {
                (None, Some(error))
            }
            derived => (derived?, None),
        };
        let was_replayed = derived.is_some();
        let store = derived.map_or_else(|| Arc::clone(&self.store), |derived| derived.store);
        let volume = Self { store, volume: self.volume.clone() };
        Ok(RecoveredVolume { volume, was_replayed, recovery_error })
    }

    fn resizer(&self) -> Result<&'static dyn Resize> {
        let kind = self.volume.kind;
        let resize = self.filesystem().resize();
        resize.ok_or_else(|| Error::unsupported(format!("{kind} keeps its size")))
    }

    /// Resizes the volume, as a view of its store: nothing in the store changes, and no data are copied. All files and
    /// their attributes stay the same.
    ///
    /// Before and after, every inode, every checksum and every bitmap is checked, and the content is compared with the
    /// source. Returns the view with its usage.
    ///
    /// # Errors
    /// - When the store cannot be read, or stopping was requested.
    /// - [`Class::Unsupported`] with the kind or the feature that is in the way, and
    ///   [`Class::Corrupt`] with the first contradiction in the volume.
    /// - [`Class::NoRoom`] when the content doesn't fit, with the missing bytes.
    pub fn resize(
        &self,
        size: NewSize,
        options: ResizeOptions<'_>,
    ) -> Result<(ResizedVolume, Examined)> {
        let resize = self.resizer()?;
        let now = self.examine()?;
        let base = now.recovered.as_ref().map_or(&self.store, |recovered| &recovered.store);
        let replayed = now.recovered.as_ref().map_or(&[][..], |recovered| &recovered.rewritten);
        if let Some(why) = now.usage.whole_because {
            // The resize itself detects damage.
            let closer = resize.resize(&self.store, &[], size, options);
            let class = closer.err().map_or(Class::Unsupported, |error| error.class());
            return Err(Error::new(class, why));
        }
        let resized = resize.resize(base, replayed, size, options)?;
        let store = Arc::clone(&resized.volume.store);
        let found = self.filesystem().examine(&store, self.volume.kind)?;
        if let Some(why) = found.usage.whole_because {
            return Err(Error::bug(format!("the resized volume would be wrong: {why}")));
        }
        let recovered = Some(resized.volume.clone());
        Ok((resized, Examined { recovered, ..found }))
    }

    /// Computes the smallest size that [`OpenVolume::resize`] can give to it. Checks every inode. Limits are reported
    /// by [`OpenVolume::examine`].
    ///
    /// # Errors
    /// As for [`OpenVolume::resize`].
    pub fn smallest(&self, found: &Examined, cancel: &Cancel) -> Result<Least> {
        let resize = self.resizer()?;
        let least = found.least.as_ref().ok_or_else(|| Error::unsupported("it is taken whole"))?;
        let base = found.recovered.as_ref().map_or(&self.store, |recovered| &recovered.store);
        let size = resize.smallest(base, least, cancel)?;
        Ok(Least { size, is_exact: true, ..least.clone() })
    }

    /// Finds the content of files that is unchanged since `before`, an earlier state of this volume, by metadata only.
    /// Files in doubt are left out, or all of them, with the reason.
    ///
    /// # Errors
    /// When one of the stores cannot be read, or stopping was requested.
    pub fn unchanged_since(&self, before: &Self, cancel: &Cancel) -> Result<Unchanged> {
        match self.volume.kind == before.volume.kind {
            true => self.filesystem().unchanged(&self.store, &before.store, cancel),
            false => Ok(Unchanged::unknown("it was another filesystem before")),
        }
    }

    /// The bytes to write, by offset in the volume, to mark a mounted but consistent volume as cleanly unmounted.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn unmounted(&self) -> Result<Vec<(ByteOffset, Vec<u8>)>> {
        self.filesystem().unmounted(&*self.store)
    }

    /// Applies `edits` to the files of the volume, one after the other. Its journal must have been replayed. Nothing in
    /// the store changes.
    ///
    /// # Errors
    /// - When the store cannot be read.
    /// - [`Class::Usage`] when there is nothing of such a name, or something of that name already.
    /// - [`Class::Unsupported`] for volumes and files that are not edited, with the reason.
    /// - [`Class::Corrupt`] for inconsistent metadata, [`Class::NoRoom`] when the volume is full, with the missing
    ///   bytes.
    pub fn edit(&self, edits: &[FileEdit], options: EditOptions) -> Result<EditedVolume> {
        self.filesystem().edit(&self.store, self.volume.kind, edits, options)
    }

    /// The order in which `edited`, an edit of this volume, is written in place, so that an interruption leaves the old
    /// or the new files, or a state that a checker repairs. Without [`EditOptions::keeps_old`], old content is lost
    /// first.
    ///
    /// # Errors
    /// When the store can't be read; [`Class::Unsupported`] for filesystems that are not edited in place,
    /// [`Class::NoRoom`] when the journal is too short.
    pub fn commit(&self, edited: &EditedVolume) -> Result<Commit> {
        self.filesystem().commit(&self.store, edited)
    }

    /// The next step that brings the volume into the state that its own system would give it when it mounts it, and the
    /// volume after that step; `None` when no step is left. Each step applies to the result of the one before.
    ///
    /// # Errors
    /// As for [`OpenVolume::commit`], and when that state can't be determined.
    pub fn recovery(&self) -> Result<Option<(DerivedVolume, Commit)>> {
        self.filesystem().recovery(&self.store)
    }

    /// The volume with the new UUID `id`, or as many of its bytes as the filesystem stores.
    ///
    /// # Errors
    /// As for [`OpenVolume::edit`].
    pub fn with_id(&self, id: Uuid, options: ResizeOptions<'_>) -> Result<DerivedVolume> {
        self.filesystem().with_id(&self.store, self.volume.kind, id, options)
    }

    /// Checks all files and compares them with the volume's bitmaps and counters. Its journal must have been replayed.
    ///
    /// # Errors
    /// - When the store cannot be read, or stopping was requested.
    /// - [`Class::Corrupt`] with the first inconsistency, [`Class::Unsupported`] for unknown features or filesystems
    ///   that can't be checked.
    pub fn check(&self, cancel: &Cancel) -> Result<()> {
        self.filesystem().check(&self.store, cancel)
    }

    /// Checks the result of an edit of `source` before it is used. Faults that `source` has too are reported as such.
    ///
    /// # Errors
    /// As [`OpenVolume::check`] for faults of `source`; [`Class::Bug`] for faults of the edited volume only.
    pub fn check_edited(&self, source: &Self, cancel: &Cancel) -> Result<()> {
        match self.check(cancel) {
            Err(error) if matches!(error.class(), Class::Corrupt | Class::Unsupported) => {
                source.check(cancel)?;
                Err(Error::bug(format!("the edited volume would be wrong: {error}")))
            }
            other => other,
        }
    }

    /// The bytes to write, by offset in the volume, when the volume moves on the card from `from` to `to`: some
    /// filesystems store their own position.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn at_another_place(
        &self,
        from: ByteOffset,
        to: ByteOffset,
    ) -> Result<Vec<(ByteOffset, Vec<u8>)>> {
        self.filesystem().at_another_place(&*self.store, from, to)
    }

    /// The range in which a boot loader may keep its code.
    #[must_use]
    pub fn boot_code(&self) -> Option<Span> {
        self.volume.kind.boot_code()
    }
}
