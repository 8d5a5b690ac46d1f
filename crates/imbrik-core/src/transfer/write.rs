//! Writing an image to a card.

use super::{
    clear::Clearing,
    pipeline::{Pipeline, Sink, Tile, Transferred, run},
    salvage::Damage,
    saved::OnDamage,
};
use crate::{
    image::{TILE, TileData, TileDigest},
    layout::{Content, View},
};
use imbrik_store::{
    Pool, ReadAt, WriteAt,
    bytes::is_zero,
    error::{Error, Result},
    exact::{Exact as _, invariant_error},
    progress::{Step, Watch},
    units::{ByteLen, ByteOffset, Span},
};
use std::sync::Arc;

/// The result of writing a card.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WrittenCard {
    /// The digest of every tile of the view, for the read-back.
    pub digests: Vec<TileDigest>,
    /// How much was found on the card already, and not written again.
    pub found: ByteLen,
    /// The number of bytes that were zero already, and not written.
    pub zero_already: ByteLen,
    /// Ranges of the view with an unreadable source: they are zeros.
    pub unreadable: Vec<Span>,
    /// The first tile, if it was withheld.
    pub withheld: Option<Vec<u8>>,
}

/// How to handle the first tile of a card, which contains its table, after all others are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FirstTile {
    /// It is written.
    Written,
    /// The card is left without it, because its content is not final yet.
    Withheld,
}

/// The source of the data.
#[derive(Clone, Copy, Debug)]
pub enum Origin<'a> {
    /// From an image, whose tiles may have digests: a mismatch ends the writing.
    Image(Option<&'a [TileDigest]>),
    /// From another card: it is read in order, and unreadable ranges are recorded.
    Card(OnDamage),
}

/// How much of a card's start is cleared before anything is written.
const HEAD: ByteLen = ByteLen::mib(1);

/// The last data to be written, each after everything before it is on the medium: the superblock of a volume without a
/// table, and then the sector of the table, which is written completely or not at all.
const LAST: [ByteLen; 2] = [ByteLen::kib(4), ByteLen::new(512)];

/// Writes tiles to a card.
///
/// The first tile, with the partition table, is kept until everything else is on the medium: after an interruption, a
/// card has no table and is never taken for a complete one.
struct ToCard<'a> {
    view: &'a View,
    card: &'a dyn WriteAt,
    expected: Option<&'a [TileDigest]>,
    head: Option<(Span, HeldTile)>,
    first_tile: FirstTile,
    withheld: Option<Vec<u8>>,
    /// True if the card has lost its first tile to what is under way.
    is_cleared: bool,
    /// The present content of the card, if only differences are to be written.
    now: Option<Arc<View>>,
    found: ByteLen,
    clearing: Clearing,
    zero_already: ByteLen,
}

/// A tile, and whether the card holds it already.
struct HeldTile {
    digest: TileDigest,
    data: TileData,
    is_there: bool,
}

impl Sink for ToCard<'_> {
    type Worker = Box<dyn FnMut(Tile) -> Result<HeldTile> + Send>;
    type Piece = HeldTile;

    fn worker(&self) -> Result<Self::Worker> {
        let now = self.now.clone();
        let pool = Pool::new(TILE.to_usize().unwrap_or(0));
        Ok(Box::new(move |tile| {
            let is_there = now.as_ref().is_some_and(|now| is_on(now, &tile, &pool));
            Ok(HeldTile { digest: tile.digest, data: tile.data, is_there })
        }))
    }

    fn commit(&mut self, span: Span, piece: HeldTile) -> Result<()> {
        self.compare(span, piece.digest)?;
        if span.start() == ByteOffset::ZERO {
            self.head = Some((span, piece));
            return Ok(());
        }
        if piece.is_there {
            self.found = self.found.plus(self.weight(span))?;
            return Ok(());
        }
        self.clear_head()?;
        self.write(span, span, &piece.data)
    }

    fn finish(&mut self) -> Result<()> {
        if let Some((span, head)) = self.head.take() {
            if self.first_tile == FirstTile::Withheld {
                self.clear(span)?;
                self.withheld = Some(match head.data {
                    TileData::Bytes(bytes) => bytes.to_vec(),
                    TileData::Zeros(len) => vec![0; len.to_usize().unwrap_or(0)],
                });
            } else if head.is_there && !self.is_cleared {
                self.found = self.found.plus(self.weight(span))?;
            } else {
                // Also when it is all there is: a cut in the middle of it leaves no half a table.
                self.clear(span)?;
                // A medium may store unflushed data in any order: everything that the table refers to must be flushed
                // before it.
                let mut end = span.end();
                for start in LAST.map(|len| Span::whole(len.min(span.len())).end()) {
                    self.write(span, Span::between(start, end), &head.data)?;
                    self.card.flush()?;
                    end = start;
                }
                self.write(span, Span::between(span.start(), end), &head.data)?;
            }
        }
        self.card.flush()
    }

    fn weight(&self, span: Span) -> ByteLen {
        self.view.written_in(span).map(Span::len).sum()
    }
}

