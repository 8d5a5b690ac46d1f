//! A file that exists under its name only when it is whole.
//!
//! It grows as `NAME.part`, is synced, and only then gets its name. Whatever ends the program in
//! between, a half-made file is never mistaken for a whole one.

use crate::error::{Class, Error, Result};
use rustix::fs::{FlockOperation, OFlags, RenameFlags};
use std::{
    fs::{self, File, OpenOptions},
    os::unix::fs::{OpenOptionsExt, PermissionsExt, fchown},
    path::{Path, PathBuf},
};

/// Who shall own what is written: the person who called `sudo`, not the superuser.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Owner {
    /// Numeric user id.
    pub uid: u32,
    /// Numeric group id.
    pub gid: u32,
}

/// A file in the making. Dropped without [`PartFile::publish`], it leaves nothing behind.
#[derive(Debug)]
pub struct PartFile {
    file: File,
    part: PathBuf,
    name: PathBuf,
    replace: bool,
    published: bool,
}

impl PartFile {
    /// Starts `name` as `name.part`, readable by its owner alone: images hold keys and passwords.
    ///
    /// A `.part` that nobody writes any more is taken over; what it held is lost, as it was worth
    /// nothing.
    ///
    /// # Errors
    /// [`Class::Refused`] when `name` exists and `replace` is not set, or when another program is
    /// writing it right now; else what the system answers.
    pub fn create(name: &Path, replace: bool, owner: Option<Owner>) -> Result<Self> {
        if !replace && name.symlink_metadata().is_ok() {
            return Err(exists(name));
        }
        let mut part = name.as_os_str().to_owned();
        part.push(".part");
        let part = PathBuf::from(part);
        let io = |e| Error::io(format!("making {}", part.display()), e);
        if part.symlink_metadata().is_ok_and(|found| !found.is_file()) {
            return Err(Error::refused(format!("{} exists and is no file", part.display())));
        }
        let file = OpenOptions::new()
            .read(true)
            .write(true)
            .create(true)
            .truncate(false)
            .mode(0o600)
            .custom_flags(i32::try_from(OFlags::NOFOLLOW.bits()).unwrap_or(0))
            .open(&part)
            .map_err(io)?;
        if rustix::fs::flock(&file, FlockOperation::NonBlockingLockExclusive)
            .is_err_and(|errno| errno == rustix::io::Errno::WOULDBLOCK)
        {
            return Err(Error::refused(format!(
                "{} is being written by another program",
                part.display()
            )));
        }
        let this =
            Self { file, part: part.clone(), name: name.to_owned(), replace, published: false };
        this.file.set_len(0).map_err(io)?;
        let private = fs::Permissions::from_mode(0o600);
        // A filesystem without modes and owners (FAT) refuses both; then there is nothing to keep.
        let _ = this.file.set_permissions(private);
        if let Some(owner) = owner {
            let _ = fchown(&this.file, Some(owner.uid), Some(owner.gid));
        }
        Ok(this)
    }

    /// The file itself, for writing and reading back.
    #[must_use]
    pub fn file(&self) -> &File {
        &self.file
    }

    /// Where it grows.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.part
    }

    /// Makes sure that all of it is on the medium.
    ///
    /// # Errors
    /// What the system answers.
    pub fn sync(&self) -> Result<()> {
        self.file.sync_all().map_err(|e| Error::io(format!("syncing {}", self.part.display()), e))
    }

    /// Syncs it and gives it its name.
    ///
    /// # Errors
    /// [`Class::Refused`] when something of that name appeared meanwhile and may not be replaced.
    pub fn publish(mut self) -> Result<()> {
        self.sync()?;
        let io = |e| Error::io(format!("renaming {}", self.part.display()), e);
        let cwd = rustix::fs::CWD;
        let renamed = if self.replace {
            fs::rename(&self.part, &self.name).map_err(io)
        } else {
            match rustix::fs::renameat_with(
                cwd,
                &self.part,
                cwd,
                &self.name,
                RenameFlags::NOREPLACE,
            ) {
                Err(rustix::io::Errno::EXIST) => Err(exists(&self.name)),
                // Some network and FAT filesystems know no such rename.
                Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS) => {
                    if self.name.symlink_metadata().is_ok() {
                        Err(exists(&self.name))
                    } else {
                        fs::rename(&self.part, &self.name).map_err(io)
                    }
                }
                Err(errno) => Err(io(errno.into())),
                Ok(()) => Ok(()),
            }
        };
        renamed?;
        self.published = true;
        sync_folder_of(&self.name);
        Ok(())
    }
}

impl Drop for PartFile {
    fn drop(&mut self) {
        if !self.published {
            // Nothing can be done about a failure here, and the name says that it is half-made.
            let _ = fs::remove_file(&self.part);
        }
    }
}

fn exists(name: &Path) -> Error {
    Error::new(Class::Refused, format!("{} exists already", name.display()))
}

/// Makes the rename itself durable, where folders can be synced.
fn sync_folder_of(name: &Path) {
    let folder = name.parent().filter(|folder| !folder.as_os_str().is_empty());
    if let Ok(folder) = File::open(folder.unwrap_or(Path::new("."))) {
        let _ = folder.sync_all();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write;

    #[test]
    fn it_has_its_name_only_when_it_is_whole() {
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
    fn a_dropped_one_leaves_nothing_and_the_old_file_alone() {
        let folder = tempfile::tempdir().unwrap();
        let name = folder.path().join("a.img");
        fs::write(&name, "old").unwrap();
        assert_eq!(PartFile::create(&name, false, None).unwrap_err().class(), Class::Refused);
        drop(PartFile::create(&name, true, None).unwrap());
        assert_eq!(fs::read(&name).unwrap(), b"old");
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1);
    }

    #[test]
    fn a_file_that_appeared_meanwhile_is_not_replaced() {
        let folder = tempfile::tempdir().unwrap();
        let name = folder.path().join("a.img");
        let part = PartFile::create(&name, false, None).unwrap();
        fs::write(&name, "other").unwrap();
        assert_eq!(part.publish().unwrap_err().class(), Class::Refused);
        assert_eq!(fs::read(&name).unwrap(), b"other");
    }

    #[test]
    fn a_stale_part_is_taken_over() {
        let folder = tempfile::tempdir().unwrap();
        fs::write(folder.path().join("a.img.part"), "half").unwrap();
        let part = PartFile::create(&folder.path().join("a.img"), false, None).unwrap();
        part.publish().unwrap();
        assert_eq!(fs::read(folder.path().join("a.img")).unwrap(), b"");
    }
}
