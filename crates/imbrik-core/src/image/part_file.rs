//! A file that gets its name only when it is complete.
//!
//! It is written as `NAME.part`, synced, and then renamed. If the program ends in between, nobody takes an incomplete
//! file for a complete one.

use imbrik_store::error::{Class, Error, Result};
use rustix::{
    fs::{FlockOperation, OFlags, RenameFlags},
    io::Errno,
};
use std::{
    fs::{self, File, OpenOptions},
    os::{
        fd::AsRawFd,
        unix::fs::{MetadataExt, OpenOptionsExt, PermissionsExt, fchown},
    },
    path::{Path, PathBuf},
};

/// How often to retry creating a file that other processes create and remove at the same time.
const TRIES: u32 = 50;

/// The owner of written files: the user who called `sudo`, not root.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Owner {
    /// Numeric user id.
    pub uid: u32,
    /// Numeric group id.
    pub gid: u32,
}

/// Which folder a path led to when it was inspected.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FolderId {
    device: u64,
    inode: u64,
}

impl FolderId {
    /// The folder that is open as `file`.
    ///
    /// # Errors
    /// When it cannot be inspected.
    pub fn from_file(file: &File) -> Result<Self> {
        let found = file.metadata().map_err(|e| Error::io("inspecting the folder", e))?;
        Ok(Self { device: found.dev(), inode: found.ino() })
    }

    /// The folder at `path`.
    ///
    /// # Errors
    /// When it cannot be opened.
    pub fn open(path: &Path) -> Result<Self> {
        let opened = File::open(path);
        Self::from_file(&opened.map_err(|e| Error::io(format!("opening {}", path.display()), e))?)
    }
}

/// A file in the making. Dropped without [`PartFile::publish`] or [`PartFile::keep`], it leaves nothing
/// behind.
#[derive(Debug)]
pub struct PartFile {
    file: File,
    /// The folder that both names are in. Everything happens in it, whatever its path leads to by then.
    folder: File,
    part: PathBuf,
    name: PathBuf,
    replace: bool,
    stays: bool,
}

/// The name under which `name` grows.
fn part_of(name: &Path) -> PathBuf {
    let mut part = name.as_os_str().to_owned();
    part.push(".part");
    part.into()
}

/// Path of the notes on the incomplete file `part`.
#[must_use]
pub fn notes_path(part: &Path) -> PathBuf {
    let mut notes = part.as_os_str().to_owned();
    notes.push(".notes");
    notes.into()
}

impl PartFile {
    /// Starts `name` as `name.part`, readable by its owner alone: images hold keys and passwords.
    ///
    /// A leftover `.part` file that no process writes is removed. An existing file is never written to.
    ///
    /// # Errors
    /// [`Class::Refused`] when `name` exists and `replace` is not set, or when another program is writing it; otherwise
    /// those of the system.
    pub fn create(name: &Path, replace: bool, owner: Option<Owner>) -> Result<Self> {
        Self::create_in(name, None, replace, owner)
    }

    /// The same, but only in the folder that `wanted` identifies: if the path of `name` leads to another folder, its
    /// disk or share was unmounted, and the file would be hidden under the mount point.
    ///
    /// # Errors
    /// As [`PartFile::create`]; [`Class::Io`] when the folder is another one.
    pub fn create_in(
        name: &Path,
        wanted: Option<FolderId>,
        replace: bool,
        owner: Option<Owner>,
    ) -> Result<Self> {
        let folder = open_folder_of(name)?;
        if wanted.is_some() && wanted != Some(FolderId::from_file(&folder)?) {
            return Err(Error::new(
                Class::Io,
                format!("the folder of {} was unmounted or exchanged", name.display()),
            ));
        }
        if !replace && in_folder(&folder, name).symlink_metadata().is_ok() {
            return Err(exists(name));
        }
        let part = part_of(name);
        let held = in_folder(&folder, &part);
        if held.symlink_metadata().is_ok_and(|found| !found.is_file()) {
            return Err(Error::refused(format!("{} exists and is not a file", part.display())));
        }
        let mut tries = TRIES;
        let file = loop {
            if let Some(file) = Self::start(&held).map_err(|e| e.at(part.display()))? {
                break file;
            }
            tries = tries.checked_sub(1).ok_or_else(|| written_by_another(&part))?;
        };
        let this = Self { file, folder, part, name: name.to_owned(), replace, stays: false };
        let private = fs::Permissions::from_mode(0o600);
        // A filesystem without modes and owners (FAT) refuses both; then there is nothing to keep.
        let _ = this.file.set_permissions(private);
        if let Some(owner) = owner {
            let _ = fchown(&this.file, Some(owner.uid), Some(owner.gid));
        }
        Ok(this)
    }

