//! Marks all over a card: are they there, and nowhere else?

use super::{BATCH, Before, LEAST_WRAP, MARK, MOST_MARKS, PIECE, SECTOR, Shortfall, Weighing};
use imbrik_store::{
    ReadAt, WriteAt,
    error::Result,
    exact::Exact as _,
    for_pieces, if_readable,
    units::{ByteLen, ByteOffset, Span},
};

impl Weighing<'_> {
    /// Returns whether the data at the card's start occur again at a power of two, and are not zeros.
    pub(super) fn wraps_at_a_power_of_two(&self) -> Result<Option<Shortfall>> {
        let size = self.plan.card.size.get();
        let mut start = vec![0; 64 << 10];
        let mut there = start.clone();
        self.store.read_at(ByteOffset::ZERO, &mut start)?;
        let distinct = start.chunks(SECTOR).filter(|sector| sector.iter().any(|byte| *byte != 0));
        // One sector may be a backup of the first.
        if distinct.count() < 2 {
            return Ok(None);
        }
        let mut wrap = LEAST_WRAP;
        while wrap.saturating_add(ByteLen::of(&start).get()) <= size {
            let found = self.store.read_at(ByteOffset::new(wrap), &mut there);
            if if_readable(found)?.is_some() && start == there {
                return Ok(Some(Shortfall::Wraps(ByteLen::new(wrap))));
            }
            wrap = wrap.times(2)?;
        }
        Ok(None)
    }

    /// The content of mark `number`: each sector contains the number.
    fn content(&self, number: u64) -> Vec<u8> {
        let mut mark = Vec::new();
        for sector in 0..MARK / 512 {
            let mut bytes = self.nonce.to_vec();
            bytes.extend(number.to_le_bytes());
            bytes.extend(sector.to_le_bytes());
            while let Some(more) = SECTOR.checked_sub(bytes.len()).filter(|more| *more > 0) {
                let copy: Vec<u8> = bytes.iter().copied().take(more).collect();
                bytes.extend(copy);
            }
            mark.extend(bytes);
        }
        mark
    }

    /// The number of the mark, and of its sector, that `sector` is of.
    fn read_mark(&self, sector: &[u8]) -> Option<(u64, u64)> {
        let rest = sector.strip_prefix(&self.nonce)?;
        let number = imbrik_store::bytes::le_u64(rest, 0)?;
        Some((number, imbrik_store::bytes::le_u64(rest, 8)?))
    }

    /// The offsets of marks: one in each range as long as the field, at powers of two, and at the very end.
    fn places(&self, field: Span) -> Vec<ByteOffset> {
        let size = self.plan.card.size.get();
        let stretch = self.stretch(field);
        let mut wanted: Vec<u64> = (0..size.div_ceil(stretch))
            .map(|index| index.saturating_mul(stretch))
            .chain((20..63).map(|power| 1u64 << power).take_while(|at| *at < size))
            .collect();
        wanted.push(size.saturating_sub(MARK));
        let mut places: Vec<ByteOffset> = wanted
            .into_iter()
            .filter_map(|at| self.free_at(at, at.saturating_add(stretch)))
            .chain(self.plan.free.last().and_then(|last| {
                let at = last.end().get().checked_sub(MARK)?;
                self.free_at(at.saturating_sub(at % MARK), at.saturating_add(1))
            }))
            .filter(|at| !field.contains(Span::between(*at, at.saturating_add(ByteLen::new(MARK)))))
            .collect();
        places.sort_unstable();
        places.dedup();
        places
    }

    /// Distance of marks in bytes.
    fn stretch(&self, field: Span) -> u64 {
        let size = self.plan.card.size.get();
        field.len().get().max(size.div_ceil(MOST_MARKS)).max(MARK)
    }

    /// How much of the card is in stretches with a mark or a part of the field.
    pub(super) fn covered(&self, field: Span) -> ByteLen {
        let (size, stretch) = (self.plan.card.size.get(), self.stretch(field));
        let number = |at: u64| at.checked_div(stretch).unwrap_or(0);
        let marked = self.places(field).into_iter().map(|at| number(at.get()));
        let filled = number(field.start().get())..=number(field.end().get().saturating_sub(1));
        let mut covered: Vec<u64> = marked.chain(filled).collect();
        covered.sort_unstable();
        covered.dedup();
        let len = |index: u64| {
            let start = index.saturating_mul(stretch);
            size.saturating_sub(start).min(stretch)
        };
        ByteLen::new(covered.into_iter().map(len).sum())
    }

    /// The first place for a mark from `at` up to `end` that may be written.
    fn free_at(&self, at: u64, end: u64) -> Option<ByteOffset> {
        let free = &self.plan.free;
        let first = free.partition_point(|span| span.end().get() <= at);
        free.get(first..)?.iter().take_while(|span| span.start().get() < end).find_map(|span| {
            let start = span.start().get().max(at).next_multiple_of(MARK);
            let fits = start < end && start.checked_add(MARK)? <= span.end().get();
            fits.then(|| ByteOffset::new(start))
        })
    }

    /// Writes marks all over the card, and verifies that they are at their offsets, and nowhere else.
    pub(super) fn mark(&self, field: Span, count: &mut u64) -> Result<Option<Shortfall>> {
        let places = self.places(field);
        let mut last_good = None;
        for batch in places.chunks(BATCH) {
            self.watch.cancel.check()?;
            *count = count.saturating_add(batch.len().exact_as()?);
            tracing::debug!(marks = batch.len(), from = ?batch.first(), "marks are written");
            let found = self.with_it_put_back(|before| self.mark_some(field, batch, before))?;
            match found {
                None => last_good = batch.last().copied(),
                Some(Shortfall::Ends(at)) => {
                    return self.refined(field, last_good, at).map(Some);
                }
                wraps => return Ok(wraps),
            }
        }
        Ok(None)
    }

    fn mark_some(
        &self,
        field: Span,
        places: &[ByteOffset],
        before: &mut Before,
    ) -> Result<Option<Shortfall>> {
        for (number, at) in (0u64..).zip(places) {
            self.write(*at, &self.content(number), before)?;
        }
        self.store.flush()?;
        let medium = self.medium()?;
        // The distance of each mark from its copy.
        let mut apart: Vec<u64> = Vec::new();
        let mut ends = None;
        let mut note = |sector: &[u8], at: ByteOffset| {
            let Some((number, inside)) = self.read_mark(sector) else { return };
            let index = usize::try_from(number).unwrap_or(usize::MAX);
            let Some(place) = places.get(index) else { return };
            let meant = place.get().saturating_add(inside.saturating_mul(512));
            apart.extend(Some(meant.abs_diff(at.get())).filter(|apart| *apart > 0));
        };
        let mut sector = vec![0; SECTOR];
        for (number, at) in (0u64..).zip(places) {
            let read = if_readable(medium.read_at(*at, &mut sector))?;
            note(&sector, *at);
            let is_any = read.is_some() && self.read_mark(&sector).is_some();
            let is_there = is_any && self.read_mark(&sector) == Some((number, 0));
            if !is_there && !is_any && ends.is_none() {
                ends = Some(*at);
            }
        }
        let mut bytes = vec![0; PIECE.to_usize().unwrap_or(0)];
        for_pieces(field, PIECE, |piece| {
            let len = piece.len().to_usize().unwrap_or(0).min(bytes.len());
            let part = bytes.get_mut(..len).unwrap_or_default();
            if if_readable(medium.read_at(piece.start(), part))?.is_some() {
                for (index, sector) in (0u64..).zip(part.chunks(SECTOR)) {
                    note(sector, piece.start().plus(ByteLen::new(index.times(512)?))?);
                }
            }
            Ok(())
        })?;
        // Twice around is twice as far: the least is once.
        let wraps = apart.iter().copied().min().map(|apart| Shortfall::Wraps(ByteLen::new(apart)));
        Ok(wraps.or(ends.map(Shortfall::Ends)))
    }

    /// The real capacity of a card that lost a mark at `bad` and kept one at `good`.
    fn refined(&self, field: Span, good: Option<ByteOffset>, bad: ByteOffset) -> Result<Shortfall> {
        let (mut good, mut bad) = (good.unwrap_or(field.end()).min(bad), bad);
        while bad.get().saturating_sub(good.get()) > 2 * MARK {
            self.watch.cancel.check()?;
            let middle = good.get().midpoint(bad.get());
            let Some(at) = self.free_at(middle, bad.get()).filter(|at| *at < bad) else { break };
            // Addresses don't wrap, as tested before.
            let alone = Span::default();
            let found = self.with_it_put_back(|before| self.mark_some(alone, &[at], before))?;
            match found {
                None => good = at.max(good),
                Some(Shortfall::Ends(_)) => bad = at,
                Some(wraps) => return Ok(wraps),
            }
        }
        Ok(Shortfall::Ends(bad))
    }
}
