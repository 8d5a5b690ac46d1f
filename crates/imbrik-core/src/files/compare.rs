//! Comparison of two trees of files.

use super::find::below;
use imbrik_fs::{FileContent, FileId, FileInfo, FileKind, Files, Onward, Walked, is_name};
use imbrik_store::{
    ReadAt,
    error::Result,
    for_pieces,
    progress::{Event, Step, Watch},
    units::{ByteLen, ByteOffset, Span, joined},
};
use std::{
    collections::{BTreeMap, BTreeSet, HashMap, HashSet},
    ops::ControlFlow,
};

/// Bytes of two files that are compared at once.
const PIECE: ByteLen = ByteLen::mib(1);
/// The longest target of a link that is compared, in bytes.
const LONGEST_TARGET: usize = 65_536;
/// The deepest nesting of folders that is compared.
const DEEPEST: usize = 2000;

/// One of two trees that are compared.
#[derive(Clone, Copy)]
pub struct Side<'a> {
    /// The files of its volume.
    pub files: &'a dyn Files,
    /// The file or folder to start at, and its path, names joined by `/`.
    pub start: (FileId, &'a [u8]),
}

/// Decides from the locations of two contents whether they are known to be equal without being read.
pub type KnownSame<'a> = &'a dyn Fn(&FileContent<'_>, &FileContent<'_>) -> bool;

/// A property in which two versions of a file differ.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Aspect {
    /// The type.
    Kind,
    /// The content; of a link, the target; of a device, its numbers.
    Content,
    /// The permissions.
    Permissions,
    /// The owner or the group.
    Owner,
    /// The extended attributes.
    Attributes,
    /// The flags, such as immutable or hidden.
    Flags,
    /// The number of hard links, or the files that share the content.
    Links,
    /// The modification time, of a file whose content is equal.
    Modified,
}

/// The content of a folder, or a single file.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Below {
    /// Count of files, links and devices.
    pub files: u64,
    /// Total size of the files.
    pub bytes: ByteLen,
}

/// The kind of difference.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// The file is new.
    Added(FileKind, Below),
    /// The file was removed.
    Removed(FileKind, Below),
    /// The file was renamed: its old path, names joined by `/`.
    Renamed(FileKind, Vec<u8>),
    /// The file changed: its old and new size, and the properties that differ.
    Changed(FileKind, [u64; 2], Vec<Aspect>),
    /// The file could not be compared, for this reason.
    NotCompared(String),
}

/// A file or folder that differs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Difference {
    /// Path from the root, names joined by `/`; of a removed file, the old one.
    pub path: Vec<u8>,
    /// The kind of difference.
    pub change: Change,
}

/// The differences between two trees.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Differences {
    /// All differences, sorted by path.
    pub list: Vec<Difference>,
    /// Count of files, links and devices that are equal in all properties.
    pub same: u64,
    /// Count of contents that [`KnownSame`] declared equal, so that they were not read.
    pub known: u64,
    /// Bytes that were read of each tree.
    pub read: ByteLen,
}

/// Compares two files, or two folders with everything below them.
///
/// A file is equal when its content, owner, permissions, attributes, flags and modification time are. It counts as
/// renamed when it has another path and the same content; a folder, when it has the same inode and creation time.
/// Modification times of folders are not compared, since they follow from their content.
///
/// # Errors
/// When a card is gone, or stopping was requested. A single file that can't be read is a [`Change::NotCompared`].
pub fn compare(
    before: Side<'_>,
    after: Side<'_>,
    known_same: Option<KnownSame<'_>>,
    watch: Watch<'_>,
) -> Result<Differences> {
    watch.observer.on(&Event::Started { step: Step::ComparingFiles, total: ByteLen::ZERO });
    let mut comparing = Comparing {
        before: before.files,
        after: after.files,
        known_same,
        watch,
        found: Differences::default(),
        gone: Vec::new(),
        new: Vec::new(),
        moved_from: BTreeSet::new(),
        moved_to: BTreeSet::new(),
        linked_to: HashMap::new(),
        linked_from: HashMap::new(),
        entered: HashSet::new(),
    };
    let ((a, a_path), (b, b_path)) = (before.start, after.start);
    comparing.pair(
        One { file: a, path: a_path.to_vec() },
        One { file: b, path: b_path.to_vec() },
        0,
    )?;
    comparing.match_renamed()?;
    comparing.tell_the_rest()?;
    let mut found = comparing.found;
    found.list.sort_by(|a, b| a.path.cmp(&b.path));
    watch.observer.on(&Event::Finished);
    Ok(found)
}

