//! Folders and entry sets of an exFAT volume, and the census of all its clusters (sections 6 and 7 of the
//! specification).

use super::boot::BootSector;
use crate::{
    bits::{Bits, Run, push},
    clusters::{Link, TableReader, follow},
};
use imbrik_store::{
    ReadAt, bytes,
    error::{Error, Result},
    progress::Cancel,
    read_vec,
    units::{ByteLen, ByteOffset},
};
use std::{collections::BTreeMap, ops::ControlFlow};

pub(super) const ENTRY: usize = 32;
pub(super) const BITMAP: u8 = 0x81;
pub(super) const UP_CASE: u8 = 0x82;
const LABEL: u8 = 0x83;
const FILE: u8 = 0x85;
/// An entry with a part of a file name.
const NAME: u8 = 0xc1;
/// The value of the table for a bad cluster.
const BAD: u32 = 0xffff_fff7;
const BENIGN: u8 = 0xa0;
/// Bits of an entry's type: in use, and secondary.
const IN_USE: u8 = 0x80;
const SECONDARY: u8 = 0x40;
/// Bits of an entry's flags: allocation possible, and contiguous without a chain.
const MAY_HAVE: u8 = 1;
const NO_CHAIN: u8 = 2;
const IS_FOLDER: u16 = 0x10;
/// The maximum size of a folder: 256 MiB.
const MOST_FOLDER: u64 = 256 << 20;
/// The maximum number of clusters that are supported: their table is 128 MiB long.
const MOST: u64 = 1 << 25;

/// The clusters of one entry.
#[derive(Clone)]
pub(super) struct Holding {
    /// The index of the entry in its set.
    pub(super) entry: usize,
    /// The clusters, counted from 0; the first is the one in the entry.
    pub(super) runs: Vec<Run>,
    /// True if they are contiguous without a chain.
    pub(super) is_plain: bool,
}

/// An entry set.
#[derive(Clone)]
pub(super) struct Set {
    /// The entries.
    pub(super) raw: Vec<u8>,
    /// The offsets of the entries in the volume.
    pub(super) places: Vec<ByteOffset>,
    /// The clusters of the entries.
    pub(super) holdings: Vec<Holding>,
}

impl Set {
    pub(super) fn kind(&self) -> u8 {
        bytes::u8(&self.raw, 0).unwrap_or(0)
    }

    /// The entries, one by one.
    pub(super) fn entries(&self) -> &[[u8; ENTRY]] {
        self.raw.as_chunks::<ENTRY>().0
    }

    /// Returns whether it describes a file or a folder.
    pub(super) fn is_file(&self) -> bool {
        self.kind() == FILE
    }

    /// Returns whether it describes a folder.
    pub(super) fn is_folder(&self) -> bool {
        self.is_file() && bytes::le_u16(&self.raw, 4).unwrap_or(0) & IS_FOLDER != 0
    }

    /// The name of the file, in UTF-8.
    pub(super) fn name(&self) -> Vec<u8> {
        let len = self.entries().get(1).map_or(0, |stream| usize::from(stream[3]));
        let parts = self.entries().iter().filter(|entry| entry[0] == NAME);
        let units = parts.flat_map(|entry| entry.get(2..).unwrap_or_default().as_chunks::<2>().0);
        let units: Vec<u16> = units.take(len).map(|unit| u16::from_le_bytes(*unit)).collect();
        String::from_utf16_lossy(&units).into_bytes()
    }

    pub(super) fn is_bitmap(&self) -> bool {
        self.kind() == BITMAP
    }

    /// Returns whether the set has a checksum.
    pub(super) fn is_sealed(&self) -> bool {
        self.kind() == FILE || self.kind() >= BENIGN
    }

    /// The checksum over all entries (section 6.3.3).
    pub(super) fn checksum(&self) -> u16 {
        let counted = self.raw.iter().enumerate().filter(|(at, _)| !matches!(at, 2 | 3));
        counted.fold(0u16, |sum, (_, byte)| sum.rotate_right(1).wrapping_add(u16::from(*byte)))
    }
}

/// The result of a census.
pub(super) struct Census {
    /// The used clusters according to the bitmap.
    pub(super) used: Bits,
    /// The clusters of the bitmap itself.
    pub(super) bitmap: Vec<Run>,
    /// Runs that are contiguous without a chain.
    pub(super) plain: Vec<Run>,
    /// The number of used clusters without an owner.
    pub(super) lost: u64,
    /// A digest of all entries and their clusters, in numbers of the source, without the bitmap and regardless of
    /// chains.
    pub(super) fingerprint: blake3::Hash,
}

