//! Reading a card that has bad sectors, before anything is copied: its metadata may be readable at
//! the second try, or nearly all of them.

use super::ReadAt;
use crate::{
    error::{Class, Error, Result},
    progress::Cancel,
    units::{ByteLen, ByteOffset, SectorSize, Span, joined},
};
use std::sync::{Mutex, PoisonError};

/// How often a sector is tried before it is given up.
const TRIES: u32 = 4;

/// After so many sectors that were given up, pieces that fail are no longer taken apart: a card that
/// is bad all over would take hours.
const MOST_GIVEN_UP: usize = 16;

/// How a long piece that fails is taken apart.
const PART: ByteLen = ByteLen::kib(64);

/// What is read piece by piece, since it cannot be read at once.
pub struct Pieces<'a> {
    /// What is read.
    pub source: &'a dyn ReadAt,
    /// The request to stop.
    pub cancel: &'a Cancel,
    /// Whether a piece is known to be bad, and is not asked for again.
    pub is_known: &'a dyn Fn(Span) -> bool,
    /// How many pieces may be given up before the others are given up whole.
    pub most: usize,
    /// What was given up.
    pub lost: Vec<Span>,
}

impl Pieces<'_> {
    /// Reads as much as possible: a piece that fails is read as two halves, down to single
    /// sectors. What cannot be read is zeros.
    ///
    /// # Errors
    /// Those that no other piece would escape, such as a card that was pulled out.
    pub fn read(&mut self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        let sector = self.source.sector_size().len();
        let span = Span::between(at, at.saturating_add(ByteLen::of(buf)));
        let mut tries = 0u32;
        loop {
            let done = match (self.is_known)(span) {
                true => Err(given_up(span)),
                false => self.source.read_at(at, buf),
            };
            match done {
                Ok(()) => return Ok(()),
                // A damaged piece of an image stays damaged however it is cut.
                Err(error) if matches!(error.class(), Class::Corrupt | Class::Mismatch) => break,
                Err(error) if !error.is_of_a_place() => return Err(error),
                Err(_) if span.len() > sector && self.lost.len() < self.most => {
                    // A bad card may take seconds to give up on a sector.
                    self.cancel.check()?;
                    return self.read_in_parts(at, buf, sector);
                }
                Err(_) if span.len() > sector => break,
                // Behind the end there is nothing, however often one asks.
                Err(error) if error.class() == Class::Ended => break,
                Err(_) => {
                    tries = tries.saturating_add(1);
                    if tries >= TRIES || (self.is_known)(span) {
                        break;
                    }
                }
            }
        }
        buf.fill(0);
        self.lost.push(span);
        Ok(())
    }

    /// Reads what failed at once: what is long in pieces of 64 KiB, so that each good byte of it is asked
    /// for but once more, and what is shorter as two halves.
    fn read_in_parts(&mut self, at: ByteOffset, buf: &mut [u8], sector: ByteLen) -> Result<()> {
        let part = match ByteLen::of(buf) > PART {
            true => PART.to_usize().unwrap_or(usize::MAX),
            false => half(buf.len(), sector).max(1),
        };
        let mut at = at;
        for part in buf.chunks_mut(part) {
            self.read(at, part)?;
            at = at.saturating_add(ByteLen::of(part));
        }
        Ok(())
    }
}

/// Half of a piece of more than one sector, to the whole sector.
fn half(len: usize, sector: ByteLen) -> usize {
    let sectors = ByteLen::from_usize(len).get().div_ceil(sector.get().max(1));
    let half = sector.checked_mul(sectors / 2).and_then(ByteLen::to_usize);
    half.unwrap_or(0).min(len)
}

fn given_up(span: Span) -> Error {
    let what = format!("{span} cannot be read: the card did not give it back in {TRIES} tries");
    Error::new(Class::Io, what)
}

/// A store that tries again, down to single sectors, before it says that something cannot be read;
/// and that does not ask a second time for what it gave up.
pub struct Patient<S> {
    inner: S,
    is_blank: bool,
    lost: Mutex<Vec<Span>>,
    /// Of the last piece that failed: where it is, what of it could be read, and what not. Whoever asks
    /// for it in parts now has that already.
    rest: Mutex<Option<Rest>>,
}

