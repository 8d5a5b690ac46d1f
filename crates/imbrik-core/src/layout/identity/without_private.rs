//! A copy without private data: files left out, values removed, and nothing of them left in free space.

use super::{Edit, Editing, is_blank};
use crate::layout::{
    Change, PrivateKind, Remedy, Warning,
    occupancy::segments_of,
    private::{Private, private_in},
    view::{Content, Segment},
};
use imbrik_fs::{FileEdit, FileKind, FileMeta, Files, Onward, OpenVolume, Stretch, Walked};
use imbrik_store::{
    Edited, ReadAt, SparseStore,
    bytes::is_zero,
    error::{Class, Error, Result},
    progress::Cancel,
    read_vec,
    units::{ByteLen, ByteOffset, Span, joined, without},
};
use memchr::memmem;
use std::{ops::ControlFlow, sync::Arc};

/// Removed values that are shorter occur by chance: the other files are not searched for them.
const SHORTEST: usize = 8;
/// Bytes of a file that are read at once.
const CHUNK: usize = 4 << 20;
/// How many files with a removed value are named.
const NAMED: usize = 5;
/// A multiple of the block size of each filesystem that is edited, in bytes.
const LARGEST_BLOCK: u64 = 64 << 10;

/// How private data are left out of a copy.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LeavePrivate {
    /// Treatment of files that may be private.
    pub guesses: Guesses,
    /// Treatment of volumes that can't be searched.
    pub uninspected: Uninspected,
}

/// Treatment of files of which it is only a guess that they are private.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Guesses {
    /// Such volumes are copied unchanged.
    Keep,
    /// They are treated as private.
    LeaveOut,
}

/// Treatment of a volume whose files can't be read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Uninspected {
    /// The plan is refused.
    Refuse,
    /// It is copied unchanged, with a warning.
    Keep,
}

/// Result of a search of one partition for private data.
#[derive(Default)]
struct Searched {
    found: Vec<Private>,
    /// Why some or all of its files were not searched.
    incomplete: Option<Incomplete>,
}

/// Reason for an incomplete search.
enum Incomplete {
    /// The partition is copied unchanged: no file can be read, or its metadata is inconsistent.
    Volume(String),
    /// These files and folders can't be read.
    Files(Vec<Vec<u8>>),
}

impl Editing<'_> {
    /// Leaves out private data, and returns the values that were removed. Keeps host keys that are the copy's own.
    pub(super) fn leave_private(
        &mut self,
        leave: LeavePrivate,
        has_own_keys: bool,
        cancel: &Cancel,
    ) -> Result<Vec<Vec<u8>>> {
        let is_left_out = |one: &Private| {
            (one.is_certain || leave.guesses == Guesses::LeaveOut)
                && (one.kind != PrivateKind::HostKey || !has_own_keys)
        };
        let mut removed = Vec::new();
        for index in 0..self.parts.len() {
            let Some(part) = self.parts.get_mut(index) else { break };
            let searched = search(part, cancel)?;
            if let Some(incomplete) = searched.incomplete {
                let title = part.title.clone();
                if leave.uninspected == Uninspected::Refuse {
                    return Err(Error::refused(incomplete.reason()).at(title));
                }
                part.is_copied_unchanged = matches!(incomplete, Incomplete::Volume(_));
                self.changes.push(Change::Warning(incomplete.warning(title)));
            }
            let left: Vec<Private> = searched.found.into_iter().filter(is_left_out).collect();
            removed.extend(left.iter().flat_map(|one| one.removed.0.clone()));
            let edits: Vec<FileEdit> = left.into_iter().map(edit_of).collect();
            if edits.is_empty() {
                continue;
            }
            self.edit(index, &edits, "without private data")?;
            let Some(part) = self.parts.get(index) else { break };
            if let Some(one) = search_files(part)?.found.iter().find(|one| is_left_out(one)) {
                let path = one.path.escape_ascii();
                return Err(Error::bug(format!(
                    "/{path} is still private after its values were removed"
                )));
            }
        }
        removed.sort();
        removed.dedup();
        Ok(removed)
    }

    /// Zeros the unused rest of the last block of each file, and warns of files that contain a removed value. Returns
    /// the parts of the card that no file uses.
    pub(super) fn clear_unused(
        &mut self,
        removed: &[Vec<u8>],
        cancel: &Cancel,
    ) -> Result<Vec<Segment>> {
        let mut unused = Vec::new();
        for part in self.parts.iter_mut().filter(|part| !part.is_copied_unchanged) {
            let Some(volume) = part.volume.clone() else { continue };
            let examined = OpenVolume::known(Arc::clone(&part.store), volume.clone()).examine()?;
            let mut metadata = Vec::new();
            if examined.usage.whole_because.is_none() {
                let segments = segments_of(&examined, part.span);
                metadata = segments
                    .iter()
                    .filter(|one| !matches!(one.content, Content::Unused | Content::Cleared))
                    .filter_map(|one| {
                        let start = one.span.start().saturating_since(part.span.start());
                        Span::new(ByteOffset::new(start.get()), one.span.len())
                    })
                    .collect();
                let segments = segments.into_iter();
                // Blocks of files that were left out are zeros on the card, where an older copy may be.
                let edited = part.spans_on_card();
                for segment in segments {
                    if matches!(segment.content, Content::Unused | Content::Cleared) {
                        unused.extend(
                            without(&[segment.span], &edited)
                                .into_iter()
                                .map(|span| Segment { span, content: segment.content.clone() }),
                        );
                    }
                }
            }
            let values = Values::new(removed);
            let Some(files) = volume.files(&*part.store)? else { continue };
            let tails = tails(&*files, &*part.store, cancel)?;
            let found = values.files_with_one(&*files, cancel)?;
            drop(files);
            if !tails.is_empty() {
                let mut draft = Edited::new(Arc::clone(&part.store));
                for tail in &tails {
                    draft.put(tail.start(), &vec![0; tail.len().to_usize().unwrap_or(0)])?;
                }
                part.store = Arc::new(draft);
                part.rewritten.extend(tails);
            }
            if values.are_in(&*part.store, &without(&metadata, &found.searched), cancel)? {
                let title = part.short.clone();
                self.changes.push(Change::Warning(Warning::MetadataContains { title }));
            }
            if !found.paths.is_empty() {
                let title = part.short.clone();
                self.changes.push(Change::Warning(Warning::StillContains {
                    title,
                    count: found.paths.len(),
                    paths: found.paths.into_iter().take(NAMED).collect(),
                }));
            }
        }
        Ok(unused)
    }
}

