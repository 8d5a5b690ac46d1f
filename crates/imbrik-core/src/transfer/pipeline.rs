//! The pipeline: tiles are read in order, processed on all cores, and committed in order.
//!
//! Each worker takes the next tile, reads it, computes its digest, prepares it, and passes it to the calling thread,
//! which commits tiles strictly in order:
//!
//! ```text
//!            ┌ worker: take turn → read → digest → prepare ┐
//! view  ───► ├ worker: take turn → read → digest → prepare ├ ───► commit 0, 1, 2 …  ───► sink
//!            └ worker: take turn → read → digest → prepare ┘
//! ```
//!
//! A card is read by one worker at a time, in order, for sequential reads; an image by all at once, because reading it
//! means decoding. No worker is more than a few tiles ahead of the commits, so memory use depends on the number of
//! cores and not on the size of the card.

use super::salvage::{self, Damage, SoFar};
use crate::{
    image::{KnownPiece, PieceHashes, TILE, TileData, TileDigest, tile_count, tile_span},
    layout::View,
};
use imbrik_store::{
    Buffer, Pool, ReadAt,
    error::{Error, Result},
    exact::Exact as _,
    progress::{Event, Step, Watch},
    units::{ByteLen, Span, joined, without},
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

/// A tile in the pipeline.
pub(super) struct Tile {
    pub(super) span: Span,
    pub(super) data: TileData,
    /// The digest of the whole tile.
    pub(super) digest: TileDigest,
    pub(super) pieces: PieceHashes,
    /// Pieces that were not read, because they are known; their part of the data is undefined. In order.
    pub(super) unread: Vec<Span>,
}

/// The operations on tiles: first on all cores, then in order on one.
pub(super) trait Sink {
    /// Processes tiles on one core.
    type Worker: FnMut(Tile) -> Result<Self::Piece> + Send;
    /// The result of processing a tile.
    type Piece: Send;

    /// A worker for one core.
    fn worker(&self) -> Result<Self::Worker>;

    /// Reports unreadable ranges of the next piece.
    fn lost(&mut self, _: &[Span]) -> Result<()> {
        Ok(())
    }

    /// Receives the pieces, strictly in order.
    fn commit(&mut self, span: Span, piece: Self::Piece) -> Result<()>;

    /// Finishes after the last piece was committed.
    fn finish(&mut self) -> Result<()> {
        Ok(())
    }

    /// The weight of a tile in the progress.
    fn weight(&self, span: Span) -> ByteLen {
        span.len()
    }
}

/// Options for reading a view.
#[derive(Clone)]
pub(super) struct Pipeline<'a> {
    pub(super) view: &'a View,
    pub(super) step: Step,
    /// The sum of the sink's weights.
    pub(super) total: ByteLen,
    pub(super) damage: Damage,
    /// True if only one read is made at a time, in order.
    pub(super) in_turn: bool,
    /// True if the chaining values of pieces are computed.
    pub(super) in_pieces: bool,
    /// The tiles that the sink has already, and their unreadable ranges.
    pub(super) done: Transferred,
    /// Verifies a tile that is known before it is used without being read; it is read if this returns `false`.
    /// `None` when known tiles need no verification.
    pub(super) is_intact: Option<IsIntact<'a>>,
    pub(super) watch: Watch<'a>,
}

/// Returns whether the content of a known tile still matches its digest.
pub(super) type IsIntact<'a> = &'a (dyn Fn(Span, &TileDigest) -> Result<bool> + Sync);

/// The result of a run.
#[derive(Clone, Debug, Default)]
pub(super) struct Transferred {
    /// The digests of all tiles, in order.
    pub(super) digests: Vec<TileDigest>,
    /// The chaining values of the pieces of all tiles, in order.
    pub(super) pieces: Vec<PieceHashes>,
    /// Unreadable ranges, joined.
    pub(super) unreadable: Vec<Span>,
}

impl Pipeline<'_> {
    /// The tile at `span`, read into `buffer` except for the `known` pieces at `unread`.
    fn tile(&self, span: Span, buffer: Buffer, known: &[KnownPiece], unread: Vec<Span>) -> Tile {
        let (data, digest, pieces) = match self.in_pieces || !known.is_empty() {
            true => TileData::in_pieces(buffer, known),
            false => {
                let (data, digest) = TileData::of(buffer);
                (data, digest, PieceHashes::default())
            }
        };
        Tile { span, data, digest, pieces, unread }
    }
}

/// A piece, ready to be committed.
struct Ready<P> {
    span: Span,
    digest: TileDigest,
    pieces: PieceHashes,
    lost: Vec<Span>,
    piece: P,
}

