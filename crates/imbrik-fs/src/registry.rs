//! Which filesystems there are: a line a filesystem, and nothing else in the crate names them.

use crate::{
    filesystem::Filesystem,
    volume::{Volume, VolumeKind},
};
use imbrik_store::{
    ReadAt, Window,
    error::Result,
    units::{ByteOffset, Span},
};

/// All filesystems, those with the strongest signatures first: a FAT boot sector can be left over under a newer
/// filesystem, a LUKS header cannot.
const FILESYSTEMS: [&dyn Filesystem; 9] = [
    &crate::md::Md,
    &crate::luks::Luks,
    &crate::btrfs::Btrfs,
    &crate::swap::Swap,
    &crate::ext4::Ext,
    &crate::f2fs::F2fs,
    &crate::exfat::ExFat,
    &crate::ntfs::Ntfs,
    &crate::fat::Fat,
];

/// A kind without a filesystem: all methods have their cautious default.
struct Unknown;

impl Filesystem for Unknown {
    fn kinds(&self) -> &'static [VolumeKind] {
        &[]
    }

    fn recognise(&self, _store: &dyn ReadAt) -> Result<Option<Volume>> {
        Ok(None)
    }
}

/// The filesystem of a kind.
pub(crate) fn filesystem(kind: VolumeKind) -> &'static dyn Filesystem {
    let found = FILESYSTEMS.into_iter().find(|filesystem| filesystem.kinds().contains(&kind));
    found.unwrap_or(&Unknown)
}

/// Identifies the volume in `store` by its content; `None` if it is unknown.
///
/// # Errors
/// When the store cannot be read.
pub fn recognise(store: &dyn ReadAt) -> Result<Option<Volume>> {
    for filesystem in FILESYSTEMS {
        if let Some(volume) = filesystem.recognise(store)? {
            return Ok(Some(volume));
        }
    }
    Ok(None)
}

/// Identifies the volume in `store` by a backup of its superblock or boot sector, if the primary cannot be read.
///
/// # Errors
/// When the store cannot be read.
pub fn recognise_by_copy(store: &dyn ReadAt) -> Result<Option<Volume>> {
    Ok(by_copy(store)?.map(|(volume, ..)| volume))
}

/// The volume that a backup identifies, the offset of the backup, and that of the primary.
pub(crate) fn by_copy(store: &dyn ReadAt) -> Result<Option<(Volume, ByteOffset, ByteOffset)>> {
    let end = ByteOffset::new(store.size().get());
    for filesystem in FILESYSTEMS {
        for (at, ahead) in filesystem.copies(store.size().get()) {
            let Some(start) = at.checked_sub(ahead).map(ByteOffset::new) else { continue };
            if start >= end {
                continue;
            }
            let window = Window::new(store, Span::between(start, end))?;
            let found = filesystem.recognise_copy(&window)?;
            if let Some(volume) = found.filter(|found| found.size <= store.size()) {
                return Ok(Some((volume, ByteOffset::new(at), ByteOffset::new(ahead))));
            }
        }
    }
    Ok(None)
}

/// The kinds that can be resized, as text: "ext4, FAT and swap".
#[must_use]
pub fn resizable_kinds() -> String {
    let resizes = FILESYSTEMS.iter().filter_map(|filesystem| filesystem.resize());
    let mut names: Vec<_> = resizes.flat_map(|resize| resize.names()).copied().collect();
    names.sort_unstable_by_key(|name| name.to_ascii_lowercase());
    match names.split_last() {
        Some((last, [])) => (*last).to_owned(),
        Some((last, others)) => format!("{} and {last}", others.join(", ")),
        None => String::new(),
    }
}

impl VolumeKind {
    /// Returns whether volumes of this kind can get another size.
    #[must_use]
    pub fn is_resizable(self) -> bool {
        filesystem(self).resize().is_some()
    }

    /// Returns whether what such a volume holds is worth nothing once the machine is off.
    #[must_use]
    pub fn is_scratch(self) -> bool {
        filesystem(self).is_scratch()
    }

    /// Returns whether it holds nothing but files and folders: no owners, no links, no devices.
    #[must_use]
    pub fn has_only_files(self) -> bool {
        filesystem(self).has_only_files()
    }

    /// Returns whether the firmware of boards reads it, so that such a volume may be all about starting.
    #[must_use]
    pub fn is_read_by_firmware(self) -> bool {
        filesystem(self).is_read_by_firmware()
    }

    /// The range that may contain boot code, which can depend on the offset of the volume.
    #[must_use]
    pub fn boot_code(self) -> Option<Span> {
        filesystem(self).boot_code()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_store::SparseStore;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn random_bytes_after_any_magic_number_never_panic(
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
    fn every_kind_has_one_filesystem_and_a_readable_list() {
        let kinds = FILESYSTEMS.iter().flat_map(|filesystem| filesystem.kinds());
        let mut names: Vec<_> = kinds.map(|kind| kind.name()).collect();
        names.sort_unstable();
        let all = names.len();
        names.dedup();
        assert_eq!((names.len(), all), (13, 13));
        assert_eq!(resizable_kinds(), "exFAT, ext2, ext3, ext4, FAT and swap");
        assert!(!VolumeKind::new("a kind of tomorrow").is_resizable());
    }

    #[test]
    fn zeros_are_not_recognised_as_a_volume() {
        for len in [0, 1, 511, 512, 1024, 5000, 70_000] {
            assert_eq!(recognise(&SparseStore::of(&vec![0; len])).unwrap(), None);
        }
    }
}
