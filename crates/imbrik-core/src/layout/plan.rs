//! The plan of a write: the content of the target card, decided before a byte is written.

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

/// Properties of the target card.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct TargetSize {
    /// Its size.
    pub size: ByteLen,
    /// Its sector size.
    pub sector: SectorSize,
}

/// A difference between the image and the target, to be shown with the plan.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// The backup of the GPT moves to the end of the card, and both copies are rewritten.
    GptMoved,
    /// This many bytes after the end of the image keep their content, which nothing refers to.
    TailUnused(ByteLen),
    /// This many bytes at the end of the card are cleared.
    TailCleared(ByteLen),
    /// This many bytes after the last partition don't fit and are left out.
    TailCut(ByteLen),
    /// A partition is resized with its volume.
    Resized {
        /// The partition: "partition 2 (ext4, hive-07)".
        title: String,
        /// The size before, in bytes.
        from: ByteLen,
        /// The size afterwards, in bytes.
        to: ByteLen,
        /// Bytes that move to another place.
        moved: ByteLen,
        /// Count of inodes that get another number.
        inodes: u64,
        /// The reason, in a few words.
        why: &'static str,
    },
    /// This many bytes of metadata are kept in a temporary file while the plan runs.
    Spilled(ByteLen),
    /// A warning.
    Warning(Warning),
    /// A volume that is resized has faults in folders, attributes or links, which are kept.
    FaultsKept {
        /// The partition: "partition 2 (ext4, hive-07)".
        title: String,
        /// One sentence per fault.
        faults: Vec<String>,
    },
    /// A folder is added with all its content.
    PutTree {
        /// The partition: "partition 2".
        title: String,
        /// Path from the root.
        path: String,
        /// Count of files in it.
        files: u64,
        /// Bytes of content.
        bytes: ByteLen,
        /// The reason, in a few words.
        why: String,
    },
    /// The journal of a volume that was not unmounted is replayed before its files are changed.
    JournalReplayed {
        /// The partition: "partition 2 (ext4, hive-07)".
        title: String,
    },
    /// A file or folder is removed.
    Removed {
        /// The partition: "partition 2".
        title: String,
        /// Path from the root.
        path: String,
    },
    /// A file or folder is renamed.
    Renamed {
        /// The partition: "partition 2".
        title: String,
        /// Old path from the root.
        path: String,
        /// New path from the root.
        to: String,
    },
    /// A table or a volume gets a new id.
    NewId {
        /// The table or the partition: "the MBR", "partition 2 (ext4, hive-07)".
        title: String,
        /// The old id, in the notation of operating systems.
        from: String,
        /// The new id.
        to: String,
    },
    /// A file is replaced or added.
    Put {
        /// The partition.
        title: String,
        /// Path from the root.
        path: String,
        /// The reason, in a few words.
        why: String,
    },
    /// A partition moves unchanged.
    Shifted {
        /// The partition.
        title: String,
        /// Its new start.
        to: ByteOffset,
    },
}

/// The planned content of the target.
#[derive(Clone)]
pub struct Plan {
    /// The finished card, readable.
    pub view: View,
    /// Differences from the image.
    pub changes: Vec<Change>,
}

impl Plan {
    /// An exact image of `source`: every sector.
    #[must_use]
    pub fn save_exact(source: Arc<dyn ReadAt>) -> Self {
        Self { view: View::whole(source), changes: Vec::new() }
    }

    /// An image of the used space of `source`. Free space is zeros in the image and is not read, except for holes that
    /// are too short to be worth a separate read.
    ///
    /// # Errors
    /// [`crate::Class::Corrupt`] when `occupancy` belongs to another card.
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
