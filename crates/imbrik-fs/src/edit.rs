//! What can be done to the files of a volume: put in, removed, given another name.

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

/// Names from a volume's root down; none for the root itself.
pub type FilePath = Vec<Vec<u8>>;

/// What a file gets beside its content. What a volume of its kind does not keep is left out.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FileMeta {
    /// The lower twelve bits of its mode. `None` leaves those of one that is there, and gives a new
    /// file 0644 and a new folder 0755.
    pub permissions: Option<u16>,
    /// The same for a new one only.
    pub if_new: Option<u16>,
    /// The numbers of its owner and its group. `None` leaves those of one that is there, and gives a
    /// new one those of its folder.
    pub owner: Option<(u32, u32)>,
    /// When its content was changed; `None` for the time of the edit.
    pub modified: Option<FileTime>,
    /// Its flags. `None` leaves those of one that is there, and gives a new one none.
    pub flags: Option<FileFlags>,
    /// Attributes of a new one.
    pub attributes: Vec<FileAttribute>,
    /// Whether a new one gets besides what its folder hands on: a list of who may do what, which takes away
    /// from its permissions.
    pub as_in_folder: bool,
}

/// One thing that is done to the files of a volume.
#[derive(Clone)]
pub enum FileEdit {
    /// A file gets this content, where one stands, or is added to its folder.
    Put {
        /// Where.
        path: FilePath,
        /// All of it; what it has no data for becomes a hole where the volume can have one.
        content: Arc<dyn ReadAt>,
        /// What else it gets.
        meta: FileMeta,
    },
    /// A folder is made, where none is.
    Folder {
        /// Where.
        path: FilePath,
        /// What else it gets.
        meta: FileMeta,
    },
    /// A link is made.
    Link {
        /// Where.
        path: FilePath,
        /// What it leads to.
        target: Vec<u8>,
        /// What else it gets.
        meta: FileMeta,
    },
    /// A device, a pipe or a socket is made.
    Node {
        /// Where.
        path: FilePath,
        /// What.
        kind: FileKind,
        /// What else it gets.
        meta: FileMeta,
    },
    /// A file gets a second name.
    Name {
        /// The new one.
        path: FilePath,
        /// The one that it has.
        of: FilePath,
    },
    /// A file goes, or a folder with everything in it.
    Remove {
        /// Which.
        path: FilePath,
    },
    /// A file or folder gets another name, in its folder or in another one.
    Rename {
        /// The name that it has.
        from: FilePath,
        /// The one that it gets.
        to: FilePath,
    },
}

impl FileEdit {
    /// What it is about.
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
    /// The path that it is about, with slashes, whatever is no text escaped.
    #[must_use]
    pub fn place(&self) -> String {
        shown(self.path())
    }
}

fn shown(path: &[Vec<u8>]) -> String {
    format!("/{}", path.join(&b'/').escape_ascii())
}

/// How files are edited.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct EditOptions {
    /// The time of the edit.
    pub now: FileTime,
    /// Whether nothing new may stand where the volume has something now: for whoever writes in place,
    /// where a cut must leave the old files. Otherwise, what nobody has any more is zeros.
    pub keeps_old: bool,
}

/// An edited volume.
#[derive(Clone)]
pub struct EditedVolume {
    /// The whole volume, and where it differs.
    pub volume: DerivedVolume,
    /// Where content stands that is new, or is cleared: nothing of the volume's own.
    pub content: Vec<Span>,
    /// Where it differs beside that: what leads to the content.
    pub(crate) metadata: Vec<Span>,
}

impl fmt::Debug for EditedVolume {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "rewritten: {:?}, content: {:?}", self.volume.rewritten, self.content)
    }
}

impl EditedVolume {
    /// One that was made without new content.
    pub(crate) fn without_content(volume: DerivedVolume) -> Self {
        let metadata = volume.rewritten.clone();
        Self { volume, content: Vec::new(), metadata }
    }

    /// The volume with `draft`'s bytes changed, and `contents` where they belong.
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

/// What stands behind the names in `path`: the folder that it is in, and its own name.
///
/// # Errors
/// [`imbrik_store::Class::Usage`] for a path without a name.
pub(crate) fn split(path: &[Vec<u8>]) -> Result<(&[u8], &[Vec<u8>])> {
    let (name, folders) =
        path.split_last().ok_or_else(|| Error::usage("the root folder is no file"))?;
    match path.iter().all(|name| is_name(name)) {
        true => Ok((name, folders)),
        false => Err(Error::usage("such a name cannot be")),
    }
}

/// There is nothing of the name that is meant.
pub(crate) fn missing() -> Error {
    Error::usage("there is no such file or folder")
}

/// There is no folder of this name on the way.
pub(crate) fn no_folder(name: &[u8]) -> Error {
    Error::usage(format!("there is no folder \"{}\"", name.escape_ascii()))
}

/// A new name is taken.
pub(crate) fn is_there(name: &[u8]) -> Error {
    Error::usage(format!("\"{}\" exists already", name.escape_ascii()))
}

/// An error with how much room lacks, at least, where it is for lack of room: `free` units of `unit` bytes
/// were free before `rest` was to be done.
pub(crate) fn lacking(error: Error, rest: &[FileEdit], free: u64, unit: u64) -> Error {
    if error.class() != Class::NoRoom {
        return error;
    }
    let needed = rest.iter().map(|edit| match edit {
        FileEdit::Put { content, .. } => content.size().get().div_ceil(unit.max(1)),
        FileEdit::Folder { .. } => 1,
        _ => 0,
    });
    let needed = needed.fold(0u64, u64::saturating_add);
    let lacks = needed.saturating_sub(free).max(1);
    error.lacking(ByteLen::new(lacks.saturating_mul(unit)))
}

/// New content, in the places that it got, and places that are cleared.
#[derive(Default)]
pub(crate) struct Contents {
    /// By where it starts.
    pieces: BTreeMap<u64, Placed>,
}

struct Placed {
    len: ByteLen,
    /// Zeros when from nowhere.
    from: Option<(Arc<dyn ReadAt>, ByteOffset)>,
}

impl Contents {
    /// Has the bytes of `span` come from `store`, from `from` on; zeros behind its end.
    pub(crate) fn put(&mut self, span: Span, store: &Arc<dyn ReadAt>, from: ByteOffset) {
        let placed = Placed { len: span.len(), from: Some((Arc::clone(store), from)) };
        self.pieces.insert(span.start().get(), placed);
    }

    /// Has the bytes of `span` be zeros: nobody has them any more, and nobody is to find what they held.
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

    /// `base` with all of it.
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
