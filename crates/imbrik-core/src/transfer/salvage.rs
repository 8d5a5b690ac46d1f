//! Reading a damaged source: first everything that is easy to read.

use crate::layout::{Content, SHORTEST_HOLE, Segment, View};
use imbrik_store::{
    ReadAt, Rescue,
    error::{Class, Result},
    exact::Exact as _,
    progress::Cancel,
    units::{ByteLen, ByteOffset, Span, joined, without},
};
use std::time::{Duration, Instant};

/// In which pieces a card is read once it has shown that it has bad places.
const CAREFUL: ByteLen = ByteLen::kib(128);
/// After this many readable bytes, a card is read in long requests again.
const CALM: u64 = 256 << 20;
/// The longest step over a failing region.
const LONGEST_LEAP: u64 = 64 << 20;

/// How to handle an unreadable part of the source.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Damage {
    /// The transfer stops.
    Stop,
    /// It is replaced by zeros and recorded, and the rest is read first: it is retried when everything else is safe.
    Later,
    /// It is retried at once, for this time in total; then the rest is replaced by zeros and recorded.
    Now(Duration),
}

/// How a source has read so far.
#[derive(Debug, Default)]
pub(super) struct SoFar {
    /// How much is read carefully before it is read in long pieces again: a place of it failed.
    careful: u64,
    /// How far the next leap is; nothing unless the last place failed.
    leap: u64,
    /// Nothing before this offset is read, because the region before it failed.
    leap_to: ByteOffset,
    /// How long places that failed were tried.
    tried: Duration,
}

/// Reads `span` of `view` into `buf`, which has the same length; returns unreadable ranges of the view. `so_far` is the
/// state of earlier reads.
///
/// # Errors
/// With [`Damage::Stop`] the first failure, else only those that no other piece would escape, such as a
/// card that was pulled out.
pub(super) fn read(
    view: &View,
    span: Span,
    buf: &mut [u8],
    damage: Damage,
    so_far: &mut SoFar,
    cancel: &Cancel,
) -> Result<Vec<Span>> {
    let mut open = Vec::new();
    let mut rest = &mut *buf;
    for run in runs(view, span) {
        let len = run.segment.span.len().to_usize().unwrap_or(0).min(rest.len());
        let (now, later) = std::mem::take(&mut rest).split_at_mut(len);
        rest = later;
        let start = run.segment.span.start();
        let Content::Copied { from } = run.segment.content else {
            view.read_at(start, now)?;
            continue;
        };
        if damage == Damage::Stop {
            // The failed part may be a hole.
            if view.source().read_at(from, now).is_err() {
                view.read_at(start, now)?;
            }
        } else {
            let bad = so_far.read(&**view.source(), from, now, cancel)?;
            let bad = bad.into_iter().map(|bad| {
                let start = start.saturating_add(bad.start().saturating_since(from));
                Span::between(start, start.saturating_add(bad.len()))
            });
            open.extend(without(&joined(bad.collect()), &run.holes));
        }
        for hole in run.holes {
            let ahead = hole.start().saturating_since(start).to_usize().unwrap_or(usize::MAX);
            let end = ahead.saturating_add(hole.len().to_usize().unwrap_or(0));
            if let Some(hole) = now.get_mut(ahead..end) {
                hole.fill(0);
            }
        }
    }
    match damage {
        Damage::Now(patience) if !open.is_empty() => {
            let began = Instant::now();
            let until = began.checked_add(patience.saturating_sub(so_far.tried));
            let left = try_again(view, &open, span, buf, until, cancel)?;
            so_far.tried = so_far.tried.saturating_add(began.elapsed());
            // The next part is read nevertheless, because it is not retried later.
            (so_far.leap, so_far.leap_to) = (0, ByteOffset::ZERO);
            Ok(left)
        }
        _ => Ok(open),
    }
}

/// A single request: a copied segment, and holes in it.
struct Reading {
    segment: Segment,
    /// The parts that are zeros in the view, in order.
    holes: Vec<Span>,
}

/// The segments of `span`; those copied from consecutive places are joined across holes that are not worth a separate
/// request.
fn runs(view: &View, span: Span) -> Vec<Reading> {
    let mut runs: Vec<Reading> = Vec::new();
    // A hole after a copied segment: it counts only if another copied one follows.
    let mut hole: Option<Segment> = None;
    for segment in view.segments_in(span) {
        let last = runs.last_mut();
        match (&segment.content, last) {
            (Content::Cleared, Some(last))
                if hole.is_none()
                    && segment.span.len() < SHORTEST_HOLE
                    && matches!(last.segment.content, Content::Copied { .. }) =>
            {
                hole = Some(segment);
                continue;
            }
            (Content::Copied { from }, Some(last)) if is_in_row(&last.segment, *from, &segment) => {
                let whole = Span::between(last.segment.span.start(), segment.span.end());
                last.segment.span = whole;
                last.holes.extend(hole.take().map(|hole| hole.span));
                continue;
            }
            _ => {}
        }
        let alone = hole.take().into_iter().chain([segment]);
        runs.extend(alone.map(|segment| Reading { segment, holes: Vec::new() }));
    }
    runs.extend(hole.map(|segment| Reading { segment, holes: Vec::new() }));
    runs
}

/// Returns whether `segment`, copied from `from`, has the same distance from `last` in the source as in the view.
fn is_in_row(last: &Segment, from: ByteOffset, segment: &Segment) -> bool {
    match last.content {
        Content::Copied { from: first } => {
            first.checked_add(segment.span.start().saturating_since(last.span.start()))
                == Some(from)
        }
        _ => false,
    }
}