    /// The unfinished file of `name` from an earlier run, to be resumed; `None` if it does not exist.
    ///
    /// # Errors
    /// Those of [`PartFile::create`]; and when it is not a file, or has another name, too.
    pub fn resume(name: &Path, replace: bool) -> Result<Option<Self>> {
        let folder = open_folder_of(name)?;
        if !replace && in_folder(&folder, name).symlink_metadata().is_ok() {
            return Err(exists(name));
        }
        let part = part_of(name);
        let held = in_folder(&folder, &part);
        let nofollow = i32::try_from(OFlags::NOFOLLOW.bits()).unwrap_or(0);
        let mut old = OpenOptions::new();
        let file = match old.read(true).write(true).custom_flags(nofollow).open(&held) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
            file => file.map_err(|e| Error::io(format!("opening {}", part.display()), e))?,
        };
        if is_held(&file) {
            return Err(written_by_another(&part));
        }
        let is_alone = file.metadata().is_ok_and(|found| found.is_file() && found.nlink() == 1);
        if !is_alone || !is_at(&file, &held) {
            return Err(Error::refused(format!("{} has another name, too", part.display())));
        }
        Ok(Some(Self { file, folder, part, name: name.to_owned(), replace, stays: false }))
    }

    /// The path of its notes, in the open folder.
    #[must_use]
    pub fn notes(&self) -> PathBuf {
        notes_path(&self.held())
    }

    /// Path of the incomplete file in the folder that is held open.
    fn held(&self) -> PathBuf {
        in_folder(&self.folder, &self.part)
    }

    /// Keeps the unfinished file and its notes, so that it can be resumed.
    ///
    /// # Errors
    /// When it is not certain to be on the medium.
    pub fn keep(mut self) -> Result<()> {
        self.stays = true;
        tracing::info!(name = %self.part.display(), "the unfinished file is kept");
        self.sync()
    }

    /// Creates and locks `part`. The leftover of an earlier run is unlinked first, so that other hard links keep their
    /// content. Returns `None` if the file was removed or renamed in between.
    fn start(part: &Path) -> Result<Option<File>> {
        let io = |e| Error::io("creating it", e);
        let nofollow = i32::try_from(OFlags::NOFOLLOW.bits()).unwrap_or(0);
        let mut new = OpenOptions::new();
        new.read(true).write(true).create_new(true).mode(0o600).custom_flags(nofollow);
        match new.open(part) {
            Ok(file) => {
                // Another program may lock it for a short time to test the lock.
                match rustix::fs::flock(&file, FlockOperation::LockExclusive) {
                    Err(errno) if !knows_no_locks(errno) => return Err(io(errno.into())),
                    Ok(()) | Err(_) => {}
                }
                return Ok(is_at(&file, part).then_some(file));
            }
            Err(error) if error.kind() != std::io::ErrorKind::AlreadyExists => {
                return Err(io(error));
            }
            Err(_) => {}
        }
        let left = match OpenOptions::new().read(true).custom_flags(nofollow).open(part) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
            left => left.map_err(io)?,
        };
        if is_held(&left) {
            return Err(written_by_another(part));
        }
        // Locked, and still under that name: no other process can write or rename it.
        if is_at(&left, part) {
            fs::remove_file(part).map_err(io)?;
            let _ = fs::remove_file(notes_path(part));
        }
        Ok(None)
    }

    /// The file itself, for writing and reading back.
    #[must_use]
    pub fn file(&self) -> &File {
        &self.file
    }

    /// The path while it is unfinished.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.part
    }

    /// Syncs it to the medium.
    ///
    /// # Errors
    /// Those of the system.
    pub fn sync(&self) -> Result<()> {
        self.file.sync_all().map_err(|e| Error::io(format!("syncing {}", self.part.display()), e))
    }

    /// Flushes the file and renames it to its final name.
    ///
    /// # Errors
    /// [`Class::Refused`] when something of that name appeared meanwhile and may not be replaced.
    pub fn publish(mut self) -> Result<()> {
        self.sync()?;
        let (part, name) = (self.held(), in_folder(&self.folder, &self.name));
        if !is_at(&self.file, &part) {
            // Its name belongs to another program now, which must not lose it.
            self.stays = true;
            return Err(written_by_another(&self.part));
        }
        let io = |e| Error::io(format!("renaming {}", self.part.display()), e);
        let cwd = rustix::fs::CWD;
        let renamed = if self.replace {
            fs::rename(&part, &name).map_err(io)
        } else {
            match rustix::fs::renameat_with(cwd, &part, cwd, &name, RenameFlags::NOREPLACE) {
                Err(Errno::EXIST) => Err(exists(&self.name)),
                // Some network and FAT filesystems know no such rename.
                Err(Errno::INVAL | Errno::NOSYS) => {
                    if name.symlink_metadata().is_ok() {
                        Err(exists(&self.name))
                    } else {
                        fs::rename(&part, &name).map_err(io)
                    }
                }
                Err(errno) => Err(io(errno.into())),
                Ok(()) => Ok(()),
            }
        };
        renamed?;
        tracing::info!(name = %self.name.display(), "a file has its name");
        self.stays = true;
        let _ = fs::remove_file(self.notes());
        // Makes the rename durable, if folders can be synced.
        let _ = self.folder.sync_all();
        Ok(())
    }
}