/// The next tile, the last answer about data and holes, and the read-ahead state of a sequential source.
#[derive(Default)]
struct Turn {
    next: u64,
    data: Option<Option<Span>>,
    so_far: SoFar,
}

/// The progress of the commits, for workers that must not be too far ahead.
#[derive(Default)]
struct Pace {
    committed: Mutex<u64>,
    moved: Condvar,
    stop: AtomicBool,
}

impl Pace {
    /// Waits until tile `index` is less than `window` ahead; `false` if the run ended.
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

/// Ends the run if a worker panics: otherwise the others would wait for its tile forever.
struct StopOnPanic<'a>(&'a Pace);

impl Drop for StopOnPanic<'_> {
    fn drop(&mut self) {
        if thread::panicking() {
            self.0.stop();
        }
    }
}

/// The nice value of workers, relative to the thread that commits.
const WORKER_NICENESS: i32 = 10;

/// Worker threads for this machine: one more than cores, so that a read never leaves a core idle; not more than eight,
/// since each has a tile and a codec in memory.
fn worker_count() -> u64 {
    let cores = thread::available_parallelism().map_or(1, NonZero::get);
    u64::try_from(cores).unwrap_or(1).saturating_add(1).clamp(2, 8)
}

/// Knowledge about a tile before it is read.
pub(super) enum KnownTile<P> {
    /// Nothing is known: the tile is read.
    Nothing,
    /// The digests of some of its pieces, in order: only the others are read.
    Some(Vec<KnownPiece>),
    /// Its digest, those of its pieces, and its result.
    All(TileDigest, PieceHashes, P),
    /// It is known, but could not be verified.
    Failed(Error),
}

/// Returns the knowledge about the tile of a number and location.
pub(super) type Known<'a, P> = &'a (dyn Fn(u64, Span) -> KnownTile<P> + Sync);

/// Runs the whole view through `sink`.
///
/// # Errors
/// The first error of reading, processing or committing, and [`crate::Class::Cancelled`] on request. Tiles before it
/// are committed, none after it.
pub(super) fn run<S: Sink>(pipeline: &Pipeline<'_>, sink: &mut S) -> Result<Transferred> {
    run_knowing(pipeline, sink, &|_, _| KnownTile::Nothing)
}

/// As [`run`], but tiles that are `known` are not read.
///
/// # Errors
/// As [`run`].
pub(super) fn run_knowing<S: Sink>(
    pipeline: &Pipeline<'_>,
    sink: &mut S,
    known: Known<'_, S::Piece>,
) -> Result<Transferred> {
    let observer = pipeline.watch.observer;
    let workers = worker_count().min(tile_count(pipeline.view.size()).max(1));
    let first = pipeline.done.digests.len().exact_as::<u64>()?;
    let road = Workers {
        pipeline,
        window: workers.plus(2)?,
        pool: Pool::new(TILE.to_usize().unwrap_or(0)),
        turn: Mutex::new(Turn { next: first, ..Turn::default() }),
        pace: Pace { committed: Mutex::new(first), ..Pace::default() },
    };
    tracing::info!(step = ?pipeline.step, total = pipeline.total.get(), done = first, "a journey begins");
    observer.on(&Event::Started { step: pipeline.step, total: pipeline.total });
    let makers: Vec<S::Worker> = (0..workers).map(|_| sink.worker()).collect::<Result<_>>()?;
    let transferred = thread::scope(|scope| {
        let (sender, receiver) = mpsc::channel();
        for worker in makers {
            let (road, sender) = (&road, sender.clone());
            scope.spawn(move || {
                // The sequential part, hashing above all, limits the speed: it gets priority when cores are few. If the
                // system denies that, all threads are equal.
                let _ = rustix::process::nice(WORKER_NICENESS);
                road.serve(worker, known, &sender);
            });
        }
        drop(sender);
        let result = road.commit_all(sink, &receiver);
        road.pace.stop();
        result
    });
    let transferred = match transferred {
        Ok(transferred) => transferred,
        Err(error) => {
            tracing::warn!(step = ?pipeline.step, %error, "a transfer ended early");
            return Err(error);
        }
    };
    let unreadable = transferred.unreadable.len();
    tracing::info!(step = ?pipeline.step, unreadable, "a journey is done");
    observer.on(&Event::Finished);
    Ok(transferred)
}

/// The result of one step of a worker.
enum Taken<P> {
    /// A tile that was read, with its unreadable ranges.
    Read(Tile, Vec<Span>),
    /// Consecutive tiles that were not read.
    Unread(Vec<Unread<P>>),
}

