//! A store with changes, which are stored separately; the store below is never changed.

use super::{ReadAt, Spill, check_range};
use crate::{
    error::Result,
    exact::invariant_error,
    units::{ByteLen, ByteOffset, SectorSize, Span, joined},
};
use std::{fmt, path::Path, sync::Arc};

/// The default unit: a sector.
const SECTOR: u64 = 512;

/// A store with changes: the changed units are kept in memory up to a limit, and beyond that in a temporary file. A
/// changed unit is never read from the store below.
pub struct Edited {
    base: Arc<dyn ReadAt>,
    unit_len: u64,
    units: Spill,
}

impl fmt::Debug for Edited {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} units changed of {}", self.units.list().count(), self.base.size())
    }
}

impl Edited {
    /// Creates it without changes; future ones stay in memory.
    #[must_use]
    pub fn new(base: Arc<dyn ReadAt>) -> Self {
        Self::bounded(base, ByteLen::ZERO, None)
    }

    /// The same with `most` bytes in memory, and more in a temporary file in `folder`; all of it
    /// stays in memory without one.
    #[must_use]
    pub fn bounded(base: Arc<dyn ReadAt>, most: ByteLen, folder: Option<&Path>) -> Self {
        Self::in_units(base, SECTOR, Spill::new(SECTOR, most, folder))
    }

    /// The same in units of `unit_len` bytes, which are the pages of `units`.
    #[must_use]
    pub fn in_units(base: Arc<dyn ReadAt>, unit_len: u64, units: Spill) -> Self {
        Self { base, unit_len: unit_len.max(1), units }
    }

    /// The store below.
    #[must_use]
    pub fn base(&self) -> &Arc<dyn ReadAt> {
        &self.base
    }

    /// The same changes over another store of the same length.
    #[must_use]
    pub fn over(self, base: Arc<dyn ReadAt>) -> Self {
        Self { base, ..self }
    }

    /// The unit that holds byte `at`, and where in it.
    fn place(&self, at: u64) -> (u64, u64) {
        let inside = at.checked_rem(self.unit_len).unwrap_or(0);
        (at.checked_div(self.unit_len).unwrap_or(0), inside)
    }

    /// The range of unit `number`; the last one may extend past the end.
    fn span_of(&self, number: u64) -> Span {
        let start = number.saturating_mul(self.unit_len);
        let end = start.saturating_add(self.unit_len);
        Span::between(ByteOffset::new(start), ByteOffset::new(end))
    }

    /// A unit of zeros.
    #[must_use]
    pub fn empty_unit(&self) -> Vec<u8> {
        vec![0; usize::try_from(self.unit_len).unwrap_or(0)]
    }

    /// The current content of unit `number`, with zeros past the end.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn unit(&self, number: u64) -> Result<Vec<u8>> {
        if let Some(unit) = self.units.get(number)? {
            return Ok(unit);
        }
        let mut unit = self.empty_unit();
        let start = self.span_of(number).start();
        let there = ByteOffset::new(self.base.size().get()).saturating_since(start);
        let len = there.to_usize().unwrap_or(usize::MAX).min(unit.len());
        if let Some(part) = unit.get_mut(..len) {
            self.base.read_at(start, part)?;
        }
        Ok(unit)
    }

    /// Returns whether unit `number` was changed.
    #[must_use]
    pub fn has_unit(&self, number: u64) -> bool {
        self.units.next(number) == Some(number)
    }

    /// Gives unit `number` the content `bytes`, which are as long as a unit.
    ///
    /// # Errors
    /// When it has to be put aside and cannot be; [`crate::Class::Bug`] for another length.
    pub fn put_unit(&mut self, number: u64, bytes: Vec<u8>) -> Result<()> {
        match ByteLen::of(&bytes).get() == self.unit_len {
            true => self.units.put(number, bytes),
            false => Err(invariant_error("a unit of an edit has another length")),
        }
    }

    /// Puts `bytes` at `at`.
    ///
    /// # Errors
    /// When the range is outside of the store, the rest of its units can't be read, or the temporary file can't be
    /// written.
    pub fn put(&mut self, at: ByteOffset, bytes: &[u8]) -> Result<()> {
        check_range(at, ByteLen::of(bytes), self.base.size())?;
        let (mut at, mut rest) = (at.get(), bytes);
        while !rest.is_empty() {
            let (number, inside) = self.place(at);
            let len = usize::try_from(self.unit_len.saturating_sub(inside)).unwrap_or(usize::MAX);
            let (now, later) = rest.split_at(len.min(rest.len()));
            let mut unit = self.unit(number)?;
            let from = usize::try_from(inside).unwrap_or(usize::MAX);
            let part = unit.get_mut(from..from.saturating_add(now.len()));
            part.ok_or_else(|| invariant_error("an edit is too long"))?.copy_from_slice(now);
            self.units.put(number, unit)?;
            at = at.saturating_add(ByteLen::of(now).get());
            rest = later;
        }
        Ok(())
    }

    /// The numbers of the units that were changed, in order.
    pub fn units(&self) -> impl Iterator<Item = u64> + '_ {
        self.units.list()
    }

    /// The number of bytes in the temporary file.
    #[must_use]
    pub fn aside(&self) -> ByteLen {
        self.units.aside()
    }

    /// The changed ranges, in order and joined, in whole units.
    #[must_use]
    pub fn spans(&self) -> Vec<Span> {
        let whole = Span::whole(self.base.size());
        let units = self.units.list().map(|number| self.span_of(number));
        joined(units.filter_map(|span| span.intersect(whole)).collect())
    }
}

