//! A boot loader with a list of its sectors, which is updated when they move.
//!
//! The boot sector of SYSLINUX (with that name in its OEM field) reads one sector by its number, the first of
//! `ldlinux.sys`, which contains the numbers of all others. Numbers count from the start of the volume, in sectors of
//! 512 bytes. The first kilobyte of the file contains the patch area (`struct patch_area` of its sources), and a
//! checksum covers the file up to the end of its data:
//!
//! ```text
//!  0 magic   8 sectors of data   10 sectors after them   12 checksummed words   16 checksum   22 further area
//! further: 0 offset of two numbers of the sectors after   10 offset of the list   12 its entries
//!          14, 16 offsets in the boot sector of the first sector's number, low and high half
//! list:    number (8 bytes), count (2 bytes), …
//! ```

use super::{boot::BootSector, folder::short_name, table::Table};
use crate::clusters::Link;
use imbrik_store::{
    Edited, ReadAt, bytes,
    error::{Error, Result},
    exact::Exact as _,
    read_vec,
    units::{ByteLen, ByteOffset},
};

const NAME: &[u8] = b"SYSLINUX";
const FILE: &[u8] = b"ldlinux.sys";
const MAGIC: u32 = 0x3eb2_02fe;
const SECTOR: u64 = 512;
const SECTOR_LEN: usize = 512;
const EXTENT: usize = 10;
/// The maximum length of the file, and of its folders.
const MOST_CLUSTERS: usize = 4096;
const FOLDERS: [&[&[u8]]; 4] = [&[], &[b"syslinux"], &[b"boot"], &[b"boot", b"syslinux"]];

/// Returns whether the boot sector `sector` is one of such a loader.
pub(super) fn is_one(sector: &[u8]) -> bool {
    sector.get(3..11) == Some(NAME)
}

/// The loader, its list sound.
pub(super) struct Loader {
    /// The clusters of its file, counted from 0.
    clusters: Vec<u64>,
    content: Vec<u8>,
    area: Area,
}

/// The offsets of values in the file and in the boot sector.
struct Area {
    start: usize,
    data_sectors: usize,
    words: usize,
    behind_at: usize,
    list_at: usize,
    entries: usize,
    low_at: u64,
    high_at: u64,
}