/// The number of the first of these tiles, and their results.
type Next<P> = (u64, Taken<P>);

/// A tile that is not read.
enum Unread<P> {
    /// Its result is known.
    Known(Ready<P>),
    /// It contains only zeros.
    Zeros(Tile),
}

/// The maximum number of consecutive tiles without a read that are passed at once: passing each separately would
/// dominate the run time. It is limited, because zeros may have to be read from a card, which should show progress.
const ROW: usize = 16;
/// The maximum number of such tiles ahead of the commits: they use no memory.
const FAR: u64 = 128;

/// State that the workers of a run share.
struct Workers<'a> {
    pipeline: &'a Pipeline<'a>,
    /// The maximum number of tiles ahead of the commits that are read.
    window: u64,
    pool: Pool,
    turn: Mutex<Turn>,
    pace: Pace,
}

/// The number of the first of consecutive tiles, and their results.
type Handed<P> = (u64, Vec<Result<Ready<P>>>);

impl Workers<'_> {
    /// One worker: takes tiles, reads and processes them, and passes them on, until none is left.
    fn serve<P>(
        &self,
        mut worker: impl FnMut(Tile) -> Result<P>,
        known: Known<'_, P>,
        sender: &mpsc::Sender<Handed<P>>,
    ) {
        let _guard = StopOnPanic(&self.pace);
        let mut work = |mut tile: Tile, lost| {
            self.pipeline.watch.cancel.check()?;
            let (span, digest) = (tile.span, tile.digest);
            let pieces = std::mem::take(&mut tile.pieces);
            worker(tile).map(|piece| Ready { span, digest, pieces, lost, piece })
        };
        loop {
            let (first, row, is_over) = match self.next_tiles(known) {
                Ok(None) => return,
                Ok(Some((first, Taken::Read(tile, lost)))) => {
                    (first, vec![work(tile, lost)], false)
                }
                Ok(Some((first, Taken::Unread(tiles)))) => {
                    let ready = tiles.into_iter().map(|tile| match tile {
                        Unread::Known(ready) if self.is_intact(&ready)? => Ok(ready),
                        Unread::Known(ready) => {
                            let (tile, lost) = self.read_out_of_turn(ready.span)?;
                            work(tile, lost)
                        }
                        Unread::Zeros(tile) => work(tile, Vec::new()),
                    });
                    (first, ready.collect(), false)
                }
                Err((first, error)) => (first, vec![Err(error)], true),
            };
            if sender.send((first, row)).is_err() || is_over {
                return;
            }
        }
    }

    /// Commits the results of the workers, in order.
    fn commit_all<S: Sink>(
        &self,
        sink: &mut S,
        receiver: &mpsc::Receiver<Handed<S::Piece>>,
    ) -> Result<Transferred> {
        let Watch { observer, cancel } = self.pipeline.watch;
        let mut transferred = self.pipeline.done.clone();
        let first = transferred.digests.len().exact_as::<u64>()?;
        let size = self.pipeline.view.size();
        let mut waiting = BTreeMap::new();
        let mut row = Vec::new().into_iter();
        let mut done: ByteLen = (0..first)
            .filter_map(|index| tile_span(index, size))
            .map(|tile| sink.weight(tile))
            .sum();
        for next in first..tile_count(size) {
            let ready = loop {
                if let Some(ready) = row.next() {
                    break ready;
                }
                if let Some(tiles) = waiting.remove(&next) {
                    row = Vec::into_iter(tiles);
                    continue;
                }
                let (first, tiles) = receiver
                    .recv()
                    .map_err(|_| Error::bug("a worker ended before its work did"))?;
                waiting.insert(first, tiles);
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
                if self.pipeline.damage != Damage::Later {
                    observer.on(&Event::Unreadable { span });
                }
                transferred.unreadable.push(span);
            }
            transferred.digests.push(ready.digest);
            transferred.pieces.push(ready.pieces);
            if row.as_slice().is_empty() {
                self.pace.commit(next.plus(1)?);
            }
            observer.on(&Event::Advanced { done });
        }
        sink.finish()?;
        transferred.unreadable = joined(transferred.unreadable);
        Ok(transferred)
    }

    fn is_intact<P>(&self, ready: &Ready<P>) -> Result<bool> {
        self.pipeline.watch.cancel.check()?;
        self.pipeline.is_intact.map_or(Ok(true), |is_intact| is_intact(ready.span, &ready.digest))
    }

    /// Reads a tile whose known copy is damaged. Other workers wait meanwhile.
    fn read_out_of_turn(&self, span: Span) -> Result<(Tile, Vec<Span>)> {
        let Self { pipeline, turn, pool, .. } = self;
        let mut turn = turn.lock().unwrap_or_else(PoisonError::into_inner);
        let mut buffer = pool.take(span.len().to_usize().unwrap_or(0));
        let (damage, cancel) = (pipeline.damage, pipeline.watch.cancel);
        let lost =
            salvage::read(pipeline.view, span, &mut buffer, damage, &mut turn.so_far, cancel)?;
        drop(turn);
        Ok((pipeline.tile(span, buffer, &[], Vec::new()), lost))
    }

    /// Takes and reads the next tile, or takes the next ones that need not be read; `None` at the end.
    fn next_tiles<P>(
        &self,
        known: Known<'_, P>,
    ) -> std::result::Result<Option<Next<P>>, (u64, Error)> {
        let Self { pipeline, turn, pace, window, pool } = self;
        let mut turn = turn.lock().unwrap_or_else(PoisonError::into_inner);
        let first = turn.next;
        let Some(span) = tile_span(first, pipeline.view.size()) else { return Ok(None) };
        if !pace.wait_for(first, FAR) {
            return Ok(None);
        }
        let failed = |error| (first, error);
        pipeline.watch.cancel.check().map_err(failed)?;
        let mut row = Vec::new();
        let known = loop {
            match self.unread(turn.next, known, &mut turn.data).map_err(failed)? {
                Ok(tile) => row.push(tile),
                Err(known) => break known,
            }
            turn.next = turn.next.saturating_add(1);
            if row.len() >= ROW {
                break Vec::new();
            }
        };
        if !row.is_empty() {
            return Ok(Some((first, Taken::Unread(row))));
        }
        if !pace.wait_for(first, *window) {
            return Ok(None);
        }
        turn.next = first.saturating_add(1);
        let mut buffer = pool.take(span.len().to_usize().unwrap_or(0));
        let unread: Vec<_> = known.iter().filter_map(|piece| piece.span(span)).collect();
        let mut read = |so_far: &mut SoFar| {
            let cancel = pipeline.watch.cancel;
            let mut lost = Vec::new();
            for part in without(&[span], &unread) {
                let from = part.start().saturating_since(span.start()).to_usize().unwrap_or(0);
                let until = from.saturating_add(part.len().to_usize().unwrap_or(0));
                let buffer = buffer.get_mut(from..until).unwrap_or_default();
                lost.extend(salvage::read(
                    pipeline.view,
                    part,
                    buffer,
                    pipeline.damage,
                    so_far,
                    cancel,
                )?);
            }
            Ok(lost)
        };
        let lost = if pipeline.in_turn {
            read(&mut turn.so_far)
        } else {
            drop(turn);
            read(&mut SoFar::default())
        };
        let lost = lost.map_err(failed)?;
        let tile = pipeline.tile(span, buffer, &known, unread);
        Ok(Some((first, Taken::Read(tile, lost))))
    }

    /// The result of tile `index`, if it need not be read; otherwise the digests of known pieces.
    fn unread<P>(
        &self,
        index: u64,
        known: Known<'_, P>,
        data: &mut Option<Option<Span>>,
    ) -> Result<std::result::Result<Unread<P>, Vec<KnownPiece>>> {
        let view = self.pipeline.view;
        let Some(span) = tile_span(index, view.size()) else { return Ok(Err(Vec::new())) };
        let known = match known(index, span) {
            KnownTile::All(digest, pieces, piece) => {
                let ready = Ready { span, digest, pieces, lost: Vec::new(), piece };
                return Ok(Ok(Unread::Known(ready)));
            }
            KnownTile::Some(known) => known,
            KnownTile::Nothing => Vec::new(),
            KnownTile::Failed(error) => return Err(error),
        };
        if !known.is_empty() || may_hold_data(view, span, data)? {
            return Ok(Err(known));
        }
        let (data, digest) = (TileData::Zeros(span.len()), TileDigest::Zero);
        let (pieces, unread) = (PieceHashes::default(), Vec::new());
        Ok(Ok(Unread::Zeros(Tile { span, data, digest, pieces, unread })))
    }
}

