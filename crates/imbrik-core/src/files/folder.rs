//! Copies files into a folder of this machine, and never outside of it.

use super::take::{Item, ItemContent, Reading, Took, TreeSink};
use imbrik_fs::{FileAttribute, FileFlags, FileInfo, FileKind, FileTime};
use imbrik_store::{
    bytes::is_zero,
    error::{Error, Result},
    exact::invariant_error,
    for_pieces,
    units::ByteLen,
};
use rustix::{
    fs::{AtFlags, FileType, Gid, Mode, OFlags, Timespec, Timestamps, Uid, XattrFlags},
    io::Errno,
};
use std::{
    ffi::OsStr,
    fs::File,
    os::{
        fd::{AsFd, AsRawFd, OwnedFd},
        unix::{ffi::OsStrExt, fs::FileExt},
    },
    path::Path,
};

/// Bytes of a file that are read and written at once.
const PIECE: ByteLen = ByteLen::mib(4);
/// Flags that files on this machine can't have.
const DOS_FLAGS: FileFlags = FileFlags::READ_ONLY.with(FileFlags::HIDDEN).with(FileFlags::SYSTEM);
/// Zero ranges of this length become holes, in bytes.
const HOLE: usize = 4096;

/// Writes files from a volume into a folder of this machine.
///
/// Everything is created through the handle of its parent folder, which was opened without following links. So nothing
/// is created outside, whatever names and links a volume contains, and even if another process changes the folder at
/// the same time. Existing files are kept, unless they are to be replaced; existing folders are merged.
pub struct ToFolder {
    /// The open folders, from the target folder down.
    open: Vec<OpenFolder>,
    replace: bool,
    /// True if owners can be set and devices created.
    is_root: bool,
}

struct OpenFolder {
    handle: OwnedFd,
    /// Metadata to set when the folder is complete; `None` for a folder that existed before.
    then: Option<(FileInfo, Vec<FileAttribute>)>,
}

impl ToFolder {
    /// Opens the existing folder `path`. With `replace`, files of the same name are replaced.
    ///
    /// # Errors
    /// When it can't be opened.
    pub fn open(path: &Path, replace: bool) -> Result<Self> {
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let handle = rustix::fs::open(path, flags, Mode::empty())
            .map_err(|e| Error::io(format!("opening {}", path.display()), e.into()))?;
        let is_root = rustix::process::geteuid().is_root();
        Ok(Self { open: vec![OpenFolder { handle, then: None }], replace, is_root })
    }

    fn here(&self) -> Result<&OwnedFd> {
        let last = self.open.last();
        last.map(|folder| &folder.handle)
            .ok_or_else(|| invariant_error("a folder was left too often"))
    }

    /// Creates a file, and tries again after removing an existing one that may be replaced.
    fn made<T>(
        &self,
        name: &OsStr,
        make: impl Fn(&OwnedFd) -> std::result::Result<T, Errno>,
    ) -> Result<std::result::Result<T, Errno>> {
        let here = self.here()?;
        Ok(match make(here) {
            Err(Errno::EXIST) if self.replace => {
                rustix::fs::unlinkat(here, name, AtFlags::empty()).and_then(|()| make(here))
            }
            made => made,
        })
    }

    fn folder(&mut self, name: &OsStr, item: &Item<'_>) -> Result<Took> {
        if item.path.is_empty() {
            let handle = self.here()?.try_clone();
            let handle = handle.map_err(|e| Error::io("opening the folder", e))?;
            self.open.push(OpenFolder { handle, then: None });
            return Ok(Took::All);
        }
        let here = self.here()?;
        let is_new = match rustix::fs::mkdirat(here, name, Mode::RWXU) {
            Ok(()) => true,
            Err(Errno::EXIST) => false,
            Err(errno) => return refused(name, errno),
        };
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        match rustix::fs::openat(here, name, flags, Mode::empty()) {
            Ok(handle) => {
                let then = is_new.then(|| (item.info.clone(), item.attributes.to_vec()));
                self.open.push(OpenFolder { handle, then });
                Ok(Took::All)
            }
            Err(Errno::NOTDIR | Errno::LOOP) => Ok(Took::Exists),
            Err(errno) => refused(name, errno),
        }
    }

