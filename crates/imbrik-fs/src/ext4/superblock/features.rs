//! The features of a superblock, and their meaning.

use super::Superblock;
use imbrik_store::error::{Error, Result};

pub(super) const COMPAT_HAS_JOURNAL: u32 = 0x4;
pub(super) const COMPAT_RESIZE_INODE: u32 = 0x10;
pub(super) const COMPAT_SPARSE_SUPER2: u32 = 0x200;
pub(super) const COMPAT_FAST_COMMIT: u32 = 0x400;
pub(super) const COMPAT_STABLE_INODES: u32 = 0x800;
pub(super) const COMPAT_ORPHAN_FILE: u32 = 0x1000;
/// Compatible features that a resize takes care of: dir_prealloc, has_journal, ext_attr,
/// resize_inode, dir_index, sparse_super2, fast_commit, stable_inodes, orphan_file.
pub(super) const COMPAT_RESHAPED: u32 = 0x1
    | COMPAT_HAS_JOURNAL
    | 0x8
    | COMPAT_RESIZE_INODE
    | 0x20
    | COMPAT_SPARSE_SUPER2
    | COMPAT_FAST_COMMIT
    | COMPAT_STABLE_INODES
    | COMPAT_ORPHAN_FILE;
/// Incompatible features that ext3 knows: filetype, recover, journal_dev, meta_bg.
pub(super) const INCOMPAT_OF_EXT3: u32 = 0x2 | 0x4 | 0x8 | 0x10;
pub(super) const INCOMPAT_RECOVER: u32 = 0x4;
pub(super) const INCOMPAT_JOURNAL_DEV: u32 = 0x8;
pub(super) const INCOMPAT_META_BG: u32 = 0x10;
pub(super) const INCOMPAT_EXTENTS: u32 = 0x40;
pub(super) const INCOMPAT_64BIT: u32 = 0x80;
pub(super) const INCOMPAT_MMP: u32 = 0x100;
pub(super) const INCOMPAT_FLEX_BG: u32 = 0x200;
pub(super) const INCOMPAT_EA_INODE: u32 = 0x400;
pub(super) const INCOMPAT_CSUM_SEED: u32 = 0x2000;
/// Incompatible features that change nothing about which blocks are in use, or that are handled:
/// filetype, meta_bg, extents, 64bit, mmp, flex_bg, ea_inode, csum_seed, largedir, inline_data,
/// encrypt, casefold.
pub(super) const INCOMPAT_KNOWN: u32 = 0x2
    | INCOMPAT_META_BG
    | INCOMPAT_EXTENTS
    | INCOMPAT_64BIT
    | 0x100
    | 0x200
    | 0x400
    | INCOMPAT_CSUM_SEED
    | 0x4000
    | 0x8000
    | 0x1_0000
    | 0x2_0000;
/// Read-only-compatible features that ext3 knows: sparse_super, large_file, btree_dir.
pub(super) const RO_COMPAT_OF_EXT3: u32 = 0x1 | 0x2 | 0x4;
pub(super) const RO_COMPAT_SPARSE_SUPER: u32 = 0x1;
pub(super) const RO_COMPAT_HUGE_FILE: u32 = 0x8;
pub(super) const RO_COMPAT_GDT_CSUM: u32 = 0x10;
pub(super) const RO_COMPAT_QUOTA: u32 = 0x100;
pub(super) const RO_COMPAT_BIGALLOC: u32 = 0x200;
pub(super) const RO_COMPAT_METADATA_CSUM: u32 = 0x400;
pub(super) const RO_COMPAT_ORPHAN_PRESENT: u32 = 0x1_0000;
/// Read-only-compatible features that a resize takes care of: sparse_super, large_file, btree_dir,
/// huge_file, uninit_bg, dir_nlink, extra_isize, quota, metadata_csum, readonly, project, verity,
/// orphan_present.
pub(super) const RO_COMPAT_RESHAPED: u32 = 0x1
    | 0x2
    | 0x4
    | RO_COMPAT_HUGE_FILE
    | RO_COMPAT_GDT_CSUM
    | 0x20
    | 0x40
    | RO_COMPAT_QUOTA
    | RO_COMPAT_METADATA_CSUM
    | 0x1000
    | 0x2000
    | 0x8000
    | RO_COMPAT_ORPHAN_PRESENT;
/// Bits of `s_flags`.
pub(super) const FLAGS_SIGNED_HASH: u32 = 1;
pub(super) const FLAGS_UNSIGNED_HASH: u32 = 2;
pub(super) const STATE_VALID: u16 = 0x1;
pub(super) const STATE_ERRORS: u16 = 0x2;

impl Superblock {
    /// Returns whether its system found errors in it.
    pub(in crate::ext4) fn has_errors(&self) -> bool {
        self.state & STATE_ERRORS != 0
    }

    /// The incompatible features once the journal is replayed.
    pub(in crate::ext4) fn incompat_recovered(&self) -> u32 {
        self.incompat & !INCOMPAT_RECOVER
    }