impl Drop for PartFile {
    fn drop(&mut self) {
        if !self.stays {
            // A failure can't be handled here, and the name shows that the file is incomplete.
            let _ = fs::remove_file(self.held());
            let _ = fs::remove_file(self.notes());
        }
    }
}

/// Returns whether another program has locked `file`, and locks it otherwise. On a filesystem without locks, that is
/// unknown: a file written by two programs is detected before it is renamed.
fn is_held(file: &File) -> bool {
    let held = rustix::fs::flock(file, FlockOperation::NonBlockingLockExclusive);
    held.is_err_and(|errno| !knows_no_locks(errno))
}

/// The errors of some network folders.
fn knows_no_locks(errno: Errno) -> bool {
    matches!(errno, Errno::NOLCK | Errno::NOSYS | Errno::OPNOTSUPP)
}

/// Returns whether `file` is the file at `path`.
fn is_at(file: &File, path: &Path) -> bool {
    let at = path.symlink_metadata();
    file.metadata()
        .is_ok_and(|held| at.is_ok_and(|at| (at.dev(), at.ino()) == (held.dev(), held.ino())))
}

fn written_by_another(part: &Path) -> Error {
    Error::refused(format!("{} is being written by another program", part.display()))
}

fn exists(name: &Path) -> Error {
    Error::new(Class::Refused, format!("{} exists already", name.display()))
}

/// Opens the folder that the file `name` is in.
fn open_folder_of(name: &Path) -> Result<File> {
    let folder = name.parent().filter(|folder| !folder.as_os_str().is_empty());
    let folder = folder.unwrap_or(Path::new("."));
    File::open(folder).map_err(|e| Error::io(format!("opening {}", folder.display()), e))
}

