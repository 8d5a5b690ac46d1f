//! A store that behaves like a bad or slow card, on purpose: for the rack and for tests.

use super::{ReadAt, WriteAt, for_pieces};
use crate::{
    error::{Error, Result},
    units::{ByteLen, ByteOffset, SectorSize, Span},
};
use rustix::io::Errno;
use std::{
    collections::HashMap,
    sync::{Mutex, PoisonError},
    time::{Duration, Instant},
};

/// A span that can be read only after several tries.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Flaky {
    /// Its range.
    pub span: Span,
    /// The number of the attempt at which a read of it succeeds; 1 for a healthy range.
    pub tries: u32,
}

/// The faults of a simulated card, and its speed.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Faults {
    /// Spans that can never be read.
    pub unreadable: Vec<Span>,
    /// Spans that can be read after some tries.
    pub flaky: Vec<Flaky>,
    /// The real capacity of a card that claims more: addresses past it wrap around.
    pub wraps_at: Option<ByteLen>,
    /// The real capacity of a card that claims more: data written past it are lost.
    pub keeps: Option<ByteLen>,
    /// It is pulled out once this many bytes went to and from it.
    pub pulled_after: Option<ByteLen>,
    /// Bytes per second when reading.
    pub read_rate: Option<u64>,
    /// Bytes per second when writing.
    pub write_rate: Option<u64>,
    /// The time for each request, in addition to the time for its bytes.
    pub request_time: Duration,
}

impl Faults {
    /// Returns whether reads have no cost apart from their bytes: only then may holes be reported.
    fn is_plain(&self) -> bool {
        self.unreadable.is_empty()
            && self.flaky.is_empty()
            && self.wraps_at.is_none()
            && self.keeps.is_none()
            && self.pulled_after.is_none()
            && self.read_rate.is_none()
            && self.request_time.is_zero()
    }
}

#[derive(Debug)]
struct State {
    moved: ByteLen,
    failed_tries: HashMap<ByteOffset, u32>,
    busy_until: Instant,
}

/// A store with [`Faults`].
#[derive(Debug)]
pub struct Faulty<S> {
    inner: S,
    faults: Faults,
    state: Mutex<State>,
}

impl<S: ReadAt> Faulty<S> {
    /// Gives `inner` these `faults`.
    pub fn new(inner: S, faults: Faults) -> Self {
        let state = State {
            moved: ByteLen::ZERO,
            failed_tries: HashMap::new(),
            busy_until: Instant::now(),
        };
        Self { inner, faults, state: Mutex::new(state) }
    }

    /// The store without faults.
    pub fn inner(&self) -> &S {
        &self.inner
    }

    /// Does a request of `len` and takes the time that the card would take for it, one request
    /// after another.
    fn timed<T>(
        &self,
        len: ByteLen,
        rate: Option<u64>,
        request: impl FnOnce() -> Result<T>,
    ) -> Result<T> {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        state.moved = state.moved.saturating_add(len);
        if self.faults.pulled_after.is_some_and(|most| state.moved > most) {
            return Err(Error::io("the card does not answer", Errno::NODEV.into()));
        }
        let micros = rate.map_or(0, |rate| {
            len.get().saturating_mul(1_000_000).checked_div(rate).unwrap_or(u64::MAX)
        });
        let cost = self.faults.request_time.saturating_add(Duration::from_micros(micros));
        let now = Instant::now();
        let until = state.busy_until.max(now).checked_add(cost).unwrap_or(now);
        state.busy_until = until;
        drop(state);
        let done = request();
        std::thread::sleep(until.saturating_duration_since(Instant::now()));
        done
    }

    fn fails(&self, span: Span) -> bool {
        if self.faults.unreadable.iter().any(|bad| bad.intersect(span).is_some()) {
            return true;
        }
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        let hit = |flaky: &&Flaky| flaky.span.intersect(span).is_some();
        let mut failed = false;
        for flaky in self.faults.flaky.iter().filter(hit) {
            let tries = state.failed_tries.entry(flaky.span.start()).or_insert(1);
            if *tries < flaky.tries {
                *tries = tries.saturating_add(1);
                failed = true;
            }
        }
        failed
    }

    /// The real ranges of `span`, more than one if the card wraps around; and whether they exist.
    fn real(&self, span: Span) -> impl Iterator<Item = (Span, bool)> {
        let mut pieces = Vec::new();
        let wrap = self.faults.wraps_at.filter(|size| !size.is_zero());
        let mut at = span.start();
        while at < span.end() {
            let (start, room) = match wrap {
                Some(size) => {
                    let inside = at.get().checked_rem(size.get()).unwrap_or(0);
                    (ByteOffset::new(inside), size.saturating_sub(ByteLen::new(inside)))
                }
                None => (at, span.len()),
            };
            let len = room.min(span.end().saturating_since(at));
            pieces.push(Span::between(start, start.saturating_add(len)));
            at = at.saturating_add(len);
        }
        let kept =
            self.faults.keeps.map_or(ByteOffset::new(u64::MAX), |len| ByteOffset::new(len.get()));
        pieces.into_iter().flat_map(move |piece: Span| {
            let end = piece.end().min(kept).max(piece.start());
            let parts = [
                (Span::between(piece.start(), end), true),
                (Span::between(end, piece.end()), false),
            ];
            parts.into_iter().filter(|(part, _)| !part.is_empty())
        })
    }
}

