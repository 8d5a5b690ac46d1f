//! Retries unreadable ranges in the order of data recovery: first the data that are easy to read, last and least the
//! rest.
//!
//! ```text
//! 1  from both ends inwards, in blocks that are halved:   ▓▓▓▓▒░░░░░░░░░░░▒▓▓▓▓   all areas, then the next size
//! 2  in leaps through what is dead, in case it is not:    ░░░░▓░░░░▓▓▓░░░░▓░░░░
//! 3  sector by sector, what no leap came upon:            ░░░░░░░░
//! 4  short runs again: a sector may answer at another try
//! ```

use crate::{
    error::{Class, Error, Result},
    exact::Exact as _,
    progress::Cancel,
    store::ReadAt,
    units::{ByteLen, ByteOffset, Span, joined},
};
use std::time::Instant;

/// How often a sector is tried before it is given up.
pub(crate) const TRIES: u32 = 4;

/// The blocks in which an area is read at first; larger ones only for areas of thirty-two of them.
const LARGEST: u64 = 1 << 20;
const USUAL: u64 = 16 << 10;
/// How far the leaps through a dead stretch are.
const LEAPS: [u64; 2] = [1 << 20, 64 << 10];
/// Sectors in a row beyond which a run is dead, and not tried again.
const MOST_AGAIN: u64 = 64;

/// How much is left to be read, while it is tried.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Left {
    /// Areas that were not fully read yet, or could not be.
    pub areas: usize,
    /// Bytes in them.
    pub len: ByteLen,
}

/// An attempt to read areas of a store that could not be read at once.
pub struct Rescue<'a> {
    source: &'a dyn ReadAt,
    cancel: &'a Cancel,
    until: Option<Instant>,
    /// How many requests may still fail.
    most_failed: u64,
    sector: u64,
    buf: Vec<u8>,
    was_cut_short: bool,
}

/// An area that is worked on.
#[derive(Clone, Copy)]
struct Area {
    start: u64,
    end: u64,
    /// True if no other attempt can help: the range is past the end of a card, or damaged in an image.
    is_final: bool,
}

impl Area {
    fn of(span: Span) -> Self {
        Self { start: span.start().get(), end: span.end().get(), is_final: false }
    }

    fn len(self) -> u64 {
        self.end.saturating_sub(self.start)
    }
}

/// The relevant outcomes of a read.
enum Read {
    Done,
    Failed,
    /// It would end like that whatever is tried.
    Final,
}

/// Why there are no more retries.
enum Halt {
    /// The time is over, or it was cancelled: the rest remains unreadable.
    Over,
    Failed(Error),
}

impl From<Error> for Halt {
    fn from(error: Error) -> Self {
        Self::Failed(error)
    }
}

type Step<T> = std::result::Result<T, Halt>;

impl<'a> Rescue<'a> {
    /// Reads `source`, until `until` at the latest. Cancelling is not an error: the rest remains unreadable.
    #[must_use]
    pub fn new(source: &'a dyn ReadAt, cancel: &'a Cancel, until: Option<Instant>) -> Self {
        let sector = source.sector_size().len().get();
        let buf = Vec::new();
        Self { source, cancel, until, most_failed: u64::MAX, sector, buf, was_cut_short: false }
    }

    /// The same, which ends once `most` requests failed.
    #[must_use]
    pub fn with_most_failed(self, most: u64) -> Self {
        Self { most_failed: most, ..self }
    }

    /// How many requests may still fail.
    #[must_use]
    pub fn failures_left(&self) -> u64 {
        self.most_failed
    }

    /// Returns whether time or requests ran out, so that some of the rest may still be readable.
    #[must_use]
    pub fn was_cut_short(&self) -> bool {
        self.was_cut_short
    }

    /// Reads as much of `open` as possible, passes the data to `take`, and returns the unreadable ranges, in order and
    /// joined. Reports its progress after each successful request.
    ///
    /// # Errors
    /// Those of `take`, and of the source those that no other place would escape, such as a card that
    /// was pulled out.
    pub fn run(
        &mut self,
        open: &[Span],
        take: &mut dyn FnMut(ByteOffset, &[u8]) -> Result<()>,
        tell: &mut dyn FnMut(Left),
    ) -> Result<Vec<Span>> {
        let areas: Vec<Area> = joined(open.to_vec()).into_iter().map(Area::of).collect();
        let left = areas.iter().map(|area| area.len()).sum();
        let mut work = Work { areas, left, take, tell, done: Vec::new() };
        let outcome = self.all(&mut work);
        let (areas, was_cut_short) = (work.areas.len(), matches!(outcome, Err(Halt::Over)));
        tracing::info!(areas, left = work.left, was_cut_short, "unreadable areas were retried");
        match outcome {
            Ok(()) => Ok(work.left()),
            Err(Halt::Over) => {
                self.was_cut_short = true;
                Ok(work.left())
            }
            Err(Halt::Failed(error)) => Err(error),
        }
    }