/// Returns whether a card, as [`View::read_back_from`] shows it, contains a tile. Unreadable data are written again:
/// that may repair the sector.
fn is_on(now: &View, tile: &Tile, pool: &Pool) -> bool {
    let mut found = pool.take(tile.span.len().to_usize().unwrap_or(0));
    now.read_at(tile.span.start(), &mut found).is_ok()
        && match &tile.data {
            TileData::Zeros(_) => is_zero(&found),
            TileData::Bytes(bytes) => bytes[..] == found[..],
        }
}

impl ToCard<'_> {
    /// Clears the partition table before anything else is written.
    fn clear_head(&mut self) -> Result<()> {
        match self.head.as_ref().map(|(span, _)| *span) {
            Some(span) => self.clear(span),
            None => Ok(()),
        }
    }

    fn clear(&mut self, head: Span) -> Result<()> {
        if self.is_cleared {
            return Ok(());
        }
        let all = Span::whole(HEAD.min(head.len()));
        let [_, table] = LAST.map(|len| Span::whole(len.min(all.len())));
        // The table is cleared before anything that it refers to.
        self.clearing.clear(self.card, table)?;
        self.card.flush()?;
        self.clearing.clear(self.card, Span::between(table.end(), all.end()))?;
        self.card.flush()?;
        self.is_cleared = true;
        tracing::info!("the card's start is cleared: it has no table until all else is on it");
        Ok(())
    }

    /// Writes `wanted`, which is in `tile`.
    fn write(&mut self, tile: Span, wanted: Span, data: &TileData) -> Result<()> {
        for segment in self.view.segments_in(wanted) {
            let part = segment.span;
            match (data, segment.content) {
                (_, Content::Unused) => {}
                (TileData::Zeros(_), _) | (_, Content::Cleared) => {
                    let found = self.clearing.clear(self.card, part)?;
                    self.zero_already = self.zero_already.plus(found)?;
                }
                (TileData::Bytes(bytes), _) => {
                    let skip = part.start().saturating_since(tile.start()).to_usize().unwrap_or(0);
                    let len = part.len().to_usize().unwrap_or(0);
                    let bytes = bytes.get(skip..skip.plus(len)?);
                    let bytes = bytes.ok_or_else(|| invariant_error("a tile is too short"))?;
                    self.card.write_at(part.start(), bytes)?;
                }
            }
        }
        Ok(())
    }

    /// Compares an unchanged tile with its digest in the image.
    fn compare(&self, span: Span, found: TileDigest) -> Result<()> {
        let index = span.start().get().over(TILE.get())?;
        let index = index.exact_as::<usize>()?;
        let expected = self.expected.and_then(|expected| expected.get(index));
        let as_it_is = |content: &Content| match content {
            Content::Copied { from } => *from == span.start(),
            _ => false,
        };
        let mut segments = self.view.segments_in(span);
        let is_copied = segments.next().is_some_and(|s| s.span == span && as_it_is(&s.content));
        match expected {
            Some(expected) if is_copied && *expected != found => Err(Error::mismatch(format!(
                "the image is damaged: {span} of the card do not match their digest"
            ))),
            _ => Ok(()),
        }
    }
}

/// Writes `view`, from `origin`, to `card`, except for unused space, and flushes it. With `now`, which reads the card,
/// only differing tiles are written.
///
/// # Errors
/// Those of reading the source and writing the card. The card then has no partition table, and undefined content after
/// it.
pub fn write_card(
    view: &View,
    card: &dyn WriteAt,
    origin: Origin<'_>,
    now: Option<Arc<dyn ReadAt>>,
    watch: Watch<'_>,
) -> Result<WrittenCard> {
    write_tiles(view, card, origin, now, FirstTile::Written, watch)
}

