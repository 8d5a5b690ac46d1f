//! Files of a volume: the interface that filesystems implement, and path lookup on top of it.
//!
//! A filesystem implements [`Files`]: its root, the entries of a folder, the metadata of a file and the location of its
//! content. Path operations are built on these once, for all filesystems.

use imbrik_store::{
    ReadAt,
    error::{Class, Error, Result},
    read_up_to,
    units::{ByteLen, Span},
};
use std::{fmt, ops::ControlFlow};

/// A file or folder of a volume, as its filesystem finds it again.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct FileId {
    /// Unique in the volume: the inode number, or the offset of the directory entry.
    pub(crate) number: u64,
    /// Fields of the directory entry that are needed later, so that it isn't read again.
    pub(crate) more: [u64; 2],
}

impl FileId {
    /// The file with this number and no further fields.
    pub(crate) const fn of(number: u64) -> Self {
        Self { number, more: [0; 2] }
    }

    /// The number that identifies the file in its volume: hard links have the same number.
    #[must_use]
    pub fn number(self) -> u64 {
        self.number
    }
}

/// The type of a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum FileKind {
    /// A regular file.
    File,
    /// A directory.
    Folder,
    /// A symbolic link.
    Link,
    /// A character device, with its major and minor number.
    CharacterDevice(u32, u32),
    /// A block device, with its major and minor number.
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

/// A point in time: seconds since 1970, and nanoseconds below 1,000,000,000.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct FileTime {
    /// Seconds since 1970, UTC. FAT stores local time without a time zone: it is read as UTC.
    pub seconds: i64,
    /// Nanoseconds after the second.
    pub nanoseconds: u32,
}

/// The owner, group and permissions of a file.
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
    /// No flags.
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

/// Metadata of a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FileInfo {
    /// Its type.
    pub kind: FileKind,
    /// The size of its content, in bytes.
    pub size: u64,
    /// The number of its hard links.
    pub links: u64,
    /// Owner and permissions; `None` on filesystems without owners.
    pub ownership: Option<Ownership>,
    /// Its flags.
    pub flags: FileFlags,
    /// The time of the last change of its content.
    pub modified: Option<FileTime>,
    /// The time of the last read.
    pub accessed: Option<FileTime>,
    /// The time of the last change of its metadata.
    pub changed: Option<FileTime>,
    /// The time of its creation.
    pub created: Option<FileTime>,
}

/// A directory entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FolderEntry<'a> {
    /// The name as stored: any bytes but `/` and NUL, in no guaranteed encoding.
    pub name: &'a [u8],
    /// The file with this name.
    pub file: FileId,
}

/// Part of a file's content.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stretch<'a> {
    /// Stored at this place in the volume.
    InVolume(Span),
    /// Stored inside the file's metadata.
    Here(&'a [u8]),
}

/// An extended attribute.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FileAttribute {
    /// The name with its namespace: `user.hive`.
    pub name: Vec<u8>,
    /// Its value.
    pub value: Vec<u8>,
}

/// Called with each entry of a folder. Returns whether to continue.
pub type EachEntry<'a> = &'a mut dyn FnMut(FolderEntry<'_>) -> Result<ControlFlow<()>>;

/// Called with each stretch of a file's content and the offset in the file where it starts. Returns whether to
/// continue.
pub type EachStretch<'a> = &'a mut dyn FnMut(u64, Stretch<'_>) -> Result<ControlFlow<()>>;

/// The files of a volume. All of its metadata are validated: inconsistent ones are errors of [`Class::Corrupt`],
/// unsupported ones, such as encrypted names, of [`Class::Unsupported`].
pub trait Files {
    /// The root directory.
    fn root(&self) -> FileId;

    /// Calls `each` with every entry of `folder`, in directory order, without `.` and `..`.
    ///
    /// # Errors
    /// When the store can't be read, `folder` is not a directory or is inconsistent; and the errors of `each`.
    fn entries(&self, folder: FileId, each: EachEntry<'_>) -> Result<()>;

    /// Finds the entry `name` of `folder`; `None` if it doesn't exist.
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

    /// The metadata of `file`.
    ///
    /// # Errors
    /// When the store can't be read, or the metadata are invalid.
    fn info(&self, file: FileId) -> Result<FileInfo>;

    /// Calls `each` with every stretch of the content of `file`, in order, and with its offset in the file. Ranges
    /// between stretches are zeros. The last stretch may extend past the end of the file. The content of a folder is
    /// its raw entries.
    ///
    /// # Errors
    /// When the store can't be read, or the file's block map is invalid; and the errors of `each`.
    fn content(&self, file: FileId, each: EachStretch<'_>) -> Result<()>;

    /// The extended attributes of `file`, in no particular order.
    ///
    /// # Errors
    /// When the store can't be read, or the attributes are invalid.
    fn attributes(&self, _file: FileId) -> Result<Vec<FileAttribute>> {
        Ok(Vec::new())
    }

    /// Checksum errors that were found and ignored so far, each once.
    fn faults(&self) -> Vec<String> {
        Vec::new()
    }

    /// The store that contains the volume.
    fn store(&self) -> &dyn ReadAt;
}

/// Treats unsupported and invalid metadata as missing, for callers that only look something up.
fn if_sensible<T>(found: Result<T>) -> Result<Option<T>> {
    match found {
        Err(error) if matches!(error.class(), Class::Corrupt | Class::Unsupported) => Ok(None),
        found => found.map(Some),
    }
}

/// Copies a stretch at offset `at` of a file into `content`, the start of the file. Returns whether more is needed.
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
    /// Finds the file at `path`, names from the root down; `None` if it doesn't exist. Symbolic links are not followed.
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

    /// Reads up to `most` bytes from the start of `file`.
    ///
    /// # Errors
    /// As [`Files::content`].
    pub fn read(&self, file: FileId, most: usize) -> Result<Vec<u8>> {
        let size = self.info(file)?.size;
        let mut content = vec![0; usize::try_from(size).unwrap_or(usize::MAX).min(most)];
        self.content(file, &mut |at, stretch| fill(self.store(), &mut content, at, stretch))?;
        Ok(content)
    }

    /// The names in `folder`, in directory order.
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

    /// Reads the file at `path`, up to `most` bytes; `None` if it doesn't exist or can't be read.
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

    /// The names in the folder at `path`; `None` if it doesn't exist or can't be read.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn names(&self, path: &[&[u8]]) -> Result<Option<Vec<Vec<u8>>>> {
        match if_sensible(self.at(path))?.flatten() {
            Some(folder) => if_sensible(self.list(folder)),
            None => Ok(None),
        }
    }

    /// Returns whether a file exists at `path`; `None` if that is unknown, because of a link or an unreadable folder on
    /// the path.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn has_entry(&self, path: &[&[u8]]) -> Result<Option<bool>> {
        Ok(if_sensible(self.at(path))?.map(|found| found.is_some()))
    }
}