    fn file(&self, name: &OsStr, item: &Item<'_>, content: &mut dyn Reading) -> Result<Took> {
        let here = self.here()?;
        let flags =
            OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let create = |name: &OsStr| rustix::fs::openat(here, name, flags, Mode::RUSR | Mode::WUSR);
        // An existing file stays until its replacement is complete.
        let mut made_as = name.to_owned();
        let mut made = create(&made_as);
        if made.as_ref().is_err_and(|errno| *errno == Errno::EXIST) && self.replace {
            made_as = OsStr::from_bytes(&[b".", name.as_bytes(), b".part"].concat()).to_owned();
            made = create(&made_as);
        }
        let file = match made {
            Ok(handle) => File::from(handle),
            Err(errno) => return refused(name, errno),
        };
        let mut written = write(&file, name, content).and_then(|took| match took {
            Took::All => self.dressed(&file, item.info, item.attributes),
            took => Ok(took),
        });
        if made_as != name
            && matches!(written, Ok(Took::All | Took::Partly(_)))
            && let Err(errno) = rustix::fs::renameat(here, &made_as, here, name)
        {
            written = refused(name, errno);
        }
        if !matches!(written, Ok(Took::All | Took::Partly(_))) {
            // An incomplete file would look complete.
            let _ = rustix::fs::unlinkat(here, &made_as, AtFlags::empty());
        }
        written
    }

    fn link(&self, name: &OsStr, item: &Item<'_>, target: &[u8]) -> Result<Took> {
        let target = OsStr::from_bytes(target);
        let made = self.made(name, |here| rustix::fs::symlinkat(target, here, name))?;
        if let Err(errno) = made {
            return refused(name, errno);
        }
        let here = self.here()?;
        let mut not_kept = Vec::new();
        if let (Some(owner), true) = (item.info.ownership, self.is_root) {
            let (user, group) = ids(owner.owner, owner.group);
            let done = rustix::fs::chownat(here, name, user, group, AtFlags::SYMLINK_NOFOLLOW);
            not_kept.extend(done.err().map(|_| "owner".to_owned()));
        }
        not_kept.extend(self.set_attributes_by_name(name, item)?);
        not_kept.extend(flags_of(item.info));
        let times = times(item.info);
        let _ = rustix::fs::utimensat(here, name, &times, AtFlags::SYMLINK_NOFOLLOW);
        Ok(without(not_kept))
    }

    /// Sets the extended attributes of a file that can't be opened: a link, a device or a pipe. Returns those that
    /// could not be set.
    fn set_attributes_by_name(&self, name: &OsStr, item: &Item<'_>) -> Result<Vec<String>> {
        let path = Path::new("/proc/self/fd").join(self.here()?.as_raw_fd().to_string()).join(name);
        let mut failed = Vec::new();
        for attribute in item.attributes.iter().filter(|attribute| self.may_keep(attribute)) {
            let (key, flags) = (&attribute.name[..], XattrFlags::empty());
            let done = rustix::fs::lsetxattr(&path, key, &attribute.value, flags);
            failed.extend(done.err().map(|_| named(attribute)));
        }
        Ok(failed)
    }

    /// Creates a hard link to a file that was copied before. The path is resolved from the target folder without
    /// following links.
    fn same(&self, name: &OsStr, first: &[u8]) -> Result<Took> {
        let mut names: Vec<&[u8]> = first.split(|byte| *byte == b'/').collect();
        let last = names.pop().map(OsStr::from_bytes).unwrap_or_default();
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let base = self.open.first().ok_or_else(|| invariant_error("no folder is open"))?;
        let mut folder: Option<OwnedFd> = None;
        for step in names {
            let from = folder.as_ref().unwrap_or(&base.handle);
            match rustix::fs::openat(from, OsStr::from_bytes(step), flags, Mode::empty()) {
                Ok(handle) => folder = Some(handle),
                Err(errno) => return refused(name, errno),
            }
        }
        let from = folder.as_ref().unwrap_or(&base.handle);
        let made =
            self.made(name, |here| rustix::fs::linkat(from, last, here, name, AtFlags::empty()))?;
        match made {
            Ok(()) => Ok(Took::All),
            Err(errno) => refused(name, errno),
        }
    }

