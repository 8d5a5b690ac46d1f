//! The pipeline: tiles are read in order, worked on by all cores, and committed in order.
//!
//! Each worker takes the next tile, reads it, digests and prepares it, and hands it to the calling
//! thread, which commits tiles strictly one after the other:
//!
//! ```text
//!            ┌ worker: take turn → read → digest → prepare ┐
//! view  ───► ├ worker: take turn → read → digest → prepare ├ ───► commit 0, 1, 2 …  ───► sink
//!            └ worker: take turn → read → digest → prepare ┘
//! ```
//!
//! A card is read by one worker at a time, in order, as a card likes it; an image by all at once,
//! since reading it means decoding. No worker runs more than a few tiles ahead of the commits, so
//! memory depends on the number of cores and not on the card.

use super::salvage::{self, Damage, SoFar};
use crate::{
    image::{TILE, TileData, TileDigest, tile_count, tile_span},
    layout::View,
};
use imbrik_store::{
    Pool, ReadAt,
    error::{Error, Result},
    exact::Exact as _,
    progress::{Event, Step, Watch},
    units::{ByteLen, Span, joined},
};
use std::{
    collections::BTreeMap,
    num::NonZero,
    sync::{
        Condvar, Mutex, PoisonError,
        atomic::{AtomicBool, Ordering},
        mpsc,
    },
    thread,
};

/// A tile on its way.
pub(super) struct Tile {
    pub(super) index: u64,
    pub(super) span: Span,
    pub(super) data: TileData,
    pub(super) digest: TileDigest,
}

/// What is done with tiles: first on all cores, then in order on one.
pub(super) trait Sink {
    /// Works on tiles on one core.
    type Worker: FnMut(Tile) -> Result<Self::Piece> + Send;
    /// What comes out of that.
    type Piece: Send;

    /// A worker for one core.
    fn worker(&self) -> Result<Self::Worker>;

    /// Hears of what could not be read of the piece that comes next.
    fn lost(&mut self, _: &[Span]) -> Result<()> {
        Ok(())
    }

    /// Takes the pieces, strictly in order.
    fn commit(&mut self, span: Span, piece: Self::Piece) -> Result<()>;

    /// Brings to an end what all tiles together need, once the last is committed.
    fn finish(&mut self) -> Result<()> {
        Ok(())
    }

    /// How much of a tile counts as progress.
    fn weight(&self, span: Span) -> ByteLen {
        span.len()
    }
}

/// How a view is to be read.
#[derive(Clone)]
pub(super) struct Journey<'a> {
    pub(super) view: &'a View,
    pub(super) step: Step,
    /// What the sink's weights add up to.
    pub(super) total: ByteLen,
    pub(super) damage: Damage,
    /// Whether one read at a time is made, in order.
    pub(super) in_turn: bool,
    /// The tiles that the sink has already, and what of them could not be read.
    pub(super) done: Travelled,
    pub(super) watch: Watch<'a>,
}

/// What a journey found.
#[derive(Clone, Debug, Default)]
pub(super) struct Travelled {
    /// The digest of every tile, in order.
    pub(super) digests: Vec<TileDigest>,
    /// What could not be read, joined.
    pub(super) unreadable: Vec<Span>,
}

/// A piece, ready to be committed.
struct Ready<P> {
    span: Span,
    digest: TileDigest,
    lost: Vec<Span>,
    piece: P,
}

/// Which tile is next, the last that was heard of where data lie, and how the source has read so far
/// where it is read in turn.
#[derive(Default)]
struct Turn {
    next: u64,
    data: Option<Option<Span>>,
    so_far: SoFar,
}

/// How far the commits are, for workers that must not run ahead.
#[derive(Default)]
struct Pace {
    committed: Mutex<u64>,
    moved: Condvar,
    stop: AtomicBool,
}

impl Pace {
    /// Waits until tile `index` is less than `window` ahead; `false` when all is over.
    fn wait_for(&self, index: u64, window: u64) -> bool {
        let mut committed = self.committed.lock().unwrap_or_else(PoisonError::into_inner);
        while index >= committed.saturating_add(window) && !self.stop.load(Ordering::SeqCst) {
            committed = self.moved.wait(committed).unwrap_or_else(PoisonError::into_inner);
        }
        !self.stop.load(Ordering::SeqCst)
    }