impl Loader {
    /// The loader of the volume in `store`; `None` if it has none, or one with an invalid list.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub(super) fn find(
        store: &dyn ReadAt,
        boot: &BootSector,
        table: &Table,
    ) -> Result<Option<Self>> {
        for folder in FOLDERS {
            let Some(clusters) = file(store, boot, table, folder)? else { continue };
            let mut content = Vec::new();
            for cluster in &clusters {
                content.extend(read_vec(store, place(boot, *cluster), cluster_len(boot))?);
            }
            let Some(area) = Area::of(&content) else { continue };
            let this = Self { clusters, content, area };
            let sector = read_vec(store, ByteOffset::ZERO, SECTOR_LEN)?;
            let sectors = this.sectors(|cluster| place(boot, cluster));
            if this.list_of(&sectors).as_deref() == this.list() && this.is_led_to(&sector, &sectors)
            {
                return Ok(Some(this));
            }
        }
        Ok(None)
    }

    /// The sector numbers of the file if its clusters are at `place_of`.
    fn sectors(&self, place_of: impl Fn(u64) -> ByteOffset) -> Vec<u64> {
        let a_cluster = self.content.len().checked_div(self.clusters.len()).unwrap_or(0);
        let a_cluster = u64::try_from(a_cluster / SECTOR_LEN).unwrap_or(0);
        let of = |cluster: &u64| {
            let first = place_of(*cluster).get() / SECTOR;
            first..first.saturating_add(a_cluster)
        };
        self.clusters.iter().flat_map(of).collect()
    }

    /// The list in the file.
    fn list(&self) -> Option<&[u8]> {
        let len = self.area.entries.checked_mul(EXTENT)?;
        self.content.get(self.area.list_at..self.area.list_at.checked_add(len)?)
    }

    /// The list of `sectors`; `None` when it has no room for them.
    fn list_of(&self, sectors: &[u64]) -> Option<Vec<u8>> {
        let mut runs: Vec<(u64, u16)> = Vec::new();
        for sector in sectors.get(1..self.area.data_sectors)? {
            match runs.last_mut() {
                Some((first, len)) if first.checked_add((*len).into())? == *sector => {
                    *len = len.checked_add(1)?;
                }
                _ => runs.push((*sector, 1)),
            }
        }
        let mut list = vec![0; self.area.entries.checked_mul(EXTENT)?];
        for (index, (first, len)) in runs.into_iter().enumerate() {
            let at = index.checked_mul(EXTENT)?;
            bytes::put(&mut list, at, first.to_le_bytes())?;
            bytes::put(&mut list, at.checked_add(8)?, len.to_le_bytes())?;
        }
        Some(list)
    }

    fn is_led_to(&self, sector: &[u8], sectors: &[u64]) -> bool {
        let half = |at: u64| bytes::le_u32(sector, usize::try_from(at).ok()?).map(u64::from);
        let number = half(self.area.low_at).zip(half(self.area.high_at));
        number.map(|(low, high)| high << 32 | low) == sectors.first().copied()
    }

    /// Updates the boot sectors and the list in the volume `draft`, with clusters at `place_of`; `copy` is the location
    /// of the backup boot sector.
    ///
    /// # Errors
    /// When the store can't be read; [`imbrik_store::Class::Unsupported`] when the list has not enough space.
    pub(super) fn follow(
        &self,
        draft: &mut Edited,
        copy: Option<ByteOffset>,
        place_of: impl Fn(u64) -> ByteOffset,
        was: impl Fn(u64) -> ByteOffset,
    ) -> Result<()> {
        let (before, sectors) = (self.sectors(was), self.sectors(place_of));
        if before == sectors {
            return Ok(());
        }
        let content = self.moved(&sectors).ok_or_else(|| {
            Error::unsupported(
                "the list of the boot loader's sectors has no room for so many pieces",
            )
        })?;
        for ((old, new), place) in
            self.content.chunks(SECTOR_LEN).zip(content.chunks(SECTOR_LEN)).zip(&sectors)
        {
            if old != new {
                draft.put(ByteOffset::new(place.times(SECTOR)?), new)?;
            }
        }
        let first = sectors.first().copied().unwrap_or(0);
        let halves = [(self.area.low_at, first & 0xffff_ffff), (self.area.high_at, first >> 32)];
        for start in [Some(ByteOffset::ZERO), copy].into_iter().flatten() {
            let sector = read_vec(draft, start, SECTOR_LEN)?;
            if !is_one(&sector) || !self.is_led_to(&sector, &before) {
                continue;
            }
            for (at, half) in halves {
                let half = half.exact_as::<u32>()?.to_le_bytes();
                draft.put(start.plus(ByteLen::new(at))?, &half)?;
            }
        }
        Ok(())
    }

    /// The file with the list of `sectors`, and the updated checksum.
    fn moved(&self, sectors: &[u64]) -> Option<Vec<u8>> {
        let area = &self.area;
        let mut content = self.content.clone();
        let list = self.list_of(sectors)?;
        let place = content.get_mut(area.list_at..area.list_at.checked_add(list.len())?)?;
        place.copy_from_slice(&list);
        for (index, sector) in sectors.iter().skip(area.data_sectors).take(2).enumerate() {
            let at = area.behind_at.checked_add(index.checked_mul(8)?)?;
            bytes::put(&mut content, at, sector.to_le_bytes())?;
        }
        let sum_at = area.start.checked_add(16)?;
        bytes::put(&mut content, sum_at, [0; 4])?;
        let sum = MAGIC.wrapping_sub(sum_of(&content, area.words)?);
        bytes::put(&mut content, sum_at, sum.to_le_bytes())?;
        Some(content)
    }
}

