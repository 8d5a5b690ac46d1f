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
    /// This many bytes, or slightly less: only complete blocks count, and a last group that would be too short for its
    /// metadata is left out.
    Bytes(ByteLen),
    /// As small as its content allows, with this much additional free space. That can be larger than the present size.
    Smallest {
        /// Bytes, in addition to reserved blocks.
        room: ByteLen,
    },
}

/// Options for resizing.
#[derive(Clone, Copy, Debug)]
pub struct ResizeOptions<'a> {
    /// The request to stop.
    pub cancel: &'a Cancel,
    /// A folder for new blocks that exceed the memory limit; without one, all of them stay in memory.
    pub temporary: Option<&'a Path>,
    /// The maximum size of new blocks in memory.
    pub memory: ByteLen,
    /// True if faults in folders, attributes and links are kept and reported instead of refused. Block ownership must
    /// be consistent nevertheless.
    pub as_found: bool,
}

impl<'a> ResizeOptions<'a> {
    /// The default memory limit.
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
    /// Their new range, in bytes from the start of the volume.
    pub to: Span,
    /// Their old offset.
    pub from: ByteOffset,
}

/// A volume at another size, as a view.
#[derive(Clone)]
pub struct ResizedVolume {
    /// The readable volume, and its ranges with new metadata or with metadata in memory.
    pub volume: DerivedVolume,
    /// The moved ranges, in order; the rest is at its old offset.
    pub moved: Vec<Moved>,
    /// The number of bytes that had to move: those past the new end, or where metadata are now.
    pub had_to_move: ByteLen,
    /// The number of moved bytes.
    pub copied: ByteLen,
    /// The number of inodes with a new number, because their groups are removed.
    pub inodes_moved: u64,
    /// The size of new blocks in a temporary file.
    pub aside: ByteLen,
    /// The limit that kept it from growing as requested; `None` if there was none.
    pub limit: Option<GrowthLimit>,
    /// Warnings for the user.
    pub warnings: Vec<ResizeWarning>,
    /// The faults in folders, attributes and links that were kept.
    pub kept_faults: Vec<String>,
}
