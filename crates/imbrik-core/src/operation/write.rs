//! One card: claimed, written, read back and released.

use crate::{
    card::Host,
    image::{TILE, TileData, TileDigest, tile_span},
    layout::View,
    transfer::{Differences, FirstTile, OnDamage, Origin, Planned, claim, read_back, write_tiles},
};
use imbrik_store::{
    Counted, Edited, Pool, ReadAt, Tally, Window,
    error::{Class, Error, Result},
    progress::Watch,
    read_vec,
    units::{ByteLen, ByteOffset, Span},
};
use std::{
    collections::HashMap,
    fmt,
    path::PathBuf,
    sync::Arc,
    time::{Duration, Instant},
};

/// Bytes that are read to find out whether a card is still connected: the largest sector size.
const MOST_SECTOR: usize = 4096;

/// Options for writing a card.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct WriteOptions {
    /// True if disks that are not cards may be written.
    pub allow_fixed: bool,
    /// True if only differing data are written.
    pub differing: bool,
    /// True if all of it is read back from the medium and compared.
    pub read_back: bool,
    /// The policy for unreadable ranges of a source card.
    pub damage: OnDamage,
    /// How to handle the first tile, with the partition table.
    pub first_tile: FirstTile,
}

impl Default for WriteOptions {
    fn default() -> Self {
        let damage = OnDamage::default();
        let first_tile = FirstTile::Written;
        Self { allow_fixed: false, differing: false, read_back: true, damage, first_tile }
    }
}

/// A card that was written, and verified unless that was disabled.
pub struct WrittenToCard {
    /// Bytes that were read from it and written to it.
    pub tally: Tally,
    /// Bytes that were on it already, and not written.
    pub found: ByteLen,
    /// Zeros that were on it already, and not written.
    pub zero_already: ByteLen,
    /// Unreadable ranges of the source, which are zeros on it.
    pub unreadable: Vec<Span>,
    /// The first tile, if it was withheld.
    pub first_tile: Option<Vec<u8>>,
    /// The duration.
    pub took: Duration,
    /// Its path at the end: another reader can have given it another one.
    pub path: PathBuf,
    /// The error if it could not be released, although its content is correct.
    pub held: Option<Error>,
}

/// The state of a card after an interrupted write, from best to worst.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum LeftOnCard {
    /// Unchanged: nothing was written.
    WhatItHad,
    /// Only the first write failed: its start is old or new.
    Uncertain,
    /// The old content is lost. The card has no partition table or no start, so that it is not taken for complete.
    NoStart,
}

/// The point at which writing a card failed.
#[derive(Debug)]
#[non_exhaustive]
pub enum WriteFailure {
    /// It was not claimed: nothing was written.
    NotClaimed(Error),
    /// Writing was interrupted.
    CutShort {
        /// The error.
        error: Error,
        /// The state of the card.
        left: LeftOnCard,
        /// True if the card no longer answers, rather than the source.
        is_away: bool,
    },
    /// Everything was written, and could not be read back.
    NotReadBack(Error),
    /// Everything was written, and other data were read back.
    NotKept {
        /// The differing ranges.
        found: Differences,
        /// The size after which addresses wrap around, if the data show that.
        wraps_at: Option<ByteLen>,
    },
}

impl fmt::Display for WriteFailure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::NotClaimed(error) | Self::CutShort { error, .. } | Self::NotReadBack(error) => {
                error.fmt(f)
            }
            Self::NotKept { found, .. } => {
                let bytes: ByteLen = found.spans.iter().map(|span| span.len()).sum();
                write!(f, "the card did not keep what was written: {bytes} are something else")
            }
        }
    }
}

impl std::error::Error for WriteFailure {}

/// The parameters of a write.
pub(super) struct CardWriting<'a> {
    pub(super) view: &'a View,
    pub(super) place: Span,
    pub(super) options: WriteOptions,
    pub(super) tally: Tally,
}

