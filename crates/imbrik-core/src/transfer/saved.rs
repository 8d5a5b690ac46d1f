//! How an image is to be made, and what comes of it.

use crate::{
    image::{Owner, Pack, Sum, SumKind, TILE},
    layout::Lost,
};
use imbrik_store::units::{ByteLen, Span, joined};
use std::time::Duration;

/// How a card is to be saved.
#[derive(Clone, Debug)]
pub struct SaveOptions {
    /// The container.
    pub pack: Pack,
    /// The level, among [`Pack::levels`].
    pub level: i32,
    /// Whether tiles are packed in pieces of [`crate::image::PIECE`], where the container can do that: for images
    /// that others are made of.
    pub in_pieces: bool,
    /// The checksum files to put beside the image.
    pub sums: Vec<SumKind>,
    /// Whether an image of that name may be replaced.
    pub replace: bool,
    /// Whether the image is read back and compared before it gets its name.
    pub check: bool,
    /// Who shall own the image.
    pub owner: Option<Owner>,
    /// What is done about places of the card that cannot be read.
    pub damage: OnDamage,
    /// What becomes of an image that a run ends before it is whole.
    pub unfinished: OnUnfinished,
}

impl SaveOptions {
    /// Whether tiles are packed in pieces.
    pub(super) fn is_in_pieces(&self) -> bool {
        self.in_pieces && self.pack.can_be_in_pieces()
    }
}

/// What becomes of an image of a card that is not whole when a run ends.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum OnUnfinished {
    /// It goes; what an earlier run left makes room.
    #[default]
    Remove,
    /// It stays when it can be gone on with; what an earlier run left makes room.
    Keep,
    /// It stays, and what an earlier run left is gone on with.
    Resume,
}

/// What is done about places of a card that cannot be read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OnDamage {
    /// The first one ends the work.
    Stop,
    /// They are tried again and again, so long in all; what is left then is zeros, and named. For an
    /// image in a file, that is done once all else is safe in it.
    TryFor(Duration),
}

impl Default for OnDamage {
    /// A quarter of an hour.
    fn default() -> Self {
        Self::TryFor(Duration::from_secs(15 * 60))
    }
}

/// Whether an image was read back before it got its name, and from where.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ReadBack {
    /// It was not: that was waived, or it went into a pipe.
    Waived,
    /// The system had nothing of it in memory any more, as far as samples tell: its disk was read.
    Medium,
    /// The system had some of it in memory: what is on the disk was not looked at everywhere.
    Memory,
}

/// What of another image was taken over as it stands there.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TakenOver {
    /// The places of tiles, and pieces of tiles, that were read, too, and are the same. In order and joined.
    pub read: Vec<Span>,
    /// The places of those that nobody read: they are as sound as the other image is there. In order and
    /// joined.
    pub unread: Vec<Span>,
    /// Whether what nobody read of the card was verified in the other image, since it was copied from there.
    pub is_verified: bool,
    /// What was found damaged in the other image and read from the card instead. In order and joined.
    pub damaged: Vec<Span>,
}

impl TakenOver {
    /// All of that, in order and joined.
    #[must_use]
    pub fn all(&self) -> Vec<Span> {
        joined([&self.read[..], &self.unread].concat())
    }

    /// How many tiles that are; one of which pieces were packed anew counts as one.
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

/// What was saved.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Saved {
    /// Bytes of the image file, holes included.
    pub image_len: ByteLen,
    /// Its checksums.
    pub sums: Vec<Sum>,
    /// Spans of the card that could not be read and are zeros in the image.
    pub unreadable: Vec<Span>,
    /// Whose they were.
    pub lost: Vec<Lost>,
    /// Why nothing tells that, when it could not be found out.
    pub not_named: Option<String>,
    /// How much could be read only when it was tried again, all else being safe.
    pub rescued: ByteLen,
    /// Whether there was no time left, or stopping was requested, before all of that was tried.
    pub was_cut_short: bool,
    /// Why what could be read later is not in the image, or not all was tried.
    pub not_mended: Option<String>,
    /// How much of the card was in the image already, by an earlier run.
    pub resumed: ByteLen,
    /// How much of the card is in tiles that hold nothing but zeros.
    pub zeros: ByteLen,
    /// What of another image was taken over as it stands there.
    pub taken_over: TakenOver,
    /// How much of the file the system copied for that, or has in common with the other image.
    pub copied: ByteLen,
    /// How much of the file was read back.
    pub read_back_len: ByteLen,
    /// Why not all that belongs beside the image is there; the image itself is whole.
    pub not_beside: Option<String>,
    /// Whether it was read back.
    pub read_back: ReadBack,
}
