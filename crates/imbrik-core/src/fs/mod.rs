//! Volumes: which filesystem, or what else, stands in a partition or on a bare card.
//!
//! [`recognise`] goes by content alone. A recogniser reads a few kilobytes of metadata, believes no
//! number in them, and answers `None` for anything that isn't plainly its own.

mod btrfs;
mod exfat;
mod ext4;
mod f2fs;
mod fat;
mod luks;
mod ntfs;
mod swap;
mod usage;

use usage::ClusterRuns;
pub use usage::Usage;

use crate::{error::Result, store::ReadAt, units::ByteLen};
use std::fmt;

/// What a volume says of itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Volume {
    /// Which filesystem, or what else.
    pub kind: VolumeKind,
    /// Its label; `None` when it has none.
    pub label: Option<String>,
    /// Its id, written as the system's tools write it; `None` when it has none.
    pub uuid: Option<String>,
    /// How long it says it is. May exceed its partition when one of the two is wrong.
    pub size: ByteLen,
}

/// The kinds of volumes that are known by name.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum VolumeKind {
    /// ext2: no journal.
    Ext2,
    /// ext3: a journal, and nothing newer.
    Ext3,
    /// ext4.
    Ext4,
    /// FAT with 12-bit entries.
    Fat12,
    /// FAT with 16-bit entries.
    Fat16,
    /// FAT with 32-bit entries.
    Fat32,
    /// exFAT.
    ExFat,
    /// NTFS.
    Ntfs,
    /// btrfs.
    Btrfs,
    /// F2FS.
    F2fs,
    /// A Linux swap area.
    Swap,
    /// A LUKS container: encrypted, so nothing is known of what is inside.
    Luks,
}

impl fmt::Display for VolumeKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Ext2 => "ext2",
            Self::Ext3 => "ext3",
            Self::Ext4 => "ext4",
            Self::Fat12 => "FAT12",
            Self::Fat16 => "FAT16",
            Self::Fat32 => "FAT32",
            Self::ExFat => "exFAT",
            Self::Ntfs => "NTFS",
            Self::Btrfs => "btrfs",
            Self::F2fs => "F2FS",
            Self::Swap => "swap",
            Self::Luks => "LUKS",
        })
    }
}

/// Names the volume in `store` by its content; `None` when it is none of those known.
///
/// Those with the strongest marks come first: a FAT boot sector can be left over under a newer
/// filesystem, a LUKS header cannot.
///
/// # Errors
/// When the store cannot be read.
pub fn recognise(store: &dyn ReadAt) -> Result<Option<Volume>> {
    let recognisers = [
        luks::recognise,
        btrfs::recognise,
        swap::recognise,
        ext4::recognise,
        f2fs::recognise,
        exfat::recognise,
        ntfs::recognise,
        fat::recognise,
    ];
    for recognise in recognisers {
        if let Some(volume) = recognise(store)? {
            return Ok(Some(volume));
        }
    }
    Ok(None)
}

/// Which bytes of `volume`, which stands in `store`, are in use. Where its own metadata cannot be
/// trusted, or nothing is known of its kind, all of them.
///
/// # Errors
/// When the store cannot be read.
pub fn usage(store: &dyn ReadAt, volume: &Volume) -> Result<Usage> {
    match volume.kind {
        VolumeKind::Ext2 | VolumeKind::Ext3 | VolumeKind::Ext4 => ext4::usage(store),
        VolumeKind::Fat12 | VolumeKind::Fat16 | VolumeKind::Fat32 => fat::usage(store),
        VolumeKind::ExFat => exfat::usage(store),
        VolumeKind::Swap => swap::usage(store),
        VolumeKind::Ntfs | VolumeKind::Btrfs | VolumeKind::F2fs | VolumeKind::Luks => {
            let because = format!("what {} has in use is not known", volume.kind);
            Ok(Usage::whole(store.size(), because))
        }
    }
}

/// The small file at `path` (names from the root down) in `volume`, which stands in `store`, up to
/// `most` bytes of it; `None` when there is none or the kind of volume is not looked into.
///
/// # Errors
/// When the store cannot be read.
pub fn small_file(
    store: &dyn ReadAt,
    volume: &Volume,
    path: &[&[u8]],
    most: usize,
) -> Result<Option<Vec<u8>>> {
    match volume.kind {
        VolumeKind::Ext2 | VolumeKind::Ext3 | VolumeKind::Ext4 => {
            ext4::small_file(store, path, most)
        }
        _ => Ok(None),
    }
}

/// A UUID as the system's tools write it; `None` when it is all zeros.
fn uuid_text(raw: [u8; 16]) -> Option<String> {
    let uuid = uuid::Uuid::from_bytes(raw);
    (!uuid.is_nil()).then(|| uuid.to_string())
}

/// A 32-bit volume serial as FAT and exFAT tools write it: `1A2B-3C4D`.
fn serial_text(serial: u32) -> Option<String> {
    let (high, low) = (serial >> 16, serial & 0xffff);
    (serial != 0).then(|| format!("{high:04X}-{low:04X}"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::store::SparseStore;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn random_bytes_behind_any_mark_never_panic(
            bytes in proptest::collection::vec(any::<u8>(), 70_000..70_100),
            mark in 0usize..8,
        ) {
            let (at, magic): (usize, &[u8]) = [
                (0, b"LUKS\xba\xbe".as_slice()), (0x10040, b"_BHRfS_M"), (4086, b"SWAPSPACE2"),
                (1080, b"\x53\xef"), (1024, b"\x10\x20\xf5\xf2"), (3, b"EXFAT   "),
                (3, b"NTFS    "), (510, b"\x55\xaa"),
            ][mark];
            let mut bytes = bytes;
            bytes[at..at + magic.len()].copy_from_slice(magic);
            bytes[510..512].copy_from_slice(b"\x55\xaa");
            let _ = recognise(&SparseStore::of(&bytes));
        }
    }

    #[test]
    fn nothing_is_recognised_in_nothing() {
        for len in [0, 1, 511, 512, 1024, 5000, 70_000] {
            assert_eq!(recognise(&SparseStore::of(&vec![0; len])).unwrap(), None);
        }
    }
}