impl CardWriting<'_> {
    pub(super) fn run(
        self,
        host: &dyn Host,
        planned: &Planned,
        origin: Origin<'_>,
        watch: Watch<'_>,
    ) -> std::result::Result<WrittenToCard, WriteFailure> {
        let started = Instant::now();
        let card =
            claim(host, planned, self.options.allow_fixed).map_err(WriteFailure::NotClaimed)?;
        let medium = || -> Result<Arc<dyn ReadAt>> {
            let counted = Counted::new(card.medium()?, &self.tally);
            Ok(Arc::new(Window::new(counted, self.place)?))
        };
        let written = Window::new(Counted::new(card.store(), &self.tally), self.place)
            .and_then(|store| {
                let now = if self.options.differing { Some(medium()?) } else { None };
                write_tiles(self.view, &store, origin, now, self.options.first_tile, watch)
            })
            .map_err(|error| {
                let left = match (self.tally.writes(), self.tally.written()) {
                    (0, _) => LeftOnCard::WhatItHad,
                    (_, ByteLen::ZERO) => LeftOnCard::Uncertain,
                    _ => LeftOnCard::NoStart,
                };
                let is_away = error.class() == Class::Gone
                    && read_vec(card.store(), ByteOffset::ZERO, MOST_SECTOR).is_err();
                WriteFailure::CutShort { error, left, is_away }
            })?;
        if self.options.read_back {
            let medium = medium().and_then(|medium| with_first_tile(medium, &written.withheld));
            self.read_back(medium, &written.digests, watch)?;
        }
        let held = card.let_go().err();
        Ok(WrittenToCard {
            tally: self.tally,
            found: written.found,
            zero_already: written.zero_already,
            unreadable: written.unreadable,
            first_tile: written.withheld,
            took: started.elapsed(),
            path: planned.card.path.clone(),
            held,
        })
    }

    fn read_back(
        &self,
        medium: Result<Arc<dyn ReadAt>>,
        digests: &[TileDigest],
        watch: Watch<'_>,
    ) -> std::result::Result<(), WriteFailure> {
        let back = medium.map(|medium| self.view.read_back_from(medium));
        let found = back
            .and_then(|back| Ok((read_back(&back, digests, watch)?, back)))
            .map_err(WriteFailure::NotReadBack)?;
        match found {
            (found, _) if found.spans.is_empty() => Ok(()),
            (found, back) => {
                let wraps_at = wraps_at(&back, digests, &found.spans);
                Err(WriteFailure::NotKept { found, wraps_at })
            }
        }
    }
}

/// `card` with the first tile that was withheld from it, if it was.
///
/// # Errors
/// When the tile is longer than the card.
pub fn with_first_tile(
    card: Arc<dyn ReadAt>,
    first_tile: &Option<Vec<u8>>,
) -> Result<Arc<dyn ReadAt>> {
    let Some(tile) = first_tile else { return Ok(card) };
    let mut edited = Edited::new(card);
    edited.put(ByteOffset::ZERO, tile)?;
    Ok(Arc::new(edited))
}

/// The number of differing tiles that are examined for the cause.
const LOOKED_AT: usize = 64;

/// The size after which the addresses of a card wrap around, if the ranges in `differing`, which should match
/// `digests`, mostly contain data that were written at an offset higher by that size.
fn wraps_at(back: &View, digests: &[TileDigest], differing: &[Span]) -> Option<ByteLen> {
    let size = back.size();
    let places: HashMap<[u8; 32], u64> = (0u64..)
        .zip(digests)
        .filter_map(|(index, digest)| match digest {
            TileDigest::Hash(hash) => Some((*hash.as_bytes(), index)),
            TileDigest::Zero => None,
        })
        .collect();
    let tiles = (0u64..).map_while(|index| Some((index, tile_span(index, size)?)));
    let is_differing = |tile: &Span| differing.iter().any(|span| span.intersect(*tile).is_some());
    let pool = Pool::new(TILE.to_usize()?);
    let mut apart: HashMap<u64, usize> = HashMap::new();
    let mut looked_at = 0usize;
    for (index, tile) in tiles.filter(|(_, tile)| is_differing(tile)).take(LOOKED_AT) {
        let mut buffer = pool.take(tile.len().to_usize()?);
        if back.read_at(tile.start(), &mut buffer).is_err() {
            continue;
        }
        looked_at = looked_at.saturating_add(1);
        let (_, TileDigest::Hash(hash)) = TileData::of(buffer) else { continue };
        if let Some(other) = places.get(hash.as_bytes()).filter(|other| **other > index) {
            let count = apart.entry(other.saturating_sub(index)).or_default();
            *count = count.saturating_add(1);
        }
    }
    let (tiles, count) = apart.into_iter().max_by_key(|(_, count)| *count)?;
    let len = TILE.checked_mul(tiles)?;
    (count.saturating_mul(2) > looked_at).then_some(len)
}