    fn commit(&self, count: u64) {
        *self.committed.lock().unwrap_or_else(PoisonError::into_inner) = count;
        self.moved.notify_all();
    }

    fn stop(&self) {
        let _committed = self.committed.lock().unwrap_or_else(PoisonError::into_inner);
        self.stop.store(true, Ordering::SeqCst);
        self.moved.notify_all();
    }
}

/// A worker that panics would leave the others waiting for its tile for ever.
struct StopOnPanic<'a>(&'a Pace);

impl Drop for StopOnPanic<'_> {
    fn drop(&mut self) {
        if thread::panicking() {
            self.0.stop();
        }
    }
}

/// By how much workers stand back behind what is done in order, as the system counts it.
const WORKER_NICENESS: i32 = 10;

/// Workers for this machine: one more than cores, so that a read never leaves a core idle; not
/// more than eight, since each holds a tile and a codec.
fn worker_count() -> u64 {
    let cores = thread::available_parallelism().map_or(1, NonZero::get);
    u64::try_from(cores).unwrap_or(1).saturating_add(1).clamp(2, 8)
}

/// What is known of a tile before it is read: its digest, and the piece that comes of it.
pub(super) type KnownTile<P> = Option<(TileDigest, P)>;

/// Answers that for the tile of a number and a place.
pub(super) type Known<'a, P> = &'a (dyn Fn(u64, Span) -> KnownTile<P> + Sync);

/// Carries the whole view into `sink`.
///
/// # Errors
/// The first failure of reading, working or committing, and [`crate::Class::Cancelled`] when that was asked
/// for. Tiles before it are committed, none behind it.
pub(super) fn run<S: Sink>(journey: &Journey<'_>, sink: &mut S) -> Result<Travelled> {
    run_knowing(journey, sink, &|_, _| None)
}

/// As [`run`], but tiles that are `known` are not read.
///
/// # Errors
/// As [`run`].
pub(super) fn run_knowing<S: Sink>(
    journey: &Journey<'_>,
    sink: &mut S,
    known: Known<'_, S::Piece>,
) -> Result<Travelled> {
    let observer = journey.watch.observer;
    let workers = worker_count().min(tile_count(journey.view.size()).max(1));
    let first = journey.done.digests.len().fitting::<u64>()?;
    let road = Road {
        journey,
        window: workers.plus(2)?,
        pool: Pool::new(TILE.to_usize().unwrap_or(0)),
        turn: Mutex::new(Turn { next: first, ..Turn::default() }),
        pace: Pace { committed: Mutex::new(first), ..Pace::default() },
    };
    tracing::info!(step = ?journey.step, total = journey.total.get(), done = first, "a journey begins");
    observer.on(&Event::Started { step: journey.step, total: journey.total });
    let makers: Vec<S::Worker> = (0..workers).map(|_| sink.worker()).collect::<Result<_>>()?;
    let travelled = thread::scope(|scope| {
        let (sender, receiver) = mpsc::channel();
        for worker in makers {
            let (road, sender) = (&road, sender.clone());
            scope.spawn(move || {
                // What must be in order, hashes above all, is what a journey waits for: it goes first
                // where cores are few. Where that is not granted, all are alike.
                let _ = rustix::process::nice(WORKER_NICENESS);
                road.serve(worker, known, &sender);
            });
        }
        drop(sender);
        let result = road.commit_all(sink, &receiver);
        road.pace.stop();
        result
    });
    let travelled = match travelled {
        Ok(travelled) => travelled,
        Err(error) => {
            tracing::warn!(step = ?journey.step, %error, "a journey ended early");
            return Err(error);
        }
    };
    let unreadable = travelled.unreadable.len();
    tracing::info!(step = ?journey.step, unreadable, "a journey is done");
    observer.on(&Event::Finished);
    Ok(travelled)
}

/// What a worker took.
enum Taken<P> {
    /// A tile that was read, and what of it could not be.
    Read(Tile, Vec<Span>),
    /// A tile that need not be.
    Known(u64, Ready<P>),
}

