//! Small files of a FAT volume: enough to read a boot configuration. For information only, so that
//! what makes no sense is simply not found.

use super::boot::{BootSector, Width};
use crate::filesystem::Files;
use imbrik_store::{
    ReadAt, bytes,
    error::Result,
    read_up_to,
    units::{ByteLen, Span},
};

pub(super) const ATTR_FOLDER: u8 = 0x10;
const ATTR_LONG_NAME: u8 = 0x0f;
/// Clusters that are followed: what is looked for is small, and a chain may lead in a circle.
const MOST_CLUSTERS: usize = 4096;
/// Bytes of a folder that are searched.
const MOST_FOLDER: usize = 1 << 20;

/// What an entry of a folder says.
struct FileEntry {
    is_folder: bool,
    first: u64,
    size: u64,
}

/// A volume, to be looked into.
pub(super) struct Reader<'a> {
    pub(super) store: &'a dyn ReadAt,
    pub(super) boot: BootSector,
}

impl Files for Reader<'_> {
    fn small_file(&self, path: &[&[u8]], most: usize) -> Result<Option<Vec<u8>>> {
        match self.entry(path)? {
            Some(entry) if !entry.is_folder => {
                let len = usize::try_from(entry.size).unwrap_or(usize::MAX).min(most);
                self.content(entry.first, len).map(Some)
            }
            _ => Ok(None),
        }
    }

    fn has_entry(&self, path: &[&[u8]]) -> Result<Option<bool>> {
        Ok(Some(self.entry(path)?.is_some()))
    }

    fn names(&self, path: &[&[u8]]) -> Result<Option<Vec<Vec<u8>>>> {
        let folder = match path {
            [] => self.root()?,
            path => match self.entry(path)? {
                Some(entry) if entry.is_folder => self.content(entry.first, MOST_FOLDER)?,
                _ => return Ok(None),
            },
        };
        let mut names = Vec::new();
        each(&folder, |long, entry| {
            names.extend(if long.is_empty() { short_name(entry) } else { Some(long.to_vec()) });
            true
        });
        Ok(Some(names))
    }
}

impl Reader<'_> {
    fn entry(&self, path: &[&[u8]]) -> Result<Option<FileEntry>> {
        let mut folder = self.root()?;
        let mut names = path.iter().peekable();
        while let Some(name) = names.next() {
            let Some(found) = find(&folder, name) else { return Ok(None) };
            if names.peek().is_none() {
                return Ok(Some(found));
            }
            if !found.is_folder {
                return Ok(None);
            }
            folder = self.content(found.first, MOST_FOLDER)?;
        }
        Ok(None)
    }

    fn root(&self) -> Result<Vec<u8>> {
        let data = self.boot.data();
        let place = Span::between(self.boot.root_directory, data.start());
        if self.boot.width != Width::Bits32 {
            let len = place.len().to_usize().unwrap_or(0).min(MOST_FOLDER);
            return read_up_to(self.store, place.start(), len);
        }
        let ahead = self.boot.root_directory.saturating_since(data.start()).get();
        let first = ahead.checked_div(self.boot.cluster.get()).unwrap_or(0).saturating_add(2);
        self.content(first, MOST_FOLDER)
    }

    /// Up to `len` bytes along the chain that starts at cluster `first`.
    fn content(&self, first: u64, len: usize) -> Result<Vec<u8>> {
        let mut content = Vec::new();
        let mut cluster = first;
        for _ in 0..MOST_CLUSTERS {
            let Some(number) = cluster.checked_sub(2).filter(|n| *n < self.boot.clusters) else {
                break;
            };
            let ahead = self.boot.cluster.checked_mul(number).unwrap_or_default();
            let at = self.boot.data().start().saturating_add(ahead);
            let room = len.saturating_sub(content.len());
            if room == 0 {
                break;
            }
            let piece = self.boot.cluster.to_usize().unwrap_or(0).min(room);
            content.extend(read_up_to(self.store, at, piece)?);
            cluster = self.next(cluster)?;
        }
        Ok(content)
    }

    /// The cluster behind `cluster` in its chain; one that doesn't exist at the chain's end.
    fn next(&self, cluster: u64) -> Result<u64> {
        let table = self.boot.tables().next().unwrap_or_default().start();
        let at = match self.boot.width {
            Width::Bits12 => cluster.saturating_add(cluster / 2),
            Width::Bits16 => cluster.saturating_mul(2),
            Width::Bits32 => cluster.saturating_mul(4),
        };
        let raw = read_up_to(self.store, table.saturating_add(ByteLen::new(at)), 4)?;
        let pair = u64::from(bytes::le_u16(&raw, 0).unwrap_or(0));
        Ok(match self.boot.width {
            Width::Bits12 if cluster % 2 == 1 => pair >> 4,
            Width::Bits12 => pair & 0xfff,
            Width::Bits16 => pair,
            Width::Bits32 => u64::from(bytes::le_u32(&raw, 0).unwrap_or(0) & 0x0fff_ffff),
        })
    }
}

/// The entry called `name` in a folder, by its long or its short name; case doesn't matter.
fn find(folder: &[u8], name: &[u8]) -> Option<FileEntry> {
    let mut found = None;
    each(folder, |long, entry| {
        let is_it = long.eq_ignore_ascii_case(name)
            || short_name(entry).is_some_and(|short| short.eq_ignore_ascii_case(name));
        if is_it {
            found = decode(entry);
        }
        !is_it
    });
    found
}

fn decode(entry: &[u8]) -> Option<FileEntry> {
    let high = u64::from(bytes::le_u16(entry, 20)?) << 16;
    Some(FileEntry {
        is_folder: bytes::u8(entry, 11)? & ATTR_FOLDER != 0,
        first: u64::from(bytes::le_u16(entry, 26)?) | high,
        size: bytes::le_u32(entry, 28)?.into(),
    })
}

/// Calls `work` with the long name, empty without one, and the short entry of everything in a
/// folder, until it answers `false`.
fn each(folder: &[u8], mut work: impl FnMut(&[u8], &[u8; 32]) -> bool) {
    let mut long: Vec<u8> = Vec::new();
    for entry in folder.as_chunks::<32>().0 {
        let attributes = bytes::u8(entry, 11).unwrap_or(0);
        match (bytes::u8(entry, 0).unwrap_or(0), attributes & ATTR_LONG_NAME) {
            (0, _) => return,
            (0xe5, _) => long.clear(),
            (_, ATTR_LONG_NAME) => {
                // The pieces stand in front of the short entry, the last one first.
                let piece = [entry.get(1..11), entry.get(14..26), entry.get(28..32)];
                let mut piece: Vec<u8> = piece
                    .into_iter()
                    .flatten()
                    .collect::<Vec<_>>()
                    .concat()
                    .as_chunks::<2>()
                    .0
                    .iter()
                    .take_while(|unit| **unit != [0, 0])
                    .map(|unit| if unit[1] == 0 { unit[0] } else { b'?' })
                    .collect();
                piece.append(&mut long);
                long = piece;
            }
            _ => {
                if !work(&long, entry) {
                    return;
                }
                long.clear();
            }
        }
    }
}

/// `NAME.EXT` out of an entry's eleven bytes.
pub(super) fn short_name(entry: &[u8]) -> Option<Vec<u8>> {
    let (name, extension) = (entry.get(..8)?.trim_ascii_end(), entry.get(8..11)?.trim_ascii_end());
    Some(match extension {
        [] => name.to_vec(),
        extension => [name, b".", extension].concat(),
    })
}