impl ReadAt for Edited {
    fn size(&self) -> ByteLen {
        self.base.size()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        check_range(at, ByteLen::of(buf), self.size())?;
        let (mut at, mut rest) = (at, buf);
        while !rest.is_empty() {
            let (number, inside) = self.place(at.get());
            let next = self.units.next(number);
            let until = match next {
                Some(next) if next == number => self.span_of(next).end(),
                Some(next) => self.span_of(next).start(),
                None => ByteOffset::new(self.size().get()),
            };
            let room = until.saturating_since(at).to_usize().unwrap_or(usize::MAX);
            let room = room.min(rest.len());
            let (now, later) = std::mem::take(&mut rest).split_at_mut(room);
            match self.units.get(number)? {
                Some(unit) => {
                    let from = usize::try_from(inside).unwrap_or(usize::MAX);
                    let part = unit.get(from..from.saturating_add(now.len()));
                    now.copy_from_slice(part.ok_or_else(|| invariant_error("a unit is short"))?);
                }
                None => self.base.read_at(at, now)?,
            }
            at = at.saturating_add(ByteLen::of(now));
            rest = later;
        }
        Ok(())
    }

    fn next_data(&self, from: ByteOffset) -> Result<Option<Span>> {
        let below = self.base.next_data(from)?;
        let edit = self.units.next(self.place(from.get()).0).map(|number| {
            let unit = self.span_of(number);
            let end = unit.end().min(ByteOffset::new(self.base.size().get()));
            Span::between(unit.start().max(from), end)
        });
        let (Some(a), Some(b)) = (below, edit) else { return Ok(below.or(edit)) };
        Ok(Some(if b.start() < a.start() { b } else { a }))
    }

    fn sector_size(&self) -> SectorSize {
        self.base.sector_size()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Concatenated, SparseStore, read_vec};
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn edited_store_reads_like_an_edited_copy(
            size in 1usize..3000,
            edits in proptest::collection::vec((0usize..3000, 1usize..900, 1u8..), 0..9),
            cuts in proptest::collection::vec((0usize..3000, 0usize..3000), 1..6),
        ) {
            // The base comes in three pieces, the middle one of zeros.
            let bytes: Vec<u8> = (0..size).map(|i| u8::try_from(i % 250).unwrap() + 1).collect();
            let store: Arc<dyn ReadAt> = Arc::new(SparseStore::of(&bytes));
            let (a, b) = (size / 3, size / 2);
            let mut base = Concatenated::new(SectorSize::B512);
            base.push(&store, ByteOffset::ZERO, ByteLen::from_usize(a));
            base.push_zeros(ByteLen::from_usize(b - a));
            base.push(&store, ByteOffset::new(b as u64), ByteLen::from_usize(size - b + 7));
            let mut plain = bytes;
            plain[a..b].fill(0);
            plain.resize(size + 7, 0);
            // In memory alone, or with hardly any of it.
            let folder = tempfile::tempdir().unwrap();
            let base = Arc::new(base);
            let mut edited = match size % 3 {
                0 => Edited::new(base),
                1 => Edited::bounded(base, ByteLen::new(1024), Some(folder.path())),
                _ => Edited::in_units(base, 100, Spill::new(100, ByteLen::ZERO, None)),
            };
            for (at, len, byte) in edits {
                let piece = vec![byte; len];
                let fits = at + len <= plain.len();
                prop_assert_eq!(edited.put(ByteOffset::new(at as u64), &piece).is_ok(), fits);
                if fits {
                    plain[at..at + len].fill(byte);
                }
            }
            for (from, to) in cuts {
                let (from, to) = (from.min(to).min(plain.len()), from.max(to).min(plain.len()));
                let read = read_vec(&edited, ByteOffset::new(from as u64), to - from).unwrap();
                prop_assert_eq!(&read[..], &plain[from..to]);
            }
        }
    }
}
