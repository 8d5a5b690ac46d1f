//! Edits of the files of a volume: adding, removing, renaming.

use crate::{
    examined::DerivedVolume,
    files::{FileAttribute, FileFlags, FileKind, FileTime},
    walk::is_name,
};
use imbrik_store::{
    Concatenated, Edited, ReadAt,
    error::{Class, Error, Result},
    units::{ByteLen, ByteOffset, Span, joined},
};
use std::{collections::BTreeMap, fmt, sync::Arc};

/// Names from the volume's root down; empty for the root itself.
pub type FilePath = Vec<Vec<u8>>;

/// Metadata that a file gets with its content. Fields that the filesystem doesn't support are ignored.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FileMeta {
    /// The lower twelve bits of the mode. `None` keeps those of an existing file, and gives new files 0644 and new
    /// folders 0755.
    pub permissions: Option<u16>,
    /// Permissions for new files only.
    pub if_new: Option<u16>,
    /// Owner and group. `None` keeps those of an existing file, and gives a new one those of its folder.
    pub owner: Option<(u32, u32)>,
    /// Modification time; `None` for the time of the edit.
    pub modified: Option<FileTime>,
    /// Flags. `None` keeps those of an existing file, and gives a new one none.
    pub flags: Option<FileFlags>,
    /// Extended attributes of a new file.
    pub attributes: Vec<FileAttribute>,
    /// True if a new file inherits the default ACL of its folder, which can restrict its permissions.
    pub as_in_folder: bool,
}

/// A single edit of the files of a volume.
#[derive(Clone)]
pub enum FileEdit {
    /// Writes a file: replaces the content of an existing one, or creates it.
    Put {
        /// Its path.
        path: FilePath,
        /// Its content; ranges without data become holes where the filesystem supports them.
        content: Arc<dyn ReadAt>,
        /// Its metadata.
        meta: FileMeta,
    },
    /// Creates a folder, unless it exists.
    Folder {
        /// Its path.
        path: FilePath,
        /// Its metadata.
        meta: FileMeta,
    },
    /// Creates a symbolic link.
    Link {
        /// Its path.
        path: FilePath,
        /// Its target.
        target: Vec<u8>,
        /// Its metadata.
        meta: FileMeta,
    },
    /// Creates a device, a pipe or a socket.
    Node {
        /// Its path.
        path: FilePath,
        /// Its type.
        kind: FileKind,
        /// Its metadata.
        meta: FileMeta,
    },
    /// Creates a hard link.
    Name {
        /// The new path.
        path: FilePath,
        /// The existing path.
        of: FilePath,
    },
    /// Removes a file, or a folder with all its content.
    Remove {
        /// Its path.
        path: FilePath,
    },
    /// Renames or moves a file or folder.
    Rename {
        /// The old path.
        from: FilePath,
        /// The new path.
        to: FilePath,
    },
}

impl FileEdit {
    /// The path that the edit applies to.
    #[must_use]
    pub fn path(&self) -> &[Vec<u8>] {
        match self {
            Self::Put { path, .. }
            | Self::Folder { path, .. }
            | Self::Link { path, .. }
            | Self::Node { path, .. }
            | Self::Name { path, .. }
            | Self::Remove { path } => path,
            Self::Rename { from, .. } => from,
        }
    }
}

impl FileEdit {
    /// Splits edits into stages that a volume without a journal commits one after the other: additions, each rename,
    /// and removals are separate. Within a stage, no block of a folder both gains a name that matters and loses
    /// another one.
    pub fn stages(edits: &[Self]) -> impl Iterator<Item = &[Self]> {
        edits.chunk_by(|one, next| {
            let is_rename = |edit: &Self| matches!(edit, Self::Rename { .. });
            let is_removal = |edit: &Self| matches!(edit, Self::Remove { .. });
            !is_rename(one) && !is_rename(next) && is_removal(one) == is_removal(next)
        })
    }
}

impl fmt::Debug for FileEdit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let what = match self {
            Self::Put { content, .. } => {
                return write!(f, "put {} at {}", content.size(), self.place());
            }
            Self::Folder { .. } => "folder",
            Self::Link { .. } => "link",
            Self::Node { .. } => "node",
            Self::Name { .. } => "second name",
            Self::Remove { .. } => "remove",
            Self::Rename { to, .. } => {
                return write!(f, "rename {} to {}", self.place(), shown(to));
            }
        };
        write!(f, "{what} {}", self.place())
    }
}

impl FileEdit {
    /// The path with slashes, escaped.
    #[must_use]
    pub fn place(&self) -> String {
        shown(self.path())
    }
}

fn shown(path: &[Vec<u8>]) -> String {
    format!("/{}", path.join(&b'/').escape_ascii())
}

/// Options for edits.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct EditOptions {
    /// The time of the edit.
    pub now: FileTime,
    /// True if blocks that are in use before the edit are not reused, so that an interruption while the volume is
    /// edited in place leaves the old files intact. Otherwise, freed blocks are cleared.
    pub keeps_old: bool,
}