/// What the workers of a journey share.
struct Road<'a> {
    journey: &'a Journey<'a>,
    /// How many tiles ahead of the commits a worker may be.
    window: u64,
    pool: Pool,
    turn: Mutex<Turn>,
    pace: Pace,
}

/// A tile's number, and what became of it.
type Handed<P> = (u64, Result<Ready<P>>);

impl Road<'_> {
    /// One worker: takes tiles, reads them, works on them and hands them over, until none is left.
    fn serve<P>(
        &self,
        mut worker: impl FnMut(Tile) -> Result<P>,
        known: Known<'_, P>,
        sender: &mpsc::Sender<Handed<P>>,
    ) {
        let _guard = StopOnPanic(&self.pace);
        loop {
            let (tile, lost) = match self.next_tile(known) {
                Ok(None) => return,
                Ok(Some(Taken::Read(tile, lost))) => (tile, lost),
                Ok(Some(Taken::Known(index, ready))) => {
                    if sender.send((index, Ok(ready))).is_err() {
                        return;
                    }
                    continue;
                }
                Err((index, error)) => {
                    let _ = sender.send((index, Err(error)));
                    return;
                }
            };
            let (index, span, digest) = (tile.index, tile.span, tile.digest);
            let ready = worker(tile).map(|piece| Ready { span, digest, lost, piece });
            if sender.send((index, ready)).is_err() {
                return;
            }
        }
    }

    /// Commits what the workers hand over, in order.
    fn commit_all<S: Sink>(
        &self,
        sink: &mut S,
        receiver: &mpsc::Receiver<Handed<S::Piece>>,
    ) -> Result<Travelled> {
        let Watch { observer, cancel } = self.journey.watch;
        let mut travelled = self.journey.done.clone();
        let first = travelled.digests.len().fitting::<u64>()?;
        let size = self.journey.view.size();
        let mut waiting = BTreeMap::new();
        let mut done: ByteLen = (0..first)
            .filter_map(|index| tile_span(index, size))
            .map(|tile| sink.weight(tile))
            .sum();
        for next in first..tile_count(size) {
            let ready = loop {
                if let Some(ready) = waiting.remove(&next) {
                    break ready;
                }
                let (index, ready) = receiver
                    .recv()
                    .map_err(|_| Error::bug("a worker ended before its work did"))?;
                waiting.insert(index, ready);
            };
            cancel.check()?;
            let ready = ready?;
            done = done.plus(sink.weight(ready.span))?;
            let lost = joined(ready.lost);
            if !lost.is_empty() {
                sink.lost(&lost)?;
            }
            sink.commit(ready.span, ready.piece)?;
            for span in lost {
                if self.journey.damage != Damage::Later {
                    observer.on(&Event::Unreadable { span });
                }
                travelled.unreadable.push(span);
            }
            travelled.digests.push(ready.digest);
            self.pace.commit(next.plus(1)?);
            observer.on(&Event::Advanced { done });
        }
        sink.finish()?;
        travelled.unreadable = joined(travelled.unreadable);
        Ok(travelled)
    }

    /// Takes the next tile and reads it; `None` when there is none left.
    fn next_tile<P>(
        &self,
        known: Known<'_, P>,
    ) -> std::result::Result<Option<Taken<P>>, (u64, Error)> {
        let Self { journey, turn, pace, window, pool } = self;
        let mut turn = turn.lock().unwrap_or_else(PoisonError::into_inner);
        let index = turn.next;
        let Some(span) = tile_span(index, journey.view.size()) else { return Ok(None) };
        if !pace.wait_for(index, *window) {
            return Ok(None);
        }
        turn.next = index.saturating_add(1);
        let failed = |error| (index, error);
        journey.watch.cancel.check().map_err(failed)?;
        if let Some((digest, piece)) = known(index, span) {
            return Ok(Some(Taken::Known(index, Ready { span, digest, lost: Vec::new(), piece })));
        }
        if !may_hold_data(journey.view, span, &mut turn.data).map_err(failed)? {
            let data = TileData::Zeros(span.len());
            let tile = Tile { index, span, data, digest: TileDigest::Zero };
            return Ok(Some(Taken::Read(tile, Vec::new())));
        }
        let mut buffer = pool.take(span.len().to_usize().unwrap_or(0));
        let mut read = |so_far: &mut SoFar| {
            let cancel = journey.watch.cancel;
            salvage::read(journey.view, span, &mut buffer, journey.damage, so_far, cancel)
        };
        let lost = if journey.in_turn {
            read(&mut turn.so_far)
        } else {
            drop(turn);
            read(&mut SoFar::default())
        };
        let lost = lost.map_err(failed)?;
        let (data, digest) = TileData::of(buffer);
        Ok(Some(Taken::Read(Tile { index, span, data, digest }, lost)))
    }
}

