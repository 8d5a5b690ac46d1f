//! The files of a volume, looked into: what a filesystem answers for that, and paths on top of it.
//!
//! A filesystem implements [`Files`]: its root, the entries of a folder, and what is known of a file
//! and where its content is. Everything that goes along a path is made of these here, once for all
//! of them.

use imbrik_store::{
    ReadAt,
    error::{Class, Error, Result},
    read_up_to,
    units::{ByteLen, Span},
};
use std::{fmt, ops::ControlFlow};

/// A file or folder of a volume: what its filesystem needs to find it again.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct FileId {
    /// What tells it from all others: the number of its inode, or where its entry stands.
    pub(crate) number: u64,
    /// Whatever its entry says that would else have to be read again.
    pub(crate) more: [u64; 2],
}

impl FileId {
    /// The one of that number.
    pub(crate) const fn of(number: u64) -> Self {
        Self { number, more: [0; 2] }
    }

    /// What tells it from all others of its volume: two names that lead to the same file have the
    /// same number.
    #[must_use]
    pub fn number(self) -> u64 {
        self.number
    }
}

/// What a file is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum FileKind {
    /// One with content.
    File,
    /// One with entries.
    Folder,
    /// One whose content is the path of another.
    Link,
    /// A device that is read and written a byte at a time, with its major and minor number.
    CharacterDevice(u32, u32),
    /// A device that is read and written a block at a time, with its major and minor number.
    BlockDevice(u32, u32),
    /// A named pipe.
    Pipe,
    /// A named socket.
    Socket,
}

impl FileKind {
    /// Returns whether files of this kind have entries.
    #[must_use]
    pub fn is_folder(self) -> bool {
        self == Self::Folder
    }
}

/// A moment: seconds since 1970, and nanoseconds below 1,000,000,000 behind them.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct FileTime {
    /// Seconds since 1970, UTC; for FAT, of a clock whose zone nobody knows.
    pub seconds: i64,
    /// What is more.
    pub nanoseconds: u32,
}

/// Who may do what with a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Ownership {
    /// The lower twelve bits of its mode.
    pub permissions: u16,
    /// The number of its owner.
    pub owner: u32,
    /// The number of its group.
    pub group: u32,
}

/// Flags that users set on files, whatever the filesystem: those of `lsattr`, and those of FAT, exFAT and NTFS.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct FileFlags(u32);

impl FileFlags {
    /// No flag.
    pub const NONE: Self = Self(0);
    /// Writes go to the disk at once.
    pub const SYNC: Self = Self(1 << 0);
    /// The file can't be changed, removed or renamed.
    pub const IMMUTABLE: Self = Self(1 << 1);
    /// Data can only be appended.
    pub const APPEND_ONLY: Self = Self(1 << 2);
    /// Backup programs leave it out.
    pub const NO_DUMP: Self = Self(1 << 3);
    /// The time of access is not updated.
    pub const NO_ATIME: Self = Self(1 << 4);
    /// Its content goes through the journal.
    pub const DATA_JOURNAL: Self = Self(1 << 5);
    /// Changes of the folder go to the disk at once.
    pub const DIR_SYNC: Self = Self(1 << 6);
    /// Subfolders are unrelated, and may be spread over the disk.
    pub const TOP_DIR: Self = Self(1 << 7);
    /// The file can't be written (FAT, exFAT, NTFS).
    pub const READ_ONLY: Self = Self(1 << 8);
    /// File managers don't show it (FAT, exFAT, NTFS).
    pub const HIDDEN: Self = Self(1 << 9);
    /// It belongs to the operating system (FAT, exFAT, NTFS).
    pub const SYSTEM: Self = Self(1 << 10);

    const NAMES: [(Self, &str); 11] = [
        (Self::SYNC, "sync"),
        (Self::IMMUTABLE, "immutable"),
        (Self::APPEND_ONLY, "append only"),
        (Self::NO_DUMP, "no dump"),
        (Self::NO_ATIME, "no atime"),
        (Self::DATA_JOURNAL, "data journal"),
        (Self::DIR_SYNC, "dir sync"),
        (Self::TOP_DIR, "top dir"),
        (Self::READ_ONLY, "read-only"),
        (Self::HIDDEN, "hidden"),
        (Self::SYSTEM, "system"),
    ];

    /// Returns whether no flag is set.
    #[must_use]
    pub fn is_empty(self) -> bool {
        self.0 == 0
    }

    /// Returns whether all of `flags` are set.
    #[must_use]
    pub fn contains(self, flags: Self) -> bool {
        self.0 & flags.0 == flags.0
    }

    /// These flags and those of `other`.
    #[must_use]
    pub const fn with(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }

