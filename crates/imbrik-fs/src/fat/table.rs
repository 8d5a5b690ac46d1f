//! The file allocation table as a whole, decoded, and written again in its width.

use super::boot::{BootSector, TOP, Width};
use crate::clusters::{Link, TableReader};
use imbrik_store::{
    Edited, ReadAt, check_range,
    error::{Error, Result},
    exact::{Exact as _, invariant_error},
    for_pieces, read_up_to, read_vec,
    units::{ByteLen, ByteOffset, SectorSize, Span},
};

/// The longest table that is held in memory, in entries: 128 MiB.
const MOST: u64 = 1 << 25;
/// How much of a table is read at once: whole entries of every width, in bytes.
const PIECE: usize = 3 << 18;

/// A table that is read on demand.
pub(super) struct TableOnCard<'a> {
    bytes: TableReader<'a>,
    width: Width,
    clusters: u64,
}

impl<'a> TableOnCard<'a> {
    /// The table at `place` of the volume in `store`.
    pub(super) fn new(store: &'a dyn ReadAt, boot: &BootSector, place: Span) -> Self {
        Self { bytes: TableReader::new(store, place), width: boot.width, clusters: boot.clusters }
    }

    /// The link of cluster `number`, counted from 0; a missing entry counts as free.
    ///
    /// # Errors
    /// When it cannot be read.
    pub(super) fn link(&self, number: u64) -> Result<Link> {
        let index = number.plus(2)?;
        let pair = |at| Ok::<_, Error>(self.bytes.bytes(at)?.map_or(0, u16::from_le_bytes));
        let raw = match self.width {
            Width::Bits12 => {
                let both = pair(index.plus(index / 2)?)?;
                u32::from(if index % 2 == 1 { both >> 4 } else { both & 0xfff })
            }
            Width::Bits16 => pair(index.times(2)?)?.into(),
            Width::Bits32 => {
                let found = self.bytes.bytes(index.times(4)?)?;
                found.map_or(0, u32::from_le_bytes)
            }
        };
        Ok(self.width.link(raw, self.clusters))
    }
}

/// The raw entries in a part of a table.
pub(super) fn decode(width: Width, bytes: &[u8]) -> Box<dyn Iterator<Item = u32> + '_> {
    match width {
        Width::Bits12 => {
            let (whole, rest) = bytes.as_chunks::<3>();
            let pair = |[a, b, c]: [u8; 3]| {
                let (a, b, c) = (u32::from(a), u32::from(b), u32::from(c));
                [a | (b & 0xf) << 8, b >> 4 | c << 4]
            };
            let half = match rest {
                [a, b] => Some(u32::from(*a) | (u32::from(*b) & 0xf) << 8),
                _ => None,
            };
            Box::new(whole.iter().copied().flat_map(pair).chain(half))
        }
        Width::Bits16 => {
            let entries = bytes.as_chunks::<2>().0.iter();
            Box::new(entries.map(|entry| u16::from_le_bytes(*entry).into()))
        }
        Width::Bits32 => {
            let entries = bytes.as_chunks::<4>().0.iter();
            Box::new(entries.map(|entry| u32::from_le_bytes(*entry)))
        }
    }
}

/// Replaces the `lost` parts of an allocation table in `draft` from another, mirrored one that is intact there.
///
/// # Errors
/// When the draft cannot be read.
pub(super) fn take_from_copies(draft: &mut Edited, boot: &BootSector, lost: &[Span]) -> Result<()> {
    let is_kept_alike = boot.width != Width::Bits32 || boot.ext_flags & 0x80 == 0;
    let tables: Vec<Span> = boot.tables().filter(|_| is_kept_alike).collect();
    for table in &tables {
        for lost_here in lost.iter().filter_map(|lost| lost.intersect(*table)) {
            let ahead = lost_here.start().saturating_since(table.start());
            let copies = tables.iter().filter(|other| *other != table).map(|other| {
                let start = other.start().saturating_add(ahead);
                Span::between(start, start.saturating_add(lost_here.len()))
            });
            let mut sound =
                copies.filter(|copy| lost.iter().all(|lost| lost.intersect(*copy).is_none()));
            if let Some(copy) = sound.next() {
                for_pieces(copy, ByteLen::from_usize(PIECE), |piece| {
                    let inside = piece.start().saturating_since(copy.start());
                    let bytes =
                        read_up_to(&*draft, piece.start(), piece.len().to_usize().unwrap_or(0))?;
                    draft.put(lost_here.start().saturating_add(inside), &bytes)
                })?;
            }
        }
    }
    Ok(())
}

