//! Collects the files and folders, of this machine or of another volume, that are added to a volume.

use super::{find::below, take::Because, take::LeftOut};
use imbrik_fs::{
    FileAttribute, FileEdit, FileId, FileKind, FileMeta, FilePath, FileTime, Files, Onward,
    OpenVolume, Walked,
};
use imbrik_store::{
    ReadAt, UnopenedFile,
    error::{Error, Result},
    exact::Exact as _,
    read_vec,
    units::{ByteLen, ByteOffset},
};
use std::{
    collections::HashMap,
    fs,
    os::unix::{ffi::OsStrExt, fs::MetadataExt},
    path::Path,
    sync::Arc,
};

/// The longest target of a link, in bytes.
const LONGEST_TARGET: usize = 65_536;

const NO_LINKS: &str = "a volume of this kind has no links and no devices";

/// Properties that override those of all added files.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Given {
    /// Permissions of files. Folders get execute permission wherever they have read permission.
    pub permissions: Option<u16>,
    /// Owner and group.
    pub owner: Option<(u32, u32)>,
    /// True if the volume supports only files and folders: links and devices are left out, and hard links become
    /// separate files.
    pub only_files: bool,
}

/// The files to add, in order.
#[derive(Debug, Default)]
pub struct Brought {
    /// The edits that add them.
    pub edits: Vec<FileEdit>,
    /// Count of files and links.
    pub files: u64,
    /// Count of folders.
    pub folders: u64,
    /// Bytes of content.
    pub bytes: ByteLen,
    /// Files that are left out, with reasons.
    pub left_out: Vec<LeftOut>,
}

impl Brought {
    /// Adds the file or folder `from` of this machine as `to`. `from` itself can be a link, which is followed; links
    /// below it stay links. New files get their permissions on this machine, unless `given` overrides them, and the
    /// owner of their folder; existing files keep both.
    ///
    /// # Errors
    /// When one of the folders can't be read.
    pub fn from_here(&mut self, from: &Path, to: &[u8], given: Given) -> Result<()> {
        let mut waiting = vec![(from.to_owned(), to.to_vec())];
        let mut is_named = true;
        while let Some((from, to)) = waiting.pop() {
            let failed = |error| Error::io(format!("looking at {}", from.display()), error);
            let data = match is_named {
                true => fs::metadata(&from),
                false => fs::symlink_metadata(&from),
            };
            let data = data.map_err(failed)?;
            is_named = false;
            let path = names(&to);
            let modified = FileTime {
                seconds: data.mtime(),
                nanoseconds: u32::try_from(data.mtime_nsec()).unwrap_or(0),
            };
            let here = u16::try_from(data.mode() & 0o777).unwrap_or(0o644);
            let mut meta = FileMeta {
                permissions: given.permissions,
                if_new: Some(here),
                owner: given.owner,
                modified: Some(modified),
                flags: None,
                attributes: Vec::new(),
                as_in_folder: true,
            };
            if data.is_dir() {
                meta.permissions = given.permissions.map(for_folder);
                self.folder(path, meta)?;
                let failed = |error| Error::io(format!("reading {}", from.display()), error);
                let mut inside = Vec::new();
                for entry in fs::read_dir(&from).map_err(failed)? {
                    inside.push(entry.map_err(failed)?.file_name());
                }
                inside.sort();
                for name in inside.into_iter().rev() {
                    waiting.push((from.join(&name), below(&to, name.as_bytes())));
                }
            } else if data.is_symlink() {
                let target = fs::read_link(&from).map_err(failed)?;
                (meta.permissions, meta.if_new) = (None, None);
                if given.only_files {
                    self.leave_out(to, NO_LINKS, Because::CannotBe);
                    continue;
                }
                self.files = self.files.plus(1)?;
                let target = target.as_os_str().as_bytes().to_vec();
                self.edits.push(FileEdit::Link { path, target, meta });
            } else if data.is_file() {
                self.file(path, Arc::new(UnopenedFile::at(&from)?), meta)?;
            } else {
                self.leave_out(to, "it is a device, a pipe or a socket", Because::CannotBe);
            }
        }
        Ok(())
    }