/// A file of one of the trees.
#[derive(Clone)]
struct One {
    file: FileId,
    path: Vec<u8>,
}

struct Comparing<'a> {
    before: &'a dyn Files,
    after: &'a dyn Files,
    known_same: Option<KnownSame<'a>>,
    watch: Watch<'a>,
    found: Differences,
    /// Files and folders without a counterpart of the same name.
    gone: Vec<(One, FileInfo)>,
    new: Vec<(One, FileInfo)>,
    /// Paths of renamed files, before and after.
    moved_from: BTreeSet<Vec<u8>>,
    moved_to: BTreeSet<Vec<u8>>,
    /// Inode numbers of files with several hard links: after by before, and before by after.
    linked_to: HashMap<u64, u64>,
    linked_from: HashMap<u64, u64>,
    /// Folders of the first tree that were entered, to detect folders that contain themselves.
    entered: HashSet<u64>,
}

impl Comparing<'_> {
    fn tell(&mut self, path: Vec<u8>, change: Change) {
        self.found.list.push(Difference { path, change });
    }

    /// Records an error that concerns a single file as a difference.
    fn local<T>(&mut self, path: &[u8], found: Result<T>) -> Result<Option<T>> {
        match found {
            Err(error) if error.is_local() => {
                self.tell(path.to_vec(), Change::NotCompared(error.to_string()));
                Ok(None)
            }
            found => found.map(Some),
        }
    }

    fn pair(&mut self, before: One, after: One, depth: usize) -> Result<()> {
        self.watch.cancel.check()?;
        let infos =
            self.before.info(before.file).and_then(|a| Ok((a, self.after.info(after.file)?)));
        let Some((a, b)) = self.local(&after.path, infos)? else { return Ok(()) };
        if std::mem::discriminant(&a.kind) != std::mem::discriminant(&b.kind) {
            let change = Change::Changed(b.kind, [a.size, b.size], vec![Aspect::Kind]);
            self.tell(after.path, change);
            return Ok(());
        }
        let aspects = self.aspects(&before, &after, &a, &b);
        let Some(aspects) = self.local(&after.path, aspects)? else { return Ok(()) };
        let is_folder = b.kind == FileKind::Folder;
        if !aspects.is_empty() {
            let change = Change::Changed(b.kind, [a.size, b.size], aspects);
            self.tell(after.path.clone(), change);
        } else if !is_folder {
            self.found.same = self.found.same.saturating_add(1);
        }
        if is_folder { self.folders(&before, &after, depth) } else { Ok(()) }
    }

    fn folders(&mut self, before: &One, after: &One, depth: usize) -> Result<()> {
        if !self.entered.insert(before.file.number()) || depth >= DEEPEST {
            let why = "the folder is in itself, or in several others".to_owned();
            self.tell(after.path.clone(), Change::NotCompared(why));
            return Ok(());
        }
        let (a, b) = (entries(self.before, before.file), entries(self.after, after.file));
        let Some(mut a) = self.local(&before.path, a)? else { return Ok(()) };
        let Some(b) = self.local(&after.path, b)? else { return Ok(()) };
        for (name, file) in b {
            let one = One { file, path: below(&after.path, &name) };
            match a.remove(&name) {
                Some(was) => {
                    let was = One { file: was, path: below(&before.path, &name) };
                    self.pair(was, one, depth.saturating_add(1))?;
                }
                None => {
                    let info = self.after.info(file);
                    if let Some(info) = self.local(&one.path, info)? {
                        self.new.push((one, info));
                    }
                }
            }
        }
        for (name, file) in a {
            let one = One { file, path: below(&before.path, &name) };
            let info = self.before.info(file);
            if let Some(info) = self.local(&one.path, info)? {
                self.gone.push((one, info));
            }
        }
        Ok(())
    }

    /// The properties in which two files of the same type differ.
    fn aspects(
        &mut self,
        before: &One,
        after: &One,
        a: &FileInfo,
        b: &FileInfo,
    ) -> Result<Vec<Aspect>> {
        let mut aspects = Vec::new();
        if !self.is_same_content(before.file, after.file, a, b)? {
            aspects.push(Aspect::Content);
        }
        let of = |info: &FileInfo| info.ownership.map(|of| (of.owner, of.group));
        if a.ownership.map(|of| of.permissions) != b.ownership.map(|of| of.permissions) {
            aspects.push(Aspect::Permissions);
        }
        if of(a) != of(b) {
            aspects.push(Aspect::Owner);
        }
        let attributes = |files: &dyn Files, file| -> Result<BTreeMap<Vec<u8>, Vec<u8>>> {
            let all = files.attributes(file)?.into_iter();
            Ok(all.map(|one| (one.name, one.value)).collect())
        };
        if attributes(self.before, before.file)? != attributes(self.after, after.file)? {
            aspects.push(Aspect::Attributes);
        }
        if a.flags != b.flags {
            aspects.push(Aspect::Flags);
        }
        if !a.kind.is_folder() && !self.has_same_names(before.file, after.file, a, b) {
            aspects.push(Aspect::Links);
        }
        let is_timed = matches!(a.kind, FileKind::File | FileKind::Link)
            && !aspects.contains(&Aspect::Content);
        if is_timed && a.modified != b.modified {
            aspects.push(Aspect::Modified);
        }
        Ok(aspects)
    }

    /// Returns whether a file has the same number of hard links as before, and shares its content with the same files
    /// among those that were compared so far.
    fn has_same_names(&mut self, was: FileId, is: FileId, a: &FileInfo, b: &FileInfo) -> bool {
        if a.links < 2 && b.links < 2 {
            return true;
        }
        let (was, is) = (was.number(), is.number());
        let now = *self.linked_to.entry(was).or_insert(is);
        let before = *self.linked_from.entry(is).or_insert(was);
        a.links == b.links && now == is && before == was
    }

    fn is_same_content(
        &mut self,
        before: FileId,
        after: FileId,
        a: &FileInfo,
        b: &FileInfo,
    ) -> Result<bool> {
        match a.kind {
            FileKind::File if a.size != b.size => Ok(false),
            FileKind::File => {
                let (a, b) = (self.before.content_of(before)?, self.after.content_of(after)?);
                if self.known_same.is_some_and(|same| same(&a, &b)) {
                    self.found.known = self.found.known.saturating_add(1);
                    return Ok(true);
                }
                self.is_equal(&a, &b)
            }
            FileKind::Link => Ok(self.before.read(before, LONGEST_TARGET)?
                == self.after.read(after, LONGEST_TARGET)?),
            _ => Ok(a.kind == b.kind),
        }
    }

    /// Returns whether two contents of the same size are equal. Common holes are not read.
    fn is_equal(&mut self, a: &FileContent<'_>, b: &FileContent<'_>) -> Result<bool> {
        let mut parts = joined(a.written().chain(b.written()).collect()).into_iter();
        let (mut left, mut right) = (Vec::new(), Vec::new());
        let mut is_equal = true;
        while let Some(part) = parts.next().filter(|_| is_equal) {
            for_pieces(part, PIECE, |piece| {
                if !is_equal {
                    return Ok(());
                }
                self.watch.cancel.check()?;
                let len = piece.len().to_usize().unwrap_or(0);
                left.resize(len, 0);
                right.resize(len, 0);
                a.read_at(piece.start(), &mut left)?;
                b.read_at(piece.start(), &mut right)?;
                self.found.read = self.found.read.saturating_add(piece.len());
                self.watch.observer.on(&Event::Advanced { done: self.found.read });
                is_equal = left == right;
                Ok(())
            })?;
        }
        Ok(is_equal)
    }

    /// Finds renamed files and folders, also below folders that are new or were removed.
    fn match_renamed(&mut self) -> Result<()> {
        // Folders first, because files that moved with their folder are not listed. Comparing the old and the new
        // content of such a folder can leave more files without a counterpart.
        while self.match_once(FileKind::is_folder)? {}
        self.match_once(|kind| !kind.is_folder())?;
        Ok(())
    }

    /// Matches each new file or folder of a type with a removed one. Returns whether any was matched.
    fn match_once(&mut self, is_matched: fn(FileKind) -> bool) -> Result<bool> {
        let gone = self.all_below(self.before, &self.gone, &self.moved_from)?;
        let new = self.all_below(self.after, &self.new, &self.moved_to)?;
        let mut by_key: HashMap<Key, Vec<usize>> = HashMap::new();
        for (at, (one, info)) in
            gone.iter().enumerate().filter(|(_, (_, info))| is_matched(info.kind))
        {
            if let Some(key) = Key::of(one, info) {
                by_key.entry(key).or_default().push(at);
            }
        }
        // The content of a folder that was just matched waits for the next round.
        let (mut matched_from, mut matched_to) = (BTreeSet::new(), BTreeSet::new());
        for (one, info) in new.into_iter().filter(|(_, info)| is_matched(info.kind)) {
            self.watch.cancel.check()?;
            let Some(key) = Key::of(&one, &info) else { continue };
            if is_in(&matched_to, &one.path) {
                continue;
            }
            let candidates = by_key.get(&key).map_or(&[][..], Vec::as_slice);
            let candidates = candidates.iter().filter_map(|at| gone.get(*at));
            // The same inode is the most likely match.
            let (likely, others): (Vec<_>, Vec<_>) =
                candidates.partition(|(was, _)| was.file.number() == one.file.number());
            for (was, was_info) in likely.into_iter().chain(others) {
                if is_in(&matched_from, &was.path)
                    || !self.is_renamed(was, was_info, &one, &info)?
                {
                    continue;
                }
                matched_from.insert(was.path.clone());
                matched_to.insert(one.path.clone());
                self.tell(one.path.clone(), Change::Renamed(info.kind, was.path.clone()));
                let same = self.found.same;
                self.pair(was.clone(), one.clone(), 0)?;
                // It is listed already.
                if !info.kind.is_folder() {
                    self.found.same = same;
                }
                break;
            }
        }
        let has_matched = !matched_to.is_empty();
        self.moved_from.append(&mut matched_from);
        self.moved_to.append(&mut matched_to);
        Ok(has_matched)
    }

    /// Files and folders with everything below them that was not renamed, from the top down.
    fn all_below(
        &self,
        files: &dyn Files,
        tops: &[(One, FileInfo)],
        moved: &BTreeSet<Vec<u8>>,
    ) -> Result<Vec<(One, FileInfo)>> {
        let mut all = Vec::new();
        for (top, _) in tops {
            files.walk(top.file, &mut |walked| {
                self.watch.cancel.check()?;
                let Walked::Entry(one) = walked else { return Ok(Onward::Into) };
                let path = below(&top.path, one.path);
                if moved.contains(&path) {
                    return Ok(Onward::Past);
                }
                all.push((One { file: one.file, path }, one.info));
                Ok(Onward::Into)
            })?;
        }
        Ok(all)
    }

    fn is_renamed(&mut self, was: &One, a: &FileInfo, is: &One, b: &FileInfo) -> Result<bool> {
        match a.kind {
            // The inode number and the creation time in the key are sufficient.
            FileKind::Folder => Ok(true),
            FileKind::File if a.size > 0 => match self.is_same_content(was.file, is.file, a, b) {
                Err(error) if error.is_local() => Ok(false),
                same => same,
            },
            // Many empty files, links and devices are equal.
            _ if was.file.number() != is.file.number() => Ok(false),
            _ => match self.is_same_content(was.file, is.file, a, b) {
                Err(error) if error.is_local() => Ok(false),
                same => same,
            },
        }
    }

    fn tell_the_rest(&mut self) -> Result<()> {
        let (gone, new) = (std::mem::take(&mut self.gone), std::mem::take(&mut self.new));
        for (one, info) in gone.into_iter().filter(|(one, _)| !self.moved_from.contains(&one.path))
        {
            let weight = self.weight(self.before, &one, &self.moved_from)?;
            self.found
                .list
                .push(Difference { path: one.path, change: Change::Removed(info.kind, weight) });
        }
        for (one, info) in new.into_iter().filter(|(one, _)| !self.moved_to.contains(&one.path)) {
            let weight = self.weight(self.after, &one, &self.moved_to)?;
            self.found
                .list
                .push(Difference { path: one.path, change: Change::Added(info.kind, weight) });
        }
        Ok(())
    }

    /// Counts a file, or the files in a folder, without renamed ones.
    fn weight(&self, files: &dyn Files, one: &One, moved: &BTreeSet<Vec<u8>>) -> Result<Below> {
        let mut all = Below::default();
        for (_, info) in self.all_below(files, &[(one.clone(), files.info(one.file)?)], moved)? {
            if info.kind != FileKind::Folder {
                all.files = all.files.saturating_add(1);
                all.bytes = all.bytes.saturating_add(ByteLen::new(content_len(&info)));
            }
        }
        Ok(all)
    }
}

