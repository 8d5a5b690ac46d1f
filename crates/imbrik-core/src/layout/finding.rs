//! Oddities of a card, each with its text.

use crate::table::TableFinding;
use imbrik_fs::{VolumeFinding, VolumeKind};
use imbrik_store::units::ByteLen;
use std::fmt;

/// An oddity of a card's content.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Finding {
    /// A finding about the partition table.
    Table(TableFinding),
    /// Some of the metadata at this place cannot be read.
    Unreadable {
        /// The number of unreadable bytes.
        len: ByteLen,
        /// The title of a partition or gap.
        place: String,
    },
    /// The superblock or boot sector of a volume cannot be read, and a backup identifies it.
    NamedByCopy {
        /// The partition: "partition 2 (ext4, hive-07)".
        title: String,
    },
    /// A partition reaches past the end of the card.
    PastTheEnd {
        /// The partition: "partition 2".
        title: String,
        /// By how many bytes.
        by: ByteLen,
    },
    /// A volume claims to be longer than its partition.
    TooLong {
        /// The kind of the volume.
        kind: VolumeKind,
        /// The partition; `None` for one that has the whole card.
        title: Option<String>,
        /// By how many bytes.
        by: ByteLen,
    },
    /// A finding about a volume.
    Volume {
        /// The partition: "partition 2 (ext4, hive-07)".
        title: String,
        /// The finding.
        what: VolumeFinding,
    },
}

impl fmt::Display for Finding {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Table(what) => what.fmt(f),
            Self::Unreadable { len, place } => {
                write!(f, "{len} of metadata in {place} cannot be read")
            }
            Self::NamedByCopy { title } => {
                write!(f, "the superblock of {title} cannot be read; a backup identifies it")
            }
            Self::PastTheEnd { title, by } => write!(f, "{title} reaches {by} past the end"),
            Self::TooLong { kind, title, by } => {
                write!(f, "the {kind} volume")?;
                if let Some(title) = title {
                    write!(f, " in {title}")?;
                }
                write!(f, " claims to be {by} longer than its partition")
            }
            Self::Volume { title, what } => write!(f, "{title}: {what}"),
        }
    }
}
