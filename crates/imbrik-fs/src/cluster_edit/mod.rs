//! Edits of files on FAT and exFAT: the parts that both have in common.
//!
//! A folder is a sequence of entries of 32 bytes; several consecutive ones describe a file (an *entry set*). Each
//! folder is read into memory once, with its names. New content gets free clusters; freed clusters can be reused only
//! after the edit.

mod folder;
mod space;

use crate::{
    bits::Run,
    edit::{
        Contents, EditOptions, EditedVolume, FileEdit, FileMeta, is_there, missing, no_folder,
        shortfall, split,
    },
    files::{FileFlags, FileTime},
};
pub(crate) use folder::{OpenFolder, Slot, is_dos_name};
use imbrik_store::{
    Edited, ReadAt,
    error::{Error, Result},
    exact::Exact as _,
    units::{ByteLen, ByteOffset, Span},
};
pub(crate) use space::ClusterSpace;
use std::{collections::BTreeMap, ops::Range, sync::Arc};

/// Identifies a folder: its first cluster, or a constant for a root without clusters.
pub(crate) type FolderKey = u64;

/// The type of the file that a set describes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum SetKind {
    File,
    Folder,
}

/// Times for a new set.
#[derive(Clone, Copy, Debug)]
pub(crate) struct SetTimes {
    pub(crate) now: FileTime,
    pub(crate) modified: FileTime,
}

/// The on-disk format of entry sets and cluster chains.
pub(crate) trait SetFormat {
    /// Cluster size in bytes.
    fn cluster(&self) -> ByteLen;

    /// The location of a run of clusters.
    fn span_of(&self, run: Run) -> Span;

    /// The size of the largest possible file, in bytes.
    fn longest(&self) -> u64;

    /// A free slot that does not end the folder.
    fn free_slot(&self) -> Slot;

    /// The root folder.
    fn root(&self) -> FolderKey;

    /// Reads a folder into memory; `set` is its own entry set, `None` for the root.
    ///
    /// # Errors
    /// When it can't be read, or is invalid.
    fn read_folder(
        &self,
        draft: &Edited,
        key: FolderKey,
        set: Option<&[Slot]>,
    ) -> Result<OpenFolder>;

    /// The case-folded form of a name, which is used to compare names.
    fn folded(&self, name: &str) -> String;

    /// The type of a set; `None` for sets that describe neither a file nor a folder.
    fn kind_of(&self, set: &[Slot]) -> Option<SetKind>;

    /// The clusters of a set.
    ///
    /// # Errors
    /// When its chain can't be read, or is invalid.
    fn clusters_of(&self, set: &[Slot]) -> Result<Vec<Run>>;

    /// Creates the set of a new file or folder.
    ///
    /// # Errors
    /// When the name is not allowed.
    fn new_set(
        &self,
        folder: &OpenFolder,
        name: &str,
        kind: SetKind,
        times: SetTimes,
    ) -> Result<Vec<Slot>>;

    /// Creates a copy of a set with another name.
    ///
    /// # Errors
    /// When the name is not allowed.
    fn renamed(&self, folder: &OpenFolder, set: &[Slot], name: &str) -> Result<Vec<Slot>>;

    /// All names of a set, case-folded.
    fn names_of(&self, set: &[Slot]) -> Vec<String>;

    /// Sets the flags of a set. Has no effect before [`SetFormat::touch`] in formats with a checksum.
    fn put_flags(&self, set: &mut [Slot], flags: FileFlags);

    /// Sets the modification time of a set.
    fn touch(&self, set: &mut [Slot], modified: FileTime);

    /// Sets the clusters and the size of a set, and writes the chain into the table; without a set, only the chain.
    ///
    /// # Errors
    /// When the table cannot be written.
    fn bind(
        &mut self,
        draft: &mut Edited,
        set: Option<&mut [Slot]>,
        runs: &[Run],
        len: u64,
    ) -> Result<()>;

