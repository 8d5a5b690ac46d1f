//! Warnings about a plan, each with its text.

use imbrik_fs::{GrowthLimit, ResizeWarning};
use std::fmt;

/// Something that a plan cannot resolve by itself, or leaves unchanged.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Warning {
    /// A warning about a resized volume.
    Volume {
        /// The partition: "partition 2 (ext4, hive-07)".
        title: String,
        /// The warning of the filesystem.
        what: ResizeWarning,
    },
    /// A volume can't grow into all of the free space.
    Limited {
        /// The partition.
        title: String,
        /// The reason.
        limit: GrowthLimit,
    },
    /// A volume moves that has code in its first sectors.
    BootCode {
        /// The partition.
        title: String,
    },
    /// An empty container of logical partitions has no room.
    ContainerLeftOut {
        /// Its number.
        number: u32,
    },
    /// A volume keeps its id.
    KeepsId {
        /// The partition.
        title: String,
        /// The reason.
        why: String,
    },
    /// A file with a changed id in an unknown format: it is unchanged.
    StillNames {
        /// The file, from the root.
        path: String,
        /// The partition that it is on.
        title: String,
        /// The old id.
        id: String,
    },
    /// A file with an old id that could not be changed.
    NotFollowed {
        /// The file with the reference, and the reason.
        why: String,
    },
    /// A file refers to something that original and copy go on sharing.
    Shared {
        /// The file, and the partition that holds it.
        file: String,
        /// The file or device that it refers to.
        what: String,
        /// True if that is a label; otherwise it is a place.
        is_label: bool,
    },
    /// The old host name stays the name of another address.
    OldNameOf {
        /// The partition with the file.
        title: String,
        /// The old name.
        name: String,
        /// The address.
        address: String,
    },
    /// A volume is copied without a search for private data.
    NotInspected {
        /// The partition.
        title: String,
        /// Why its files can't be read.
        why: String,
    },
    /// Files are copied without a search for private data.
    FilesNotInspected {
        /// The partition with the files.
        title: String,
        /// How many there are.
        count: usize,
        /// The first of them.
        paths: Vec<String>,
    },
    /// Other files contain a value that was removed as private.
    StillContains {
        /// The partition with the files.
        title: String,
        /// How many there are.
        count: usize,
        /// The first of them.
        paths: Vec<String>,
    },
    /// The metadata of a volume, such as its journal, contain a value that was removed as private.
    MetadataContains {
        /// The partition.
        title: String,
    },
    /// The settings of an SSH server name host keys that are removed, and not the new one.
    HostKeysNamed {
        /// The partition with the settings.
        title: String,
        /// The keys.
        paths: Vec<String>,
    },
    /// No host keys are on the card.
    NoKeys,
}

impl fmt::Display for Warning {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Volume { title, what } => write!(f, "{title}: {what}"),
            Self::Limited { title, limit } => write!(f, "{title}: {limit}"),
            Self::BootCode { title } => {
                write!(
                    f,
                    "{title} has boot code in its first sectors, which may depend on its old offset"
                )
            }
            Self::ContainerLeftOut { number } => write!(
                f,
                "partition {number}, an empty extended partition, does not fit and is left out"
            ),
            Self::KeepsId { title, why } => write!(f, "{title} keeps its id: {why}"),
            Self::StillNames { path, title, id } => {
                write!(f, "/{path} on {title} still contains {id}: it is unchanged")
            }
            Self::NotFollowed { why } => write!(f, "{why}; it still contains an old id"),
            Self::Shared { file, what, is_label: true } => {
                write!(f, "/{file} keeps {what}: labels are unchanged")
            }
            Self::Shared { file, what, is_label: false } => {
                write!(f, "/{file} keeps {what}: a device name is not an id")
            }
            Self::OldNameOf { title, name, address } => {
                write!(f, "/etc/hosts on {title} keeps {name} as the name of {address}")
            }
            Self::NotInspected { title, why } => {
                write!(
                    f,
                    "{title} was not searched for private data, and is copied unchanged: {why}"
                )
            }
            Self::FilesNotInspected { title, count, paths } => {
                let paths = paths.join(", ");
                match count {
                    1 => write!(
                        f,
                        "one file on {title} could not be read, and so was not searched for private data: {paths}"
                    ),
                    count => write!(
                        f,
                        "{count} files on {title} could not be read, and so were not searched for private data: {paths}"
                    ),
                }
            }
            Self::StillContains { title, count, paths } => {
                let paths = paths.join(", ");
                match count {
                    1 => write!(f, "a removed value is also in this file on {title}: {paths}"),
                    count => {
                        write!(f, "removed values are also in {count} files on {title}: {paths}")
                    }
                }
            }
            Self::MetadataContains { title } => {
                write!(f, "a removed value is also in the metadata of {title}, outside of files")
            }
            Self::HostKeysNamed { title, paths } => write!(
                f,
                "the settings of the SSH server on {title} name only {}, which the copy doesn't have: set HostKey \
                 to /etc/ssh/ssh_host_ed25519_key",
                paths.join(", ")
            ),
            Self::NoKeys => f.write_str("it has no SSH host keys, so none are generated"),
        }
    }
}