impl Incomplete {
    fn reason(&self) -> String {
        let why = match self {
            Self::Volume(why) => why.clone(),
            Self::Files(paths) => format!(
                "/{} can't be read",
                paths.first().map(|path| path.escape_ascii().to_string()).unwrap_or_default()
            ),
        };
        format!("it can't be searched for private data: {why}")
    }

    fn warning(&self, title: String) -> Warning {
        match self {
            Self::Volume(why) => Warning::NotInspected { title, why: why.clone() },
            Self::Files(paths) => Warning::FilesNotInspected {
                title,
                count: paths.len(),
                paths: paths
                    .iter()
                    .take(NAMED)
                    .map(|path| format!("/{}", path.escape_ascii()))
                    .collect(),
            },
        }
    }
}

/// Searches a partition for private data, unless it can't be edited.
fn search(part: &Edit, cancel: &Cancel) -> Result<Searched> {
    let not_searched =
        |why: String| Ok(Searched { found: Vec::new(), incomplete: Some(Incomplete::Volume(why)) });
    let Some(volume) = &part.volume else {
        return match is_blank(&*part.store)? {
            true => Ok(Searched::default()),
            false => not_searched("its content is not recognised".to_owned()),
        };
    };
    // Swap space has no files, and its content is not copied.
    if volume.kind.name() == "swap" {
        return Ok(Searched::default());
    }
    if let Some(why) = part.wrong()? {
        return not_searched(why.to_owned());
    }
    let known = OpenVolume::known(Arc::clone(&part.source), volume.clone());
    match known.check(cancel) {
        Err(error) if error.class() == Class::Corrupt => not_searched(error.to_string()),
        _ => search_files(part),
    }
}

fn search_files(part: &Edit) -> Result<Searched> {
    let Some(volume) = &part.volume else { return Ok(Searched::default()) };
    let Some(files) = volume.files(&*part.store)? else {
        let why = format!("the files of {} can't be read", volume.kind);
        return Ok(Searched { found: Vec::new(), incomplete: Some(Incomplete::Volume(why)) });
    };
    let inspection = private_in(&*files)?;
    let unread = inspection.unread;
    let incomplete = (!unread.is_empty()).then_some(Incomplete::Files(unread));
    Ok(Searched { found: inspection.private, incomplete })
}

fn edit_of(one: Private) -> FileEdit {
    let path = one.path.split(|byte| *byte == b'/').map(<[u8]>::to_vec).collect();
    match one.remedy {
        Remedy::Drop => FileEdit::Remove { path },
        Remedy::Blank(content) => FileEdit::Put {
            path,
            content: Arc::new(SparseStore::of(&content)),
            meta: FileMeta::default(),
        },
    }
}

