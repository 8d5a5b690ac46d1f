//! The superblock: `struct ext4_super_block`, 1024 bytes at byte 1024 of the volume.

use super::{checksum::crc32c, group::Group};
use imbrik_store::{
    ReadAt, bytes,
    error::{Error, Result},
    read_up_to,
    units::{ByteLen, ByteOffset, Span},
};

const MAGIC: u16 = 0xef53;
const COMPAT_HAS_JOURNAL: u32 = 0x4;
const COMPAT_RESIZE_INODE: u32 = 0x10;
const COMPAT_SPARSE_SUPER2: u32 = 0x200;
const COMPAT_FAST_COMMIT: u32 = 0x400;
const COMPAT_STABLE_INODES: u32 = 0x800;
const COMPAT_ORPHAN_FILE: u32 = 0x1000;
/// Compatible features that a reshape takes care of: dir_prealloc, has_journal, ext_attr,
/// resize_inode, dir_index, sparse_super2, fast_commit, stable_inodes, orphan_file.
const COMPAT_RESHAPED: u32 = 0x1
    | COMPAT_HAS_JOURNAL
    | 0x8
    | COMPAT_RESIZE_INODE
    | 0x20
    | COMPAT_SPARSE_SUPER2
    | COMPAT_FAST_COMMIT
    | COMPAT_STABLE_INODES
    | COMPAT_ORPHAN_FILE;
/// Incompatible features that ext3 knows: filetype, recover, journal_dev, meta_bg.
const INCOMPAT_OF_EXT3: u32 = 0x2 | 0x4 | 0x8 | 0x10;
const INCOMPAT_RECOVER: u32 = 0x4;
const INCOMPAT_JOURNAL_DEV: u32 = 0x8;
const INCOMPAT_META_BG: u32 = 0x10;
const INCOMPAT_EXTENTS: u32 = 0x40;
const INCOMPAT_64BIT: u32 = 0x80;
const INCOMPAT_MMP: u32 = 0x100;
const INCOMPAT_FLEX_BG: u32 = 0x200;
const INCOMPAT_EA_INODE: u32 = 0x400;
const INCOMPAT_CSUM_SEED: u32 = 0x2000;
/// Incompatible features that change nothing about which blocks are in use, or that are handled:
/// filetype, meta_bg, extents, 64bit, mmp, flex_bg, ea_inode, csum_seed, largedir, inline_data,
/// encrypt, casefold.
const INCOMPAT_KNOWN: u32 = 0x2
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
const RO_COMPAT_OF_EXT3: u32 = 0x1 | 0x2 | 0x4;
const RO_COMPAT_SPARSE_SUPER: u32 = 0x1;
const RO_COMPAT_HUGE_FILE: u32 = 0x8;
const RO_COMPAT_GDT_CSUM: u32 = 0x10;
const RO_COMPAT_QUOTA: u32 = 0x100;
const RO_COMPAT_BIGALLOC: u32 = 0x200;
const RO_COMPAT_METADATA_CSUM: u32 = 0x400;
const RO_COMPAT_ORPHAN_PRESENT: u32 = 0x1_0000;
/// Read-only-compatible features that a reshape takes care of: sparse_super, large_file, btree_dir,
/// huge_file, uninit_bg, dir_nlink, extra_isize, quota, metadata_csum, readonly, project, verity,
/// orphan_present.
const RO_COMPAT_RESHAPED: u32 = 0x1
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
const FLAGS_SIGNED_HASH: u32 = 1;
const FLAGS_UNSIGNED_HASH: u32 = 2;
const STATE_VALID: u16 = 0x1;
const STATE_ERRORS: u16 = 0x2;