/// As [`write_card`], but with `first_tile` withheld, the card is left without a table.
///
/// # Errors
/// As [`write_card`].
pub(crate) fn write_tiles(
    view: &View,
    card: &dyn WriteAt,
    origin: Origin<'_>,
    now: Option<Arc<dyn ReadAt>>,
    first_tile: FirstTile,
    watch: Watch<'_>,
) -> Result<WrittenCard> {
    let size = card.size();
    if view.size() > size {
        return Err(Error::no_room(format!(
            "the card holds {size}, the plan is for {}",
            view.size()
        ))
        .with_shortfall(view.size().saturating_sub(size)));
    }
    let now = now.map(|now| Arc::new(view.read_back_from(now)));
    let (expected, card_damage) = match origin {
        Origin::Image(expected) => (expected, None),
        Origin::Card(on_damage) => (None, Some(on_damage)),
    };
    let mut sink = ToCard {
        view,
        card,
        expected,
        head: None,
        first_tile,
        withheld: None,
        is_cleared: false,
        now,
        found: ByteLen::ZERO,
        clearing: Clearing::new(),
        zero_already: ByteLen::ZERO,
    };
    let pipeline = Pipeline {
        view,
        step: Step::Writing,
        total: view.written(),
        damage: match card_damage {
            Some(OnDamage::TryFor(patience)) => Damage::Now(patience),
            Some(OnDamage::Stop) | None => Damage::Stop,
        },
        in_turn: card_damage.is_some(),
        in_pieces: false,
        done: Transferred::default(),
        is_intact: None,
        watch,
    };
    let transferred = run(&pipeline, &mut sink)?;
    let Transferred { digests, unreadable, .. } = transferred;
    let ToCard { found, zero_already, withheld, .. } = sink;
    tracing::info!(%found, %zero_already, "already on the card, not written");
    Ok(WrittenCard { digests, found, zero_already, unreadable, withheld })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::transfer::read_back;
    use imbrik_store::{
        Counted, SparseStore, Tally,
        error::Class,
        progress::{Cancel, Event, Observer, Unobserved},
        read_vec,
        testing::{Faults, Faulty, Forgetful},
    };

    fn source() -> SparseStore {
        let store = SparseStore::new(ByteLen::mib(30));
        for at in (0..30 << 20).step_by(3 << 20) {
            store.write_at(ByteOffset::new(at + 100), b"brood").unwrap();
        }
        store
    }

    fn stale(size: ByteLen) -> SparseStore {
        let store = SparseStore::new(size);
        let len = size.to_usize().unwrap();
        store.write_at(ByteOffset::ZERO, &vec![0xee; len]).unwrap();
        store
    }

    #[test]
    fn restore_leaves_no_stale_byte_and_skips_unused_space() {
        let view = View::on_card_of(ByteLen::mib(40), Arc::new(source()));
        let card = Arc::new(stale(ByteLen::mib(40)));
        let cancel = Cancel::new();
        let watch = Watch { observer: &Unobserved, cancel: &cancel };
        let written = write_card(&view, &*card, Origin::Image(None), None, watch).unwrap();
        let bytes = read_vec(&*card, ByteOffset::ZERO, 40 << 20).unwrap();
        assert_eq!(&bytes[..30 << 20], &read_vec(&source(), ByteOffset::ZERO, 30 << 20).unwrap());
        assert!(bytes[30 << 20..].iter().all(|byte| *byte == 0xee));
        let back = view.read_back_from(Arc::<SparseStore>::clone(&card));
        assert_eq!(read_back(&back, &written.digests, watch).unwrap().spans, []);
        card.write_at(ByteOffset::new(20_000_000), &[1]).unwrap();
        let found = read_back(&back, &written.digests, watch).unwrap();
        assert!(
            found.spans[0]
                .contains(Span::between(ByteOffset::new(20_000_000), ByteOffset::new(20_000_001)))
        );
    }

    #[test]
    fn changed_mode_writes_only_differences() {
        let view = View::whole(Arc::new(source()));
        let card = Arc::new(stale(ByteLen::mib(30)));
        let cancel = Cancel::new();
        let watch = Watch { observer: &Unobserved, cancel: &cancel };
        let first = write_card(&view, &*card, Origin::Image(None), None, watch).unwrap();
        assert_eq!(first.found, ByteLen::ZERO);
        card.write_at(ByteOffset::new(9_000_000), b"new").unwrap();
        let now: Arc<dyn ReadAt> = Arc::<SparseStore>::clone(&card);
        let again = write_card(&view, &*card, Origin::Image(None), Some(now), watch).unwrap();
        assert_eq!(again.found, ByteLen::new((30 << 20) - 2 * TILE.get()));
        // The first tile went with the one that differed; with none, nothing is written at all.
        let tally = Tally::default();
        let counted = Counted::new(&*card, &tally);
        let now: Arc<dyn ReadAt> = Arc::<SparseStore>::clone(&card);
        let none = write_card(&view, &counted, Origin::Image(None), Some(now), watch).unwrap();
        assert_eq!((none.found, tally.written()), (ByteLen::mib(30), ByteLen::ZERO));
        let bytes = read_vec(&*card, ByteOffset::ZERO, 30 << 20).unwrap();
        assert!(bytes == read_vec(&source(), ByteOffset::ZERO, 30 << 20).unwrap());
    }

    /// Fails when the table of an earlier copy is left over content that is newer than it.
    #[test]
    fn withheld_first_tile_leaves_no_partition_table() {
        let cancel = Cancel::new();
        let watch = Watch { observer: &Unobserved, cancel: &cancel };
        let view = View::whole(Arc::new(source()));
        let card = SparseStore::new(ByteLen::mib(30));
        write_card(&view, &card, Origin::Image(None), None, watch).unwrap();
        for now in [false, true] {
            let now = now.then(|| Arc::new(source()) as Arc<dyn ReadAt>);
            let first = FirstTile::Withheld;
            let written =
                write_tiles(&view, &card, Origin::Image(None), now, first, watch).unwrap();
            let head = read_vec(&card, ByteOffset::ZERO, 4 << 20).unwrap();
            assert!(is_zero(&head[..1 << 20]));
            let kept = read_vec(&view, ByteOffset::ZERO, 4 << 20).unwrap();
            assert!(written.withheld.unwrap() == kept);
        }
    }

    #[test]
    fn write_error_at_any_tile_leaves_no_table() {
        for cut in 0..8 {
            let faults = Faults {
                pulled_after: Some(ByteLen::new(ByteLen::mib(1).get() + cut * TILE.get())),
                ..Faults::default()
            };
            let card = Faulty::new(stale(ByteLen::mib(30)), faults);
            let view = View::whole(Arc::new(source()));
            let cancel = Cancel::new();
            let watch = Watch { observer: &Unobserved, cancel: &cancel };
            let error = write_card(&view, &card, Origin::Image(None), None, watch).unwrap_err();
            assert_eq!(error.class(), Class::Gone);
            let head = read_vec(card.inner(), ByteOffset::ZERO, 512).unwrap();
            assert!(head.iter().all(|byte| *byte == 0), "cut {cut}");
        }
    }

    /// Fails if any part of the table is written before everything that it refers to is flushed: after some power
    /// losses, the card then looks complete and is not.
    #[test]
    fn losing_unflushed_writes_leaves_a_complete_card_or_no_table() {
        let size = ByteLen::mib(9);
        let view = View::on_card_of(size, Arc::new(source()));
        let view = &view.with_bytes(ByteOffset::new(510), &[0x55, 0xaa]);
        let whole = read_vec(view, ByteOffset::ZERO, 9 << 20).unwrap();
        let cancel = Cancel::new();
        let watch = Watch { observer: &Unobserved, cancel: &cancel };
        let run = |requests| {
            let card = Forgetful::new(stale(size), requests);
            let done = write_card(view, &card, Origin::Image(None), None, watch).is_ok();
            (card, done)
        };
        let (card, done) = run(u64::MAX);
        assert!(done);
        let total = u64::MAX - card.requests_left();
        let (mut whole_ones, mut without) = (0, 0);
        // Of the middle a sample; of the first and the last requests, each.
        let cuts = (0..total).filter(|cut| *cut < 30 || total - cut < 30 || cut % 37 == 0);
        for cut in cuts.chain([total]) {
            for seed in [0u64, u64::MAX, 0x9e37_79b9_7f4a_7c15 ^ cut] {
                let (card, _) = run(cut);
                let mut state = seed;
                let left = card.left(|| {
                    state = state.rotate_left(7).wrapping_mul(0x2545_f491_4f6c_dd1d);
                    match seed {
                        0 => false,
                        u64::MAX => true,
                        _ => state >> 63 == 1,
                    }
                });
                let left = read_vec(&left.unwrap(), ByteOffset::ZERO, 9 << 20).unwrap();
                match left == whole {
                    true => whole_ones += 1,
                    // The card's old table, before anything was done to it, or none.
                    false if left.iter().all(|byte| *byte == 0xee) => without += 1,
                    false => {
                        assert_eq!(left[510..512], [0; 2], "cut {cut} of {total}");
                        without += 1;
                    }
                }
            }
        }
        assert!(whole_ones > 0 && without > 50, "{whole_ones} whole, {without} without");
    }

    #[test]
    fn cancel_midway_leaves_no_table() {
        struct StopAtHalf<'a>(&'a Cancel);
        impl Observer for StopAtHalf<'_> {
            fn on(&self, event: &Event) {
                if matches!(event, Event::Advanced { done } if *done > ByteLen::mib(15)) {
                    self.0.request();
                }
            }
        }
        let cancel = Cancel::new();
        let card = stale(ByteLen::mib(30));
        let watch = Watch { observer: &StopAtHalf(&cancel), cancel: &cancel };
        let error =
            write_card(&View::whole(Arc::new(source())), &card, Origin::Image(None), None, watch)
                .unwrap_err();
        assert_eq!(error.class(), Class::Cancelled);
        assert!(read_vec(&card, ByteOffset::ZERO, 512).unwrap().iter().all(|byte| *byte == 0));
    }
}