impl Area {
    /// Parses the patch area of a file; `None` if it has none, or the checksum is wrong.
    fn of(content: &[u8]) -> Option<Self> {
        let head = content.get(..1024)?;
        let words = head.as_chunks::<4>().0.iter();
        let index = words.map(|word| u32::from_le_bytes(*word)).position(|word| word == MAGIC)?;
        let start = index.checked_mul(4)?;
        let half = |at: usize| bytes::le_u16(content, start.checked_add(at)?).map(usize::from);
        let further = half(22)?;
        let part = |at: usize| bytes::le_u16(content, further.checked_add(at)?);
        let this = Self {
            start,
            data_sectors: half(8)?,
            words: usize::try_from(bytes::le_u32(content, start.checked_add(12)?)?).ok()?,
            behind_at: part(0)?.into(),
            list_at: part(10)?.into(),
            entries: part(12)?.into(),
            low_at: part(14)?.into(),
            high_at: part(16)?.into(),
        };
        let is_sound = this.data_sectors > 1
            && this.data_sectors.checked_mul(SECTOR_LEN)? <= content.len()
            && this.words.checked_mul(4)? <= content.len()
            && this.low_at <= SECTOR.saturating_sub(4)
            && this.high_at <= SECTOR.saturating_sub(4)
            && sum_of(content, this.words)? == MAGIC;
        is_sound.then_some(this)
    }
}

fn sum_of(content: &[u8], words: usize) -> Option<u32> {
    let summed = content.get(..words.checked_mul(4)?)?.as_chunks::<4>().0.iter();
    Some(summed.fold(0u32, |sum, word| sum.wrapping_add(u32::from_le_bytes(*word))))
}

fn cluster_len(boot: &BootSector) -> usize {
    boot.cluster.to_usize().unwrap_or(0)
}

fn place(boot: &BootSector, cluster: u64) -> ByteOffset {
    boot.data().start().saturating_add(boot.cluster.checked_mul(cluster).unwrap_or_default())
}

/// The clusters of a chain; `None` when it breaks off or is too long.
fn chain(boot: &BootSector, table: &Table, first: u64) -> Option<Vec<u64>> {
    let mut clusters = vec![first];
    loop {
        let last = clusters.last().copied().filter(|last| *last < boot.clusters)?;
        match table.link(last) {
            Link::To(next) if clusters.len() < MOST_CLUSTERS => clusters.push(next),
            Link::Last => return Some(clusters),
            _ => return None,
        }
    }
}

/// The clusters of the loader's file in a folder; `None` when it is not there.
fn file(
    store: &dyn ReadAt,
    boot: &BootSector,
    table: &Table,
    folder: &[&[u8]],
) -> Result<Option<Vec<u64>>> {
    let root = ByteLen::new(boot.root_sectors.times(boot.sector)?);
    let mut content = match u64::from(boot.root_cluster).checked_sub(2) {
        None => read_vec(store, boot.root_directory, root.to_usize().unwrap_or(0))?,
        Some(first) => contents(store, boot, chain(boot, table, first))?,
    };
    for name in folder.iter().copied().chain([FILE]) {
        let entries = content.as_chunks::<32>().0.iter();
        let mut entries = entries.take_while(|entry| entry.first() != Some(&0));
        let found = entries.find(|entry| {
            short_name(&entry[..]).is_some_and(|short| short.eq_ignore_ascii_case(name))
        });
        let clusters = found.and_then(|entry| chain(boot, table, boot.first_of(entry)?));
        match clusters {
            None => return Ok(None),
            Some(clusters) if name == FILE => return Ok(Some(clusters)),
            clusters => content = contents(store, boot, clusters)?,
        }
    }
    Ok(None)
}

fn contents(store: &dyn ReadAt, boot: &BootSector, clusters: Option<Vec<u64>>) -> Result<Vec<u8>> {
    let mut content = Vec::new();
    for cluster in clusters.unwrap_or_default() {
        content.extend(read_vec(store, place(boot, cluster), cluster_len(boot))?);
    }
    Ok(content)
}