impl Census {
    /// Examines the volume in `store`; `source_of` maps clusters to those of the source.
    ///
    /// # Errors
    /// When it can't be read, or stopping was requested; [`imbrik_store::Class::Corrupt`] with the first inconsistency,
    /// [`imbrik_store::Class::Unsupported`] for unknown features.
    pub(super) fn of(
        store: &dyn ReadAt,
        boot: &BootSector,
        source_of: &dyn Fn(u64) -> u64,
        cancel: &Cancel,
    ) -> Result<Self> {
        let mut owned = Bits::new(boot.clusters);
        let mut hasher = blake3::Hasher::new();
        let mut bitmap: Option<(Vec<Run>, u64)> = None;
        let mut plain = Vec::new();
        let root = walk(store, boot, cancel, &mut |set| {
            let mut raw = set.raw.clone();
            for holding in &set.holdings {
                for run in &holding.runs {
                    if !owned.add(*run) {
                        let cluster = run.first.saturating_add(2);
                        let what = format!("a cluster from {cluster} on has two owners");
                        return Err(Error::corrupt(what));
                    }
                }
                let at = holding.entry.saturating_mul(ENTRY);
                let flags = bytes::u8(&raw, at.saturating_add(1)).unwrap_or(0) & !NO_CHAIN;
                let _ = bytes::put(&mut raw, at.saturating_add(1), [flags]);
                let _ = bytes::put(&mut raw, at.saturating_add(20), [0; 4]);
                if holding.is_plain {
                    plain.extend(holding.runs.iter().copied());
                }
            }
            if set.is_bitmap() {
                let runs = set.holdings.iter().flat_map(|holding| holding.runs.clone()).collect();
                bitmap = Some((runs, bytes::le_u64(&set.raw, 24).unwrap_or(0)));
                return Ok(());
            }
            if set.is_sealed() {
                let _ = bytes::put(&mut raw, 2, [0; 2]);
            }
            hasher.update(&raw);
            let runs = set.holdings.iter().flat_map(|holding| &holding.runs);
            tell(&mut hasher, runs, source_of);
            Ok(())
        })?;
        for run in &root {
            if !owned.add(*run) {
                return Err(Error::corrupt("the root directory's clusters have two owners"));
            }
        }
        tell(&mut hasher, root.iter(), source_of);
        let (bitmap, len) =
            bitmap.ok_or_else(|| Error::corrupt("its allocation bitmap was not found"))?;
        let used = read_bitmap(store, boot, &bitmap, len)?;
        let both: u64 = owned.runs(Run::new(0, boot.clusters)).map(|run| used.count_in(run)).sum();
        if both != owned.count() {
            return Err(Error::corrupt(
                "its allocation bitmap calls clusters free that are in use",
            ));
        }
        let lost = used.count().saturating_sub(both);
        Ok(Self { used, bitmap, plain, lost, fingerprint: hasher.finalize() })
    }
}

/// Hashes runs in numbers of the source, with contiguous ones joined.
fn tell<'a>(
    hasher: &mut blake3::Hasher,
    runs: impl Iterator<Item = &'a Run>,
    source_of: &dyn Fn(u64) -> u64,
) {
    let mut told: Vec<Run> = Vec::new();
    for number in runs.flat_map(|run| run.first..run.end()) {
        push(&mut told, source_of(number));
    }
    for run in told {
        hasher.update(&run.first.to_le_bytes());
        hasher.update(&run.len.to_le_bytes());
    }
}

/// The used clusters according to the bitmap of `len` bytes in the clusters `runs`.
///
/// # Errors
/// When it cannot be read; [`imbrik_store::Class::Corrupt`] when it is too short.
pub(super) fn read_bitmap(
    store: &dyn ReadAt,
    boot: &BootSector,
    runs: &[Run],
    len: u64,
) -> Result<Bits> {
    let held: u64 = runs.iter().map(|run| run.len).sum();
    let held = boot.cluster.checked_mul(held).unwrap_or_default();
    if len < boot.clusters.div_ceil(8) || held.get() < len {
        return Err(Error::corrupt("its allocation bitmap is too short for its clusters"));
    }
    let mut used = Bits::new(boot.clusters);
    let mut number = 0u64;
    for run in runs {
        for cluster in run.first..run.end() {
            if number >= boot.clusters {
                break;
            }
            let place = boot.cluster_span(cluster).unwrap_or_default();
            let content = read_vec(store, place.start(), boot.cluster.to_usize().unwrap_or(0))?;
            for byte in content {
                for bit in 0..8 {
                    if byte >> bit & 1 == 1 && number < boot.clusters {
                        let _ = used.add(Run::new(number, 1));
                    }
                    number = number.saturating_add(1);
                }
            }
        }
    }
    Ok(used)
}