/// All entries, including the first two, and the top bits of 32-bit ones.
pub(super) struct Table {
    width: Width,
    entries: Vec<u32>,
    /// Bytes of the table on the medium.
    len: ByteLen,
}

impl Table {
    /// The valid table, which every other copy must match unless the volume says that they are not mirrored.
    ///
    /// # Errors
    /// When it cannot be read; [`imbrik_store::Class::Corrupt`] when copies differ, and
    /// [`imbrik_store::Class::Unsupported`] when it is longer than memory should hold.
    pub(super) fn read(store: &dyn ReadAt, boot: &BootSector) -> Result<Self> {
        if boot.clusters > MOST {
            return Err(Error::unsupported("it has more clusters than are supported"));
        }
        // Bit 7: only one table is written; the low bits select it.
        let alone = boot.width == Width::Bits32 && boot.ext_flags & 0x80 != 0;
        let mut tables = boot.tables().skip(boot.active_table());
        let place = tables.next().ok_or_else(|| {
            Error::corrupt("the allocation table that its boot sector names is not there")
        })?;
        let count = boot.clusters.plus(2)?;
        let mut this = Self { width: boot.width, entries: Vec::new(), len: place.len() };
        let mut others: Vec<_> = if alone { Vec::new() } else { tables.collect() };
        let bytes = count.times(boot.width.bits())?.div_ceil(8);
        let mut ahead = ByteLen::ZERO;
        while ahead.get() < bytes {
            let rest = usize::try_from(bytes.minus(ahead.get())?).unwrap_or(PIECE);
            let len = rest.min(PIECE);
            let piece = read_vec(store, place.start().plus(ahead)?, len)?;
            for other in &mut others {
                if read_vec(store, other.start().plus(ahead)?, len)? != piece {
                    return Err(Error::corrupt("its two allocation tables differ"));
                }
            }
            this.entries.extend(decode(boot.width, &piece));
            ahead = ahead.plus(ByteLen::from_usize(len))?;
        }
        this.entries.truncate(count.exact_as::<usize>()?);
        Ok(this)
    }

    /// The number of clusters in it.
    pub(super) fn clusters(&self) -> u64 {
        u64::try_from(self.entries.len()).unwrap_or(0).saturating_sub(2)
    }

    /// The link of cluster `number`, counted from 0.
    pub(super) fn link(&self, number: u64) -> Link {
        self.width.link(self.entry(number), self.clusters())
    }

    /// The entry of cluster `number` without reserved bits.
    pub(super) fn value(&self, number: u64) -> u32 {
        match self.width {
            Width::Bits32 => self.entry(number) & !TOP,
            _ => self.entry(number),
        }
    }

    /// The raw entry of cluster `number`; a missing one is free.
    fn entry(&self, number: u64) -> u32 {
        let at = number.checked_add(2).and_then(|at| usize::try_from(at).ok());
        at.and_then(|at| self.entries.get(at)).copied().unwrap_or(0)
    }

    /// The table of `clusters` clusters in `len` bytes, each entry at its cluster's new place and
    /// naming the new place of the next.
    ///
    /// # Errors
    /// [`imbrik_store::Class::Bug`] when a location is outside of that table.
    pub(super) fn moved(
        &self,
        clusters: u64,
        len: ByteLen,
        target_of: impl Fn(u64) -> u64,
    ) -> Result<Self> {
        let mut entries = vec![0; clusters.plus(2)?.exact_as::<usize>()?];
        let heads = entries.iter_mut().zip(&self.entries).take(2);
        heads.for_each(|(to, from)| *to = *from);
        let mut moved = Self { width: self.width, entries, len };
        for number in 0..self.clusters() {
            let raw = self.entry(number);
            let (place, value) = match self.link(number) {
                Link::Free => continue,
                // Bad clusters are properties of the medium, and don't move.
                Link::Bad if number >= clusters => continue,
                Link::Bad => (number, raw),
                Link::To(next) => {
                    let top = if self.width == Width::Bits32 { raw & TOP } else { 0 };
                    let next = target_of(next).plus(2)?.exact_as::<u32>()?;
                    (target_of(number), next | top)
                }
                Link::Last | Link::Wrong(_) => (target_of(number), raw),
            };
            moved.set(place, value)?;
        }
        Ok(moved)
    }