/// The rest of the last block of each file, if it is not zero.
fn tails(files: &dyn Files, store: &dyn ReadAt, cancel: &Cancel) -> Result<Vec<Span>> {
    let mut tails = Vec::new();
    files.walk(files.root(), &mut |walked| {
        cancel.check()?;
        let Walked::Entry(one) = walked else { return Ok(Onward::Into) };
        let size = one.info.size;
        if one.info.kind != FileKind::File || size.is_multiple_of(512) {
            return Ok(Onward::Into);
        }
        let found = files.content(one.file, &mut |at, stretch| {
            let Stretch::InVolume(span) = stretch else { return Ok(ControlFlow::Continue(())) };
            let Some(inside) = size.checked_sub(at).filter(|inside| *inside < span.len().get())
            else {
                return Ok(ControlFlow::Continue(()));
            };
            // Checksums of a file's blocks can follow at the next multiple of this: they stay.
            let start = span.start().saturating_add(ByteLen::new(inside));
            let rest = size.next_multiple_of(LARGEST_BLOCK).saturating_sub(size);
            let end = start.saturating_add(ByteLen::new(rest)).min(span.end());
            let tail = Span::between(start, end);
            let len = tail.len().to_usize().unwrap_or(0);
            if !is_zero(&read_vec(store, tail.start(), len)?) {
                tails.push(tail);
            }
            Ok(ControlFlow::Continue(()))
        });
        match found {
            Err(error) if error.is_local() => Ok(Onward::Into),
            found => found.map(|()| Onward::Into),
        }
    })?;
    Ok(joined(tails))
}

/// Removed values that a copy is searched for.
struct Values<'a> {
    finders: Vec<memmem::Finder<'a>>,
    /// The length of the longest value, in bytes.
    longest: usize,
}

/// Result of a search of all files.
#[derive(Default)]
struct FilesWithValues {
    /// Files with one of the values in their content, name or attributes.
    paths: Vec<String>,
    /// The ranges in the volume of the searched content.
    searched: Vec<Span>,
}

impl<'a> Values<'a> {
    fn new(values: &'a [Vec<u8>]) -> Self {
        let values = || values.iter().filter(|value| value.len() >= SHORTEST);
        let longest = values().map(Vec::len).max().unwrap_or(0);
        Self { finders: values().map(memmem::Finder::new).collect(), longest }
    }

    fn is_in(&self, bytes: &[u8]) -> bool {
        self.finders.iter().any(|finder| finder.find(bytes).is_some())
    }

    fn files_with_one(&self, files: &dyn Files, cancel: &Cancel) -> Result<FilesWithValues> {
        let mut found = FilesWithValues::default();
        if self.finders.is_empty() {
            return Ok(found);
        }
        files.walk(files.root(), &mut |walked| {
            cancel.check()?;
            let Walked::Entry(one) = walked else { return Ok(Onward::Into) };
            let mut is_found = self.is_in(one.path);
            for attribute in files.attributes(one.file).unwrap_or_default() {
                is_found |= self.is_in(&attribute.value);
            }
            if matches!(one.info.kind, FileKind::File | FileKind::Link) {
                match files.content_of(one.file) {
                    Err(error) if error.is_local() => {}
                    content => {
                        let content = content?;
                        let whole = Span::whole(content.size());
                        match self.are_in(&content, &[whole], cancel) {
                            Err(error) if error.is_local() => {}
                            answer => {
                                is_found |= answer?;
                                found.searched.extend(content.places());
                            }
                        }
                    }
                }
            }
            if is_found {
                found.paths.push(format!("/{}", one.path.escape_ascii()));
            }
            Ok(Onward::Into)
        })?;
        found.searched = joined(found.searched);
        Ok(found)
    }

    /// Returns whether one of the values is in `spans` of a store.
    fn are_in(&self, store: &dyn ReadAt, spans: &[Span], cancel: &Cancel) -> Result<bool> {
        if self.finders.is_empty() {
            return Ok(false);
        }
        for span in spans {
            let mut at = span.start();
            while at < span.end() {
                cancel.check()?;
                // A value can cross the end of a chunk.
                let most = ByteLen::from_usize(CHUNK.saturating_add(self.longest));
                let len = span.end().saturating_since(at).min(most).to_usize().unwrap_or(0);
                if self.is_in(&read_vec(store, at, len)?) {
                    return Ok(true);
                }
                at = at.saturating_add(ByteLen::from_usize(CHUNK));
            }
        }
        Ok(false)
    }
}