/// A superblock whose basic numbers make sense.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Superblock {
    pub(super) uuid: [u8; 16],
    pub(super) label: Option<String>,
    pub(super) blocks: u64,
    pub(super) block_len: u64,
    pub(super) first_data_block: u64,
    pub(super) blocks_per_group: u64,
    /// Blocks a bit of a block bitmap: 1 but with bigalloc.
    pub(super) cluster_blocks: u64,
    pub(super) inodes_per_group: u64,
    pub(super) inode_len: u64,
    /// Bytes a group descriptor: 32, or more with 64bit.
    pub(super) descriptor_len: u64,
    pub(super) first_meta_bg: u64,
    pub(super) reserved_gdt_blocks: u64,
    pub(super) journal_inode: u32,
    /// The copy of the journal's map and length (`s_jnl_blocks`); `None` when there is none.
    pub(super) journal_copy: Option<JournalCopy>,
    /// The seed of every other checksum.
    pub(super) seed: u32,
    /// The first inode that files may have.
    pub(super) first_inode: u32,
    /// The first inode of the orphan list; 0 for none.
    pub(super) last_orphan: u32,
    /// The inode of the orphan file; 0 for none.
    pub(super) orphan_file: u32,
    /// With sparse_super2, the two groups with copies; 0 for none.
    pub(super) backup_groups: [u32; 2],
    /// `s_hash_seed`: what the hashes of names start from.
    pub(super) hash_seed: [u32; 4],
    /// Whether hashes of names take characters with a sign; `None` when nothing tells.
    pub(super) has_signed_hashes: Option<bool>,
    /// The files of the users', the groups' and the projects' quotas; 0 for none.
    pub(super) quota_inodes: [u32; 3],
    /// Groups whose bitmaps and tables stand together (`s_log_groups_per_flex`).
    pub(super) flex_groups: u64,
    state: u16,
    compat: u32,
    incompat: u32,
    ro_compat: u32,
    checksum_is_wrong: bool,
    /// `s_inodes_count`: what the groups have together, in a sound volume.
    inodes_count: u32,
    /// Whether it has clusters of another length than its blocks, without the feature for that.
    has_stray_clusters: bool,
    /// `s_rev_level`: 0 has no features, and inodes of 128 bytes; higher ones than 1 don't exist.
    revision: u32,
}

/// What the superblock repeats of the journal's inode.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct JournalCopy {
    /// The 60 bytes of its map.
    pub(super) i_block: Vec<u8>,
    /// Bytes.
    pub(super) size: u64,
}

/// `EXT3_JNL_BACKUP_BLOCKS`: the superblock has a copy of the journal's map.
const JOURNAL_IS_COPIED: u8 = 1;
/// Where a superblock has its checksum.
const CHECKSUM_AT: usize = 0x3fc;

impl Superblock {
    /// Where it stands in the volume, in bytes.
    pub(super) const OFFSET: u64 = 1024;
    /// How long it is, in bytes.
    pub(super) const LEN: usize = 1024;
    /// The read-only-compatible feature that tells of a file of orphans that is not empty.
    pub(super) const ORPHAN_PRESENT: u32 = RO_COMPAT_ORPHAN_PRESENT;

