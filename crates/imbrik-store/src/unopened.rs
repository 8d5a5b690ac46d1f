//! A file that is opened on first use: of many added files, few are open at once.

use super::{FileStore, ReadAt};
use crate::{
    error::{Error, Result},
    units::{ByteLen, ByteOffset, Span},
};
use std::{
    path::{Path, PathBuf},
    time::SystemTime,
};

/// A file that is opened on first use, if it is still the same.
#[derive(Debug)]
pub struct UnopenedFile {
    path: PathBuf,
    size: ByteLen,
    modified: Option<SystemTime>,
}

impl UnopenedFile {
    /// The file at `path`, a link to one included.
    ///
    /// # Errors
    /// When it does not exist or may not be read: that is detected now, and not at the first read.
    pub fn at(path: &Path) -> Result<Self> {
        let store = FileStore::open(path)?;
        let modified = modified(&store);
        Ok(Self { path: path.to_owned(), size: store.size(), modified })
    }

    /// Opens the file, which must be unchanged.
    fn open(&self) -> Result<FileStore> {
        let store = FileStore::open(&self.path)?;
        match store.size() == self.size && modified(&store) == self.modified {
            true => Ok(store),
            false => {
                let what = format!("{} was changed while it was read", self.path.display());
                Err(Error::mismatch(what))
            }
        }
    }
}

fn modified(store: &FileStore) -> Option<SystemTime> {
    store.file().metadata().ok().and_then(|data| data.modified().ok())
}

impl ReadAt for UnopenedFile {
    fn size(&self) -> ByteLen {
        self.size
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        self.open()?.read_at(at, buf)
    }

    fn next_data(&self, from: ByteOffset) -> Result<Option<Span>> {
        self.open()?.next_data(from)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{error::Class, read_vec};
    use std::fs;

    #[test]
    fn replaced_file_is_not_read() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("weights.csv");
        fs::write(&path, "41.7\n").unwrap();
        let file = UnopenedFile::at(&path).unwrap();
        assert_eq!(read_vec(&file, ByteOffset::ZERO, 5).unwrap(), b"41.7\n");
        fs::write(&path, "41.75\n").unwrap();
        let error = read_vec(&file, ByteOffset::ZERO, 5).unwrap_err();
        assert_eq!(error.class(), Class::Mismatch);
        assert!(UnopenedFile::at(&dir.path().join("none")).is_err());
    }
}
