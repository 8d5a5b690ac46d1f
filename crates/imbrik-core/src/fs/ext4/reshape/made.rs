//! Blocks made anew: in memory up to a bound, beyond it in a temporary file that has no name, so
//! that nothing is left of it however the program ends.

use crate::{
    error::{Error, Result},
    units::ByteLen,
};
use std::{
    collections::BTreeMap,
    fs::File,
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
};

/// Where a block's content is.
enum Place {
    Memory(Vec<u8>),
    /// At so many blocks from the file's start.
    Aside(u64),
}

/// The blocks of a draft that are made anew.
pub(super) struct Made {
    block_len: u64,
    places: BTreeMap<u64, Place>,
    /// How many more blocks memory holds.
    room: u64,
    folder: Option<PathBuf>,
    file: Option<File>,
    aside: u64,
}

impl Made {
    /// None so far; of blocks of `block_len` bytes, `most` bytes stay in memory, and all of them
    /// without a `folder` for the rest.
    pub(super) fn new(block_len: u64, most: ByteLen, folder: Option<&Path>) -> Self {
        Self {
            block_len,
            places: BTreeMap::new(),
            room: most.get().checked_div(block_len).unwrap_or(0),
            folder: folder.map(Path::to_owned),
            file: None,
            aside: 0,
        }
    }

    /// The first block at or behind `block` that was made.
    pub(super) fn next(&self, block: u64) -> Option<u64> {
        self.places.range(block..).next().map(|(block, _)| *block)
    }

    /// All of them, in order.
    pub(super) fn list(&self) -> impl Iterator<Item = u64> + '_ {
        self.places.keys().copied()
    }

    /// How much stands in the temporary file.
    pub(super) fn aside(&self) -> ByteLen {
        ByteLen::new(self.aside.saturating_mul(self.block_len))
    }

    /// The content of `block`; `None` when it was not made.
    ///
    /// # Errors
    /// When the temporary file cannot be read.
    pub(super) fn get(&self, block: u64) -> Result<Option<Vec<u8>>> {
        match (self.places.get(&block), &self.file) {
            (None, _) => Ok(None),
            (Some(Place::Memory(bytes)), _) => Ok(Some(bytes.clone())),
            (Some(Place::Aside(index)), Some(file)) => {
                let mut bytes = vec![0; usize::try_from(self.block_len).unwrap_or(0)];
                let at = index.saturating_mul(self.block_len);
                file.read_exact_at(&mut bytes, at)
                    .map_err(|e| Error::io("reading the temporary file", e))?;
                Ok(Some(bytes))
            }
            (Some(Place::Aside(_)), None) => Err(Error::bug("the temporary file is gone")),
        }
    }

    /// Gives `block` the content `bytes`.
    ///
    /// # Errors
    /// When the temporary file cannot be made or written.
    pub(super) fn put(&mut self, block: u64, bytes: Vec<u8>) -> Result<()> {
        let had = match self.places.get(&block) {
            Some(Place::Memory(_)) => None,
            Some(Place::Aside(index)) => Some(*index),
            None if self.room == 0 && self.folder.is_some() => {
                self.aside = self.aside.saturating_add(1);
                Some(self.aside.saturating_sub(1))
            }
            None => {
                self.room = self.room.saturating_sub(1);
                None
            }
        };
        let Some(index) = had else {
            self.places.insert(block, Place::Memory(bytes));
            return Ok(());
        };
        let failed = |e| Error::io("writing the temporary file", e);
        let file = match (&mut self.file, &self.folder) {
            (Some(file), _) => file,
            (none, Some(folder)) => {
                let made = tempfile::tempfile_in(folder).map_err(|e| {
                    Error::io(format!("making a temporary file in {}", folder.display()), e)
                })?;
                none.insert(made)
            }
            (None, None) => return Err(Error::bug("there is no place for more blocks")),
        };
        file.write_all_at(&bytes, index.saturating_mul(self.block_len)).map_err(failed)?;
        self.places.insert(block, Place::Aside(index));
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_has_no_room_in_memory_goes_into_a_file_and_comes_back() {
        let folder = tempfile::tempdir().unwrap();
        let mut made = Made::new(4, ByteLen::new(8), Some(folder.path()));
        for block in [7u64, 3, 9, 5] {
            made.put(block, vec![u8::try_from(block).unwrap(); 4]).unwrap();
        }
        made.put(9, vec![1; 4]).unwrap();
        made.put(3, vec![2; 4]).unwrap();
        let content: Vec<_> = (0..10).map(|block| made.get(block).unwrap()).collect();
        let of = |byte: u8| Some(vec![byte; 4]);
        assert_eq!(content[3..], [of(2), None, of(5), None, of(7), None, of(1)]);
        assert_eq!(made.aside(), ByteLen::new(8));
        assert_eq!(made.next(4), Some(5));
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0, "it has no name");
    }
}