/// An edited volume.
#[derive(Clone)]
pub struct EditedVolume {
    /// The whole volume, and the spans that changed.
    pub volume: DerivedVolume,
    /// The spans of new or cleared content.
    pub content: Vec<Span>,
    /// The spans of changed metadata.
    pub(crate) metadata: Vec<Span>,
}

impl fmt::Debug for EditedVolume {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "rewritten: {:?}, content: {:?}", self.volume.rewritten, self.content)
    }
}

impl EditedVolume {
    /// An edit without new content.
    pub(crate) fn without_content(volume: DerivedVolume) -> Self {
        let metadata = volume.rewritten.clone();
        Self { volume, content: Vec::new(), metadata }
    }

    /// The volume with the changed bytes of `draft` and with `contents`.
    pub(crate) fn of(draft: Edited, contents: &Contents) -> Self {
        let metadata = draft.spans();
        let content = contents.spans();
        let all = metadata.iter().chain(&content).copied().collect();
        let store: Arc<dyn ReadAt> = match content.is_empty() {
            true => Arc::new(draft),
            false => {
                let base = contents.over(draft.base());
                Arc::new(draft.over(Arc::new(base)))
            }
        };
        Self { volume: DerivedVolume { store, rewritten: joined(all) }, content, metadata }
    }
}

/// Splits `path` into its parent folder and its name.
///
/// # Errors
/// [`imbrik_store::Class::Usage`] for a path without a name.
pub(crate) fn split(path: &[Vec<u8>]) -> Result<(&[u8], &[Vec<u8>])> {
    let (name, folders) =
        path.split_last().ok_or_else(|| Error::usage("the root folder is not a file"))?;
    match path.iter().all(|name| is_name(name)) {
        true => Ok((name, folders)),
        false => Err(Error::usage("such a name cannot be")),
    }
}

/// The file doesn't exist.
pub(crate) fn missing() -> Error {
    Error::usage("no such file or folder")
}

/// A folder on the path doesn't exist.
pub(crate) fn no_folder(name: &[u8]) -> Error {
    Error::usage(format!("folder \"{}\" does not exist", name.escape_ascii()))
}

/// The new name exists already.
pub(crate) fn is_there(name: &[u8]) -> Error {
    Error::usage(format!("\"{}\" exists already", name.escape_ascii()))
}

/// Adds the missing space to an error for insufficient space: `free` units of `unit` bytes were free before the edits
/// of `rest`.
pub(crate) fn shortfall(error: Error, rest: &[FileEdit], free: u64, unit: u64) -> Error {
    if error.class() != Class::NoRoom {
        return error;
    }
    let needed = rest.iter().map(|edit| match edit {
        FileEdit::Put { content, .. } => content.size().get().div_ceil(unit.max(1)),
        FileEdit::Folder { .. } => 1,
        _ => 0,
    });
    let needed = needed.fold(0u64, u64::saturating_add);
    let shortfall = needed.saturating_sub(free).max(1);
    error.with_shortfall(ByteLen::new(shortfall.saturating_mul(unit)))
}

/// New content and its location, and ranges to clear.
#[derive(Default)]
pub(crate) struct Contents {
    /// By start offset.
    pieces: BTreeMap<u64, Placed>,
}

struct Placed {
    len: ByteLen,
    /// `None` for zeros.
    from: Option<(Arc<dyn ReadAt>, ByteOffset)>,
}

impl Contents {
    /// Takes the bytes of `span` from `store`, starting at `from`; zeros past its end.
    pub(crate) fn put(&mut self, span: Span, store: &Arc<dyn ReadAt>, from: ByteOffset) {
        let placed = Placed { len: span.len(), from: Some((Arc::clone(store), from)) };
        self.pieces.insert(span.start().get(), placed);
    }

    /// Clears the bytes of `span`: they were freed, and their old content must not remain.
    pub(crate) fn clear(&mut self, span: Span) {
        let start = span.start().get();
        if let Some((at, last)) = self.pieces.range_mut(..start).next_back()
            && last.from.is_none()
            && at.saturating_add(last.len.get()) == start
        {
            last.len = last.len.saturating_add(span.len());
            return;
        }
        self.pieces.insert(start, Placed { len: span.len(), from: None });
    }

    fn spans(&self) -> Vec<Span> {
        let all = self.pieces.iter().map(|(start, placed)| {
            let start = ByteOffset::new(*start);
            Span::between(start, start.saturating_add(placed.len))
        });
        joined(all.collect())
    }

    /// `base` with all these contents.
    fn over(&self, base: &Arc<dyn ReadAt>) -> Concatenated {
        let mut all = Concatenated::new(base.sector_size());
        let mut at = ByteOffset::ZERO;
        for (start, placed) in &self.pieces {
            let start = ByteOffset::new(*start);
            all.push(base, at, start.saturating_since(at));
            match &placed.from {
                Some((store, from)) => all.push(store, *from, placed.len),
                None => all.push_zeros(placed.len),
            }
            at = start.saturating_add(placed.len);
        }
        let end = ByteOffset::new(base.size().get());
        all.push(base, at, end.saturating_since(at));
        all
    }
}
