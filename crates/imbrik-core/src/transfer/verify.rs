//! Comparing expected and actual data.

use super::{
    pipeline::{
        Known, KnownTile, Pipeline, Sink, Tile, Transferred, may_hold_data, run, run_knowing,
    },
    salvage::{self, Damage, SoFar},
};
use crate::{
    image::{Image, PieceHashes, Sum, SumKind, Sums, TILE, TileData, TileDigest, tile_span},
    layout::View,
};
use imbrik_store::{
    Pool, ReadAt,
    bytes::is_zero,
    error::Result,
    exact::Exact as _,
    progress::{Cancel, Event, Step, Watch},
    units::{ByteLen, SectorSize, Span, joined, without},
};
use std::{sync::Arc, time::Duration};

/// The differences between two stores.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Differences {
    /// The differing ranges, in order and joined. Their resolution depends on the comparison: a tile for digests, a
    /// sector for bytes.
    pub spans: Vec<Span>,
    /// Those among them that could not be read at all.
    pub unreadable: Vec<Span>,
}

/// Compares digests with those expected.
struct Digests<'a> {
    view: &'a View,
    expected: &'a [TileDigest],
    /// The ranges of an image that are not read, in order and joined: progress counts the others, without tiles of
    /// zeros.
    left_out: Option<&'a [Span]>,
    next: usize,
    differing: Vec<Span>,
}

impl Sink for Digests<'_> {
    type Worker = fn(Tile) -> Result<TileDigest>;
    type Piece = TileDigest;

    fn worker(&self) -> Result<Self::Worker> {
        Ok(|tile| Ok(tile.digest))
    }

    fn commit(&mut self, span: Span, found: TileDigest) -> Result<()> {
        if self.expected.get(self.next).is_some_and(|expected| *expected != found) {
            self.differing.push(span);
        }
        self.next = self.next.plus(1)?;
        Ok(())
    }

    fn weight(&self, span: Span) -> ByteLen {
        let Some(left_out) = self.left_out else {
            return self.view.written_in(span).map(Span::len).sum();
        };
        to_read(span, self.expected, left_out)
    }
}

/// How much of `tile` is read from an image with the digests `expected` when `left_out`, in order and joined, is not:
/// nothing of a tile of zeros.
pub(super) fn to_read(tile: Span, expected: &[TileDigest], left_out: &[Span]) -> ByteLen {
    let index = tile.start().get().checked_div(TILE.get()).unwrap_or(0);
    let digest = usize::try_from(index).ok().and_then(|index| expected.get(index));
    match digest {
        Some(TileDigest::Zero) => ByteLen::ZERO,
        _ => without(&[tile], left_out).iter().map(|part| part.len()).sum(),
    }
}

fn compare_digests(
    view: &View,
    expected: &[TileDigest],
    known: Known<'_, TileDigest>,
    left_out: Option<&[Span]>,
    step: Step,
    in_turn: bool,
    watch: Watch<'_>,
) -> Result<Differences> {
    let mut sink = Digests { view, expected, left_out, next: 0, differing: Vec::new() };
    let tiles = (0..).map_while(|index| tile_span(index, view.size()));
    let pipeline = Pipeline {
        view,
        step,
        total: tiles.map(|tile| sink.weight(tile)).sum(),
        damage: Damage::Now(Duration::MAX),
        in_turn,
        in_pieces: false,
        done: Transferred::default(),
        is_intact: None,
        watch,
    };
    let transferred = run_knowing(&pipeline, &mut sink, known)?;
    sink.differing.extend(&transferred.unreadable);
    Ok(Differences { spans: joined(sink.differing), unreadable: transferred.unreadable })
}

/// Reads a card, as [`View::read_back_from`] shows it, and compares it with the digests of the written data.
///
/// # Errors
/// When the card is no longer there. Spans that cannot be read count as differing.
pub fn read_back(view: &View, expected: &[TileDigest], watch: Watch<'_>) -> Result<Differences> {
    let known = &|_, _| KnownTile::Nothing;
    compare_digests(view, expected, known, None, Step::ReadingCardBack, true, watch)
}

/// Decodes every tile of an image and compares it with its digest; with none expected, only
/// decodes.
///
/// # Errors
/// When the image file cannot be read. Tiles that cannot be decoded count as differing.
pub fn check_tiles(
    image: &Image,
    expected: &[TileDigest],
    watch: Watch<'_>,
) -> Result<Differences> {
    let view = View::whole(Arc::clone(image.content()));
    let known = &|_, _| KnownTile::Nothing;
    compare_digests(&view, expected, known, Some(&[]), Step::CheckingTiles, false, watch)
}

