//! Reading the files of an exFAT volume: the implementation of [`Files`].

use super::{
    boot::BootSector,
    folders::{Chains, Set, Stream, each_set, stream_of},
};
use crate::{
    bits::Run,
    clusters::span_of,
    dos_time::{file_time, with_hundredths},
    files::{
        DOS_FLAGS, EachEntry, EachStretch, FileFlags, FileId, FileInfo, FileKind, FileTime, Files,
        FolderEntry, Stretch,
    },
};
use imbrik_store::{
    ReadAt, bytes,
    error::{Error, Result},
    units::{ByteLen, Span},
};
use std::{cell::RefCell, collections::HashMap, ops::ControlFlow, rc::Rc};

/// The number of the root directory, which has no entry.
const ROOT: u64 = 0;
/// A flag in the second number of an id: the clusters of the folder are contiguous without a chain.
const IS_PLAIN: u64 = 1 << 63;

/// A volume whose files are read.
pub(super) struct Reader<'a> {
    store: &'a dyn ReadAt,
    boot: BootSector,
    /// The last folder that was read, and its entry sets by their offset.
    last: RefCell<Option<(FolderAt, Rc<Sets>)>>,
}

type FolderAt = [u64; 2];
type Sets = (Vec<u64>, HashMap<u64, Set>);

impl<'a> Reader<'a> {
    /// The volume in `store`, with the boot sector `boot`.
    pub(super) fn new(store: &'a dyn ReadAt, boot: BootSector) -> Self {
        Self { store, boot, last: RefCell::default() }
    }

    /// The files of the folder in `runs`, which `at` stands for.
    fn sets(&self, at: FolderAt, runs: &[Run]) -> Result<Rc<Sets>> {
        let (mut order, mut sets) = (Vec::new(), HashMap::new());
        each_set(self.store, &self.boot, runs, &mut |set| {
            if let Some(at) = set.places.first().filter(|_| set.is_file()) {
                order.push(at.get());
                sets.insert(at.get(), set);
            }
            Ok(ControlFlow::Continue(()))
        })?;
        let sets = Rc::new((order, sets));
        *self.last.borrow_mut() = Some((at, Rc::clone(&sets)));
        Ok(sets)
    }

    /// The clusters of the folder that `at` stands for: its first cluster, and its length with whether
    /// it has a chain.
    fn runs(&self, at: FolderAt) -> Result<Vec<Run>> {
        let [first, len] = at;
        let chains = Chains::of(self.store, &self.boot);
        match len & !IS_PLAIN {
            0 => chains.follow(first),
            bytes => {
                chains.clusters_of(Stream { first, len: bytes, is_plain: len & IS_PLAIN != 0 })
            }
        }
    }

    fn folder(&self, at: FolderAt) -> Result<Rc<Sets>> {
        if let Some((_, sets)) = self.last.borrow().as_ref().filter(|(last, _)| *last == at) {
            return Ok(Rc::clone(sets));
        }
        self.sets(at, &self.runs(at)?)
    }

    fn root_at(&self) -> FolderAt {
        [self.boot.root_cluster, 0]
    }

    /// The set of `file`; `None` for the root directory.
    fn set(&self, file: FileId) -> Result<Option<Set>> {
        if file.number == ROOT {
            return Ok(None);
        }
        let set = self.folder(file.more)?.1.get(&file.number).cloned();
        set.map(Some).ok_or_else(|| Error::corrupt("a directory entry is missing"))
    }

    fn folder_at(&self, folder: FileId) -> Result<FolderAt> {
        let Some(set) = self.set(folder)? else { return Ok(self.root_at()) };
        if !set.is_folder() {
            return Err(Error::corrupt("it is no folder"));
        }
        let stream = self.stream(&set)?;
        let stream = stream.ok_or_else(|| Error::corrupt("a folder has no cluster"))?;
        Ok([stream.first, stream.len | if stream.is_plain { IS_PLAIN } else { 0 }])
    }

    fn stream(&self, set: &Set) -> Result<Option<Stream>> {
        set.entries().get(1).map_or(Ok(None), |entry| stream_of(entry, &self.boot))
    }
}

