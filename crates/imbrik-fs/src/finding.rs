//! Oddities of a volume that are reported and stop nothing, and warnings about a resized volume, each with its text.

use imbrik_store::units::ByteLen;
use std::fmt;

/// An oddity of a volume that could be read nevertheless: if two structures disagree, the more cautious one is used.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum VolumeFinding {
    /// It is marked as having errors; block ownership is consistent.
    MarkedAsFaulty {
        /// How many faults are in folders, attributes or links.
        faults: usize,
    },
    /// Its journal keeps an error that its system met.
    JournalError {
        /// The number of the error, below zero.
        errno: i32,
    },
    /// The used space within its allocated chunks is unknown, so all of them count as used.
    AllGivenOutCounts {
        /// The reason.
        why: String,
    },
    /// The labels in the root directory and in the boot sector differ.
    TwoLabels {
        /// The label in the root directory.
        in_root: String,
        /// The label in the boot sector.
        in_boot: String,
    },
    /// One of the allocation tables cannot be read; the other one is used.
    TableUnreadable {
        /// The reason.
        why: String,
    },
    /// The map of an inode or a directory is damaged: only the bitmaps show its remaining blocks.
    MapDamaged {
        /// The error.
        why: String,
    },
    /// Some bytes of files are marked as free; they count as used.
    CalledFree {
        /// The structure that marks them as free: "bitmap".
        by: &'static str,
        /// How files are known to have them: "hold", "start with".
        files: &'static str,
        /// The length in bytes.
        len: ByteLen,
    },
}

impl fmt::Display for VolumeFinding {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::MarkedAsFaulty { faults: 0 } => f.write_str(
                "its system marked it as having errors; a look at every inode found none",
            ),
            Self::MarkedAsFaulty { faults } => write!(
                f,
                "it is marked as having errors; block ownership is consistent, {faults} faults are in \
                 folders, attributes or links"
            ),
            Self::JournalError { errno } => write!(
                f,
                "its journal keeps the error {errno}, which its system met: a check is due"
            ),
            Self::AllGivenOutCounts { why } => {
                write!(f, "all that is given out to chunks counts as used: {why}")
            }
            Self::TwoLabels { in_root, in_boot } => write!(
                f,
                "its label is {in_root:?} in its root directory and {in_boot:?} in its boot sector"
            ),
            Self::TableUnreadable { why } => write!(
                f,
                "one of its allocation tables cannot be read, the other one is used: {why}"
            ),
            Self::MapDamaged { why } => {
                write!(f, "not every file could be compared with the bitmaps: {why}")
            }
            Self::CalledFree { by, files, len } => {
                write!(f, "its {by} calls {len} free that files {files}; they count as used")
            }
        }
    }
}

/// A warning about a resized volume.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum ResizeWarning {
    /// Files with a signature that may cover the number of their inode got another one.
    SignedFiles {
        /// The number of them.
        count: u64,
    },
    /// It is marked as having errors, and stays marked.
    StillMarkedAsFaulty,
    /// Its boot code may contain a list of blocks that have moved.
    BootCode,
    /// Its boot loader has a list of its sectors, which have moved, and the list could not be updated.
    LoaderLeftBehind {
        /// Why it could not follow.
        why: String,
    },
}

impl fmt::Display for ResizeWarning {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::SignedFiles { count } => write!(
                f,
                "{count} files with a signature (security.evm) got another inode number: sign them \
                 again if the signature covers it"
            ),
            Self::StillMarkedAsFaulty => f.write_str(
                "it is marked as having errors, and stays marked until its own system checks it",
            ),
            Self::BootCode => f.write_str(
                "it starts with boot code: if that has a list of its own blocks, install it again",
            ),
            Self::LoaderLeftBehind { why } => write!(
                f,
                "its boot loader has a list of its own sectors, which could not be updated: {why}; \
                 install it again before the card can start"
            ),
        }
    }
}

/// The limit for growing a volume: the number of its clusters.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct GrowthLimit {
    /// The cluster size in bytes.
    pub cluster: ByteLen,
    /// The approximate largest size.
    pub most: ByteLen,
}

impl fmt::Display for GrowthLimit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { cluster, most } = self;
        write!(f, "its clusters of {cluster} let it grow to about {most} only")
    }
}
