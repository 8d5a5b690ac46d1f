//! A volume that is opened: where its bytes are, bound to what it says of itself.

use crate::{
    commit::Commit,
    edit::{EditOptions, EditedVolume, FileEdit},
    examined::{DerivedVolume, Examined, Least},
    files::Files,
    filesystem::{Filesystem, History, Reshape},
    registry::{by_copy, filesystem, recognise},
    reshaped::{NewSize, ReshapeOptions, Reshaped},
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

/// How long a superblock or boot sector is at most, in bytes.
const HEAD: usize = 1024;

/// A volume and the store that it stands in. Nothing that is done with it changes the store.
#[derive(Clone)]
pub struct OpenVolume {
    store: Arc<dyn ReadAt>,
    volume: Volume,
}

/// A volume as its own system would have it, as far as that can be told.
pub struct Settled {
    /// The volume.
    pub volume: OpenVolume,
    /// Whether its journal was replayed for that.
    pub was_replayed: bool,
    /// Why it is as it was found, when it should have been replayed.
    pub not_settled: Option<Error>,
}

impl Volume {
    /// The files of this volume, which stands in `store`; `None` where they are not looked into.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn files<'a>(&self, store: &'a dyn ReadAt) -> Result<Option<Box<dyn Files + 'a>>> {
        filesystem(self.kind).files(store)
    }

    /// What this volume, which stands in `store`, counts of its own use.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn history(&self, store: &dyn ReadAt) -> Result<History> {
        filesystem(self.kind).history(store)
    }
}

