//! A tree of files, walked from a folder down.

use crate::files::{FileId, FileInfo, FileKind, Files};
use imbrik_store::error::{Error, Result};
use std::{collections::HashSet, ops::ControlFlow};

/// The maximum depth of nested folders: more than any system creates, and than a path can name.
const DEEPEST: usize = 2000;

/// An item of a walk.
pub enum Walked<'a> {
    /// A file or folder.
    Entry(WalkedEntry<'a>),
    /// A folder that can't be read completely; its other entries follow nevertheless.
    Fault {
        /// The path of the folder or entry from the start of the walk: names joined by `/`.
        path: &'a [u8],
        /// The error.
        error: Error,
    },
}

/// A file or folder of a walk.
pub struct WalkedEntry<'a> {
    /// The path from the start of the walk: names joined by `/`; empty for the start itself.
    pub path: &'a [u8],
    /// The file.
    pub file: FileId,
    /// Its metadata.
    pub info: FileInfo,
    /// The number of folders between it and the start; 0 for the start itself.
    pub depth: usize,
}

/// How a walk continues.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Onward {
    /// In the entry, when it is a folder.
    Into,
    /// Skip the entry's content.
    Past,
    /// The walk ends.
    End,
}

/// Returns whether `name` can be that of an entry: not empty, neither the folder itself nor the one above it,
/// without `/` and zero.
#[must_use]
pub fn is_name(name: &[u8]) -> bool {
    !matches!(name, b"" | b"." | b"..") && !name.iter().any(|byte| matches!(byte, b'/' | 0))
}

/// The remaining entries of a folder, the next one last.
struct Waiting {
    /// How long the path of the folder is.
    path_len: usize,
    entries: Vec<(Vec<u8>, FileId)>,
}

/// The folders from the root to the present one, with their remaining entries.
struct Walk<'a> {
    files: &'a dyn Files,
    path: Vec<u8>,
    waiting: Vec<Waiting>,
    /// Folders that were entered: none twice, whatever leads to it.
    entered: HashSet<u64>,
}

impl dyn Files + '_ {
    /// Calls `each` with `start` and everything below it, a folder before its content, names in byte order. Only the
    /// names of the folders on the present path are in memory. Each folder is entered once, even if it contains itself.
    ///
    /// # Errors
    /// When the store cannot be read, and those of `each`. Invalid data are not an error: see [`Walked::Fault`].
    pub fn walk(
        &self,
        start: FileId,
        each: &mut dyn FnMut(Walked<'_>) -> Result<Onward>,
    ) -> Result<()> {
        let mut walk = Walk {
            files: self,
            path: Vec::new(),
            waiting: vec![Waiting { path_len: 0, entries: vec![(Vec::new(), start)] }],
            entered: HashSet::new(),
        };
        while let Some(Waiting { path_len, entries }) = walk.waiting.last_mut() {
            walk.path.truncate(*path_len);
            let Some((name, file)) = entries.pop() else {
                walk.waiting.pop();
                continue;
            };
            if !walk.path.is_empty() {
                walk.path.push(b'/');
            }
            walk.path.extend(&name);
            if walk.visit(file, each)?.is_break() {
                return Ok(());
            }
        }
        Ok(())
    }
}

impl Walk<'_> {
    fn visit(
        &mut self,
        file: FileId,
        each: &mut dyn FnMut(Walked<'_>) -> Result<Onward>,
    ) -> Result<ControlFlow<()>> {
        let depth = self.waiting.len().saturating_sub(1);
        let fault =
            |error: Error, path: &[u8], each: &mut dyn FnMut(Walked<'_>) -> Result<Onward>| {
                if !error.is_local() {
                    return Err(error);
                }
                Ok(match each(Walked::Fault { path, error })? {
                    Onward::End => ControlFlow::Break(()),
                    Onward::Into | Onward::Past => ControlFlow::Continue(()),
                })
            };
        let info = match self.files.info(file) {
            Ok(info) => info,
            Err(error) => return fault(error, &self.path, each),
        };
        let is_folder = info.kind == FileKind::Folder;
        match each(Walked::Entry(WalkedEntry { path: &self.path, file, info, depth }))? {
            Onward::End => return Ok(ControlFlow::Break(())),
            Onward::Past => return Ok(ControlFlow::Continue(())),
            Onward::Into if !is_folder => return Ok(ControlFlow::Continue(())),
            Onward::Into => {}
        }
        if !self.entered.insert(file.number()) || depth >= DEEPEST {
            let error = Error::corrupt("the folder is in itself, or in several others");
            return fault(error, &self.path, each);
        }
        let mut entries = Vec::new();
        let mut bad_names = 0u64;
        let read = self.files.entries(file, &mut |entry| {
            match is_name(entry.name) {
                true => entries.push((entry.name.to_vec(), entry.file)),
                false => bad_names = bad_names.saturating_add(1),
            }
            Ok(ControlFlow::Continue(()))
        });
        entries.sort_unstable_by(|(a, _), (b, _)| b.cmp(a));
        self.waiting.push(Waiting { path_len: self.path.len(), entries });
        if bad_names > 0 {
            let error = Error::corrupt(format!(
                "{bad_names} of its entries have names that no file can have"
            ));
            if fault(error, &self.path, each)?.is_break() {
                return Ok(ControlFlow::Break(()));
            }
        }
        match read {
            Err(error) => fault(error, &self.path, each),
            Ok(()) => Ok(ControlFlow::Continue(())),
        }
    }
}
