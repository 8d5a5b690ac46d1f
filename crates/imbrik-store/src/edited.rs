//! A store with some bytes changed: what differs is kept beside it, nothing below it changes.

use super::{ReadAt, Spill, check_range};
use crate::{
    error::{Error, Result},
    units::{ByteLen, ByteOffset, SectorSize, Span, joined},
};
use std::{fmt, path::Path, sync::Arc};

/// Bytes that are kept together.
const UNIT: u64 = 512;
const UNIT_LEN: usize = 512;

/// A store with some bytes changed.
pub struct Edited {
    base: Arc<dyn ReadAt>,
    units: Spill,
}

impl fmt::Debug for Edited {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} units changed of {}", self.units.list().count(), self.base.size())
    }
}

impl Edited {
    /// Nothing changed so far; what will be stays in memory.
    #[must_use]
    pub fn new(base: Arc<dyn ReadAt>) -> Self {
        Self::bounded(base, ByteLen::ZERO, None)
    }

    /// The same with `most` bytes in memory, and more in a temporary file in `folder`; all of it
    /// stays in memory without one.
    #[must_use]
    pub fn bounded(base: Arc<dyn ReadAt>, most: ByteLen, folder: Option<&Path>) -> Self {
        Self { base, units: Spill::new(UNIT, most, folder) }
    }

    /// Puts `bytes` at `at`.
    ///
    /// # Errors
    /// When they don't lie inside, what stands beside them cannot be read, or the temporary file
    /// cannot be written.
    pub fn put(&mut self, at: ByteOffset, bytes: &[u8]) -> Result<()> {
        check_range(at, ByteLen::of(bytes), self.base.size())?;
        let (mut at, mut rest) = (at.get(), bytes);
        while !rest.is_empty() {
            let (number, inside) = place(at);
            let len = UNIT_LEN.saturating_sub(inside).min(rest.len());
            let (now, later) = rest.split_at(len);
            let mut unit = match self.units.get(number)? {
                Some(unit) => unit,
                None => self.below(number)?,
            };
            let part = unit.get_mut(inside..inside.saturating_add(len));
            part.ok_or_else(|| Error::bug("an edit is too long"))?.copy_from_slice(now);
            self.units.put(number, unit)?;
            at = at.saturating_add(ByteLen::of(now).get());
            rest = later;
        }
        Ok(())
    }

    /// What stands below the unit `number`; zeros behind the end.
    fn below(&self, number: u64) -> Result<Vec<u8>> {
        let mut unit = vec![0; UNIT_LEN];
        let start = ByteOffset::new(number.saturating_mul(UNIT));
        let there = ByteOffset::new(self.base.size().get()).saturating_since(start);
        let len = there.to_usize().unwrap_or(UNIT_LEN).min(UNIT_LEN);
        if let Some(part) = unit.get_mut(..len) {
            self.base.read_at(start, part)?;
        }
        Ok(unit)
    }

    /// Where it differs from what is below, in order and joined, in whole units.
    #[must_use]
    pub fn spans(&self) -> Vec<Span> {
        let whole = Span::whole(self.base.size());
        let units = self.units.list().map(|number| {
            let start = ByteOffset::new(number.saturating_mul(UNIT));
            Span::between(start, start.saturating_add(ByteLen::new(UNIT)))
        });
        joined(units.filter_map(|span| span.intersect(whole)).collect())
    }
}

/// The unit that holds byte `at`, and where in it.
fn place(at: u64) -> (u64, usize) {
    let inside = at.checked_rem(UNIT).unwrap_or(0);
    (at.checked_div(UNIT).unwrap_or(0), usize::try_from(inside).unwrap_or(0))
}

impl ReadAt for Edited {
    fn size(&self) -> ByteLen {
        self.base.size()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        self.base.read_at(at, buf)?;
        let end = at.saturating_add(ByteLen::of(buf));
        let first = place(at.get()).0;
        let last = end.get().div_ceil(UNIT);
        let wanted = Span::between(at, end);
        for number in self.units.within(first..last) {
            let Some(unit) = self.units.get(number)? else { continue };
            let start = ByteOffset::new(number.saturating_mul(UNIT));
            let span = Span::between(start, start.saturating_add(ByteLen::new(UNIT)));
            let Some(both) = span.intersect(wanted) else { continue };
            let skip = |from: ByteOffset| {
                both.start().saturating_since(from).to_usize().unwrap_or(usize::MAX)
            };
            let len = both.len().to_usize().unwrap_or(0);
            let (from, to) = (skip(start), skip(at));
            if let (Some(from), Some(to)) =
                (unit.get(from..from.saturating_add(len)), buf.get_mut(to..to.saturating_add(len)))
            {
                to.copy_from_slice(from);
            }
        }
        Ok(())
    }

    fn next_data(&self, from: ByteOffset) -> Result<Option<Span>> {
        let below = self.base.next_data(from)?;
        let edit = self.units.next(place(from.get()).0).map(|number| {
            let start = ByteOffset::new(number.saturating_mul(UNIT)).max(from);
            let end = number.saturating_add(1).saturating_mul(UNIT).min(self.base.size().get());
            Span::between(start, ByteOffset::new(end))
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
        fn it_reads_like_a_copy_with_the_same_edits(
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
            let mut edited = match size % 2 {
                0 => Edited::new(Arc::new(base)),
                _ => Edited::bounded(Arc::new(base), ByteLen::new(1024), Some(folder.path())),
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