    /// These flags without those of `other`.
    #[must_use]
    pub const fn without(self, other: Self) -> Self {
        Self(self.0 & !other.0)
    }

    /// The flags whose bit of an on-disk field is set, by a table of the bits.
    pub(crate) fn from_bits(bits: u32, table: &[(Self, u32)]) -> Self {
        let set = table.iter().filter(|(_, bit)| bits & bit != 0);
        set.fold(Self::NONE, |flags, (flag, _)| flags.with(*flag))
    }

    /// The on-disk field with exactly these flags among those of the table; other bits are kept.
    pub(crate) fn to_bits(self, old: u32, table: &[(Self, u32)]) -> u32 {
        table.iter().fold(old, |bits, (flag, bit)| match self.contains(*flag) {
            true => bits | bit,
            false => bits & !bit,
        })
    }
}

/// The bits of FAT, exFAT and NTFS.
pub(crate) const DOS_FLAGS: [(FileFlags, u32); 3] =
    [(FileFlags::READ_ONLY, 1), (FileFlags::HIDDEN, 2), (FileFlags::SYSTEM, 4)];

/// Names, separated by commas.
impl fmt::Display for FileFlags {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let names = Self::NAMES.iter().filter(|(flag, _)| self.contains(*flag));
        for (index, (_, name)) in names.enumerate() {
            write!(f, "{}{name}", if index == 0 { "" } else { ", " })?;
        }
        Ok(())
    }
}

/// What is known of a file beside its content.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FileInfo {
    /// What it is.
    pub kind: FileKind,
    /// Bytes of content.
    pub size: u64,
    /// How many names it has.
    pub links: u64,
    /// Whose it is; `None` where the filesystem knows no owners.
    pub ownership: Option<Ownership>,
    /// Its flags.
    pub flags: FileFlags,
    /// When its content was changed last.
    pub modified: Option<FileTime>,
    /// When it was read last.
    pub accessed: Option<FileTime>,
    /// When anything of it was changed last.
    pub changed: Option<FileTime>,
    /// When it was made.
    pub created: Option<FileTime>,
}

/// A name in a folder.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FolderEntry<'a> {
    /// As it stands there: any bytes but `/` and zero, in no encoding that could be relied on.
    pub name: &'a [u8],
    /// What it leads to.
    pub file: FileId,
}

/// Some of a file's content.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stretch<'a> {
    /// It stands there in the volume.
    InVolume(Span),
    /// It stands within what describes the file.
    Here(&'a [u8]),
}

/// An attribute of a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FileAttribute {
    /// Its name with what says whose it is: `user.hive`.
    pub name: Vec<u8>,
    /// Its value.
    pub value: Vec<u8>,
}