    fn special(&self, name: &OsStr, item: &Item<'_>) -> Result<Took> {
        let (kind, device) = match item.info.kind {
            FileKind::CharacterDevice(major, minor) => (FileType::CharacterDevice, (major, minor)),
            FileKind::BlockDevice(major, minor) => (FileType::BlockDevice, (major, minor)),
            FileKind::Pipe => (FileType::Fifo, (0, 0)),
            FileKind::Socket => (FileType::Socket, (0, 0)),
            _ => return Ok(Took::Not("its type is unknown".to_owned())),
        };
        let is_device = matches!(kind, FileType::CharacterDevice | FileType::BlockDevice);
        if is_device && !self.is_root {
            return Ok(Took::Not("only root can make a device".to_owned()));
        }
        let device = rustix::fs::makedev(device.0, device.1);
        let mode = Mode::RUSR | Mode::WUSR;
        let made = self.made(name, |here| rustix::fs::mknodat(here, name, kind, mode, device))?;
        if let Err(errno) = made {
            return refused(name, errno);
        }
        let (here, mut not_kept) = (self.here()?, Vec::new());
        if let Some(ownership) = item.info.ownership {
            if self.is_root {
                let (user, group) = ids(ownership.owner, ownership.group);
                let done = rustix::fs::chownat(here, name, user, group, AtFlags::SYMLINK_NOFOLLOW);
                not_kept.extend(done.err().map(|_| "owner".to_owned()));
            }
            let mode = Mode::from_raw_mode(ownership.permissions.into());
            let done = rustix::fs::chmodat(here, name, mode, AtFlags::empty());
            not_kept.extend(done.err().map(|_| "permissions".to_owned()));
        }
        not_kept.extend(self.set_attributes_by_name(name, item)?);
        not_kept.extend(flags_of(item.info));
        let times = times(item.info);
        let _ = rustix::fs::utimensat(here, name, &times, AtFlags::SYMLINK_NOFOLLOW);
        Ok(without(not_kept))
    }

    /// Returns whether this process can set an attribute: some need root.
    fn may_keep(&self, attribute: &FileAttribute) -> bool {
        let is_roots = [b"security.".as_slice(), b"trusted."];
        self.is_root || !is_roots.iter().any(|prefix| attribute.name.starts_with(prefix))
    }

    /// Sets owner, permissions, attributes and times of a file or folder, in this order, because each of these calls
    /// can reset later ones.
    fn dressed(
        &self,
        file: impl AsFd,
        info: &FileInfo,
        attributes: &[FileAttribute],
    ) -> Result<Took> {
        let file = file.as_fd();
        let mut not_kept = Vec::new();
        if let (Some(owner), true) = (info.ownership, self.is_root) {
            let (user, group) = ids(owner.owner, owner.group);
            not_kept
                .extend(rustix::fs::fchown(file, user, group).err().map(|_| "owner".to_owned()));
        }
        if let Some(ownership) = info.ownership {
            let mode = Mode::from_raw_mode(ownership.permissions.into());
            let done = rustix::fs::fchmod(file, mode);
            not_kept.extend(done.err().map(|_| "permissions".to_owned()));
        }
        for attribute in attributes.iter().filter(|attribute| self.may_keep(attribute)) {
            let (key, flags) = (&attribute.name[..], XattrFlags::empty());
            let done = rustix::fs::fsetxattr(file, key, &attribute.value, flags);
            not_kept.extend(done.err().map(|_| named(attribute)));
        }
        not_kept.extend(flags_of(info));
        rustix::fs::futimens(file, &times(info))
            .map_err(|e| Error::io("setting the times of a file", e.into()))?;
        Ok(without(not_kept))
    }
}