    /// Returns whether the set of a folder contains its length.
    fn tells_len_of_folders(&self) -> bool;

    /// The first slots of a new folder.
    fn first_slots(&self, key: FolderKey, above: FolderKey, times: SetTimes) -> Vec<Slot>;

    /// Updates the reference of a folder to its parent after it was moved.
    ///
    /// # Errors
    /// When the folder is invalid.
    fn put_above(
        &self,
        _folder: &mut OpenFolder,
        _above: FolderKey,
        _draft: &mut Edited,
    ) -> Result<()> {
        Ok(())
    }

    /// Marks a slot as free.
    fn clear(&self, slot: &mut Slot);

    /// Writes the count or the bitmap of free clusters.
    ///
    /// # Errors
    /// When it can't be written.
    fn finish(&mut self, draft: &mut Edited, space: &ClusterSpace) -> Result<()>;
}

/// Applies `edits` to the volume in `store`.
///
/// # Errors
/// As [`crate::OpenVolume::edit`].
pub(crate) fn edit(
    store: &Arc<dyn ReadAt>,
    format: impl SetFormat,
    space: ClusterSpace,
    edits: &[FileEdit],
    options: EditOptions,
) -> Result<EditedVolume> {
    let mut editor = Editor {
        draft: Edited::new(Arc::clone(store)),
        format,
        space,
        now: options.now,
        folders: BTreeMap::new(),
        contents: BTreeMap::new(),
        spelled: BTreeMap::new(),
    };
    if options.keeps_old {
        editor.space.keep_old();
    }
    for (index, edit) in edits.iter().enumerate() {
        let free = editor.space.free();
        editor.apply(edit).map_err(|error| {
            let rest = edits.get(index..).unwrap_or_default();
            shortfall(error, rest, free, editor.format.cluster().get()).at(edit.place())
        })?;
    }
    editor.finish()
}

struct Editor<F> {
    draft: Edited,
    format: F,
    space: ClusterSpace,
    now: FileTime,
    folders: BTreeMap<FolderKey, OpenFolder>,
    /// New content, by its first cluster.
    contents: BTreeMap<u64, (Vec<Run>, Arc<dyn ReadAt>)>,
    /// Names that the edits gave, as spelled, by folder and case-folded name.
    spelled: BTreeMap<(FolderKey, String), String>,
}

/// A set in a folder.
type Place = (FolderKey, Range<usize>);

impl<F: SetFormat> Editor<F> {
    fn apply(&mut self, edit: &FileEdit) -> Result<()> {
        match edit {
            FileEdit::Put { path, content, meta } => self.put(path, content, meta),
            FileEdit::Folder { path, meta } => self.make_folder(path, meta),
            FileEdit::Remove { path } => self.remove(path),
            FileEdit::Rename { from, to } => self.rename(from, to),
            FileEdit::Link { .. } => Err(Error::unsupported("a volume of this kind has no links")),
            FileEdit::Node { .. } => {
                Err(Error::unsupported("a volume of this kind has no devices"))
            }
            FileEdit::Name { .. } => {
                Err(Error::unsupported("a file on a volume of this kind has one name"))
            }
        }
    }

    fn finish(mut self) -> Result<EditedVolume> {
        self.format.finish(&mut self.draft, &self.space)?;
        let mut contents = Contents::default();
        for (runs, content) in self.contents.values() {
            let mut from = ByteOffset::ZERO;
            for run in runs {
                let span = self.format.span_of(*run);
                contents.put(span, content, from);
                from = from.plus(span.len())?;
            }
        }
        self.clear_freed(&mut contents)?;
        Ok(EditedVolume::of(self.draft, &contents))
    }