    /// Decodes it; `None` unless it is one and its block size is one that exists.
    pub(super) fn decode(raw: &[u8]) -> Option<Self> {
        if raw.len() < Self::LEN || bytes::le_u16(raw, 0x38)? != MAGIC {
            return None;
        }
        let s_log_block_size = bytes::le_u32(raw, 0x18)?;
        if s_log_block_size > 6 {
            return None;
        }
        let compat = bytes::le_u32(raw, 0x5c)?;
        let incompat = bytes::le_u32(raw, 0x60)?;
        let ro_compat = bytes::le_u32(raw, 0x64)?;
        let is_64bit = incompat & INCOMPAT_64BIT != 0;
        let high = if is_64bit { u64::from(bytes::le_u32(raw, 0x150)?) << 32 } else { 0 };
        let uuid = bytes::array(raw, 0x68)?;
        let s_log_cluster_size = bytes::le_u32(raw, 0x1c)?;
        let cluster_blocks = match ro_compat & RO_COMPAT_BIGALLOC {
            0 => 1,
            _ => 1u64.checked_shl(s_log_cluster_size.checked_sub(s_log_block_size)?)?,
        };
        let s_rev_level = bytes::le_u32(raw, 0x4c)?;
        let has_checksums = ro_compat & RO_COMPAT_METADATA_CSUM != 0;
        let expected = crc32c(!0, raw.get(..CHECKSUM_AT)?);
        Some(Self {
            label: bytes::text(raw.get(0x78..0x88)?),
            blocks: u64::from(bytes::le_u32(raw, 0x4)?) | high,
            block_len: 1024u64.checked_shl(s_log_block_size)?,
            first_data_block: bytes::le_u32(raw, 0x14)?.into(),
            blocks_per_group: bytes::le_u32(raw, 0x20)?.into(),
            cluster_blocks,
            inodes_count: bytes::le_u32(raw, 0)?,
            has_stray_clusters: ro_compat & RO_COMPAT_BIGALLOC == 0
                && (s_log_cluster_size != s_log_block_size
                    || bytes::le_u32(raw, 0x24)? != bytes::le_u32(raw, 0x20)?),
            revision: s_rev_level,
            inodes_per_group: bytes::le_u32(raw, 0x28)?.into(),
            inode_len: if s_rev_level == 0 { 128 } else { bytes::le_u16(raw, 0x58)?.into() },
            descriptor_len: if is_64bit { bytes::le_u16(raw, 0xfe)?.into() } else { 32 },
            first_meta_bg: bytes::le_u32(raw, 0x104)?.into(),
            reserved_gdt_blocks: bytes::le_u16(raw, 0xce)?.into(),
            journal_inode: bytes::le_u32(raw, 0xe0)?,
            journal_copy: match bytes::u8(raw, 0xfd)? {
                JOURNAL_IS_COPIED => Some(JournalCopy {
                    i_block: raw.get(0x10c..0x148)?.to_vec(),
                    size: u64::from(bytes::le_u32(raw, 0x14c)?)
                        | u64::from(bytes::le_u32(raw, 0x148)?) << 32,
                }),
                _ => None,
            },
            seed: match incompat & INCOMPAT_CSUM_SEED {
                0 => crc32c(!0, &uuid),
                _ => bytes::le_u32(raw, 0x270)?,
            },
            first_inode: if s_rev_level == 0 { 11 } else { bytes::le_u32(raw, 0x54)? },
            last_orphan: bytes::le_u32(raw, 0xe8)?,
            orphan_file: match compat & COMPAT_ORPHAN_FILE {
                0 => 0,
                _ => bytes::le_u32(raw, 0x280)?,
            },
            backup_groups: [bytes::le_u32(raw, 0x24c)?, bytes::le_u32(raw, 0x250)?],
            hash_seed: [
                bytes::le_u32(raw, 0xec)?,
                bytes::le_u32(raw, 0xf0)?,
                bytes::le_u32(raw, 0xf4)?,
                bytes::le_u32(raw, 0xf8)?,
            ],
            has_signed_hashes: match bytes::le_u32(raw, 0x160)? & 3 {
                FLAGS_SIGNED_HASH => Some(true),
                FLAGS_UNSIGNED_HASH => Some(false),
                _ => None,
            },
            quota_inodes: match ro_compat & RO_COMPAT_QUOTA {
                0 => [0; 3],
                _ => [
                    bytes::le_u32(raw, 0x240)?,
                    bytes::le_u32(raw, 0x244)?,
                    bytes::le_u32(raw, 0x26c)?,
                ],
            },
            flex_groups: match incompat & INCOMPAT_FLEX_BG {
                0 => 1,
                _ => 1u64.checked_shl(bytes::u8(raw, 0x174)?.min(31).into())?,
            },
            state: bytes::le_u16(raw, 0x3a)?,
            uuid,
            compat,
            incompat,
            ro_compat,
            checksum_is_wrong: has_checksums && bytes::le_u32(raw, CHECKSUM_AT)? != expected,
        })
    }