impl TreeSink for ToFolder {
    fn take(&mut self, item: Item<'_>) -> Result<Took> {
        let name = item.path.rsplit(|byte| *byte == b'/').next().unwrap_or_default();
        let name = OsStr::from_bytes(name);
        let Item { path, info, attributes, content } = item;
        let item = Item { path, info, attributes, content: ItemContent::Special };
        match content {
            ItemContent::Folder => self.folder(name, &item),
            ItemContent::File(content) => self.file(name, &item, content),
            ItemContent::SameAs(first) => self.same(name, first),
            ItemContent::Link(target) => self.link(name, &item, target),
            ItemContent::Special => self.special(name, &item),
        }
    }

    fn leave(&mut self) -> Result<Took> {
        let left = self.open.pop().ok_or_else(|| invariant_error("a folder was left too often"))?;
        match left.then {
            Some((info, attributes)) => self.dressed(&left.handle, &info, &attributes),
            None => Ok(Took::All),
        }
    }
}

/// Writes the content of a file with its holes.
fn write(file: &File, name: &OsStr, content: &mut dyn Reading) -> Result<Took> {
    let failed = |e| Error::io(format!("writing {}", name.display()), e);
    match rustix::fs::ftruncate(file, content.size().get()) {
        Err(Errno::FBIG | Errno::INVAL | Errno::OVERFLOW) => {
            return Ok(Took::Not(format!("files here can't be {} long", content.size())));
        }
        done => done.map_err(|e| failed(e.into()))?,
    }
    let mut buffer = Vec::new();
    for span in content.written() {
        for_pieces(span, PIECE, |piece| {
            buffer.resize(piece.len().to_usize().unwrap_or(0), 0);
            content.read(piece.start(), &mut buffer)?;
            for (at, bytes) in (0u64..).zip(buffer.chunks(HOLE)) {
                if !is_zero(bytes) {
                    let ahead = ByteLen::from_usize(HOLE).checked_mul(at).unwrap_or_default();
                    let at = piece.start().saturating_add(ahead);
                    file.write_all_at(bytes, at.get()).map_err(failed)?;
                }
            }
            Ok(())
        })?;
    }
    Ok(Took::All)
}

/// Reports why a single file could not be created; errors that affect all files are returned.
fn refused(name: &OsStr, errno: Errno) -> Result<Took> {
    match errno {
        Errno::NOSPC | Errno::DQUOT | Errno::ROFS | Errno::IO | Errno::MFILE | Errno::NFILE => {
            Err(Error::io(format!("making {}", name.display()), errno.into()))
        }
        Errno::EXIST => Ok(Took::Exists),
        Errno::ISDIR => Ok(Took::Exists),
        errno => Ok(Took::Not(std::io::Error::from(errno).to_string())),
    }
}

fn ids(owner: u32, group: u32) -> (Option<Uid>, Option<Gid>) {
    // The largest number means "keep" to the system call.
    let is_one = |id: &u32| *id != u32::MAX;
    (Some(owner).filter(is_one).map(Uid::from_raw), Some(group).filter(is_one).map(Gid::from_raw))
}

/// Flags of ext4 are not set on copies: an immutable copy can't be removed without root.
fn flags_of(info: &FileInfo) -> Option<String> {
    let flags = info.flags.without(DOS_FLAGS);
    (!flags.is_empty()).then(|| format!("flags ({flags})"))
}

fn named(attribute: &FileAttribute) -> String {
    format!("attribute {}", String::from_utf8_lossy(&attribute.name))
}

fn without(not_kept: Vec<String>) -> Took {
    match &not_kept[..] {
        [] => Took::All,
        not_kept => Took::Partly(format!("taken without its {}", not_kept.join(", "))),
    }
}

