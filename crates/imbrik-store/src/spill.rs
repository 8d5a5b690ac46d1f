//! Pages of equal length, by number: in memory up to a bound, beyond it in a temporary file that has
//! no name, so that nothing is left of it however the program ends.

use crate::{
    error::{Error, Result},
    exact::invariant_error,
    units::ByteLen,
};
use std::{
    collections::BTreeMap,
    fs::File,
    ops::Range,
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
};

/// The location of a page's content.
enum PagePlace {
    Memory(Vec<u8>),
    /// In the file, at this page number.
    Aside(u64),
}

/// Pages that were put.
pub struct Spill {
    page_len: u64,
    places: BTreeMap<u64, PagePlace>,
    /// How many more pages memory holds.
    room: u64,
    folder: Option<PathBuf>,
    file: Option<File>,
    aside: u64,
}

impl Spill {
    /// None so far; of pages of `page_len` bytes, `most` bytes stay in memory, and all of them
    /// without a `folder` for the rest.
    pub fn new(page_len: u64, most: ByteLen, folder: Option<&Path>) -> Self {
        Self {
            page_len,
            places: BTreeMap::new(),
            room: most.get().checked_div(page_len).unwrap_or(0),
            folder: folder.map(Path::to_owned),
            file: None,
            aside: 0,
        }
    }

    /// The first stored page at or after `page`.
    pub fn next(&self, page: u64) -> Option<u64> {
        self.places.range(page..).next().map(|(page, _)| *page)
    }

    /// The pages in `range` that were put, in order.
    pub fn within(&self, range: Range<u64>) -> impl Iterator<Item = u64> + '_ {
        self.places.range(range).map(|(page, _)| *page)
    }

    /// All pages, in order.
    pub fn list(&self) -> impl Iterator<Item = u64> + '_ {
        self.places.keys().copied()
    }

    /// The number of bytes in the temporary file.
    pub fn aside(&self) -> ByteLen {
        ByteLen::new(self.aside.saturating_mul(self.page_len))
    }

    /// The content of `page`; `None` when it was not put.
    ///
    /// # Errors
    /// When the temporary file cannot be read.
    pub fn get(&self, page: u64) -> Result<Option<Vec<u8>>> {
        match (self.places.get(&page), &self.file) {
            (None, _) => Ok(None),
            (Some(PagePlace::Memory(bytes)), _) => Ok(Some(bytes.clone())),
            (Some(PagePlace::Aside(index)), Some(file)) => {
                let mut bytes = vec![0; usize::try_from(self.page_len).unwrap_or(0)];
                let at = index.saturating_mul(self.page_len);
                file.read_exact_at(&mut bytes, at)
                    .map_err(|e| Error::io("reading the temporary file", e))?;
                Ok(Some(bytes))
            }
            (Some(PagePlace::Aside(_)), None) => Err(invariant_error("the temporary file is gone")),
        }
    }

    /// Gives `page` the content `bytes`.
    ///
    /// # Errors
    /// When the temporary file cannot be made or written.
    pub fn put(&mut self, page: u64, bytes: Vec<u8>) -> Result<()> {
        let had = match self.places.get(&page) {
            Some(PagePlace::Memory(_)) => None,
            Some(PagePlace::Aside(index)) => Some(*index),
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
            self.places.insert(page, PagePlace::Memory(bytes));
            return Ok(());
        };
        let failed = |e| Error::io("writing the temporary file", e);
        let file = match (&mut self.file, &self.folder) {
            (Some(file), _) => file,
            (none, Some(folder)) => {
                let file = tempfile::tempfile_in(folder).map_err(|e| {
                    Error::io(format!("making a temporary file in {}", folder.display()), e)
                })?;
                none.insert(file)
            }
            (None, None) => return Err(invariant_error("no space is left for more pages")),
        };
        file.write_all_at(&bytes, index.saturating_mul(self.page_len)).map_err(failed)?;
        self.places.insert(page, PagePlace::Aside(index));
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spilled_pages_are_written_to_a_file_and_read_back() {
        let folder = tempfile::tempdir().unwrap();
        let mut pages = Spill::new(4, ByteLen::new(8), Some(folder.path()));
        for page in [7u64, 3, 9, 5] {
            pages.put(page, vec![u8::try_from(page).unwrap(); 4]).unwrap();
        }
        pages.put(9, vec![1; 4]).unwrap();
        pages.put(3, vec![2; 4]).unwrap();
        let content: Vec<_> = (0..10).map(|page| pages.get(page).unwrap()).collect();
        let of = |byte: u8| Some(vec![byte; 4]);
        assert_eq!(content[3..], [of(2), None, of(5), None, of(7), None, of(1)]);
        assert_eq!(pages.aside(), ByteLen::new(8));
        assert_eq!(pages.next(4), Some(5));
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0, "it has no name");
    }
}