/// Compares with the source of an image, except for tiles and pieces in `but`, in order and joined.
///
/// # Errors
/// As [`check_tiles`].
pub(super) fn check_tiles_outside(
    image: &Image,
    expected: &Transferred,
    but: &[Span],
    watch: Watch<'_>,
) -> Result<Differences> {
    let known = |index: u64, tile: Span| {
        let index = usize::try_from(index).ok();
        let digest = index.and_then(|index| expected.digests.get(index));
        let pieces = index.and_then(|index| expected.pieces.get(index));
        match (digest, pieces) {
            (Some(digest), _) if contains(but, tile) => {
                KnownTile::All(*digest, PieceHashes::default(), *digest)
            }
            (_, Some(pieces)) => KnownTile::Some(pieces.known(tile, |piece| contains(but, piece))),
            _ => KnownTile::Nothing,
        }
    };
    let view = View::whole(Arc::clone(image.content()));
    let step = Step::CheckingTiles;
    compare_digests(&view, &expected.digests, &known, Some(but), step, false, watch)
}

/// Returns whether `tile`, or a piece of one, lies in one of `spans`, which are in order and joined.
pub(super) fn contains(spans: &[Span], tile: Span) -> bool {
    let first = spans.partition_point(|span| span.end() <= tile.start());
    spans.get(first).is_some_and(|span| span.intersect(tile) == Some(tile))
}

/// Hashes an image file and compares it with `expected`; returns the first checksum that differs.
///
/// # Errors
/// When the file cannot be read.
pub fn check_sums(image: &Image, expected: &[Sum], watch: Watch<'_>) -> Result<Option<SumKind>> {
    let kinds: Vec<_> = expected.iter().map(|sum| sum.kind).collect();
    let found = sums_of(&**image.file(), &kinds, watch)?;
    let differing = found.iter().zip(expected).find(|(found, expected)| found != expected);
    Ok(differing.map(|(found, _)| found.kind))
}

/// The hashes `kinds` of all that is in `store`: of an image file, or of its content.
///
/// # Errors
/// When it cannot be read.
pub fn sums_of(store: &dyn ReadAt, kinds: &[SumKind], watch: Watch<'_>) -> Result<Vec<Sum>> {
    let mut sums = Sums::new(kinds);
    let total = store.size();
    watch.observer.on(&Event::Started { step: Step::ComparingChecksums, total });
    sums.update_from(store, |end| {
        watch.cancel.check()?;
        watch.observer.on(&Event::Advanced { done: ByteLen::new(end.get()) });
        Ok(())
    })?;
    watch.observer.on(&Event::Finished);
    Ok(sums.finish())
}

/// Compares the tiles of a view with those of a card, as [`View::read_back_from`] shows it.
struct WithCard<'a> {
    view: &'a View,
    card: Arc<View>,
    cancel: Cancel,
    differing: Vec<Span>,
    unreadable: Vec<Span>,
}

impl Sink for WithCard<'_> {
    type Worker = Box<dyn FnMut(Tile) -> Result<Differences> + Send>;
    type Piece = Differences;

    fn worker(&self) -> Result<Self::Worker> {
        let (card, cancel) = (Arc::clone(&self.card), self.cancel.clone());
        let pool = Pool::new(TILE.to_usize().unwrap_or(0));
        let mut heard = None;
        Ok(Box::new(move |tile| {
            let is_zero = matches!(tile.data, TileData::Zeros(_));
            if is_zero && !may_hold_data(&card, tile.span, &mut heard)? {
                return Ok(Differences::default());
            }
            let mut found = pool.take(tile.span.len().to_usize().unwrap_or(0));
            let (now, mut so_far) = (Damage::Now(Duration::MAX), SoFar::default());
            let unreadable =
                salvage::read(&card, tile.span, &mut found, now, &mut so_far, &cancel)?;
            let mut spans = unreadable.clone();
            spans.extend(differing_sectors(&tile, &found, card.sector_size()));
            Ok(Differences { spans, unreadable })
        }))
    }

    fn commit(&mut self, _: Span, found: Differences) -> Result<()> {
        self.differing.extend(found.spans);
        self.unreadable.extend(found.unreadable);
        Ok(())
    }

    fn weight(&self, span: Span) -> ByteLen {
        self.view.written_in(span).map(Span::len).sum()
    }
}