    /// Clears freed clusters, unless old content is to be kept.
    fn clear_freed(&mut self, contents: &mut Contents) -> Result<()> {
        let Self { space, draft, format, .. } = self;
        if space.keeps_old() {
            return Ok(());
        }
        for number in space.freed().flat_map(|run| run.first..run.end()) {
            let span = format.span_of(Run::new(number, 1));
            match draft.has_unit(span.start().get() / 512) {
                true => {
                    draft.put(span.start(), &vec![0; span.len().to_usize().unwrap_or(0)])?;
                }
                false => contents.clear(span),
            }
        }
        Ok(())
    }

    fn times(&self, meta: &FileMeta) -> SetTimes {
        SetTimes { now: self.now, modified: meta.modified.unwrap_or(self.now) }
    }

    /// A folder that is in memory.
    fn folder(&self, key: FolderKey) -> Result<&OpenFolder> {
        self.folders.get(&key).ok_or_else(|| Error::bug("a folder is not in memory"))
    }

    fn folder_mut(&mut self, key: FolderKey) -> Result<&mut OpenFolder> {
        self.folders.get_mut(&key).ok_or_else(|| Error::bug("a folder is not in memory"))
    }

    fn set(&self, place: &Place) -> Result<Vec<Slot>> {
        self.folder(place.0)?.set(&place.1)
    }

    fn put_set(&mut self, place: &Place, set: &[Slot]) -> Result<()> {
        let Self { folders, draft, .. } = self;
        let folder = folders.get_mut(&place.0).ok_or_else(|| Error::bug("a folder is lost"))?;
        folder.put(place.1.start, set, draft)
    }

    /// Resolves names from the root down, and reads the folders into memory.
    fn folder_at(&mut self, path: &[Vec<u8>]) -> Result<FolderKey> {
        let mut key = self.format.root();
        if !self.folders.contains_key(&key) {
            let root = self.format.read_folder(&self.draft, key, None)?;
            self.folders.insert(key, root);
        }
        for name in path {
            let found = self.find(key, &text(name)?)?;
            let place = found.ok_or_else(|| no_folder(name))?;
            key = self.enter(&place)?;
        }
        Ok(key)
    }

    /// Reads the folder with the set at `place` into memory.
    fn enter(&mut self, place: &Place) -> Result<FolderKey> {
        let set = self.set(place)?;
        if self.format.kind_of(&set) != Some(SetKind::Folder) {
            return Err(Error::unsupported("a file is in the place of a folder"));
        }
        let runs = self.format.clusters_of(&set)?;
        let first = runs.first().ok_or_else(|| Error::corrupt("a folder has no cluster"))?;
        let key = first.first;
        if !self.folders.contains_key(&key) {
            let mut folder = self.format.read_folder(&self.draft, key, Some(&set))?;
            folder.own = Some((place.0, place.1.clone()));
            self.folders.insert(key, folder);
        }
        Ok(key)
    }

    fn find(&self, folder: FolderKey, name: &str) -> Result<Option<Place>> {
        let found = self.folder(folder)?.find(&self.format.folded(name));
        Ok(found.map(|range| (folder, range)))
    }

    /// The parent folder of `path`, the set at `path` if it exists, and its name.
    fn place_of(&mut self, path: &[Vec<u8>]) -> Result<(FolderKey, Option<Place>, String)> {
        let (name, folders) = split(path)?;
        let name = text(name)?;
        let folder = self.folder_at(folders)?;
        Ok((folder, self.find(folder, &name)?, name))
    }

    /// Claims `name` for one file or folder of these edits, which overwrites `found`.
    ///
    /// # Errors
    /// [`imbrik_store::Class::Usage`] when an earlier edit gave a name that this volume takes for the same one, or
    /// when `name` is the short name of another file.
    fn claim(&mut self, folder: FolderKey, name: &str, found: Option<&Place>) -> Result<()> {
        let folded = self.format.folded(name);
        if let Some(place) = found {
            let names = self.format.names_of(&self.set(place)?);
            if let Some(long) = names.first().filter(|long| **long != folded) {
                return Err(clash(name, long, "on this volume, that is its short name"));
            }
        }
        match self.spelled.insert((folder, folded), name.to_owned()) {
            Some(other) if other != name => {
                Err(clash(name, &other, "this volume ignores upper and lower case"))
            }
            _ => Ok(()),
        }
    }