    /// Sets the entry of cluster `number` to `value`, keeping its top bits; returns the changed bytes of the table.
    ///
    /// # Errors
    /// [`imbrik_store::Class::Bug`] when the table has no such entry.
    pub(super) fn put(&mut self, number: u64, value: u32) -> Result<Span> {
        let top = if self.width == Width::Bits32 { self.entry(number) & TOP } else { 0 };
        self.set(number, value | top)?;
        let index = number.plus(2)?;
        let bits = self.width.bits();
        let start = ByteOffset::new(index.times(bits)? / 8);
        let end = index.plus(1)?.times(bits)?.div_ceil(8);
        Ok(Span::between(start, ByteOffset::new(end)))
    }

    /// Sets the raw entry of cluster `number` to `value`.
    fn set(&mut self, number: u64, value: u32) -> Result<()> {
        let at = number.plus(2)?.exact_as::<usize>()?;
        let entry = self.entries.get_mut(at);
        *entry.ok_or_else(|| invariant_error(format_args!("cluster {number} has no entry")))? =
            value;
        Ok(())
    }

    fn byte(&self, at: u64) -> u8 {
        let entry = |index: u64| {
            let index = usize::try_from(index).unwrap_or(usize::MAX);
            self.entries.get(index).copied().unwrap_or(0)
        };
        let low = |value: u32| value.to_le_bytes()[0];
        match self.width {
            Width::Bits12 => {
                let pair = (at / 3).saturating_mul(2);
                let (a, b) = (entry(pair), entry(pair.saturating_add(1)));
                match at % 3 {
                    0 => low(a),
                    1 => low(a >> 8 & 0xf | b << 4),
                    _ => low(b >> 4),
                }
            }
            Width::Bits16 => low(entry(at / 2) >> (at % 2).saturating_mul(8)),
            Width::Bits32 => low(entry(at / 4) >> (at % 4).saturating_mul(8)),
        }
    }
}

/// The table in its on-disk format.
impl ReadAt for Table {
    fn size(&self) -> ByteLen {
        self.len
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        check_range(at, ByteLen::of(buf), self.len)?;
        for (place, byte) in (at.get()..).zip(buf) {
            *byte = self.byte(place);
        }
        Ok(())
    }

    fn sector_size(&self) -> SectorSize {
        SectorSize::B512
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn written_entries_are_read_back(
            width in 0usize..3,
            values in proptest::collection::vec(any::<u32>(), 3..2000),
        ) {
            let width = [Width::Bits12, Width::Bits16, Width::Bits32][width];
            let mask = u32::MAX >> (32 - width.bits());
            let entries: Vec<u32> = values.iter().map(|value| value & mask).collect();
            let bytes = (entries.len() as u64 * width.bits()).div_ceil(8);
            let table = Table { width, entries: entries.clone(), len: ByteLen::new(bytes) };
            let raw = read_vec(&table, ByteOffset::ZERO, bytes as usize).unwrap();
            let again: Vec<u32> = decode(width, &raw).take(entries.len()).collect();
            prop_assert_eq!(&again, &entries);
            // Reading entries one by one gives the same.
            let clusters = entries.len() as u64 - 2;
            let place = Span::whole(ByteLen::new(bytes));
            let on_card = TableOnCard { bytes: TableReader::new(&table, place), width, clusters };
            for number in 0..clusters {
                prop_assert_eq!(on_card.link(number).unwrap(), table.link(number));
            }
        }
    }
}
