//! Reading a card that has bad sectors, before anything is copied: its metadata may be readable at
//! the second try, or nearly all of them.

use crate::{
    error::{Class, Error, Result},
    exact::invariant_error,
    progress::Cancel,
    rescue::{Rescue, TRIES},
    store::ReadAt,
    units::{ByteLen, ByteOffset, SectorSize, Span, joined},
};
use std::sync::{Mutex, PoisonError};

/// After this many failed requests, failed ranges are no longer divided: a card that is bad all over would take hours.
/// A bad sector needs about fifteen.
const MOST_FAILED: u64 = 192;

fn given_up(span: Span) -> Error {
    let what = format!("{span} cannot be read: the card did not give it back in {TRIES} tries");
    Error::new(Class::Io, what)
}

/// A store with known bad ranges, which are not read.
struct Known<'a> {
    inner: &'a dyn ReadAt,
    bad: &'a [Span],
}

impl Known<'_> {
    fn is_bad(&self, span: Span) -> bool {
        self.bad.iter().any(|bad| bad.intersect(span).is_some())
    }
}

impl ReadAt for Known<'_> {
    fn size(&self) -> ByteLen {
        self.inner.size()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        let span = Span::between(at, at.saturating_add(ByteLen::of(buf)));
        if self.is_bad(span) {
            return Err(given_up(span));
        }
        self.inner.read_at(at, buf)
    }

    fn sector_size(&self) -> SectorSize {
        self.inner.sector_size()
    }
}

/// A store that retries failed reads, down to single sectors, before it reports an error; abandoned sectors are not
/// read again.
pub struct Patient<S> {
    inner: S,
    is_blank: bool,
    lost: Mutex<Vec<Span>>,
    failures_left: Mutex<u64>,
    /// The range of the last failed read, its readable part, and its unreadable ranges. A caller that reads it in
    /// smaller requests gets them from here.
    rest: Mutex<Option<Rest>>,
}

struct Rest {
    span: Span,
    bytes: Vec<u8>,
    lost: Vec<Span>,
}

/// The maximum length of a range whose rest is kept, in bytes.
const MOST_REST: usize = 8 << 20;

impl<S> Patient<S> {
    /// Fills `buf` with `span` from the rest of the last failed range; returns whether all of it is available.
    fn take_from_rest(&self, span: Span, buf: &mut [u8]) -> bool {
        let rest = self.rest.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(rest) = rest.as_ref().filter(|rest| rest.span.contains(span)) else {
            return false;
        };
        if rest.lost.iter().any(|lost| lost.intersect(span).is_some()) {
            return false;
        }
        let ahead = span.start().saturating_since(rest.span.start());
        let from = ahead.to_usize().unwrap_or(usize::MAX);
        match rest.bytes.get(from..from.saturating_add(buf.len())) {
            Some(part) => {
                buf.copy_from_slice(part);
                true
            }
            None => false,
        }
    }
}

impl<S: ReadAt> Patient<S> {
    /// Reads `inner`. What cannot be read at all is an error.
    pub fn new(inner: S) -> Self {
        Self {
            inner,
            is_blank: false,
            lost: Mutex::default(),
            failures_left: Mutex::new(MOST_FAILED),
            rest: Mutex::default(),
        }
    }

    /// Reads `inner`, with zeros for unreadable data: call [`Patient::lost`] before relying on any of it.
    pub fn blank(inner: S) -> Self {
        Self { is_blank: true, ..Self::new(inner) }
    }

    /// The unreadable ranges so far, in order and joined.
    pub fn lost(&self) -> Vec<Span> {
        joined(self.lost.lock().unwrap_or_else(PoisonError::into_inner).clone())
    }
}

impl<S: ReadAt> ReadAt for Patient<S> {
    fn size(&self) -> ByteLen {
        self.inner.size()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        let span = Span::between(at, at.saturating_add(ByteLen::of(buf)));
        let bad = self.lost();
        let known = Known { inner: &self.inner, bad: &bad };
        if self.take_from_rest(span, buf) {
            return Ok(());
        }
        if !known.is_bad(span) {
            match self.inner.read_at(at, buf) {
                Err(error) if error.concerns_a_range() => {}
                done => return done,
            }
        } else if !self.is_blank {
            return Err(given_up(span));
        }
        buf.fill(0);
        let cancel = Cancel::new();
        let mut failures_left = self.failures_left.lock().unwrap_or_else(PoisonError::into_inner);
        let mut rescue = Rescue::new(&known, &cancel, None).with_most_failed(*failures_left);
        let lost = rescue.run(
            &[span],
            &mut |from, bytes| {
                let ahead = from.saturating_since(at).to_usize().unwrap_or(usize::MAX);
                let place = buf.get_mut(ahead..ahead.saturating_add(bytes.len()));
                let place =
                    place.ok_or_else(|| invariant_error("more was read than was asked for"))?;
                place.copy_from_slice(bytes);
                Ok(())
            },
            &mut |_| {},
        )?;
        *failures_left = rescue.failures_left();
        drop(failures_left);
        if lost.is_empty() {
            return Ok(());
        }
        // If not every sector was tried, the bad ones are unknown: everything that was replaced by zeros counts as
        // lost, and only for a caller that gets zeros.
        if self.is_blank || !rescue.was_cut_short() {
            let mut known = self.lost.lock().unwrap_or_else(PoisonError::into_inner);
            known.extend(&lost);
        }
        if !self.is_blank && buf.len() <= MOST_REST {
            let rest = Rest { span, bytes: buf.to_vec(), lost: lost.clone() };
            *self.rest.lock().unwrap_or_else(PoisonError::into_inner) = Some(rest);
        }
        match lost.first() {
            Some(first) if !self.is_blank => Err(given_up(*first)),
            _ => Ok(()),
        }
    }