/// Whether a tile may hold anything but zeros. The last answer of the view is kept, so that a long
/// hole is asked for once and not once a tile.
pub(super) fn may_hold_data(
    view: &View,
    tile: Span,
    last: &mut Option<Option<Span>>,
) -> Result<bool> {
    let is_stale = match last {
        None => true,
        Some(None) => false,
        Some(Some(data)) => data.end() <= tile.start(),
    };
    if is_stale {
        *last = Some(view.next_data(tile.start())?);
    }
    Ok(matches!(last, Some(Some(data)) if data.start() < tile.end()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_store::{
        SparseStore, WriteAt,
        error::Class,
        progress::{Cancel, Unobserved},
        units::ByteOffset,
    };
    use std::sync::Arc;

    /// Keeps what it is given, and fails at one tile.
    struct Keep {
        seen: Vec<(u64, bool)>,
        fail_at: Option<u64>,
    }

    impl Sink for Keep {
        type Worker = Box<dyn FnMut(Tile) -> Result<(u64, bool)> + Send>;
        type Piece = (u64, bool);

        fn worker(&self) -> Result<Self::Worker> {
            let fail_at = self.fail_at;
            Ok(Box::new(move |tile| match fail_at == Some(tile.index) {
                true => Err(Error::corrupt("as told")),
                false => Ok((tile.index, matches!(tile.data, TileData::Zeros(_)))),
            }))
        }

        fn commit(&mut self, _: Span, piece: (u64, bool)) -> Result<()> {
            self.seen.push(piece);
            Ok(())
        }
    }

    fn run_with(tiles: u64, fail_at: Option<u64>, cancel: &Cancel) -> (Keep, Result<Travelled>) {
        let store = SparseStore::new(ByteLen::new(TILE.get() * tiles + 5));
        for tile in (0..tiles).step_by(3) {
            store.write_at(ByteOffset::new(tile * TILE.get() + 9), &[1]).unwrap();
        }
        let view = View::whole(Arc::new(store));
        let mut keep = Keep { seen: Vec::new(), fail_at };
        let journey = Journey {
            view: &view,
            step: Step::Saving,
            total: view.size(),
            damage: Damage::Stop,
            in_turn: tiles.is_multiple_of(2),
            done: Travelled::default(),
            watch: Watch { observer: &Unobserved, cancel },
        };
        let travelled = run(&journey, &mut keep);
        (keep, travelled)
    }

    #[test]
    fn every_tile_is_committed_once_and_in_order() {
        for tiles in [0, 1, 2, 30, 31] {
            let (keep, travelled) = run_with(tiles, None, &Cancel::new());
            let expected: Vec<_> =
                (0..=tiles).map(|tile| (tile, tile % 3 != 0 || tile == tiles)).collect();
            assert_eq!(keep.seen, expected);
            assert_eq!(travelled.unwrap().digests.len() as u64, tiles + 1);
        }
    }

    #[test]
    fn a_failure_ends_it_with_nothing_committed_behind() {
        let (keep, travelled) = run_with(30, Some(17), &Cancel::new());
        assert_eq!(travelled.unwrap_err().to_string(), "as told");
        assert_eq!(keep.seen.len(), 17);
    }

    #[test]
    fn a_request_to_stop_ends_it() {
        let cancel = Cancel::new();
        cancel.request();
        let (keep, travelled) = run_with(30, None, &cancel);
        assert_eq!(travelled.unwrap_err().class(), Class::Cancelled);
        assert!(keep.seen.is_empty());
    }
}