/// Calls `work` with every entry set of the volume. Returns the clusters of the root directory.
///
/// # Errors
/// As [`Census::of`], and those of `work`.
pub(super) fn walk(
    store: &dyn ReadAt,
    boot: &BootSector,
    cancel: &Cancel,
    work: &mut dyn FnMut(&Set) -> Result<()>,
) -> Result<Vec<Run>> {
    if boot.clusters > MOST {
        return Err(Error::unsupported("it has more clusters than are supported"));
    }
    let chains = Chains::of(store, boot);
    let root = chains.follow(boot.root_cluster)?;
    let mut waiting = vec![root.clone()];
    // A folder that contains itself would be read forever: only the caller can detect its clusters' second owner.
    let mut looked = Bits::new(boot.clusters);
    while let Some(folder) = waiting.pop() {
        cancel.check()?;
        if !folder.iter().all(|run| looked.add(*run)) {
            return Err(Error::corrupt("a folder's clusters have two owners"));
        }
        each_set(store, boot, &folder, &mut |mut set| {
            set.holdings = holdings(&chains, &set)?;
            work(&set)?;
            if let Some(stream) = set.holdings.first().filter(|_| set.is_folder()) {
                waiting.push(stream.runs.clone());
            }
            Ok(ControlFlow::Continue(()))
        })?;
    }
    Ok(root)
}

/// Calls `work` with every entry set of the folder in the clusters `folder`, until it returns `Break`. The clusters of
/// the sets are not read.
///
/// # Errors
/// When the folder can't be read or is invalid, and those of `work`.
pub(super) fn each_set(
    store: &dyn ReadAt,
    boot: &BootSector,
    folder: &[Run],
    work: &mut dyn FnMut(Set) -> Result<ControlFlow<()>>,
) -> Result<()> {
    let clusters: u64 = folder.iter().map(|run| run.len).sum();
    let len = boot.cluster.checked_mul(clusters).unwrap_or_default();
    if len.get() > MOST_FOLDER {
        return Err(Error::corrupt(format!("a folder is {len} long")));
    }
    let mut entries = Vec::new();
    for cluster in folder.iter().flat_map(|run| run.first..run.end()) {
        let place = boot.cluster_span(cluster).unwrap_or_default();
        let content = read_vec(store, place.start(), place.len().to_usize().unwrap_or(0))?;
        for (index, entry) in content.as_chunks::<ENTRY>().0.iter().enumerate() {
            let ahead = ByteLen::from_usize(index.saturating_mul(ENTRY));
            entries.push((place.start().saturating_add(ahead), *entry));
        }
    }
    let mut rest = entries.into_iter();
    while let Some((at, entry)) = rest.next() {
        let kind = bytes::u8(&entry, 0).unwrap_or(0);
        if kind == 0 {
            break;
        }
        if kind & IN_USE == 0 {
            continue;
        }
        let more = match kind {
            BITMAP | UP_CASE | LABEL => 0,
            FILE => usize::from(bytes::u8(&entry, 1).unwrap_or(0)),
            _ if kind & SECONDARY != 0 => {
                return Err(Error::corrupt("an entry without its primary entry"));
            }
            BENIGN.. => usize::from(bytes::u8(&entry, 1).unwrap_or(0)),
            _ => return Err(Error::unsupported(format!("it has entries of type {kind:#04x}"))),
        };
        let mut set = Set { raw: entry.to_vec(), places: vec![at], holdings: Vec::new() };
        for (at, entry) in rest.by_ref().take(more) {
            if bytes::u8(&entry, 0).unwrap_or(0) & (IN_USE | SECONDARY) != IN_USE | SECONDARY {
                return Err(Error::corrupt("an entry set is truncated"));
            }
            set.raw.extend(entry);
            set.places.push(at);
        }
        if set.places.len() != more.saturating_add(1) {
            return Err(Error::corrupt("an entry set is truncated"));
        }
        if set.is_sealed() && bytes::le_u16(&set.raw, 2) != Some(set.checksum()) {
            return Err(Error::corrupt("an entry set's checksum is wrong"));
        }
        if work(set)?.is_break() {
            break;
        }
    }
    Ok(())
}

