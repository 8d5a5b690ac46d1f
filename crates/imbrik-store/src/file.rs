//! A regular file as a store, holes and all.

use super::{ReadAt, WriteAt, check_range};
use crate::{
    error::{Error, Result},
    units::{ByteLen, ByteOffset, SectorSize, Span},
};
use rustix::{
    fs::{Advice, FallocateFlags, SeekFrom},
    io::{Errno, ReadWriteFlags},
};
use std::{fs::File, io::IoSliceMut, num::NonZeroU64, os::unix::fs::FileExt, path::Path};

/// How many places of a file are asked whether they are in memory.
const CACHE_SAMPLES: u64 = 64;

/// A regular file: a raw image, or the file of a slot.
#[derive(Debug)]
pub struct FileStore {
    file: File,
    size: ByteLen,
    sector: SectorSize,
}

impl FileStore {
    /// Opens `path` for reading only.
    ///
    /// # Errors
    /// When it cannot be opened.
    pub fn open(path: &Path) -> Result<Self> {
        let file =
            File::open(path).map_err(|e| Error::io(format!("opening {}", path.display()), e))?;
        Self::from_file(file).map_err(|e| e.at(path.display()))
    }

    /// Uses an open file with the size that it has now.
    ///
    /// # Errors
    /// When the system can't report its size.
    pub fn from_file(file: File) -> Result<Self> {
        let size = file.metadata().map_err(|e| Error::io("asking for the size", e))?.len();
        Ok(Self { file, size: ByteLen::new(size), sector: SectorSize::B512 })
    }

    /// The same, saying that it works in sectors of `sector`.
    #[must_use]
    pub fn with_sector_size(mut self, sector: SectorSize) -> Self {
        self.sector = sector;
        self
    }

    /// The file itself.
    #[must_use]
    pub fn file(&self) -> &File {
        &self.file
    }

    /// Drops the file from the page cache, so that the next read comes from the medium. Dirty pages are flushed first.
    /// Returns whether it worked, according to samples: a filesystem in memory can't do it.
    ///
    /// # Errors
    /// When flushing fails.
    pub fn drop_cache(&self) -> Result<bool> {
        self.file.sync_data().map_err(|e| Error::io("flushing", e))?;
        // Advice only.
        let _ = rustix::fs::fadvise(&self.file, 0, NonZeroU64::new(0), Advice::DontNeed);
        Ok(self.is_forgotten())
    }

    /// Returns whether no sample of the file is in the page cache, according to reads that must not block.
    fn is_forgotten(&self) -> bool {
        (0..CACHE_SAMPLES).all(|sample| {
            let at = self.size.get().saturating_mul(sample) / CACHE_SAMPLES;
            let mut byte = [0];
            let wanted = &mut [IoSliceMut::new(&mut byte)];
            let read = rustix::io::preadv2(&self.file, wanted, at, ReadWriteFlags::NOWAIT);
            matches!(read, Err(Errno::AGAIN))
        })
    }
}

impl ReadAt for FileStore {
    fn size(&self) -> ByteLen {
        self.size
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        check_range(at, ByteLen::of(buf), self.size)?;
        self.file
            .read_exact_at(buf, at.get())
            .map_err(|e| Error::io(format!("reading {} at {at}", ByteLen::of(buf)), e))
    }

    fn next_data(&self, from: ByteOffset) -> Result<Option<Span>> {
        let end = ByteOffset::new(self.size.get());
        let rest = Span::between(from, end);
        if rest.is_empty() {
            return Ok(None);
        }
        let start = match rustix::fs::seek(&self.file, SeekFrom::Data(from.get())) {
            Ok(start) => ByteOffset::new(start),
            Err(Errno::NXIO) => return Ok(None),
            Err(_) => return Ok(Some(rest)),
        };
        let stop = rustix::fs::seek(&self.file, SeekFrom::Hole(start.get()))
            .map_or(end, ByteOffset::new)
            .min(end);
        let span = Span::between(start.max(from), stop);
        Ok((!span.is_empty()).then_some(span))
    }

    fn sector_size(&self) -> SectorSize {
        self.sector
    }
}

impl WriteAt for FileStore {
    fn write_at(&self, at: ByteOffset, bytes: &[u8]) -> Result<()> {
        check_range(at, ByteLen::of(bytes), self.size)?;
        self.file
            .write_all_at(bytes, at.get())
            .map_err(|e| Error::io(format!("writing {} at {at}", ByteLen::of(bytes)), e))
    }

    /// Punches a hole, which reads as zeros; writes zeros if the filesystem does not support holes.
    fn zero_at(&self, span: Span) -> Result<()> {
        check_range(span.start(), span.len(), self.size)?;
        let flags = FallocateFlags::PUNCH_HOLE | FallocateFlags::KEEP_SIZE;
        if span.is_empty() {
            return Ok(());
        }
        match rustix::fs::fallocate(&self.file, flags, span.start().get(), span.len().get()) {
            Ok(()) => Ok(()),
            Err(_) => super::for_pieces(span, ByteLen::mib(1), |piece| {
                self.write_at(piece.start(), &vec![0; piece.len().to_usize().unwrap_or(0)])
            }),
        }
    }

    fn flush(&self) -> Result<()> {
        self.file.sync_data().map_err(|e| Error::io("flushing", e))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn holes_are_reported_and_created() {
        let file = tempfile::tempfile().unwrap();
        file.set_len(16 << 20).unwrap();
        let store = FileStore::from_file(file).unwrap();
        let at = ByteOffset::new(8 << 20);
        store.write_at(at, &[1; 1 << 20]).unwrap();
        let data = store.next_data(ByteOffset::ZERO).unwrap().unwrap();
        assert_eq!((data.start(), data.len()), (at, ByteLen::mib(1)));
        store.zero_at(data).unwrap();
        assert_eq!(store.next_data(ByteOffset::ZERO).unwrap(), None);
    }

    #[test]
    fn a_range_past_the_end_is_an_error_with_figures() {
        let file = tempfile::tempfile().unwrap();
        file.set_len(100).unwrap();
        let store = FileStore::from_file(file).unwrap();
        let error = store.read_at(ByteOffset::new(90), &mut [0; 11]).unwrap_err();
        assert_eq!(error.to_string(), "11 bytes at byte 90 reach past the end at 100 bytes");
        assert!(store.write_at(ByteOffset::new(100), b"x").is_err());
    }
}