/// The path of the file that is called `path` in the open `folder`, whatever leads there.
fn in_folder(folder: &File, path: &Path) -> PathBuf {
    let held = PathBuf::from(format!("/proc/self/fd/{}", folder.as_raw_fd()));
    held.join(path.file_name().unwrap_or_default())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write;

    #[test]
    fn file_is_renamed_only_when_complete() {
        let folder = tempfile::tempdir().unwrap();
        let name = folder.path().join("hive 07.img");
        let part = PartFile::create(&name, false, None).unwrap();
        part.file().write_all(b"honey").unwrap();
        assert!(!name.exists());
        assert!(PartFile::create(&name, false, None).is_err(), "somebody is writing it");
        part.publish().unwrap();
        assert_eq!(fs::read(&name).unwrap(), b"honey");
        assert_eq!(name.metadata().unwrap().permissions().mode() & 0o777, 0o600);
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1);
    }

    #[test]
    fn dropped_file_is_removed_and_the_old_one_kept() {
        let folder = tempfile::tempdir().unwrap();
        let name = folder.path().join("a.img");
        fs::write(&name, "old").unwrap();
        assert_eq!(PartFile::create(&name, false, None).unwrap_err().class(), Class::Refused);
        drop(PartFile::create(&name, true, None).unwrap());
        assert_eq!(fs::read(&name).unwrap(), b"old");
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1);
    }

    /// Fails if a file is created by its path alone, under a mount point whose share was unmounted.
    #[test]
    fn file_is_created_only_in_the_folder_that_was_inspected() {
        let folder = tempfile::tempdir().unwrap();
        let (share, other) = (folder.path().join("share"), folder.path().join("other"));
        fs::create_dir(&share).unwrap();
        let wanted = FolderId::open(&share).unwrap();
        let name = share.join("a.img");
        // Another folder under the same path, as after an unmount.
        fs::rename(&share, &other).unwrap();
        fs::create_dir(&share).unwrap();
        let error = PartFile::create_in(&name, Some(wanted), false, None).unwrap_err();
        assert!(error.to_string().contains("unmounted"), "{error}");
        assert_eq!(fs::read_dir(&share).unwrap().count(), 0);
        // Exchanged after the file was created: the file is renamed in its own folder.
        let found = FolderId::open(&share).unwrap();
        let part = PartFile::create_in(&name, Some(found), false, None).unwrap();
        fs::rename(&share, folder.path().join("away")).unwrap();
        fs::create_dir(&share).unwrap();
        part.publish().unwrap();
        assert_eq!(fs::read_dir(&share).unwrap().count(), 0);
        assert!(folder.path().join("away/a.img").exists());
    }

    #[test]
    fn file_created_meanwhile_is_not_replaced() {
        let folder = tempfile::tempdir().unwrap();
        let name = folder.path().join("a.img");
        let part = PartFile::create(&name, false, None).unwrap();
        fs::write(&name, "other").unwrap();
        assert_eq!(part.publish().unwrap_err().class(), Class::Refused);
        assert_eq!(fs::read(&name).unwrap(), b"other");
    }

    #[test]
    fn stale_part_file_is_overwritten() {
        let folder = tempfile::tempdir().unwrap();
        fs::write(folder.path().join("a.img.part"), "half").unwrap();
        let part = PartFile::create(&folder.path().join("a.img"), false, None).unwrap();
        part.publish().unwrap();
        assert_eq!(fs::read(folder.path().join("a.img")).unwrap(), b"");
    }

    /// Fails when a stale file is truncated: its other hard links would lose their content.
    #[test]
    fn hard_link_of_a_stale_part_file_keeps_its_content() {
        let folder = tempfile::tempdir().unwrap();
        let (part, kept) = (folder.path().join("a.img.part"), folder.path().join("kept"));
        fs::write(&part, "half").unwrap();
        fs::hard_link(&part, &kept).unwrap();
        let name = folder.path().join("a.img");
        PartFile::create(&name, false, None).unwrap().publish().unwrap();
        assert_eq!(fs::read(&kept).unwrap(), b"half");
        assert_eq!(fs::metadata(&name).unwrap().nlink(), 1);
        let held = PartFile::create(&folder.path().join("b.img"), false, None).unwrap();
        let other = PartFile::create(&folder.path().join("b.img"), false, None);
        assert_eq!(other.unwrap_err().class(), Class::Refused);
        drop(held);
    }

    /// Many processes write and publish the same file at once: the published one is always complete.
    #[test]
    fn next_writer_never_truncates_a_published_file() {
        let folder = tempfile::tempdir().unwrap();
        let name = folder.path().join("a.img");
        let published = std::sync::atomic::AtomicU32::new(0);
        std::thread::scope(|scope| {
            for _ in 0..4 {
                scope.spawn(|| {
                    for _ in 0..200 {
                        if let Ok(part) = PartFile::create(&name, true, None) {
                            std::io::Write::write_all(&mut part.file(), b"whole").unwrap();
                            if part.publish().is_ok() {
                                published.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
                            }
                        }
                        if let Ok(found) = fs::read(&name) {
                            assert_eq!(found, b"whole");
                        }
                    }
                });
            }
        });
        assert!(published.into_inner() > 0);
    }
}
