//! Options and result of saving an image.

use crate::{
    image::{Owner, Pack, Sum, SumKind, TILE},
    layout::Lost,
};
use imbrik_store::units::{ByteLen, Span, joined};
use std::time::Duration;

/// Options for saving a card.
#[derive(Clone, Debug)]
pub struct SaveOptions {
    /// The container format.
    pub pack: Pack,
    /// The compression level, from [`Pack::levels`].
    pub level: i32,
    /// True if tiles are compressed in pieces of [`crate::image::PIECE`], if the container supports it: for images that
    /// later ones reuse.
    pub in_pieces: bool,
    /// The checksum files to create.
    pub sums: Vec<SumKind>,
    /// True if an existing image may be replaced.
    pub replace: bool,
    /// True if the image is verified before it gets its name.
    pub check: bool,
    /// The owner of the image file.
    pub owner: Option<Owner>,
    /// The policy for unreadable ranges of the card.
    pub damage: OnDamage,
    /// The treatment of an incomplete image.
    pub unfinished: OnUnfinished,
}

impl SaveOptions {
    /// Returns whether tiles are compressed in pieces.
    pub(super) fn is_in_pieces(&self) -> bool {
        self.in_pieces && self.pack.can_be_in_pieces()
    }
}

/// The treatment of an image that is incomplete when a run ends.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum OnUnfinished {
    /// It is removed, and so is one of an earlier run.
    #[default]
    Remove,
    /// It is kept if it can be resumed; one of an earlier run is removed.
    Keep,
    /// It is kept, and one of an earlier run is resumed.
    Resume,
}

/// The policy for unreadable ranges of a card.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OnDamage {
    /// The first one stops the run.
    Stop,
    /// They are retried for this time; the rest is zeros, and listed. For an image in a file, this happens after
    /// everything else was saved.
    TryFor(Duration),
}

impl Default for OnDamage {
    /// A quarter of an hour.
    fn default() -> Self {
        Self::TryFor(Duration::from_secs(15 * 60))
    }
}

/// The verification of an image before it got its name, and the source of the reads.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ReadBack {
    /// It was not: verification was disabled, or it went into a pipe.
    Waived,
    /// It was read from the disk: according to samples, none of it was in the page cache.
    Medium,
    /// Some of it was read from the page cache: not all of the disk was verified.
    Memory,
}

/// The data that were reused from another image.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Reused {
    /// Tiles and pieces that were also read and are the same, in order and joined.
    pub read: Vec<Span>,
    /// Tiles and pieces that were not read: they are as intact as in the other image. In order and joined.
    pub unread: Vec<Span>,
    /// True if the latter were verified in the other image, because they were copied.
    pub is_verified: bool,
    /// Data that were found damaged in the other image, and read from the card instead. In order and joined.
    pub damaged: Vec<Span>,
}

impl Reused {
    /// All reused ranges, in order and joined.
    #[must_use]
    pub fn all(&self) -> Vec<Span> {
        joined([&self.read[..], &self.unread].concat())
    }

    /// The number of reused tiles; a partly reused tile counts as one.
    #[must_use]
    pub fn tiles(&self) -> u64 {
        let mut behind = 0;
        let tiles = self.all().into_iter().map(|span| {
            let first = span.start().get().checked_div(TILE.get()).unwrap_or(0).max(behind);
            behind = span.end().get().div_ceil(TILE.get());
            behind.saturating_sub(first)
        });
        tiles.sum()
    }
}

/// The result of a save.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Saved {
    /// Size of the image file in bytes, with holes.
    pub image_len: ByteLen,
    /// Its checksums.
    pub sums: Vec<Sum>,
    /// Unreadable ranges of the card, which are zeros in the image.
    pub unreadable: Vec<Span>,
    /// Files that these ranges belong to.
    pub lost: Vec<Lost>,
    /// Why that could not be determined.
    pub not_named: Option<String>,
    /// Bytes that could be read only by retries.
    pub rescued: ByteLen,
    /// True if retries stopped early, because of the time limit or a request.
    pub was_cut_short: bool,
    /// Why data that were read by retries are not in the image, or retries stopped.
    pub not_mended: Option<String>,
    /// Bytes of the card that were in the image already, from an earlier run.
    pub resumed: ByteLen,
    /// Bytes of the card in tiles of zeros.
    pub zeros: ByteLen,
    /// The data that were reused from another image.
    pub reused: Reused,
    /// Bytes of the file that the system copied for that, or that are shared with the other image.
    pub copied: ByteLen,
    /// Bytes of the file that were read back.
    pub read_back_len: ByteLen,
    /// Errors that affected only files next to the image; the image itself is intact.
    pub not_beside: Option<String>,
    /// Its verification.
    pub read_back: ReadBack,
}