    /// Whether the numbers that all arithmetic rests on agree with each other.
    pub(super) fn has_sound_numbers(&self) -> bool {
        let bits = self.block_len.saturating_mul(8);
        let clusters = self.blocks_per_group.checked_div(self.cluster_blocks).unwrap_or(0);
        let per_block = self.block_len.checked_div(self.inode_len.max(1)).unwrap_or(0);
        // Smaller groups are not made, and would be a way to have millions of bitmaps read.
        let descriptors = if self.is_64bit() { 64..=1024 } else { 32..=1024 };
        let has_features = self.compat | self.incompat | self.ro_compat != 0;
        // The block that holds the superblock is the first of the first group, where it can be.
        let first = u64::from(self.block_len == 1024 && self.cluster_blocks == 1);
        self.blocks > self.first_data_block
            && self.first_data_block == first
            && (self.revision == 1 || self.revision == 0 && !has_features)
            && !self.has_stray_clusters
            && self.blocks_per_group >= 256
            && (1..=bits).contains(&clusters)
            && (1..=bits).contains(&self.inodes_per_group)
            && self.inode_len.is_power_of_two()
            && (128..=self.block_len).contains(&self.inode_len)
            && self.inodes_per_group.is_multiple_of(per_block.max(1))
            && self.descriptor_len.is_power_of_two()
            && descriptors.contains(&self.descriptor_len)
            && self.descriptor_len <= self.block_len
    }

