//! Oddities of a partition table, each with its text.

use imbrik_store::units::Lba;
use std::fmt;

/// Something odd about a partition table that could be read all the same.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum TableFinding {
    /// The backup of a GPT is valid, and differs from the primary table.
    BackupDiffers,
    /// A GPT has no backup.
    BackupMissing,
    /// The backup of a GPT is damaged.
    BackupDamaged {
        /// How, in a few words.
        why: String,
    },
    /// The primary table of a GPT is damaged, and its backup was taken.
    PrimaryDamaged {
        /// How, in a few words.
        why: String,
    },
    /// A GPT has no primary table, and its backup was taken.
    PrimaryMissing,
    /// The protective record of a GPT contains partitions.
    Hybrid,
    /// A GPT has no protective record.
    NotProtected,
    /// The chain of logical partitions leads to a sector that has no boot record.
    ChainBreaks {
        /// The sector of the table.
        at: Lba,
    },
    /// The chain of logical partitions returns to an earlier sector.
    ChainIsACircle {
        /// The sector of the table.
        at: Lba,
    },
    /// Two partitions have sectors in common.
    Overlap {
        /// The number of the one that starts first.
        first: u32,
        /// The number of the other one.
        second: u32,
    },
}

impl fmt::Display for TableFinding {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::BackupDiffers => f.write_str("the backup table differs from the primary one"),
            Self::BackupMissing => f.write_str("the backup table is missing"),
            Self::BackupDamaged { why } => write!(f, "the backup table is damaged: {why}"),
            Self::PrimaryDamaged { why } => {
                write!(f, "the primary table is damaged, the backup is used: {why}")
            }
            Self::PrimaryMissing => f.write_str("the primary table is missing, the backup is used"),
            Self::Hybrid => {
                f.write_str("the protective record is a partition table, too (a hybrid)")
            }
            Self::NotProtected => f.write_str("the protective record is missing"),
            Self::ChainBreaks { at } => {
                write!(f, "the chain of logical partitions breaks at {at}: no boot record there")
            }
            Self::ChainIsACircle { at } => {
                write!(f, "the chain of logical partitions is circular at {at}")
            }
            Self::Overlap { first, second } => {
                write!(f, "partitions {first} and {second} overlap")
            }
        }
    }
}