/// Returns whether a path, or a folder on it, is in a set.
fn is_in(set: &BTreeSet<Vec<u8>>, path: &[u8]) -> bool {
    let ends = path.iter().enumerate().filter(|(_, byte)| **byte == b'/').map(|(at, _)| at);
    ends.chain([path.len()]).any(|end| path.get(..end).is_some_and(|path| set.contains(path)))
}

fn content_len(info: &FileInfo) -> u64 {
    if info.kind == FileKind::File { info.size } else { 0 }
}

/// Properties that a file keeps when it is renamed.
#[derive(PartialEq, Eq, Hash)]
enum Key {
    /// The length of a file.
    File(u64),
    /// The number of a folder, and the time of its creation.
    Folder(u64, (i64, u32)),
    /// The inode number of a link, a device, a pipe or a socket.
    Other(u64),
}

impl Key {
    /// `None` for a folder without a recorded creation time: its inode number can have been reused.
    fn of(one: &One, info: &FileInfo) -> Option<Self> {
        let number = one.file.number();
        match info.kind {
            FileKind::File => Some(Self::File(info.size)),
            FileKind::Folder => {
                info.created.map(|time| Self::Folder(number, (time.seconds, time.nanoseconds)))
            }
            _ => Some(Self::Other(number)),
        }
    }
}