    fn read_once(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        self.inner.read_once(at, buf)
    }

    fn next_data(&self, from: ByteOffset) -> Result<Option<Span>> {
        self.inner.next_data(from)
    }

    fn sector_size(&self) -> SectorSize {
        self.inner.sector_size()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{
        Counted, SparseStore, Tally, read_vec,
        testing::{Faults, Faulty, Flaky},
    };

    fn span(start: u64, len: u64) -> Span {
        Span::new(ByteOffset::new(start), ByteLen::new(len)).unwrap()
    }

    fn card(faults: Faults, tally: &Tally) -> Counted<Faulty<SparseStore>> {
        Counted::new(Faulty::new(SparseStore::of(&vec![7; 1 << 20]), faults), tally)
    }

    #[test]
    fn sector_that_reads_at_the_third_try_succeeds() {
        let flaky = vec![Flaky { span: span(70_144, 512), tries: 5 }];
        let store = Patient::new(card(Faults { flaky, ..Faults::default() }, &Tally::default()));
        assert!(read_vec(&store, ByteOffset::ZERO, 1 << 20).unwrap().iter().all(|b| *b == 7));
    }

    #[test]
    fn abandoned_sectors_are_not_read_again() {
        let tally = Tally::default();
        let faults = Faults { unreadable: vec![span(5_000, 1)], ..Faults::default() };
        let store = Patient::new(card(faults.clone(), &tally));
        let error = read_vec(&store, ByteOffset::ZERO, 64 << 10).unwrap_err();
        assert_eq!(error.class(), Class::Io);
        let asked = tally.reads();
        assert!(read_vec(&store, ByteOffset::new(4096), 4096).is_err());
        assert_eq!(tally.reads(), asked);
        assert!(read_vec(&store, ByteOffset::new(8192), 4096).is_ok());

        let blank = Patient::blank(card(faults, &tally));
        for _ in 0..2 {
            let bytes = read_vec(&blank, ByteOffset::ZERO, 64 << 10).unwrap();
            let zeros: Vec<_> = (0..bytes.len()).filter(|at| bytes[*at] == 0).collect();
            assert_eq!(zeros, (4608..5120).collect::<Vec<_>>(), "one sector");
        }
        assert_eq!(blank.lost(), [span(4608, 512)]);
    }

    #[test]
    fn fully_bad_card_is_abandoned_in_large_steps() {
        let tally = Tally::default();
        let faults = Faults { unreadable: vec![span(0, 1 << 20)], ..Faults::default() };
        let store = Patient::blank(card(faults, &tally));
        assert!(read_vec(&store, ByteOffset::ZERO, 1 << 20).unwrap().iter().all(|b| *b == 0));
        assert!(tally.reads() < 200, "{} requests", tally.reads());
    }

    /// Fails if reading a failed range in smaller requests reads all of it again.
    #[test]
    fn readable_part_of_a_failed_read_is_kept() {
        let tally = Tally::default();
        let faults = Faults { unreadable: vec![span(300_000, 1)], ..Faults::default() };
        let store = Patient::new(card(faults, &tally));
        assert!(read_vec(&store, ByteOffset::ZERO, 1 << 20).is_err());
        let (asked, read) = (tally.reads(), tally.read());
        assert!(read <= ByteLen::new((2 << 20) + (256 << 10)), "{read} in {asked} requests");
        for at in (0..1 << 20).step_by(4096).filter(|at| *at != 299_008) {
            let found = read_vec(&store, ByteOffset::new(at), 4096).unwrap();
            assert!(found.iter().all(|byte| *byte == 7));
        }
        assert!(read_vec(&store, ByteOffset::new(299_008), 4096).is_err());
        assert_eq!(tally.reads(), asked);
    }

    /// Fails if a range that was abandoned in full is refused forever, good sectors included.
    #[test]
    fn good_sectors_after_many_bad_ones_are_read() {
        let bad = |n: u64| span(n * 20_480, 512);
        let faults = Faults { unreadable: (0..40).map(bad).collect(), ..Faults::default() };
        let store = Patient::new(card(faults, &Tally::default()));
        for n in 0..40 {
            assert!(read_vec(&store, ByteOffset::new(n * 20_480), 20_480).is_err());
        }
        for n in 0..40 {
            assert!(read_vec(&store, ByteOffset::new(n * 20_480 + 512), 19_968).is_ok(), "{n}");
        }
    }

    #[test]
    fn removed_card_is_not_taken_for_a_bad_one() {
        let faults = Faults { pulled_after: Some(ByteLen::new(100)), ..Faults::default() };
        let store = Patient::blank(card(faults, &Tally::default()));
        assert_eq!(read_vec(&store, ByteOffset::ZERO, 512).unwrap_err().class(), Class::Gone);
    }
}