    fn put(&mut self, path: &[Vec<u8>], content: &Arc<dyn ReadAt>, meta: &FileMeta) -> Result<()> {
        let (folder, found, name) = self.place_of(path)?;
        self.claim(folder, &name, found.as_ref())?;
        let size = content.size().get();
        if size > self.format.longest() {
            return Err(Error::unsupported("it is too long for a volume of this kind"));
        }
        let times = self.times(meta);
        let (place, old) = match found {
            Some(place) => {
                let set = self.set(&place)?;
                if self.format.kind_of(&set) != Some(SetKind::File) {
                    return Err(Error::unsupported("something else is in its place"));
                }
                (place, self.format.clusters_of(&set)?)
            }
            None => {
                let folder = self.folders.get(&folder);
                let folder = folder.ok_or_else(|| Error::bug("a folder is lost"))?;
                let set = self.format.new_set(folder, &name, SetKind::File, times)?;
                let key = folder.key;
                (self.add_set(key, &set)?, Vec::new())
            }
        };
        let needed = size.div_ceil(self.format.cluster().get().max(1));
        let runs = self.take(needed, old.first().map_or(0, |run| run.first))?;
        self.give_back(&old)?;
        let mut set = self.set(&place)?;
        self.format.bind(&mut self.draft, Some(&mut set), &runs, size)?;
        if let Some(flags) = meta.flags {
            self.format.put_flags(&mut set, flags);
        }
        self.format.touch(&mut set, times.modified);
        self.put_set(&place, &set)?;
        if let Some(first) = runs.first().map(|run| run.first) {
            self.contents.insert(first, (runs, Arc::clone(content)));
        }
        Ok(())
    }

    /// Allocates clusters.
    fn take(&mut self, count: u64, near: u64) -> Result<Vec<Run>> {
        let mut runs: Vec<Run> = Vec::new();
        let (mut left, mut near) = (count, near);
        while left > 0 {
            let Self { space, draft, format, .. } = self;
            let is_written = |cluster| {
                let unit = format.span_of(Run::new(cluster, 1)).start().get() / 512;
                draft.has_unit(unit)
            };
            let run = space.take_run(near, left, &is_written)?;
            left = left.minus(run.len)?;
            near = run.end();
            match runs.last_mut() {
                Some(last) if last.end() == run.first => last.len = last.len.plus(run.len)?,
                _ => runs.push(run),
            }
        }
        Ok(runs)
    }

    fn give_back(&mut self, runs: &[Run]) -> Result<()> {
        if let Some(first) = runs.first() {
            self.contents.remove(&first.first);
        }
        runs.iter().try_for_each(|run| self.space.give_back(*run))
    }

    /// Adds a set to a folder, and extends the folder if necessary.
    fn add_set(&mut self, key: FolderKey, set: &[Slot]) -> Result<Place> {
        let found = self.folder_mut(key)?.room_for(set.len());
        let start = match found {
            Some(start) => start,
            None => {
                self.grow_folder(key)?;
                // A set is never longer than one cluster and the free slots before it.
                let again = self.folder_mut(key)?.room_for(set.len());
                match again {
                    Some(start) => start,
                    None => {
                        self.grow_folder(key)?;
                        let again = self.folder_mut(key)?.room_for(set.len());
                        again.ok_or_else(|| Error::no_room("its folder is full"))?
                    }
                }
            }
        };
        let place = (key, start..start.plus(set.len())?);
        let free = self.format.free_slot();
        let Self { folders, draft, .. } = self;
        let folder = folders.get_mut(&key).ok_or_else(|| Error::bug("a folder is lost"))?;
        folder.extend_to(start, free, draft)?;
        self.put_set(&place, set)?;
        let names = self.format.names_of(set);
        let Self { folders, draft, .. } = self;
        let folder = folders.get_mut(&key).ok_or_else(|| Error::bug("a folder is lost"))?;
        folder.end_behind(place.1.end, draft)?;
        folder.learn(names, place.1.clone());
        Ok(place)
    }