    /// Adds the file or folder `file` of another volume as `to`, with owners, permissions, times, attributes, flags,
    /// links and holes, unless `given` overrides them. The journal of that volume must have been replayed.
    ///
    /// # Errors
    /// When the volume can't be read.
    pub fn from_volume(
        &mut self,
        volume: &OpenVolume,
        files: &dyn Files,
        file: FileId,
        to: &[u8],
        given: Given,
    ) -> Result<()> {
        let mut known: HashMap<u64, FilePath> = HashMap::new();
        files.walk(file, &mut |walked| {
            let one = match walked {
                Walked::Entry(one) => one,
                Walked::Fault { path, error } => {
                    self.leave_out(below(to, path), error, Because::Damage);
                    return Ok(Onward::Into);
                }
            };
            let path = below(to, one.path);
            let result = self.one_of(volume, files, &one, &path, given, &mut known);
            match result {
                Ok(()) => Ok(Onward::Into),
                Err(error) if error.is_local() => {
                    self.leave_out(path, error, Because::Damage);
                    Ok(Onward::Past)
                }
                Err(error) => Err(error),
            }
        })
    }

    fn one_of(
        &mut self,
        volume: &OpenVolume,
        files: &dyn Files,
        one: &imbrik_fs::WalkedEntry<'_>,
        to: &[u8],
        given: Given,
        known: &mut HashMap<u64, FilePath>,
    ) -> Result<()> {
        let path = names(to);
        let info = &one.info;
        let is_folder = info.kind == FileKind::Folder;
        if given.only_files && !matches!(info.kind, FileKind::File | FileKind::Folder) {
            self.leave_out(to.to_vec(), NO_LINKS, Because::CannotBe);
            return Ok(());
        }
        if !is_folder && info.links > 1 && !given.only_files {
            if let Some(of) = known.get(&one.file.number()) {
                self.files = self.files.plus(1)?;
                self.edits.push(FileEdit::Name { path, of: of.clone() });
                return Ok(());
            }
            known.insert(one.file.number(), path.clone());
        }
        let whose = info.ownership;
        let permissions = match (given.permissions, is_folder) {
            (Some(given), true) => Some(for_folder(given)),
            (Some(given), false) => Some(given),
            (None, _) => whose.map(|whose| whose.permissions),
        };
        let mut meta = FileMeta {
            permissions,
            if_new: None,
            owner: given.owner.or(whose.map(|whose| (whose.owner, whose.group))),
            modified: info.modified,
            flags: Some(info.flags),
            attributes: files.attributes(one.file)?,
            as_in_folder: whose.is_none(),
        };
        if !given.only_files {
            let (kept, others) = meta.attributes.into_iter().partition(is_kept);
            meta.attributes = kept;
            for other in others {
                let why = format!("without its attribute {}", other.name.escape_ascii());
                self.leave_out(to.to_vec(), why, Because::CannotBe);
            }
        }
        match info.kind {
            FileKind::Folder => self.folder(path, meta),
            FileKind::File => {
                let content = files.content_of(one.file)?.owned(volume.store());
                self.file(path, content, meta)
            }
            FileKind::Link => {
                let content = files.content_of(one.file)?;
                let len = content.size().to_usize().unwrap_or(usize::MAX).min(LONGEST_TARGET);
                let target = read_vec(&content, ByteOffset::ZERO, len)?;
                meta.permissions = None;
                self.files = self.files.plus(1)?;
                self.edits.push(FileEdit::Link { path, target, meta });
                Ok(())
            }
            kind => {
                self.files = self.files.plus(1)?;
                self.edits.push(FileEdit::Node { path, kind, meta });
                Ok(())
            }
        }
    }

    fn leave_out(&mut self, path: Vec<u8>, why: impl ToString, because: Because) {
        self.left_out.push(LeftOut { path, why: why.to_string(), because });
    }

    fn file(&mut self, path: FilePath, content: Arc<dyn ReadAt>, meta: FileMeta) -> Result<()> {
        self.files = self.files.plus(1)?;
        self.bytes = self.bytes.plus(content.size())?;
        self.edits.push(FileEdit::Put { path, content, meta });
        Ok(())
    }

    fn folder(&mut self, path: FilePath, meta: FileMeta) -> Result<()> {
        if !path.is_empty() {
            self.folders = self.folders.plus(1)?;
            self.edits.push(FileEdit::Folder { path, meta });
        }
        Ok(())
    }
}

/// Returns whether a new file can get an attribute.
fn is_kept(attribute: &FileAttribute) -> bool {
    let whose: [&[u8]; 4] = [b"user.", b"trusted.", b"security.", b"system.posix_acl_"];
    whose.iter().any(|whose| attribute.name.starts_with(whose))
}

/// The names of a path.
#[must_use]
pub fn names(path: &[u8]) -> FilePath {
    let names = path.split(|byte| *byte == b'/').filter(|name| !name.is_empty());
    names.map(<[u8]>::to_vec).collect()
}

/// Adds execute permission wherever there is read permission.
fn for_folder(permissions: u16) -> u16 {
    permissions | (permissions & 0o444) >> 2
}
