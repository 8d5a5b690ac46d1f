//! A volume at another size, and how to ask for one.

use crate::{
    examined::DerivedVolume,
    finding::{GrowthLimit, ResizeWarning},
};
use imbrik_store::{
    progress::Cancel,
    units::{ByteLen, ByteOffset, Span},
};
use std::path::Path;

/// How large a volume is to become.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NewSize {
    /// So many bytes, or a little less: only whole blocks count, and a last group that would be too
    /// short for what it must hold is left out.
    Bytes(ByteLen),
    /// As small as its content allows, with so many bytes of room more.
    Smallest {
        /// Bytes, beyond what the volume's system keeps for itself.
        room: ByteLen,
    },
}

/// What a resize has to work with.
#[derive(Clone, Copy, Debug)]
pub struct ResizeOptions<'a> {
    /// The request to stop.
    pub cancel: &'a Cancel,
    /// A folder for what has no room in memory; without one, all of it stays there.
    pub temporary: Option<&'a Path>,
    /// How many bytes of blocks made anew stay in memory.
    pub memory: ByteLen,
    /// Whether faults in folders, attributes and links are kept as they are found, and told, instead
    /// of refused. Which blocks are whose must be sound all the same.
    pub as_found: bool,
}

impl<'a> ResizeOptions<'a> {
    /// The usual bound on what stays in memory.
    pub const MEMORY: ByteLen = ByteLen::mib(32);

    /// Work in memory alone.
    #[must_use]
    pub const fn in_memory(cancel: &'a Cancel) -> Self {
        Self { cancel, temporary: None, memory: Self::MEMORY, as_found: false }
    }
}

/// Blocks of a resized volume that come from elsewhere in its source.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Moved {
    /// Where they are now, in bytes from the volume's start.
    pub to: Span,
    /// Where they were.
    pub from: ByteOffset,
}

/// A volume at another size, as a view.
#[derive(Clone)]
pub struct ResizedVolume {
    /// The whole volume, readable, and where it holds metadata that were made anew or are at hand.
    pub volume: DerivedVolume,
    /// What comes from elsewhere in the source, in order; the rest is where it was.
    pub moved: Vec<Moved>,
    /// How many bytes had to move: what lies behind the new end, or where metadata stand now.
    pub had_to_move: ByteLen,
    /// How many bytes get a new place.
    pub copied: ByteLen,
    /// How many inodes get another number, since their groups go.
    pub inodes_moved: u64,
    /// How much of what was made anew stands in a temporary file.
    pub aside: ByteLen,
    /// What kept it from growing as far as was asked for; `None` when nothing did.
    pub limit: Option<GrowthLimit>,
    /// What its owner should know.
    pub warnings: Vec<ResizeWarning>,
    /// The faults in folders, attributes and links that were kept as they were found.
    pub kept_faults: Vec<String>,
}