    /// Extends a folder by one cluster.
    fn grow_folder(&mut self, key: FolderKey) -> Result<()> {
        let folder = self.folder(key)?;
        if folder.is_fixed() {
            return Err(Error::no_room("the root directory is full"));
        }
        let (mut runs, own) = (folder.runs.clone(), folder.own.clone());
        let len = self.format.cluster();
        let whole = runs.iter().map(|run| run.len).sum::<u64>().plus(1)?.times(len.get())?;
        if whole > folder.most {
            return Err(Error::no_room("its folder is full"));
        }
        let near = runs.last().map_or(0, |run| run.end());
        let new = self.take(1, near)?;
        let new = *new.first().ok_or_else(|| Error::no_room("no cluster is free"))?;
        let span = self.format.span_of(new);
        self.draft.put(span.start(), &vec![0; len.to_usize().unwrap_or(0)])?;
        match runs.last_mut() {
            Some(last) if last.end() == new.first => last.len = last.len.plus(1)?,
            _ => runs.push(new),
        }
        match own.filter(|_| self.format.tells_len_of_folders()) {
            Some(place) => {
                let mut set = self.set(&place)?;
                self.format.bind(&mut self.draft, Some(&mut set), &runs, whole)?;
                self.put_set(&place, &set)?;
            }
            None => self.format.bind(&mut self.draft, None, &runs, whole)?,
        }
        self.folder_mut(key)?.grow(runs, span);
        Ok(())
    }

    fn make_folder(&mut self, path: &[Vec<u8>], meta: &FileMeta) -> Result<()> {
        if path.is_empty() {
            return Ok(());
        }
        let (above, found, name) = self.place_of(path)?;
        self.claim(above, &name, found.as_ref())?;
        if let Some(place) = found {
            return match self.format.kind_of(&self.set(&place)?) {
                Some(SetKind::Folder) => Ok(()),
                _ => Err(is_there(name.as_bytes())),
            };
        }
        let times = self.times(meta);
        let set = self.format.new_set(self.folder(above)?, &name, SetKind::Folder, times)?;
        let place = self.add_set(above, &set)?;
        let runs = self.take(1, 0)?;
        let key = runs.first().map_or(0, |run| run.first);
        let len = self.format.cluster();
        let span = self.format.span_of(Run::new(key, 1));
        let mut content: Vec<u8> = self.format.first_slots(key, above, times).concat();
        content.resize(len.to_usize().unwrap_or(0), 0);
        self.draft.put(span.start(), &content)?;
        let mut set = self.set(&place)?;
        self.format.bind(&mut self.draft, Some(&mut set), &runs, len.get())?;
        if let Some(flags) = meta.flags {
            self.format.put_flags(&mut set, flags);
            self.format.touch(&mut set, times.modified);
        }
        self.put_set(&place, &set)
    }

    fn remove(&mut self, path: &[Vec<u8>]) -> Result<()> {
        let (folder, found, name) = self.place_of(path)?;
        let place = found.ok_or_else(missing)?;
        self.spelled.remove(&(folder, self.format.folded(&name)));
        self.empty(&place)?;
        self.take_out(&place)
    }

    /// Frees all clusters of a set, and of all sets below it.
    fn empty(&mut self, place: &Place) -> Result<()> {
        let mut waiting = vec![place.clone()];
        while let Some(place) = waiting.pop() {
            let set = self.set(&place)?;
            if self.format.kind_of(&set) == Some(SetKind::Folder) {
                let key = self.enter(&place)?;
                waiting.extend(self.folder(key)?.sets().map(|range| (key, range)));
            }
            let runs = self.format.clusters_of(&set)?;
            self.give_back(&runs)?;
        }
        // These folders are not used again.
        self.forget_folders();
        Ok(())
    }