/// The entries of a folder by name, without names that are not valid.
fn entries(files: &dyn Files, folder: FileId) -> Result<BTreeMap<Vec<u8>, FileId>> {
    let mut all = BTreeMap::new();
    files.entries(folder, &mut |entry| {
        if is_name(entry.name) {
            all.insert(entry.name.to_vec(), entry.file);
        }
        Ok(ControlFlow::Continue(()))
    })?;
    Ok(all)
}

/// Returns whether two contents are at the same positions on their cards, relative to the starts of their volumes, and
/// `is_same` holds for every tile of these ranges.
#[must_use]
pub fn stands_in_same(
    a: &FileContent<'_>,
    b: &FileContent<'_>,
    starts: [ByteOffset; 2],
    is_same: impl Fn(Span) -> bool,
) -> bool {
    let on_card = |content: &FileContent<'_>, start: ByteOffset| -> Vec<Span> {
        let ahead = ByteLen::new(start.get());
        let places = content.places().map(|place| {
            Span::between(place.start().saturating_add(ahead), place.end().saturating_add(ahead))
        });
        places.collect()
    };
    let [a_start, b_start] = starts;
    let (a_places, b_places) = (on_card(a, a_start), on_card(b, b_start));
    let is_all = |content: &FileContent<'_>, places: &[Span]| {
        let placed: ByteLen = places.iter().map(|place| place.len()).sum();
        placed == content.written().map(Span::len).sum()
    };
    !a_places.is_empty()
        && a_places == b_places
        && a.written().eq(b.written())
        && is_all(a, &a_places)
        && is_all(b, &b_places)
        && a_places.into_iter().all(is_same)
}