    fn all(&mut self, work: &mut Work<'_>) -> Step<()> {
        let mut block = LARGEST.max(self.sector);
        loop {
            self.each(work, |this, work, area| {
                let takes_part = block <= USUAL || area.len() / 32 >= block;
                if takes_part { this.inwards(work, area, block) } else { Ok(vec![area]) }
            })?;
            if block <= self.sector {
                break;
            }
            block = (block / 2).max(self.sector);
        }
        for leap in LEAPS {
            self.each(work, |this, work, area| this.in_leaps(work, area, leap))?;
        }
        self.each(work, |this, work, area| {
            // Both ends were tried already.
            let inside = area.start.saturating_add(this.sector);
            this.sector_by_sector(work, area, inside, area.end.saturating_sub(this.sector))
        })?;
        for _ in 1..TRIES {
            let most = self.sector.saturating_mul(MOST_AGAIN);
            self.each(work, |this, work, area| match area.len() > most {
                true => Ok(vec![area]),
                false => this.sector_by_sector(work, area, area.start, area.end),
            })?;
        }
        Ok(())
    }

    /// Replaces every area by the rest that `work_on` leaves. Areas that were not reached are kept.
    fn each(
        &mut self,
        work: &mut Work<'_>,
        mut work_on: impl FnMut(&mut Self, &mut Work<'_>, Area) -> Step<Vec<Area>>,
    ) -> Step<()> {
        let mut at = 0usize;
        while let Some(area) = work.areas.get(at).copied() {
            if area.is_final || area.len() == 0 {
                at = at.plus(1)?;
                continue;
            }
            let left = work_on(self, work, area)?;
            // The data that were read are no longer in the list.
            work.done.clear();
            let count = left.len();
            work.areas.splice(at..at.plus(1)?, left);
            at = at.plus(count)?;
        }
        work.areas.retain(|area| area.len() > 0);
        Ok(())
    }

    /// Reads `len` bytes at `at` and hands them on.
    fn read(&mut self, work: &mut Work<'_>, at: u64, len: u64) -> Step<Read> {
        let is_late = self.until.is_some_and(|until| Instant::now() >= until);
        if is_late || self.most_failed == 0 || self.cancel.check().is_err() {
            return Err(Halt::Over);
        }
        self.buf.resize(len.exact_as::<usize>()?, 0);
        let done = self.source.read_once(ByteOffset::new(at), &mut self.buf);
        self.most_failed = self.most_failed.saturating_sub(u64::from(done.is_err()));
        if let Err(error) = &done {
            tracing::debug!(at, len, %error, "a place did not answer");
        }
        match done {
            Ok(()) => {
                (work.take)(ByteOffset::new(at), &self.buf)?;
                work.was_read(at, len);
                Ok(Read::Done)
            }
            // Retrying can't help past the end of a card, or in a damaged tile of an image.
            Err(error) if matches!(error.class(), Class::Corrupt | Class::Mismatch) => {
                Ok(Read::Final)
            }
            Err(error) if error.class() == Class::Ended && len <= self.sector => Ok(Read::Final),
            Err(error) if error.concerns_a_range() => Ok(Read::Failed),
            Err(error) => Err(error.into()),
        }
    }

    /// Reads an area from its start and from its end, in blocks of `block`, up to one that fails.
    fn inwards(&mut self, work: &mut Work<'_>, mut area: Area, block: u64) -> Step<Vec<Area>> {
        while area.len() > 0 {
            let len = block.min(area.len());
            match self.read(work, area.start, len)? {
                Read::Done => area.start = area.start.plus(len)?,
                Read::Failed => break,
                Read::Final => return Ok(vec![Area { is_final: true, ..area }]),
            }
        }
        // The first block of it is known to fail.
        while area.len() > block {
            let len = block.min(area.len().minus(block)?);
            match self.read(work, area.end.minus(len)?, len)? {
                Read::Done => area.end = area.end.minus(len)?,
                Read::Failed | Read::Final => break,
            }
        }
        Ok(vec![area])
    }

    /// Samples a long area in steps: where data can be read, the neighbourhood may be readable, too.
    fn in_leaps(&mut self, work: &mut Work<'_>, area: Area, leap: u64) -> Step<Vec<Area>> {
        let mut left = Vec::new();
        let mut rest = area;
        let mut at = area.start.saturating_add(leap);
        while at < rest.end {
            match self.read(work, at, self.sector)? {
                Read::Done => {
                    let start = self.backwards(work, at, rest.start)?;
                    let end = self.forwards(work, at.plus(self.sector)?, rest.end)?;
                    left.push(Area { end: start, ..rest });
                    rest.start = end;
                    at = end.saturating_add(leap);
                }
                Read::Failed | Read::Final => at = at.saturating_add(leap),
            }
        }
        left.push(rest);
        Ok(left)
    }

    /// Reads from `at` to `end`, in blocks that double, and halve again after a failure; returns the offset of an
    /// unreadable sector.
    fn forwards(&mut self, work: &mut Work<'_>, mut at: u64, end: u64) -> Step<u64> {
        let mut block = self.sector;
        while at < end {
            let len = block.min(end.minus(at)?);
            match self.read(work, at, len)? {
                Read::Done => {
                    at = at.plus(len)?;
                    block = block.times(2)?.min(USUAL);
                }
                _ if len <= self.sector => break,
                _ => block = (block / 2).max(self.sector),
            }
        }
        Ok(at)
    }

    /// The same down from `at` to `start`.
    fn backwards(&mut self, work: &mut Work<'_>, mut at: u64, start: u64) -> Step<u64> {
        let mut block = self.sector;
        while at > start {
            let len = block.min(at.minus(start)?);
            match self.read(work, at.minus(len)?, len)? {
                Read::Done => {
                    at = at.minus(len)?;
                    block = block.times(2)?.min(USUAL);
                }
                _ if len <= self.sector => break,
                _ => block = (block / 2).max(self.sector),
            }
        }
        Ok(at)
    }

    /// Tries every sector of an area from `from` up to `to`, and more where one is readable.
    fn sector_by_sector(
        &mut self,
        work: &mut Work<'_>,
        area: Area,
        from: u64,
        to: u64,
    ) -> Step<Vec<Area>> {
        let mut left = Vec::new();
        let mut rest = area;
        let mut at = from;
        while at < to {
            let len = self.sector.min(area.end.minus(at)?);
            match self.read(work, at, len)? {
                Read::Done => {
                    let end = self.forwards(work, at.plus(len)?, to)?;
                    left.push(Area { end: at, ..rest });
                    rest.start = end;
                    // It was tried on the way.
                    at = end.saturating_add(self.sector);
                }
                Read::Failed | Read::Final => at = at.plus(len)?,
            }
        }
        left.push(rest);
        Ok(left)
    }
}

/// The remaining work, and the caller's functions.
struct Work<'a> {
    areas: Vec<Area>,
    /// Bytes that were not read yet.
    left: u64,
    take: &'a mut dyn FnMut(ByteOffset, &[u8]) -> Result<()>,
    tell: &'a mut dyn FnMut(Left),
    /// The ranges read in the present area, which is still in the list with its old range.
    done: Vec<Span>,
}