    /// Forgets all folders whose clusters were freed.
    fn forget_folders(&mut self) {
        let Self { folders, space, .. } = self;
        folders.retain(|_, folder| {
            folder.runs.first().is_none_or(|run| !space.was_given_back(run.first))
        });
    }

    /// Removes a set from its folder.
    fn take_out(&mut self, place: &Place) -> Result<()> {
        self.forget_names(place)?;
        self.erase(place)
    }

    /// Removes the names of a set from memory.
    fn forget_names(&mut self, place: &Place) -> Result<()> {
        let names = self.format.names_of(&self.set(place)?);
        self.folder_mut(place.0)?.unlearn(&names, &place.1);
        Ok(())
    }

    /// Frees the slots of a set.
    fn erase(&mut self, place: &Place) -> Result<()> {
        let mut set = self.set(place)?;
        set.iter_mut().for_each(|slot| self.format.clear(slot));
        self.put_set(place, &set)
    }

    fn rename(&mut self, from: &[Vec<u8>], to: &[Vec<u8>]) -> Result<()> {
        let (above, found, name) = self.place_of(from)?;
        let old = found.ok_or_else(missing)?;
        self.spelled.remove(&(above, self.format.folded(&name)));
        let (folder, found, name) = self.place_of(to)?;
        self.claim(folder, &name, found.as_ref().filter(|found| **found != old))?;
        if found.is_some_and(|found| found != old) {
            return Err(is_there(name.as_bytes()));
        }
        let set = self.set(&old)?;
        let is_folder = self.format.kind_of(&set) == Some(SetKind::Folder);
        let key = if is_folder { Some(self.enter(&old)?) } else { None };
        if key.is_some_and(|key| self.is_below(folder, key)) {
            return Err(Error::usage("a folder cannot be moved into itself"));
        }
        // The old name of the file itself is not a conflict. In place, the new name gets other slots, and the old one
        // is removed only after the new one was written.
        self.forget_names(&old)?;
        if !self.space.keeps_old() {
            self.erase(&old)?;
        }
        let renamed = self.format.renamed(self.folder(folder)?, &set, &name)?;
        let place = self.add_set(folder, &renamed)?;
        if self.space.keeps_old() {
            self.erase(&old)?;
        }
        if let Some(key) = key {
            let Self { folders, draft, format, .. } = self;
            let moved = folders.get_mut(&key).ok_or_else(|| Error::bug("a folder is lost"))?;
            moved.own = Some(place.clone());
            if old.0 != folder {
                format.put_above(moved, folder, draft)?;
            }
        }
        Ok(())
    }

    /// Returns whether a folder is the same as another one or below it. Names can't decide this, because of short
    /// names.
    fn is_below(&self, folder: FolderKey, above: FolderKey) -> bool {
        let mut at = Some(folder);
        for _ in 0..=self.folders.len() {
            match at {
                Some(key) if key == above => return true,
                Some(key) => {
                    let own = self.folders.get(&key).and_then(|folder| folder.own.as_ref());
                    at = own.map(|(parent, _)| *parent);
                }
                None => break,
            }
        }
        false
    }
}

/// Two names that are the same for a volume.
fn clash(name: &str, other: &str, why: &str) -> Error {
    Error::usage(format!(
        "\"{}\" would overwrite \"{}\": {why}",
        name.escape_debug(),
        other.escape_debug()
    ))
}

/// A name as text.
fn text(name: &[u8]) -> Result<String> {
    let text = std::str::from_utf8(name).map_err(|_| Error::usage("the name is not UTF-8"))?;
    Ok(text.to_owned())
}