impl Files for Reader<'_> {
    fn root(&self) -> FileId {
        FileId::of(ROOT)
    }

    fn entries(&self, folder: FileId, each: EachEntry<'_>) -> Result<()> {
        let more = self.folder_at(folder)?;
        let sets = self.folder(more)?;
        for set in sets.0.iter().filter_map(|at| sets.1.get(at)) {
            let number = set.places.first().map_or(ROOT, |at| at.get());
            let file = FileId { number, more };
            if each(FolderEntry { name: &set.name(), file })?.is_break() {
                break;
            }
        }
        Ok(())
    }

    /// Case doesn't matter.
    fn look_up(&self, folder: FileId, name: &[u8]) -> Result<Option<FileId>> {
        let wanted = String::from_utf8_lossy(name).to_lowercase();
        let mut found = None;
        self.entries(folder, &mut |entry| {
            if String::from_utf8_lossy(entry.name).to_lowercase() != wanted {
                return Ok(ControlFlow::Continue(()));
            }
            found = Some(entry.file);
            Ok(ControlFlow::Break(()))
        })?;
        Ok(found)
    }

    fn info(&self, file: FileId) -> Result<FileInfo> {
        let set = self.set(file)?;
        let is_folder = set.as_ref().is_none_or(Set::is_folder);
        let len = match &set {
            Some(set) if !is_folder => self.stream(set)?.map_or(0, |stream| stream.len),
            _ => 0,
        };
        let entry = set.as_ref().and_then(|set| set.entries().first());
        let time = |at, hundredths: Option<usize>, zone| {
            let entry = entry?;
            let more = hundredths.and_then(|at| bytes::u8(entry, at)).unwrap_or(0);
            stamp(bytes::le_u32(entry, at)?, more, bytes::u8(entry, zone)?)
        };
        Ok(FileInfo {
            kind: if is_folder { FileKind::Folder } else { FileKind::File },
            size: len,
            links: 1,
            ownership: None,
            flags: FileFlags::from_bits(
                entry.and_then(|entry| bytes::le_u16(entry, 4)).map_or(0, u32::from),
                &DOS_FLAGS,
            ),
            modified: time(12, Some(21), 23),
            accessed: time(16, None, 24),
            changed: None,
            created: time(8, Some(20), 22),
        })
    }

    fn content(&self, file: FileId, each: EachStretch<'_>) -> Result<()> {
        let Some(set) = self.set(file)?.filter(|set| !set.is_folder()) else {
            let mut at = 0u64;
            for run in self.runs(self.folder_at(file)?)? {
                let span = span_of(run, self.boot.data().start(), self.boot.cluster);
                if each(at, Stretch::InVolume(span))?.is_break() {
                    break;
                }
                at = at.saturating_add(span.len().get());
            }
            return Ok(());
        };
        let Some(stream) = self.stream(&set)? else { return Ok(()) };
        // Past the valid data length, a file reads as zeros (section 7.6.5).
        let valid = set.entries().get(1).and_then(|entry| bytes::le_u64(entry, 8)).unwrap_or(0);
        let mut at = 0u64;
        for run in Chains::of(self.store, &self.boot).clusters_of(stream)? {
            let span = span_of(run, self.boot.data().start(), self.boot.cluster);
            let written = ByteLen::new(valid.saturating_sub(at)).min(span.len());
            if written.is_zero() {
                break;
            }
            let span = Span::between(span.start(), span.start().saturating_add(written));
            if each(at, Stretch::InVolume(span))?.is_break() {
                break;
            }
            at = at.saturating_add(written.get());
        }
        Ok(())
    }

    fn store(&self) -> &dyn ReadAt {
        self.store
    }
}

/// Converts a timestamp (section 7.4.8): date and time, hundredths of a second in addition to its two seconds, and the
/// offset from UTC in quarters of an hour, if recorded.
fn stamp(stamp: u32, hundredths: u8, zone: u8) -> Option<FileTime> {
    let half = |value: u32| u16::try_from(value & 0xffff).ok();
    let local = with_hundredths(file_time(half(stamp >> 16)?, half(stamp)?)?, hundredths);
    // Seven bits with a sign, below the bit that marks them as valid.
    let quarters = i64::from(i8::from_le_bytes([zone << 1]) >> 1);
    let ahead = if zone & 0x80 != 0 { quarters.checked_mul(15 * 60)? } else { 0 };
    Some(FileTime { seconds: local.seconds.checked_sub(ahead)?, ..local })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn timestamp_keeps_its_zone() {
        // 26 November 2026, 19:30:02 and 1.5 seconds, in a zone two hours ahead of UTC, then none.
        let date = (2026 - 1980) << 9 | 11 << 5 | 26;
        let time = 19 << 11 | 30 << 5 | 1;
        let raw = date << 16 | time;
        let ahead = stamp(raw, 150, 0x88).unwrap();
        assert_eq!((ahead.seconds, ahead.nanoseconds), (1_795_714_203, 500_000_000));
        assert_eq!(stamp(raw, 0, 0).unwrap().seconds, 1_795_714_202 + 7200);
        assert_eq!(stamp(raw, 0, 0xf8).unwrap().seconds, 1_795_714_202 + 4 * 3600);
        assert_eq!(stamp(0, 0, 0), None);
    }
}