fn times(info: &FileInfo) -> Timestamps {
    let time_spec = |time: Option<FileTime>| match time {
        Some(time) => Timespec { tv_sec: time.seconds, tv_nsec: time.nanoseconds.into() },
        None => Timespec { tv_sec: 0, tv_nsec: rustix::fs::UTIME_OMIT },
    };
    Timestamps {
        last_access: time_spec(info.accessed.or(info.modified)),
        last_modification: time_spec(info.modified),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_fs::Ownership;
    use imbrik_store::units::ByteOffset;
    use std::{fs, os::unix::fs::symlink};

    struct Bytes(Vec<u8>);

    impl Reading for Bytes {
        fn size(&self) -> ByteLen {
            ByteLen::of(&self.0)
        }

        fn written(&self) -> Vec<imbrik_store::units::Span> {
            vec![imbrik_store::units::Span::whole(self.size())]
        }

        fn read(&mut self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
            let from = usize::try_from(at.get()).unwrap();
            buf.copy_from_slice(&self.0[from..from + buf.len()]);
            Ok(())
        }
    }

    fn info(kind: FileKind) -> FileInfo {
        FileInfo {
            kind,
            size: 5,
            links: 2,
            ownership: Some(Ownership {
                permissions: 0o700,
                owner: rustix::process::geteuid().as_raw(),
                group: rustix::process::getegid().as_raw(),
            }),
            flags: FileFlags::NONE,
            modified: Some(FileTime { seconds: 1_000_000_000, nanoseconds: 7 }),
            accessed: None,
            changed: None,
            created: None,
        }
    }

    macro_rules! take {
        ($sink:ident, $path:expr, $kind:ident, $content:expr) => {{
            let info = info(FileKind::$kind);
            let (path, content) = ($path.as_slice(), $content);
            $sink.take(Item { path, info: &info, attributes: &[], content }).unwrap()
        }};
    }

    /// Fails when a folder is opened by its path again: another process that replaces it by a link at that time could
    /// redirect the content.
    #[test]
    fn folder_replaced_by_a_link_is_not_followed() {
        let dir = tempfile::tempdir().unwrap();
        let (out, outside) = (dir.path().join("out"), dir.path().join("outside"));
        fs::create_dir(&out).unwrap();
        fs::create_dir(&outside).unwrap();
        let mut sink = ToFolder::open(&out, true).unwrap();
        assert_eq!(take!(sink, b"srv", Folder, ItemContent::Folder), Took::All);
        let turn = |from: &str, to: &str| {
            fs::rename(out.join(from), out.join(to)).unwrap();
            symlink(&outside, out.join(from)).unwrap();
        };
        turn("srv", "moved");
        let mut bytes = Bytes(b"brood".to_vec());
        assert_eq!(take!(sink, b"srv/may", File, ItemContent::File(&mut bytes)), Took::All);
        assert_eq!(take!(sink, b"srv/link", Link, ItemContent::Link(b"/etc")), Took::All);
        assert_eq!(take!(sink, b"srv/notes", Folder, ItemContent::Folder), Took::All);
        sink.leave().unwrap();
        // Another name for a file is found from the top: there is a link on the way now.
        let same = take!(sink, b"srv/again", File, ItemContent::SameAs(b"srv/may"));
        assert!(matches!(same, Took::Not(_)), "{same:?}");
        // A link in place of a file is replaced, and not written through.
        symlink(outside.join("prey"), out.join("moved/june")).unwrap();
        let mut bytes = Bytes(b"brood".to_vec());
        assert_eq!(take!(sink, b"srv/june", File, ItemContent::File(&mut bytes)), Took::All);
        sink.leave().unwrap();
        assert!(fs::read_dir(&outside).unwrap().next().is_none());
        assert_eq!(fs::read(out.join("moved/may")).unwrap(), b"brood");
        assert_eq!(fs::read(out.join("moved/june")).unwrap(), b"brood");
        let kept = fs::metadata(out.join("moved")).unwrap().modified().unwrap();
        let kept = kept.duration_since(std::time::UNIX_EPOCH).unwrap();
        assert_eq!((kept.as_secs(), kept.subsec_nanos()), (1_000_000_000, 7));
    }
}