/// The clusters in an entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Stream {
    /// The first, counted from 0.
    pub(super) first: u64,
    /// Bytes in them.
    pub(super) len: u64,
    /// True if they are contiguous without a chain.
    pub(super) is_plain: bool,
}

/// The clusters in `entry`; `None` if it has none.
///
/// # Errors
/// [`imbrik_store::Class::Corrupt`] for a cluster number that doesn't exist.
pub(super) fn stream_of(entry: &[u8; ENTRY], boot: &BootSector) -> Result<Option<Stream>> {
    let flags = match entry[0] {
        BITMAP | UP_CASE => MAY_HAVE,
        LABEL | FILE => 0,
        kind if kind & SECONDARY == 0 => entry[4],
        _ => entry[1],
    };
    let first = bytes::le_u32(entry, 20).unwrap_or(0);
    let len = bytes::le_u64(entry, 24).unwrap_or(0);
    if flags & MAY_HAVE == 0 || first == 0 {
        return Ok(None);
    }
    let first = u64::from(first).checked_sub(2).filter(|first| *first < boot.clusters);
    let first = first.ok_or_else(|| Error::corrupt("an entry has an invalid cluster number"))?;
    Ok(Some(Stream { first, len, is_plain: flags & NO_CHAIN != 0 }))
}

/// The clusters of the entries of a set.
fn holdings(chains: &Chains<'_>, set: &Set) -> Result<Vec<Holding>> {
    let mut found = Vec::new();
    for (index, entry) in set.entries().iter().enumerate() {
        let Some(stream) = stream_of(entry, chains.boot)? else { continue };
        let runs = chains.clusters_of(stream)?;
        if !runs.is_empty() {
            found.push(Holding { entry: index, runs, is_plain: stream.is_plain });
        }
    }
    Ok(found)
}

/// Follows chains through the allocation table.
pub(super) struct Chains<'a> {
    boot: &'a BootSector,
    table: TableReader<'a>,
    /// Values that replace those of the table for some clusters.
    links: Option<&'a BTreeMap<u64, u32>>,
}

impl<'a> Chains<'a> {
    /// The chains of the volume in `store`.
    pub(super) fn of(store: &'a dyn ReadAt, boot: &'a BootSector) -> Self {
        Self { boot, table: TableReader::new(store, boot.table), links: None }
    }

    /// The same with other values for some clusters.
    pub(super) fn with_links(self, links: &'a BTreeMap<u64, u32>) -> Self {
        Self { links: Some(links), ..self }
    }

    /// The clusters of the chain that starts at `first`.
    ///
    /// # Errors
    /// When the table can't be read; [`imbrik_store::Class::Corrupt`] when the chain is broken.
    pub(super) fn follow(&self, first: u64) -> Result<Vec<Run>> {
        let link = &mut |number| self.link(number);
        follow(first, self.boot.clusters, link, &mut |_| Ok(()))?.whole()
    }

    /// The table's value for cluster `number` (section 4.1).
    fn link(&self, number: u64) -> Result<Link> {
        let at = number.saturating_add(2).saturating_mul(4);
        let raw = match self.links.and_then(|links| links.get(&number)) {
            Some(newer) => Some(*newer),
            None => self.table.bytes(at)?.map(u32::from_le_bytes),
        };
        let raw = raw.ok_or_else(|| Error::corrupt("its allocation table is too short"))?;
        Ok(match raw {
            0 => Link::Free,
            BAD => Link::Bad,
            u32::MAX => Link::Last,
            _ => match u64::from(raw).checked_sub(2) {
                Some(next) if next < self.boot.clusters => Link::To(next),
                _ => Link::Wrong(raw),
            },
        })
    }

    /// The clusters for `len` bytes, from `first`.
    ///
    /// # Errors
    /// When the table can't be read; [`imbrik_store::Class::Corrupt`] when there are too few.
    pub(super) fn clusters_of(&self, at: Stream) -> Result<Vec<Run>> {
        let needed = at.len.div_ceil(self.boot.cluster.get().max(1));
        let runs = match (at.is_plain, needed) {
            (_, 0) => return Ok(Vec::new()),
            (true, _) => vec![Run::new(at.first, needed)],
            (false, _) => self.follow(at.first)?,
        };
        let held: u64 = runs.iter().map(|run| run.len).sum();
        match held < needed || runs.iter().any(|run| run.end() > self.boot.clusters) {
            true => Err(Error::corrupt("an entry has fewer clusters than its length needs")),
            false => Ok(runs),
        }
    }
}