/// Returns whether a tile can contain anything but zeros. The last answer of the view is cached, so that a long hole is
/// queried once.
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
    use crate::image::PIECE;
    use imbrik_store::{
        Counted, SparseStore, Tally, WriteAt,
        error::Class,
        progress::{Cancel, Unobserved},
        units::ByteOffset,
    };
    use std::sync::Arc;

    /// Stores its input, and fails at one tile.
    struct Keep {
        seen: Vec<(u64, bool)>,
        fail_at: Option<u64>,
    }

    impl Sink for Keep {
        type Worker = Box<dyn FnMut(Tile) -> Result<(u64, bool)> + Send>;
        type Piece = (u64, bool);

        fn worker(&self) -> Result<Self::Worker> {
            let fail_at = self.fail_at;
            Ok(Box::new(move |tile| {
                let index = tile.span.start().get() / TILE.get();
                match fail_at == Some(index) {
                    true => Err(Error::corrupt("as told")),
                    false => Ok((index, matches!(tile.data, TileData::Zeros(_)))),
                }
            }))
        }

        fn commit(&mut self, _: Span, piece: (u64, bool)) -> Result<()> {
            self.seen.push(piece);
            Ok(())
        }
    }

    fn run_with(tiles: u64, fail_at: Option<u64>, cancel: &Cancel) -> (Keep, Result<Transferred>) {
        let store = SparseStore::new(ByteLen::new(TILE.get() * tiles + 5));
        for tile in (0..tiles).step_by(3) {
            store.write_at(ByteOffset::new(tile * TILE.get() + 9), &[1]).unwrap();
        }
        let view = View::whole(Arc::new(store));
        let mut keep = Keep { seen: Vec::new(), fail_at };
        let pipeline = Pipeline {
            view: &view,
            step: Step::Saving,
            total: view.size(),
            damage: Damage::Stop,
            in_turn: tiles.is_multiple_of(2),
            in_pieces: false,
            done: Transferred::default(),
            is_intact: None,
            watch: Watch { observer: &Unobserved, cancel },
        };
        let transferred = run(&pipeline, &mut keep);
        (keep, transferred)
    }

    #[test]
    fn every_tile_is_committed_once_and_in_order() {
        for tiles in [0, 1, 2, 30, 31] {
            let (keep, transferred) = run_with(tiles, None, &Cancel::new());
            let expected: Vec<_> =
                (0..=tiles).map(|tile| (tile, tile % 3 != 0 || tile == tiles)).collect();
            assert_eq!(keep.seen, expected);
            assert_eq!(transferred.unwrap().digests.len() as u64, tiles + 1);
        }
    }

    /// Fails if a known piece is read, another one is not, or the result does not match the tile's digest.
    #[test]
    fn pieces_with_a_known_digest_are_not_read() {
        let bytes: Vec<u8> =
            (0..TILE.get() * 2 + 300_000).map(|at| (at / 999 % 251) as u8).collect();
        let store = SparseStore::of(&bytes);
        let tally = Tally::default();
        let run = |store: Arc<dyn ReadAt>, known: Known<'_, (u64, bool)>| {
            let view = View::whole(store);
            let pipeline = Pipeline {
                view: &view,
                step: Step::Saving,
                total: view.size(),
                damage: Damage::Stop,
                in_turn: true,
                in_pieces: true,
                done: Transferred::default(),
                is_intact: None,
                watch: Watch { observer: &Unobserved, cancel: &Cancel::new() },
            };
            run_knowing(&pipeline, &mut Keep { seen: Vec::new(), fail_at: None }, known).unwrap()
        };
        let all = run(Arc::new(SparseStore::of(&bytes)), &|_, _| KnownTile::Nothing);
        for (digest, tile) in all.digests.iter().zip(bytes.chunks(TILE.get() as usize)) {
            assert_eq!(*digest, TileDigest::Hash(blake3::hash(tile)));
        }
        let wanted = |piece: Span| piece.start().get() / PIECE.get() % 4 != 1;
        let known = |index: u64, tile: Span| match index {
            0 | 2 => KnownTile::Some(all.pieces[index as usize].known(tile, wanted)),
            _ => KnownTile::Nothing,
        };
        let found = run(Arc::new(Counted::new(store, &tally)), &known);
        assert_eq!(found.digests, all.digests);
        assert_eq!(found.pieces, all.pieces);
        // A quarter of the first tile, all of the second, and the incomplete last piece of the last.
        let last = 300_000 - PIECE.get();
        assert_eq!(tally.read(), ByteLen::new(TILE.get() / 4 + TILE.get() + last));
    }

    #[test]
    fn nothing_is_committed_after_a_failure() {
        let (keep, transferred) = run_with(30, Some(17), &Cancel::new());
        assert_eq!(transferred.unwrap_err().to_string(), "as told");
        assert_eq!(keep.seen.len(), 17);
    }

    #[test]
    fn cancel_ends_the_pipeline() {
        let cancel = Cancel::new();
        cancel.request();
        let (keep, transferred) = run_with(30, None, &cancel);
        assert_eq!(transferred.unwrap_err().class(), Class::Cancelled);
        assert!(keep.seen.is_empty());
    }
}