impl<S: ReadAt> ReadAt for Faulty<S> {
    fn size(&self) -> ByteLen {
        self.inner.size()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        let span = Span::between(at, at.saturating_add(ByteLen::of(buf)));
        self.timed(span.len(), self.faults.read_rate, || {
            if self.fails(span) {
                return Err(Error::io(format!("reading {span}"), Errno::IO.into()));
            }
            let mut rest = buf;
            for (piece, is_there) in self.real(span) {
                let len = piece.len().to_usize().unwrap_or(0).min(rest.len());
                let (now, later) = rest.split_at_mut(len);
                match is_there {
                    true => self.inner.read_at(piece.start(), now)?,
                    false => now.fill(0),
                }
                rest = later;
            }
            Ok(())
        })
    }

    fn next_data(&self, from: ByteOffset) -> Result<Option<Span>> {
        if self.faults.is_plain() {
            return self.inner.next_data(from);
        }
        let rest = Span::between(from, ByteOffset::new(self.size().get()));
        Ok((!rest.is_empty()).then_some(rest))
    }

    fn sector_size(&self) -> SectorSize {
        self.inner.sector_size()
    }
}

impl<S: WriteAt> WriteAt for Faulty<S> {
    fn write_at(&self, at: ByteOffset, bytes: &[u8]) -> Result<()> {
        let span = Span::between(at, at.saturating_add(ByteLen::of(bytes)));
        self.timed(span.len(), self.faults.write_rate, || {
            let mut rest = bytes;
            for (piece, is_there) in self.real(span) {
                let len = piece.len().to_usize().unwrap_or(0).min(rest.len());
                let (now, later) = rest.split_at(len);
                if is_there {
                    self.inner.write_at(piece.start(), now)?;
                }
                rest = later;
            }
            Ok(())
        })
    }

    fn zero_at(&self, span: Span) -> Result<()> {
        for_pieces(span, ByteLen::mib(4), |piece| {
            self.timed(piece.len(), self.faults.write_rate, || {
                let mut there = self.real(piece).filter(|(_, is_there)| *is_there);
                there.try_for_each(|(real, _)| self.inner.zero_at(real))
            })
        })
    }

    fn flush(&self) -> Result<()> {
        self.timed(ByteLen::ZERO, None, || self.inner.flush())
    }
}

#[cfg(test)]
mod tests {
    use super::{super::SparseStore, *};
    use crate::error::Class;

    fn span(start: u64, len: u64) -> Span {
        Span::new(ByteOffset::new(start), ByteLen::new(len)).unwrap()
    }

    fn card(faults: Faults) -> Faulty<SparseStore> {
        Faulty::new(SparseStore::new(ByteLen::kib(64)), faults)
    }

    #[test]
    fn unreadable_span_fails_and_its_neighbours_succeed() {
        let card = card(Faults { unreadable: vec![span(1024, 512)], ..Faults::default() });
        let mut buf = [0; 512];
        assert!(card.read_at(ByteOffset::new(512), &mut buf).is_ok());
        assert_eq!(card.read_at(ByteOffset::new(1000), &mut buf).unwrap_err().class(), Class::Io);
        assert!(card.read_at(ByteOffset::new(1536), &mut buf).is_ok());
    }

    #[test]
    fn flaky_span_is_read_at_the_configured_try() {
        let flaky = Flaky { span: span(0, 512), tries: 3 };
        let card = card(Faults { flaky: vec![flaky], ..Faults::default() });
        let tries = (1..).find(|_| card.read_at(ByteOffset::ZERO, &mut [0; 512]).is_ok());
        assert_eq!(tries, Some(3));
    }

    #[test]
    fn a_card_that_holds_less_than_it_claims_overwrites_its_start() {
        let faults = Faults { wraps_at: Some(ByteLen::kib(16)), ..Faults::default() };
        let card = card(faults);
        card.write_at(ByteOffset::new((16 << 10) - 2), b"queen").unwrap();
        let mut buf = [0; 3];
        card.read_at(ByteOffset::ZERO, &mut buf).unwrap();
        assert_eq!(&buf, b"een");
    }

    #[test]
    fn removed_card_stays_removed() {
        let card = card(Faults { pulled_after: Some(ByteLen::new(1000)), ..Faults::default() });
        assert!(card.write_at(ByteOffset::ZERO, &[1; 600]).is_ok());
        for _ in 0..2 {
            assert_eq!(
                card.write_at(ByteOffset::ZERO, &[1; 600]).unwrap_err().class(),
                Class::Gone
            );
        }
        assert!(card.flush().is_err());
    }

    #[test]
    fn slow_card_delays_requests() {
        let card = card(Faults { read_rate: Some(1 << 20), ..Faults::default() });
        let start = Instant::now();
        card.read_at(ByteOffset::ZERO, &mut vec![0; 64 << 10]).unwrap();
        assert!(start.elapsed() >= Duration::from_micros(62_400), "{:?}", start.elapsed());
    }
}