impl OpenVolume {
    /// The volume that `store` holds, by its content; `None` when it is none of those known.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn open(store: Arc<dyn ReadAt>) -> Result<Option<Self>> {
        Ok(recognise(&*store)?.map(|volume| Self { store, volume }))
    }

    /// The volume in `store`, which has zeros in `lost`, for whoever only looks: what copies tell of its
    /// superblock, boot sector and tables takes the place of these. Copies may be older than what is
    /// lost. `None` when it is none of those known.
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

    /// The volume that was named `volume` when `store` was looked at.
    #[must_use]
    pub fn known(store: Arc<dyn ReadAt>, volume: Volume) -> Self {
        Self { store, volume }
    }

    /// Its bytes.
    #[must_use]
    pub fn store(&self) -> &Arc<dyn ReadAt> {
        &self.store
    }

    /// What it says of itself.
    #[must_use]
    pub fn volume(&self) -> &Volume {
        &self.volume
    }

    fn filesystem(&self) -> &'static dyn Filesystem {
        filesystem(self.volume.kind)
    }

    /// Its files; `None` where they are not looked into.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn files(&self) -> Result<Option<Box<dyn Files + '_>>> {
        self.volume.files(&*self.store)
    }

    /// Looks closely at it. Where its own metadata cannot be trusted, or nothing is known of its
    /// kind, all of its bytes count as used.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn examine(&self) -> Result<Examined> {
        self.filesystem().examine(&self.store, self.volume.kind)
    }

    /// The same volume as its own system would have it once it is mounted. Where that cannot be told, it
    /// is as it was found.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn settled(&self) -> Result<Settled> {
        let (derived, not_settled) = match self.filesystem().settle(&self.store) {
            Err(error) if matches!(error.class(), Class::Corrupt | Class::Unsupported) => {
                (None, Some(error))
            }
            derived => (derived?, None),
        };
        let was_replayed = derived.is_some();
        let store = derived.map_or_else(|| Arc::clone(&self.store), |derived| derived.store);
        let volume = Self { store, volume: self.volume.clone() };
        Ok(Settled { volume, was_replayed, not_settled })
    }

    fn reshaper(&self) -> Result<&'static dyn Reshape> {
        let kind = self.volume.kind;
        let reshape = self.filesystem().reshape();
        reshape.ok_or_else(|| Error::unsupported(format!("{kind} keeps its size")))
    }

    /// The same volume at another size, as a view of its store: nothing in the store changes, and no
    /// copy of its data is made. The tree is the same to the last attribute.
    ///
    /// The source is looked at closely beforehand, every inode of it, and so is what comes out: each
    /// checksum, each bitmap against each reachable block, and the content against the source's.
    /// Answers the view with what is in use of it.
    ///
    /// # Errors
    /// - When the store cannot be read, or stopping was requested.
    /// - [`Class::Unsupported`] with the kind or the feature that is in the way, and
    ///   [`Class::Corrupt`] with the first contradiction in the volume.
    /// - [`Class::NoRoom`] when the content doesn't fit, with the missing bytes.
    pub fn reshape(
        &self,
        size: NewSize,
        options: ReshapeOptions<'_>,
    ) -> Result<(Reshaped, Examined)> {
        let reshape = self.reshaper()?;
        let now = self.examine()?;
        let base = now.settled.as_ref().map_or(&self.store, |settled| &settled.store);
        let replayed = now.settled.as_ref().map_or(&[][..], |settled| &settled.rewritten);
        if let Some(why) = now.usage.whole_because {
            // What a closer look trips over tells whether that is damage.
            let closer = reshape.reshape(&self.store, &[], size, options);
            let class = closer.err().map_or(Class::Unsupported, |error| error.class());
            return Err(Error::new(class, why));
        }
        let reshaped = reshape.reshape(base, replayed, size, options)?;
        let store = Arc::clone(&reshaped.volume.store);
        let found = self.filesystem().examine(&store, self.volume.kind)?;
        if let Some(why) = found.usage.whole_because {
            return Err(Error::bug(format!("the reshaped volume would be wrong: {why}")));
        }
        let settled = Some(reshaped.volume.clone());
        Ok((reshaped, Examined { settled, ..found }))
    }

    /// The smallest size that [`OpenVolume::reshape`] can give to it. Every inode of it is looked at
    /// for that; what limits it is told as [`OpenVolume::examine`] found it.
    ///
    /// # Errors
    /// As for [`OpenVolume::reshape`].
    pub fn smallest(&self, found: &Examined, cancel: &Cancel) -> Result<Least> {
        let reshape = self.reshaper()?;
        let least = found.least.as_ref().ok_or_else(|| Error::unsupported("it is taken whole"))?;
        let base = found.settled.as_ref().map_or(&self.store, |settled| &settled.store);
        let size = reshape.smallest(base, least, cancel)?;
        Ok(Least { size, is_exact: true, ..least.clone() })
    }

    /// Which content of files is where it was, and what it was, in `before`, an earlier state of this volume:
    /// by what describes the files; their content is not read. Anything that makes that doubtful leaves
    /// files out, or all of them, with the reason.
    ///
    /// # Errors
    /// When one of the stores cannot be read, or stopping was requested.
    pub fn unchanged_since(&self, before: &Self, cancel: &Cancel) -> Result<Unchanged> {
        match self.volume.kind == before.volume.kind {
            true => self.filesystem().unchanged(&self.store, &before.store, cancel),
            false => Ok(Unchanged::unknown("it was another filesystem before")),
        }
    }

    /// What must be written where, in bytes from the volume's start, for a volume that is as sound as if it had been
    /// unmounted to say so, though it is mounted.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn unmounted(&self) -> Result<Vec<(ByteOffset, Vec<u8>)>> {
        self.filesystem().unmounted(&*self.store)
    }

    /// The same volume with all of `edits` done to its files, one after the other. It is to be settled.
    /// Nothing in the store changes.
    ///
    /// # Errors
    /// - When the store cannot be read.
    /// - [`Class::Usage`] when there is nothing of such a name, or something of that name already.
    /// - [`Class::Unsupported`] for volumes and files that are not edited, with the reason.
    /// - [`Class::Corrupt`] for what makes no sense, [`Class::NoRoom`] when there is no room left, with
    ///   the bytes that lack.
    pub fn edit(&self, edits: &[FileEdit], options: EditOptions) -> Result<EditedVolume> {
        self.filesystem().edit(&self.store, self.volume.kind, edits, options)
    }

    /// In which order `edited`, which was made of this settled volume, is written in its place, so that a
    /// cut at any moment leaves the old files or the new ones, or what a checker mends. Where it was edited
    /// without [`EditOptions::keeps_old`], old content goes before that.
    ///
    /// # Errors
    /// When the store cannot be read; [`Class::Unsupported`] for volumes that are not changed in their
    /// place, [`Class::NoRoom`] when the volume's journal is too short for it.
    pub fn commit(&self, edited: &EditedVolume) -> Result<Commit> {
        self.filesystem().commit(&self.store, edited)
    }

    /// What brings the volume nearer to the state that its own system would give it when it mounts it, in
    /// its place, and what it is once that is done; `None` when it is in that state. It may take several of
    /// them, each of the volume as the last one left it.
    ///
    /// # Errors
    /// As for [`OpenVolume::commit`], and when that state cannot be told.
    pub fn settling(&self) -> Result<Option<(DerivedVolume, Commit)>> {
        self.filesystem().settling(&self.store)
    }

    /// The same volume under another id: the UUID `id`, or as much of it as the kind has room for.
    ///
    /// # Errors
    /// As for [`OpenVolume::edit`].
    pub fn with_id(&self, id: Uuid, options: ReshapeOptions<'_>) -> Result<DerivedVolume> {
        self.filesystem().with_id(&self.store, self.volume.kind, id, options)
    }

    /// Looks at every file of it, which is settled, and compares them with the volume's own
    /// bookkeeping.
    ///
    /// # Errors
    /// - When the store cannot be read, or stopping was requested.
    /// - [`Class::Corrupt`] with the first contradiction, [`Class::Unsupported`] with a feature that
    ///   is not known, or for a kind that is not looked into.
    pub fn check(&self, cancel: &Cancel) -> Result<()> {
        self.filesystem().check(&self.store, cancel)
    }

    /// The same for a volume that was made of `source` by editing it, before anybody sees it: a fault that
    /// `source` has is told as such, any other is the edit's.
    ///
    /// # Errors
    /// As [`OpenVolume::check`] for faults of `source`; [`Class::Bug`] when the edited one has one of its
    /// own.
    pub fn check_edited(&self, source: &Self, cancel: &Cancel) -> Result<()> {
        match self.check(cancel) {
            Err(error) if matches!(error.class(), Class::Corrupt | Class::Unsupported) => {
                source.check(cancel)?;
                Err(Error::bug(format!("the edited volume would be wrong: {error}")))
            }
            other => other,
        }
    }

    /// What must be written where, in bytes from the volume's start, when it moves on the card from
    /// `from` to `to`: some kinds say where they stand.
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

    /// Where a boot loader may keep code of its own in it.
    #[must_use]
    pub fn boot_code(&self) -> Option<Span> {
        self.volume.kind.boot_code()
    }
}