/// Retries the `open` ranges of `span`, and adds the data to `buf`, which has the rest; returns the remaining ranges.
fn try_again(
    view: &View,
    open: &[Span],
    span: Span,
    buf: &mut [u8],
    until: Option<Instant>,
    cancel: &Cancel,
) -> Result<Vec<Span>> {
    let left = Rescue::new(view, cancel, until).run(
        open,
        &mut |at, bytes| {
            let ahead = at.saturating_since(span.start()).to_usize().unwrap_or(usize::MAX);
            if let Some(place) = buf.get_mut(ahead..ahead.saturating_add(bytes.len())) {
                place.copy_from_slice(bytes);
            }
            Ok(())
        },
        &mut |_| {},
    )?;
    cancel.check()?;
    Ok(left)
}

impl SoFar {
    /// Reads `buf` from `at` of `source` without retries. Returns the unreadable ranges, which are zeros.
    fn read(
        &mut self,
        source: &dyn ReadAt,
        at: ByteOffset,
        buf: &mut [u8],
        cancel: &Cancel,
    ) -> Result<Vec<Span>> {
        let mut open = Vec::new();
        let mut from = 0usize;
        while let Some(rest) = buf.get_mut(from..).filter(|rest| !rest.is_empty()) {
            let place = at.plus(ByteLen::from_usize(from))?;
            let all = ByteLen::of(rest);
            let is_leapt = place < self.leap_to;
            let is_careful = self.careful > 0;
            let len = match (is_leapt, is_careful) {
                (true, _) => all.min(self.leap_to.saturating_since(place)),
                (false, true) => all.min(CAREFUL),
                (false, false) => all,
            };
            let piece = len.to_usize().unwrap_or(usize::MAX).min(rest.len());
            let now = rest.get_mut(..piece).unwrap_or_default();
            match if is_leapt { Ok(Once::Failed) } else { once(source, place, now) }? {
                Once::Failed => {}
                done => {
                    if matches!(done, Once::Damaged) {
                        now.fill(0);
                        open.push(Span::between(place, place.plus(len)?));
                    }
                    self.leap = 0;
                    self.careful = self.careful.saturating_sub(len.get());
                    from = from.plus(piece)?;
                    continue;
                }
            }
            // A bad card may take seconds to give up on a place.
            cancel.check()?;
            tracing::debug!(
                at = place.get(),
                len = len.get(),
                is_leapt,
                "a range will be retried later"
            );
            if !is_leapt {
                self.careful = CALM;
                if len > CAREFUL {
                    continue;
                }
            }
            now.fill(0);
            open.push(Span::between(place, place.plus(len)?));
            if !is_leapt {
                self.leap_to = place.plus(len)?.saturating_add(ByteLen::new(self.leap));
                self.leap = self.leap.saturating_mul(2).clamp(CAREFUL.get(), LONGEST_LEAP);
            }
            from = from.plus(piece)?;
        }
        Ok(open)
    }
}

/// The result of a single attempt.
enum Once {
    Done,
    Failed,
    /// A piece of an image is damaged: it stays so however it is cut.
    Damaged,
}

/// Fills `buf` from `at`, asking once.
///
/// # Errors
/// Those that no other place would escape.
fn once(source: &dyn ReadAt, at: ByteOffset, buf: &mut [u8]) -> Result<Once> {
    match source.read_once(at, buf) {
        Ok(()) => Ok(Once::Done),
        Err(error) if matches!(error.class(), Class::Corrupt | Class::Mismatch) => {
            Ok(Once::Damaged)
        }
        Err(error) if error.concerns_a_range() => Ok(Once::Failed),
        Err(error) => Err(error),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_store::{
        SparseStore,
        error::Class,
        testing::{Faults, Faulty, Flaky},
        units::{ByteLen, ByteOffset, joined},
    };
    use std::sync::Arc;

    fn span(start: u64, len: u64) -> Span {
        Span::new(ByteOffset::new(start), ByteLen::new(len)).unwrap()
    }

    fn salvage(faults: Faults, size: usize) -> (Vec<u8>, Result<Vec<Span>>) {
        let store = Faulty::new(SparseStore::of(&vec![7; size]), faults);
        let view = View::whole(Arc::new(store));
        let mut buf = vec![1; size];
        let whole = Span::whole(ByteLen::from_usize(size));
        let now = Damage::Now(Duration::MAX);
        let lost = read(&view, whole, &mut buf, now, &mut SoFar::default(), &Cancel::new());
        (buf, lost)
    }

    #[test]
    fn only_unreadable_sectors_are_lost() {
        let bad = vec![span(5_000, 1), span(102_400, 1_024)];
        let faults = Faults { unreadable: bad, ..Faults::default() };
        let (bytes, lost) = salvage(faults, 1 << 20);
        assert_eq!(joined(lost.unwrap()), [span(4_608, 512), span(102_400, 1_024)]);
        assert_eq!(bytes.iter().filter(|byte| **byte == 0).count(), 3 * 512);
        assert_eq!(bytes.iter().filter(|byte| **byte == 7).count(), (1 << 20) - 3 * 512);
    }

    #[test]
    fn sector_that_reads_at_the_third_try_is_saved() {
        let flaky = vec![Flaky { span: span(512, 512), tries: 3 }];
        let (_, lost) = salvage(Faults { flaky, ..Faults::default() }, 1024);
        assert_eq!(lost.unwrap(), []);
    }

    #[test]
    fn removed_card_is_not_reported_as_bad_sectors() {
        let faults = Faults { pulled_after: Some(ByteLen::new(100)), ..Faults::default() };
        let (_, lost) = salvage(faults, 1 << 20);
        assert_eq!(lost.unwrap_err().class(), Class::Gone);
    }
}