    pub(in crate::ext4) fn is_64bit(&self) -> bool {
        self.incompat & INCOMPAT_64BIT != 0
    }

    /// Returns whether blocks of it can get other owners, and places.
    ///
    /// # Errors
    /// [`imbrik_store::Class::Unsupported`] with the feature that is in the way.
    pub(in crate::ext4) fn is_resizable(&self) -> Result<()> {
        self.is_known()?;
        match self.cluster_blocks {
            1 => Ok(()),
            _ => Err(Error::unsupported("it uses clusters of blocks (bigalloc)")),
        }
    }

    /// Returns whether all of its features are known, so that everything that hangs on its id, or on a
    /// number in it, can be found.
    ///
    /// # Errors
    /// [`imbrik_store::Class::Unsupported`] with the feature that is in the way.
    pub(in crate::ext4) fn is_known(&self) -> Result<()> {
        let unknown = |kind: &str, bits: u32| {
            Err(Error::unsupported(format!("its {kind} feature {bits:#x} is not known")))
        };
        let compat = self.compat & !COMPAT_RESHAPED;
        let ro_compat = self.ro_compat & !(RO_COMPAT_RESHAPED | RO_COMPAT_BIGALLOC);
        if self.incompat & INCOMPAT_MMP != 0 {
            Err(Error::unsupported("several machines may mount it (mmp)"))
        } else if self.has_journal() && self.journal_inode == 0 {
            Err(Error::unsupported("its journal is on another device"))
        } else if self.block_len > 4096 {
            Err(Error::unsupported("its blocks are larger than 4 KiB"))
        } else if compat != 0 {
            unknown("compatible", compat)
        } else if ro_compat != 0 {
            unknown("read-only", ro_compat)
        } else {
            Ok(())
        }
    }

    pub(in crate::ext4) fn has_huge_file(&self) -> bool {
        self.ro_compat & RO_COMPAT_HUGE_FILE != 0
    }

    pub(in crate::ext4) fn has_quota(&self) -> bool {
        self.ro_compat & RO_COMPAT_QUOTA != 0
    }

    /// Returns whether directory entries contain the file type.
    pub(in crate::ext4) fn entries_have_types(&self) -> bool {
        self.incompat & 0x2 != 0
    }

    pub(in crate::ext4) fn has_extents(&self) -> bool {
        self.incompat & INCOMPAT_EXTENTS != 0
    }

    pub(in crate::ext4) fn has_flex_bg(&self) -> bool {
        self.incompat & INCOMPAT_FLEX_BG != 0
    }

    pub(in crate::ext4) fn has_ea_inodes(&self) -> bool {
        self.incompat & INCOMPAT_EA_INODE != 0
    }

    pub(in crate::ext4) fn has_dir_index(&self) -> bool {
        self.compat & 0x20 != 0
    }

    /// Returns whether a folder may have more sub-folders than its count of links holds.
    pub(in crate::ext4) fn has_dir_nlink(&self) -> bool {
        self.ro_compat & 0x20 != 0
    }

    pub(in crate::ext4) fn has_sparse_super2(&self) -> bool {
        self.compat & COMPAT_SPARSE_SUPER2 != 0
    }

    pub(in crate::ext4) fn has_fast_commits(&self) -> bool {
        self.compat & COMPAT_FAST_COMMIT != 0
    }

    /// Returns whether something hangs on the numbers of its inodes, or on its UUID.
    pub(in crate::ext4) fn has_stable_inodes(&self) -> bool {
        self.compat & COMPAT_STABLE_INODES != 0
    }

    /// Returns whether its orphan file says that it is not empty.
    pub(in crate::ext4) fn has_orphans_in_file(&self) -> bool {
        self.ro_compat & RO_COMPAT_ORPHAN_PRESENT != 0
    }

    /// Returns whether an inode holds the blocks reserved for more descriptors.
    pub(in crate::ext4) fn has_resize_inode(&self) -> bool {
        self.compat & COMPAT_RESIZE_INODE != 0
    }

    pub(in crate::ext4) fn has_journal(&self) -> bool {
        self.compat & COMPAT_HAS_JOURNAL != 0
    }

    pub(in crate::ext4) fn has_features_since_ext4(&self) -> bool {
        self.incompat & !INCOMPAT_OF_EXT3 != 0 || self.ro_compat & !RO_COMPAT_OF_EXT3 != 0
    }

    pub(in crate::ext4) fn has_metadata_csum(&self) -> bool {
        self.ro_compat & RO_COMPAT_METADATA_CSUM != 0
    }

    /// Returns whether descriptors carry checksums, so that their flags and unused counts mean something.
    pub(in crate::ext4) fn has_group_checksums(&self) -> bool {
        self.ro_compat & (RO_COMPAT_METADATA_CSUM | RO_COMPAT_GDT_CSUM) != 0
    }

    pub(in crate::ext4) fn uses_meta_bg(&self) -> bool {
        self.incompat & INCOMPAT_META_BG != 0
    }
}