    /// The superblock of the volume in `store`; `None` when there is none.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub(super) fn read(store: &dyn ReadAt) -> Result<Option<Self>> {
        Ok(Self::decode(&read_up_to(store, ByteOffset::new(Self::OFFSET), Self::LEN)?))
    }

    /// Whether the volume's own word on which of its blocks are in use can be taken.
    ///
    /// # Errors
    /// With the first reason why not.
    pub(super) fn can_be_trusted(&self, room: ByteLen) -> Result<()> {
        if self.needs_recovery() {
            return Err(Error::unsupported("its journal is to be replayed first"));
        }
        self.is_understood(room)
    }

    /// Whether the volume is sound and all of its features are known, apart from what its journal
    /// holds.
    ///
    /// # Errors
    /// With the first reason why not.
    pub(super) fn is_understood(&self, room: ByteLen) -> Result<()> {
        let unknown = self.incompat & !INCOMPAT_KNOWN & !INCOMPAT_RECOVER & !INCOMPAT_JOURNAL_DEV;
        let wrong = |what: String| Err(Error::corrupt(what));
        if self.checksum_is_wrong {
            wrong("the superblock's checksum is wrong".into())
        } else if self.incompat & INCOMPAT_JOURNAL_DEV != 0 {
            Err(Error::unsupported("it is a journal for another volume"))
        } else if unknown != 0 {
            Err(Error::unsupported(format!("its feature {unknown:#x} is not known")))
        } else if self.volume_len() > room {
            wrong(format!("it says that it is {} long, its place has {room}", self.volume_len()))
        } else if !self.has_sound_numbers() || u64::from(self.inodes_count) != self.inodes() {
            wrong("the superblock's numbers contradict each other".into())
        } else {
            Ok(())
        }
    }

    /// How long the volume says it is; the largest length when 64 bits cannot hold it.
    pub(super) fn volume_len(&self) -> ByteLen {
        ByteLen::new(self.blocks.saturating_mul(self.block_len))
    }

    /// Whether it was not unmounted, so that its journal has newer blocks.
    pub(super) fn needs_recovery(&self) -> bool {
        self.incompat & INCOMPAT_RECOVER != 0
    }

    /// Whether it was unmounted as it should be.
    pub(super) fn was_unmounted(&self) -> bool {
        self.state & STATE_VALID != 0
    }

    /// How many blocks a group takes for itself: its bitmaps and its inode table.
    pub(super) fn metadata_blocks_a_group(&self) -> u64 {
        self.inodes_per_group.div_ceil(self.inodes_a_block()).saturating_add(2)
    }

    /// How many inodes stand in a block of a table.
    pub(super) fn inodes_a_block(&self) -> u64 {
        self.block_len.checked_div(self.inode_len).unwrap_or(1).max(1)
    }

    /// How many blocks a group has in use if it holds nothing but its own metadata, as an unwritten
    /// bitmap implies.
    pub(super) fn implied_blocks(&self, number: u64, group: &Group) -> u64 {
        let (start, len) = (self.group_start(number), self.group_len(number));
        let inside = |first: u64, count: u64| {
            let end = first.saturating_add(count).min(start.saturating_add(len));
            end.saturating_sub(first.max(start))
        };
        self.leading_blocks(number)
            .min(len)
            .saturating_add(inside(group.block_bitmap, 1))
            .saturating_add(inside(group.inode_bitmap, 1))
            .saturating_add(inside(group.inode_table, self.table_blocks()))
    }

    /// Whether its system found errors in it.
    pub(super) fn has_errors(&self) -> bool {
        self.state & STATE_ERRORS != 0
    }

    /// The incompatible features once the journal is replayed.
    pub(super) fn incompat_settled(&self) -> u32 {
        self.incompat & !INCOMPAT_RECOVER
    }

    pub(super) fn is_64bit(&self) -> bool {
        self.incompat & INCOMPAT_64BIT != 0
    }

    /// Whether blocks of it can get other owners, and places.
    ///
    /// # Errors
    /// [`imbrik_store::Class::Unsupported`] with the feature that is in the way.
    pub(super) fn can_be_reshaped(&self) -> Result<()> {
        self.is_known()?;
        match self.cluster_blocks {
            1 => Ok(()),
            _ => Err(Error::unsupported("it uses clusters of blocks (bigalloc)")),
        }
    }

    /// Whether all of its features are known, so that everything that hangs on its id, or on a
    /// number in it, can be found.
    ///
    /// # Errors
    /// [`imbrik_store::Class::Unsupported`] with the feature that is in the way.
    pub(super) fn is_known(&self) -> Result<()> {
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

    pub(super) fn has_huge_file(&self) -> bool {
        self.ro_compat & RO_COMPAT_HUGE_FILE != 0
    }

    pub(super) fn has_quota(&self) -> bool {
        self.ro_compat & RO_COMPAT_QUOTA != 0
    }

    /// Whether entries of folders tell what kind of inode they lead to.
    pub(super) fn entries_have_types(&self) -> bool {
        self.incompat & 0x2 != 0
    }

    pub(super) fn has_extents(&self) -> bool {
        self.incompat & INCOMPAT_EXTENTS != 0
    }

    pub(super) fn has_flex_bg(&self) -> bool {
        self.incompat & INCOMPAT_FLEX_BG != 0
    }

    pub(super) fn has_ea_inodes(&self) -> bool {
        self.incompat & INCOMPAT_EA_INODE != 0
    }

    pub(super) fn has_dir_index(&self) -> bool {
        self.compat & 0x20 != 0
    }

    /// Whether a folder may have more sub-folders than its count of links holds.
    pub(super) fn has_dir_nlink(&self) -> bool {
        self.ro_compat & 0x20 != 0
    }

    pub(super) fn has_sparse_super2(&self) -> bool {
        self.compat & COMPAT_SPARSE_SUPER2 != 0
    }

    pub(super) fn has_fast_commits(&self) -> bool {
        self.compat & COMPAT_FAST_COMMIT != 0
    }

    /// Whether something hangs on the numbers of its inodes, or on its UUID.
    pub(super) fn has_stable_inodes(&self) -> bool {
        self.compat & COMPAT_STABLE_INODES != 0
    }

    /// Whether its orphan file says that it is not empty.
    pub(super) fn has_orphans_in_file(&self) -> bool {
        self.ro_compat & RO_COMPAT_ORPHAN_PRESENT != 0
    }

    /// The part of an inode bitmap that its checksum covers.
    pub(super) fn covered_inodes<'b>(&self, bitmap: &'b [u8]) -> &'b [u8] {
        let len = usize::try_from(self.inodes_per_group / 8).unwrap_or(usize::MAX);
        bitmap.get(..len).unwrap_or(bitmap)
    }

    /// How many blocks an inode table takes.
    pub(super) fn table_blocks(&self) -> u64 {
        self.metadata_blocks_a_group().saturating_sub(2)
    }

    /// How many blocks the descriptors take.
    pub(super) fn descriptor_blocks(&self) -> u64 {
        self.groups().div_ceil(self.descriptors_a_block())
    }

    /// How many inodes there are.
    pub(super) fn inodes(&self) -> u64 {
        self.groups().saturating_mul(self.inodes_per_group)
    }

    /// Whether an inode holds the blocks reserved for more descriptors.
    pub(super) fn has_resize_inode(&self) -> bool {
        self.compat & COMPAT_RESIZE_INODE != 0
    }

    /// The part of a block bitmap that its checksum covers.
    pub(super) fn covered<'b>(&self, bitmap: &'b [u8]) -> &'b [u8] {
        let all = self.blocks_per_group.checked_div(self.cluster_blocks).unwrap_or(0);
        let len = usize::try_from(all.div_ceil(8)).unwrap_or(usize::MAX);
        bitmap.get(..len).unwrap_or(bitmap)
    }

    /// Whether two superblocks describe the same layout.
    pub(super) fn has_geometry_of(&self, other: &Self) -> bool {
        let of = |s: &Self| {
            let groups = (s.blocks, s.block_len, s.first_data_block, s.blocks_per_group);
            (groups, s.inodes_per_group, s.inode_len, s.descriptor_len, s.uuid)
        };
        of(self) == of(other)
    }

    pub(super) fn has_journal(&self) -> bool {
        self.compat & COMPAT_HAS_JOURNAL != 0
    }

    pub(super) fn has_features_since_ext4(&self) -> bool {
        self.incompat & !INCOMPAT_OF_EXT3 != 0 || self.ro_compat & !RO_COMPAT_OF_EXT3 != 0
    }

    /// Makes the checksum of a superblock's bytes anew: that over all of it but the checksum, from
    /// all ones.
    pub(super) fn seal(&self, raw: &mut [u8]) {
        if self.has_metadata_csum() {
            let sum = crc32c(!0, raw.get(..CHECKSUM_AT).unwrap_or_default());
            let _ = bytes::put(raw, CHECKSUM_AT, sum.to_le_bytes());
        }
    }

    pub(super) fn has_metadata_csum(&self) -> bool {
        self.ro_compat & RO_COMPAT_METADATA_CSUM != 0
    }

    /// Whether descriptors carry checksums, so that their flags and unused counts mean something.
    pub(super) fn has_group_checksums(&self) -> bool {
        self.ro_compat & (RO_COMPAT_METADATA_CSUM | RO_COMPAT_GDT_CSUM) != 0
    }

    /// How many groups there are.
    pub(super) fn groups(&self) -> u64 {
        let blocks = self.blocks.saturating_sub(self.first_data_block);
        blocks.div_ceil(self.blocks_per_group.max(1))
    }

    /// The first block of a group.
    pub(super) fn group_start(&self, group: u64) -> u64 {
        self.first_data_block.saturating_add(group.saturating_mul(self.blocks_per_group))
    }

    /// How many blocks a group has: all as many, but the last.
    pub(super) fn group_len(&self, group: u64) -> u64 {
        self.blocks.saturating_sub(self.group_start(group)).min(self.blocks_per_group)
    }

    /// Descriptors a block.
    pub(super) fn descriptors_a_block(&self) -> u64 {
        self.block_len.checked_div(self.descriptor_len).unwrap_or(1).max(1)
    }

    pub(super) fn uses_meta_bg(&self) -> bool {
        self.incompat & INCOMPAT_META_BG != 0
    }

    /// The block, and the byte in it, where the descriptor of `group` stands.
    pub(super) fn descriptor_at(&self, group: u64) -> (u64, u64) {
        let a_block = self.descriptors_a_block();
        let index = group.checked_div(a_block).unwrap_or(0);
        let inside = group.checked_rem(a_block).unwrap_or(0).saturating_mul(self.descriptor_len);
        if !self.uses_meta_bg() || index < self.first_meta_bg {
            return (self.primary().saturating_add(1).saturating_add(index), inside);
        }
        let first = index.saturating_mul(a_block);
        let behind = u64::from(self.has_superblock(first)).saturating_add(self.shift(first));
        (self.group_start(first).saturating_add(behind), inside)
    }

    /// The block that holds the primary superblock: byte 1024 of the volume.
    fn primary(&self) -> u64 {
        Self::OFFSET.checked_div(self.block_len).unwrap_or(0)
    }

    /// How far everything in group 0 stands behind the group's start: with bigalloc and blocks of
    /// 1 KiB, the group starts at block 0 and the superblock stands in block 1.
    fn shift(&self, group: u64) -> u64 {
        if group == 0 { self.primary().saturating_sub(self.first_data_block) } else { 0 }
    }

    /// Whether a group starts with a superblock: the first, and those that the sparse rules name.
    pub(super) fn has_superblock(&self, group: u64) -> bool {
        let power_of = |base: u64| {
            let mut power = base;
            while power < group {
                power = power.saturating_mul(base);
            }
            power == group
        };
        if self.compat & COMPAT_SPARSE_SUPER2 != 0 {
            return group == 0 || self.backup_groups.iter().any(|g| u64::from(*g) == group);
        }
        self.ro_compat & RO_COMPAT_SPARSE_SUPER == 0
            || group <= 1
            || [3, 5, 7].into_iter().any(power_of)
    }

    /// Which blocks of the descriptor table stand behind a group's superblock, by their index in
    /// the table.
    pub(super) fn descriptors_in(&self, group: u64) -> std::ops::Range<u64> {
        let a_block = self.descriptors_a_block();
        let index = group.checked_div(a_block).unwrap_or(0);
        if self.uses_meta_bg() && index >= self.first_meta_bg {
            let place = group.checked_rem(a_block).unwrap_or(0);
            let is_copy = place <= 1 || place.saturating_add(1) == a_block;
            return index..index.saturating_add(u64::from(is_copy));
        }
        let all = self.descriptor_blocks();
        let table = if self.uses_meta_bg() { all.min(self.first_meta_bg) } else { all };
        0..if self.has_superblock(group) { table } else { 0 }
    }

    /// How many blocks at the start of a group hold superblock and descriptors.
    pub(super) fn leading_blocks(&self, group: u64) -> u64 {
        let a_block = self.descriptors_a_block();
        let all = self.groups().div_ceil(a_block);
        let index = group.checked_div(a_block).unwrap_or(0);
        let own = u64::from(self.has_superblock(group)).saturating_add(self.shift(group));
        if self.uses_meta_bg() && index >= self.first_meta_bg {
            let place = group.checked_rem(a_block).unwrap_or(0);
            let is_copy = place <= 1 || place.saturating_add(1) == a_block;
            return own.saturating_add(u64::from(is_copy));
        }
        let table = if self.uses_meta_bg() { all.min(self.first_meta_bg) } else { all };
        let table = table.saturating_add(self.reserved_gdt_blocks);
        if own == 0 { 0 } else { table.saturating_add(own) }
    }

    /// `count` blocks from `first` as bytes; `None` when they don't lie in the volume.
    pub(super) fn span(&self, first: u64, count: u64) -> Option<Span> {
        let end = first.checked_add(count).filter(|end| *end <= self.blocks)?;
        let start = ByteOffset::new(first.checked_mul(self.block_len)?);
        Some(Span::between(start, ByteOffset::new(end.checked_mul(self.block_len)?)))
    }
}