/// What is done with each entry of a folder, and whether there shall be more.
pub type EachEntry<'a> = &'a mut dyn FnMut(FolderEntry<'_>) -> Result<ControlFlow<()>>;

/// What is done with each stretch of a file's content and the byte that it starts at, and whether
/// there shall be more.
pub type EachStretch<'a> = &'a mut dyn FnMut(u64, Stretch<'_>) -> Result<ControlFlow<()>>;

/// The files of a volume. Nothing found in it is believed: what makes no sense is an error of the
/// class [`Class::Corrupt`], and what cannot be looked into (encrypted names) one of the class
/// [`Class::Unsupported`].
pub trait Files {
    /// The folder that all paths start from.
    fn root(&self) -> FileId;

    /// Calls `each` with every entry of `folder`, in the order in which they stand there, without
    /// those that lead to the folder itself and to the one above it.
    ///
    /// # Errors
    /// When the store cannot be read, it is no folder, or makes no sense; and what `each` answers.
    fn entries(&self, folder: FileId, each: EachEntry<'_>) -> Result<()>;

    /// The entry `name` of `folder`; `None` when there is none.
    ///
    /// # Errors
    /// As [`Files::entries`].
    fn look_up(&self, folder: FileId, name: &[u8]) -> Result<Option<FileId>> {
        let mut found = None;
        self.entries(folder, &mut |entry| {
            if entry.name != name {
                return Ok(ControlFlow::Continue(()));
            }
            found = Some(entry.file);
            Ok(ControlFlow::Break(()))
        })?;
        Ok(found)
    }

    /// What is known of `file`.
    ///
    /// # Errors
    /// When the store cannot be read, or what describes it makes no sense.
    fn info(&self, file: FileId) -> Result<FileInfo>;

    /// Calls `each` with every stretch of the content of `file`, in its order, and with the byte that
    /// it starts at. What none of them holds is zeros. Stretches may reach behind the file's end. The
    /// content of a folder is its entries, as they stand in the volume.
    ///
    /// # Errors
    /// When the store cannot be read, or what says where the content is makes no sense; and what
    /// `each` answers.
    fn content(&self, file: FileId, each: EachStretch<'_>) -> Result<()>;

    /// The attributes of `file`, in no order.
    ///
    /// # Errors
    /// When the store cannot be read, or they make no sense.
    fn attributes(&self, _file: FileId) -> Result<Vec<FileAttribute>> {
        Ok(Vec::new())
    }

    /// What was found wrong on the way and passed over: checksums. Each once.
    fn faults(&self) -> Vec<String> {
        Vec::new()
    }

    /// The volume that they are in.
    fn store(&self) -> &dyn ReadAt;
}

/// What is not looked into, or makes no sense, is not there for whoever only looks.
fn if_sensible<T>(found: Result<T>) -> Result<Option<T>> {
    match found {
        Err(error) if matches!(error.class(), Class::Corrupt | Class::Unsupported) => Ok(None),
        found => found.map(Some),
    }
}

/// Puts a stretch that stands at `at` of a file into `content`, which is the file's start; answers whether more of
/// it is wanted.
pub(crate) fn fill(
    store: &dyn ReadAt,
    content: &mut [u8],
    at: u64,
    stretch: Stretch<'_>,
) -> Result<ControlFlow<()>> {
    let from = usize::try_from(at).unwrap_or(usize::MAX);
    let Some(place) = content.get_mut(from..).filter(|place| !place.is_empty()) else {
        return Ok(ControlFlow::Break(()));
    };
    let found = match stretch {
        Stretch::Here(bytes) => bytes.to_vec(),
        Stretch::InVolume(span) => {
            let len = span.len().min(ByteLen::of(place)).to_usize().unwrap_or(0);
            read_up_to(store, span.start(), len)?
        }
    };
    place.iter_mut().zip(found).for_each(|(place, byte)| *place = byte);
    Ok(ControlFlow::Continue(()))
}

impl dyn Files + '_ {
    /// What `path` leads to, names from the root down; `None` when there is nothing. Links are not
    /// followed.
    ///
    /// # Errors
    /// As [`Files::entries`]; [`Class::Unsupported`] when a link is on the way.
    pub fn at(&self, path: &[&[u8]]) -> Result<Option<FileId>> {
        let mut file = self.root();
        for name in path {
            match self.info(file)?.kind {
                FileKind::Folder => {}
                FileKind::Link => return Err(Error::unsupported("a link is on the way")),
                _ => return Ok(None),
            }
            match self.look_up(file, name)? {
                Some(found) => file = found,
                None => return Ok(None),
            }
        }
        Ok(Some(file))
    }

    /// Up to `most` bytes of `file`, from its start.
    ///
    /// # Errors
    /// As [`Files::content`].
    pub fn read(&self, file: FileId, most: usize) -> Result<Vec<u8>> {
        let size = self.info(file)?.size;
        let mut content = vec![0; usize::try_from(size).unwrap_or(usize::MAX).min(most)];
        self.content(file, &mut |at, stretch| fill(self.store(), &mut content, at, stretch))?;
        Ok(content)
    }

    /// The names in `folder`, in the order in which they stand there.
    ///
    /// # Errors
    /// As [`Files::entries`].
    pub fn list(&self, folder: FileId) -> Result<Vec<Vec<u8>>> {
        let mut names = Vec::new();
        self.entries(folder, &mut |entry| {
            names.push(entry.name.to_vec());
            Ok(ControlFlow::Continue(()))
        })?;
        Ok(names)
    }

    /// The file at `path`, up to `most` bytes of it; `None` when there is none, or nothing that can
    /// be read.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn small_file(&self, path: &[&[u8]], most: usize) -> Result<Option<Vec<u8>>> {
        let Some(file) = if_sensible(self.at(path))?.flatten() else { return Ok(None) };
        match if_sensible(self.info(file))? {
            Some(info) if info.kind == FileKind::File => if_sensible(self.read(file, most)),
            _ => Ok(None),
        }
    }

    /// The names in the folder at `path`; `None` when there is none, or none that can be read.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn names(&self, path: &[&[u8]]) -> Result<Option<Vec<Vec<u8>>>> {
        match if_sensible(self.at(path))?.flatten() {
            Some(folder) => if_sensible(self.list(folder)),
            None => Ok(None),
        }
    }

    /// Whether there is anything at `path`; `None` when that is not known: a link is in the way, or
    /// a folder that cannot be read.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn has_entry(&self, path: &[&[u8]]) -> Result<Option<bool>> {
        Ok(if_sensible(self.at(path))?.map(|found| found.is_some()))
    }
}