/// The sectors of a tile that are not as `found`.
fn differing_sectors<'a>(
    tile: &'a Tile,
    found: &'a [u8],
    sector: SectorSize,
) -> impl Iterator<Item = Span> + use<'a> {
    let step = sector.len().to_usize().unwrap_or(usize::MAX);
    let pieces = found.chunks(step).enumerate().map(move |(index, piece)| {
        let from = index.saturating_mul(step);
        let same = match &tile.data {
            TileData::Zeros(_) => is_zero(piece),
            TileData::Bytes(bytes) => {
                bytes.get(from..from.saturating_add(piece.len())) == Some(piece)
            }
        };
        let start = tile.span.start().saturating_add(ByteLen::from_usize(from));
        (same, Span::between(start, start.saturating_add(ByteLen::of(piece))))
    });
    pieces.filter(|(same, _)| !same).map(|(_, span)| span)
}

/// Compares the data that `view` would write to a card with the content of `card`, by sectors. Ranges that the view
/// does not write are not compared.
///
/// # Errors
/// When the view cannot be read, or the card is no longer there. Spans of the card that cannot be
/// read count as differing.
pub fn compare(view: &View, card: Arc<dyn ReadAt>, watch: Watch<'_>) -> Result<Differences> {
    let mut sink = WithCard {
        view,
        card: Arc::new(view.read_back_from(card)),
        cancel: watch.cancel.clone(),
        differing: Vec::new(),
        unreadable: Vec::new(),
    };
    let pipeline = Pipeline {
        view,
        step: Step::ComparingWithCard,
        total: view.written(),
        damage: Damage::Stop,
        in_turn: false,
        in_pieces: false,
        done: Transferred::default(),
        is_intact: None,
        watch,
    };
    run(&pipeline, &mut sink)?;
    Ok(Differences { spans: joined(sink.differing), unreadable: joined(sink.unreadable) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{
        image::{Manifest, Output, PIECE, Pack, PieceHashes, TILE},
        layout::Survey,
        transfer::{OnDamage, OnUnfinished, SaveOptions, save},
    };
    use imbrik_store::{SparseStore, progress::Unobserved, units::ByteOffset};
    use std::os::unix::fs::FileExt;

    /// Fails if a newly compressed piece is not read back, or another one is.
    #[test]
    fn verification_skips_only_unwritten_pieces() {
        let mut noise = vec![0; TILE.to_usize().unwrap() * 2];
        blake3::Hasher::new().finalize_xof().fill(&mut noise);
        let view = View::whole(Arc::new(SparseStore::of(&noise)));
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("x.img.zst");
        let manifest =
            Manifest::new(&Survey::of(&view).unwrap(), "a test", jiff::Timestamp::UNIX_EPOCH);
        let options = SaveOptions {
            pack: Pack::usual(),
            level: 1,
            in_pieces: true,
            sums: Vec::new(),
            replace: false,
            check: true,
            owner: None,
            damage: OnDamage::Stop,
            unfinished: OnUnfinished::Remove,
        };
        let cancel = Cancel::new();
        let watch = Watch { observer: &Unobserved, cancel: &cancel };
        save(&view, manifest, Output::File(&path), &options, watch).unwrap();
        let open = || Image::open(&path, None).unwrap();
        let tiles = open().manifest().unwrap().tiles.clone();
        let digests = tiles.digests().unwrap();
        let pieces = tiles.pieces(&digests).unwrap();
        assert!(pieces.iter().all(|known| *known != PieceHashes::default()));
        let all = Transferred { digests, pieces, unreadable: Vec::new() };
        let piece = |number: u64| Span::new(ByteOffset::new(PIECE.get() * number), PIECE).unwrap();
        let whole = Span::whole(view.size());
        let but_for = |spans: &[Span]| {
            let differs = check_tiles_outside(&open(), &all, spans, watch).unwrap().spans;
            differs.first().map(|span| span.start().get() / TILE.get())
        };
        assert_eq!((but_for(&[]), but_for(&[whole])), (None, None));
        // Noise does not pack: this is in the middle of the third piece of the second tile.
        let file = std::fs::OpenOptions::new().read(true).write(true).open(&path).unwrap();
        let at = TILE.get() + PIECE.get() * 5 / 2;
        let mut byte = [0];
        file.read_exact_at(&mut byte, at).unwrap();
        file.write_all_at(&[!byte[0]], at).unwrap();
        assert_eq!(but_for(&[]), Some(1));
        assert_eq!(but_for(&[Span::whole(TILE)]), Some(1));
        assert_eq!(but_for(&[Span::between(ByteOffset::ZERO, piece(18).start())]), Some(1));
        assert_eq!(but_for(&[piece(18)]), None);
        assert_eq!(but_for(&[piece(17)]), Some(1));
        assert_eq!(but_for(&[whole]), None);
    }
}
