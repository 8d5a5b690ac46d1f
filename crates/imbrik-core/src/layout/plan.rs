//! The plan: the target card, decided before one byte is written.

use super::{
    Occupancy, View, Warning,
    view::{Content, Segment},
};
use imbrik_store::{
    ReadAt,
    error::Result,
    units::{ByteLen, ByteOffset, SectorSize, Span, common},
};
use std::sync::Arc;

/// What is known of the card that a plan is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct TargetSize {
    /// How long it is.
    pub size: ByteLen,
    /// The unit in which it reads and writes.
    pub sector: SectorSize,
}

/// Something that will differ between the image and the card, for whoever shows the plan.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// The GPT's backup goes to the card's end, and both copies are made anew.
    GptMoved,
    /// So many bytes behind the image's end keep what they hold; nothing refers to them.
    TailUnused(ByteLen),
    /// So many bytes at the card's end are cleared.
    TailCleared(ByteLen),
    /// So many bytes behind the last partition don't fit and are left out.
    TailCut(ByteLen),
    /// A partition and its volume get another size.
    Resized {
        /// Which: "partition 2 (ext4, hive-07)".
        title: String,
        /// Bytes before.
        from: ByteLen,
        /// Bytes afterwards.
        to: ByteLen,
        /// How many bytes of it get a new place.
        moved: ByteLen,
        /// How many of its inodes get another number.
        inodes: u64,
        /// Why, in a few words.
        why: &'static str,
    },
    /// So many bytes of metadata stand in a temporary file until the work is done.
    PutAside(ByteLen),
    /// What the owner of the card should know.
    Warning(Warning),
    /// A volume that gets another size has faults in folders, attributes or links, which are kept.
    FaultsKept {
        /// Which: "partition 2 (ext4, hive-07)".
        title: String,
        /// A sentence each.
        faults: Vec<String>,
    },
    /// A folder is put in, with all in it.
    PutTree {
        /// Into which partition: "partition 2".
        title: String,
        /// From its root, with slashes.
        path: String,
        /// How many files there are in it.
        files: u64,
        /// Bytes of content.
        bytes: ByteLen,
        /// Why, in a few words.
        why: String,
    },
    /// The journal of a volume that was not unmounted is replayed before its files are changed.
    JournalReplayed {
        /// Which: "partition 2 (ext4, hive-07)".
        title: String,
    },
    /// A file or folder goes.
    Removed {
        /// Of which partition: "partition 2".
        title: String,
        /// From its root, with slashes.
        path: String,
    },
    /// A file or folder gets another name.
    Renamed {
        /// On which partition: "partition 2".
        title: String,
        /// From its root, with slashes.
        path: String,
        /// The new name, from its root.
        to: String,
    },
    /// Something gets an id of its own.
    NewId {
        /// What: "partition 2 (ext4, hive-07)", "the MBR".
        title: String,
        /// The id it had, and the one it gets, as systems write them.
        from: String,
        /// The one it gets.
        to: String,
    },
    /// A file is replaced or added.
    Put {
        /// The partition.
        title: String,
        /// The file, from the root.
        path: String,
        /// What for, in a few words.
        why: String,
    },
    /// A partition moves as it is.
    Shifted {
        /// Which.
        title: String,
        /// Where it starts afterwards.
        to: ByteOffset,
    },
}

/// What shall be on the target.
#[derive(Clone)]
pub struct Plan {
    /// The finished card, readable.
    pub view: View,
    /// What differs from the image.
    pub changes: Vec<Change>,
}

impl Plan {
    /// An image of every sector of `source`, as it is.
    #[must_use]
    pub fn save_exact(source: Arc<dyn ReadAt>) -> Self {
        Self { view: View::whole(source), changes: Vec::new() }
    }

    /// An image of what is in use on `source`: all else is zeros in the image, and not read but for holes
    /// between what is in use that are too short for that.
    ///
    /// # Errors
    /// [`crate::Class::Corrupt`] when `occupancy` is that of another card.
    pub fn save(source: Arc<dyn ReadAt>, occupancy: &Occupancy) -> Result<Self> {
        let mut segments = Vec::new();
        for segment in &occupancy.segments {
            if !matches!(segment.content, Content::Copied { .. }) {
                segments.push(segment.clone());
                continue;
            }
            let mut at = segment.span.start();
            for hole in common(&[segment.span], &occupancy.holes) {
                segments.extend(segment.clipped(Span::between(at, hole.start())));
                segments.push(Segment { span: hole, content: Content::Cleared });
                at = hole.end();
            }
            segments.extend(segment.clipped(Span::between(at, segment.span.end())));
        }
        let view = View::of_segments(source.size(), source, &segments)?;
        Ok(Self { view, changes: Vec::new() })
    }
}