struct Rest {
    span: Span,
    bytes: Vec<u8>,
    lost: Vec<Span>,
}

/// The longest piece of which the rest is kept, in bytes.
const MOST_REST: usize = 8 << 20;

impl<S> Patient<S> {
    /// Fills `buf` with `span` out of the rest of the last piece that failed; answers whether all of
    /// it is there.
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
        Self { inner, is_blank: false, lost: Mutex::default(), rest: Mutex::default() }
    }

    /// Reads `inner`. What cannot be read at all is zeros: whoever looks at them asks for
    /// [`Patient::lost`] before believing anything.
    pub fn blank(inner: S) -> Self {
        Self { is_blank: true, ..Self::new(inner) }
    }

    /// What could not be read up to now, in order and joined.
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
        let known = self.lost();
        let is_known = |span: Span| known.iter().any(|bad| bad.intersect(span).is_some());
        if self.take_from_rest(span, buf) {
            return Ok(());
        }
        if !is_known(span) {
            match self.inner.read_at(at, buf) {
                Err(error) if error.is_of_a_place() => {}
                done => return done,
            }
        } else if !self.is_blank {
            return Err(given_up(span));
        }
        let cancel = Cancel::new();
        let most = MOST_GIVEN_UP.saturating_sub(known.len());
        let mut pieces = Pieces {
            source: &self.inner,
            cancel: &cancel,
            is_known: &is_known,
            most,
            lost: Vec::new(),
        };
        let sector = self.inner.sector_size().len();
        // All of it was just asked for, and failed.
        match span.len() > sector && most > 0 {
            true => pieces.read_in_parts(at, buf, sector)?,
            false => pieces.read(at, buf)?,
        }
        if pieces.lost.is_empty() {
            return Ok(());
        }
        // Of a piece that was not taken apart, nobody knows which sectors are bad: it is lost for whoever
        // got zeros for it, and for nobody else.
        let is_certain = |span: &&Span| self.is_blank || span.len() <= sector;
        let mut known = self.lost.lock().unwrap_or_else(PoisonError::into_inner);
        known.extend(pieces.lost.iter().filter(is_certain));
        drop(known);
        let lost = joined(pieces.lost);
        if !self.is_blank && buf.len() <= MOST_REST {
            let rest = Rest { span, bytes: buf.to_vec(), lost: lost.clone() };
            *self.rest.lock().unwrap_or_else(PoisonError::into_inner) = Some(rest);
        }
        match lost.first() {
            Some(first) if !self.is_blank => Err(given_up(*first)),
            _ => Ok(()),
        }
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
    fn a_sector_that_reads_at_the_third_try_is_no_error() {
        let flaky = vec![Flaky { span: span(70_144, 512), tries: 5 }];
        let store = Patient::new(card(Faults { flaky, ..Faults::default() }, &Tally::default()));
        assert!(read_vec(&store, ByteOffset::ZERO, 1 << 20).unwrap().iter().all(|b| *b == 7));
    }

    #[test]
    fn what_was_given_up_is_not_asked_for_again() {
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
    fn a_card_that_is_bad_all_over_is_given_up_in_large_pieces() {
        let tally = Tally::default();
        let faults = Faults { unreadable: vec![span(0, 1 << 20)], ..Faults::default() };
        let store = Patient::blank(card(faults, &tally));
        assert!(read_vec(&store, ByteOffset::ZERO, 1 << 20).unwrap().iter().all(|b| *b == 0));
        assert!(tally.reads() < 150, "{} requests", tally.reads());
    }

    /// Would fail where somebody who takes a failed piece apart has all of it read once more.
    #[test]
    fn what_of_a_failed_piece_could_be_read_is_not_read_again() {
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

    /// Would fail where a piece that was given up whole is refused for ever, good sectors included.
    #[test]
    fn behind_many_bad_sectors_the_good_ones_can_still_be_read() {
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
    fn a_card_that_was_pulled_out_is_not_taken_for_a_bad_one() {
        let faults = Faults { pulled_after: Some(ByteLen::new(100)), ..Faults::default() };
        let store = Patient::blank(card(faults, &Tally::default()));
        assert_eq!(read_vec(&store, ByteOffset::ZERO, 512).unwrap_err().class(), Class::Gone);
    }
}