impl Work<'_> {
    fn was_read(&mut self, at: u64, len: u64) {
        self.left = self.left.saturating_sub(len);
        let start = ByteOffset::new(at);
        self.done.push(Span::between(start, start.saturating_add(ByteLen::new(len))));
        let left = Left { areas: self.areas.len(), len: ByteLen::new(self.left) };
        (self.tell)(left);
    }

    /// The rest of all areas.
    fn left(&self) -> Vec<Span> {
        let place =
            |area: &Area| Span::between(ByteOffset::new(area.start), ByteOffset::new(area.end));
        let mut left = Vec::new();
        let mut done = joined(self.done.clone()).into_iter().peekable();
        for area in joined(self.areas.iter().map(place).collect()) {
            let mut at = area.start();
            while let Some(read) = done.next_if(|read| read.start() < area.end()) {
                left.push(Span::between(at, read.start().max(at)));
                at = at.max(read.end());
            }
            left.push(Span::between(at, area.end()));
        }
        left.retain(|span| !span.is_empty());
        left
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{
        Counted, SparseStore, Tally,
        testing::{Faults, Faulty, Flaky},
    };
    use proptest::prelude::*;

    const SECTOR: u64 = 512;

    fn span(start: u64, len: u64) -> Span {
        Span::new(ByteOffset::new(start), ByteLen::new(len)).unwrap()
    }

    /// The result of rescuing a card of `len` bytes: which bytes were read, the unreadable ranges, and the number and
    /// size of requests.
    fn rescued(len: u64, faults: Faults) -> (Vec<bool>, Vec<Span>, Tally) {
        let tally = Tally::default();
        let card = Counted::new(Faulty::new(SparseStore::new(ByteLen::new(len)), faults), &tally);
        let mut read = vec![false; (len / SECTOR) as usize];
        let cancel = Cancel::new();
        let left = Rescue::new(&card, &cancel, None)
            .run(
                &[Span::whole(ByteLen::new(len))],
                &mut |at, bytes| {
                    let first = (at.get() / SECTOR) as usize;
                    for sector in &mut read[first..first + bytes.len() / SECTOR as usize] {
                        assert!(!*sector, "it was read already");
                        *sector = true;
                    }
                    Ok(())
                },
                &mut |_| {},
            )
            .unwrap();
        (read, left, tally)
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]

        /// Fails if a readable sector is left, an unreadable one counts as read, or readable data are read again and
        /// again.
        #[test]
        fn every_readable_sector_is_read_with_few_extra_requests(
            bad in proptest::collection::vec((0u64..16_384, 0u32..10), 0..12),
            flaky in proptest::collection::vec((0u64..16_384, 2u32..=TRIES), 0..4),
        ) {
            let len = 16_384 * SECTOR;
            let unreadable: Vec<Span> = bad
                .iter()
                .map(|(at, long)| span(at * SECTOR, (SECTOR << long).min(len - at * SECTOR)))
                .collect();
            let flaky = flaky.iter().map(|(at, tries)| Flaky {
                span: span(at * SECTOR, SECTOR),
                tries: *tries,
            });
            let faults = Faults {
                unreadable: unreadable.clone(),
                flaky: flaky.collect(),
                ..Faults::default()
            };
            let (read, left, tally) = rescued(len, faults);
            let dead = joined(unreadable);
            for (sector, read) in (0u64..).zip(&read) {
                let place = span(sector * SECTOR, SECTOR);
                let is_dead = dead.iter().any(|bad| bad.intersect(place).is_some());
                prop_assert_eq!(*read, !is_dead, "sector {}", sector);
                let is_left = left.iter().any(|left| left.intersect(place).is_some());
                prop_assert_eq!(is_left, is_dead);
            }
            let lost: u64 = dead.iter().map(|bad| bad.len().get()).sum();
            let areas = (bad.len() + 4) as u64;
            let asked = tally.read().get();
            prop_assert!(asked <= len + u64::from(TRIES) * lost + areas * (5 << 20), "{asked}");
        }
    }

    /// Without any time, nothing is read, and nothing that was read is called lost.
    #[test]
    fn time_limit_leaves_the_rest_unread() {
        let card = SparseStore::new(ByteLen::mib(1));
        let cancel = Cancel::new();
        let whole = Span::whole(ByteLen::mib(1));
        let mut rescue = Rescue::new(&card, &cancel, Some(Instant::now()));
        let left = rescue.run(&[whole], &mut |_, _| panic!("too late"), &mut |_| {}).unwrap();
        assert_eq!(left, [whole]);
        // Cancelled within an area.
        let mut count = 0;
        let mut rescue = Rescue::new(&card, &cancel, None);
        let left = rescue.run(
            &[whole],
            &mut |_, bytes| {
                count += bytes.len();
                cancel.request();
                Ok(())
            },
            &mut |_| {},
        );
        let left: u64 = left.unwrap().iter().map(|span| span.len().get()).sum();
        assert!(count > 0 && left + count as u64 == 1 << 20, "{left}");
    }

    #[test]
    fn removed_card_ends_the_rescue() {
        let faults = Faults { pulled_after: Some(ByteLen::new(100)), ..Faults::default() };
        let card = Faulty::new(SparseStore::new(ByteLen::mib(1)), faults);
        let cancel = Cancel::new();
        let whole = Span::whole(ByteLen::mib(1));
        let done = Rescue::new(&card, &cancel, None).run(&[whole], &mut |_, _| Ok(()), &mut |_| {});
        assert_eq!(done.unwrap_err().class(), Class::Gone);
    }
}
