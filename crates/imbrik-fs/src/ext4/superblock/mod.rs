//! The superblock: `struct ext4_super_block`, 1024 bytes at byte 1024 of the volume.

//!
//! Parsing returns a [`RawSuperblock`]; a [`Superblock`] has consistent values.

mod features;
mod raw;

use super::{checksum::crc32c, group::Group};
use imbrik_store::{
    bytes,
    units::{ByteLen, ByteOffset, Span},
};
pub(super) use raw::RawSuperblock;

/// A valid superblock: its values are consistent, and its layout is safe for arithmetic.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Superblock {
    pub(super) uuid: [u8; 16],
    pub(super) label: Option<String>,
    pub(super) blocks: u64,
    pub(super) block_len: u64,
    pub(super) first_data_block: u64,
    pub(super) blocks_per_group: u64,
    /// Blocks per bit of a block bitmap: 1 except with bigalloc.
    pub(super) cluster_blocks: u64,
    pub(super) inodes_per_group: u64,
    pub(super) inode_len: u64,
    /// The size of a group descriptor in bytes: 32, or more with 64bit.
    pub(super) descriptor_len: u64,
    pub(super) first_meta_bg: u64,
    pub(super) reserved_gdt_blocks: u64,
    pub(super) journal_inode: u32,
    /// The backup of the journal's map and length (`s_jnl_blocks`), if it exists.
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
    /// `s_hash_seed`: the seed for hashes of names.
    pub(super) hash_seed: [u32; 4],
    /// True if hashes of names use signed characters; `None` if that is not recorded.
    pub(super) has_signed_hashes: Option<bool>,
    /// The files of the users', the groups' and the projects' quotas; 0 for none.
    pub(super) quota_inodes: [u32; 3],
    /// The number of groups with their bitmaps and tables together (`s_log_groups_per_flex`).
    pub(super) flex_groups: u64,
    state: u16,
    compat: u32,
    incompat: u32,
    ro_compat: u32,
}

/// The superblock's backup of the journal inode.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct JournalCopy {
    /// The 60 bytes of its map.
    pub(super) i_block: Vec<u8>,
    /// In bytes.
    pub(super) size: u64,
}

/// The offset of the checksum of a superblock.
const CHECKSUM_AT: usize = 0x3fc;

impl Superblock {
    /// Its offset in the volume, in bytes.
    pub(super) const OFFSET: u64 = 1024;
    /// How long it is, in bytes.
    pub(super) const LEN: usize = 1024;
    /// The read-only-compatible feature for a file of orphans that is not empty.
    pub(super) const ORPHAN_PRESENT: u32 = features::RO_COMPAT_ORPHAN_PRESENT;

    /// The same under another UUID.
    pub(super) fn with_uuid(&self, uuid: [u8; 16]) -> Self {
        let seed = match self.incompat & features::INCOMPAT_CSUM_SEED {
            0 => crc32c(!0, &uuid),
            _ => self.seed,
        };
        Self { uuid, seed, ..self.clone() }
    }

    /// The recorded length of the volume; the largest length if it exceeds 64 bits.
    pub(super) fn volume_len(&self) -> ByteLen {
        ByteLen::new(self.blocks.saturating_mul(self.block_len))
    }

    /// The number of blocks of a group's metadata: its bitmaps and its inode table.
    pub(super) fn metadata_blocks_a_group(&self) -> u64 {
        self.inodes_per_group.div_ceil(self.inodes_a_block()).saturating_add(2)
    }

    /// The number of inodes per block of a table.
    pub(super) fn inodes_a_block(&self) -> u64 {
        self.block_len.checked_div(self.inode_len).unwrap_or(1).max(1)
    }

    /// The number of used blocks in a group that contains only its metadata, as an uninitialised bitmap implies.
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

    /// The part of a block bitmap that its checksum covers.
    pub(super) fn covered<'b>(&self, bitmap: &'b [u8]) -> &'b [u8] {
        let all = self.blocks_per_group.checked_div(self.cluster_blocks).unwrap_or(0);
        let len = usize::try_from(all.div_ceil(8)).unwrap_or(usize::MAX);
        bitmap.get(..len).unwrap_or(bitmap)
    }

    /// Returns whether two superblocks describe the same layout.
    pub(super) fn has_geometry_of(&self, other: &Self) -> bool {
        let of = |s: &Self| {
            let groups = (s.blocks, s.block_len, s.first_data_block, s.blocks_per_group);
            (groups, s.inodes_per_group, s.inode_len, s.descriptor_len, s.uuid)
        };
        of(self) == of(other)
    }

    /// Updates the checksum in the bytes of a superblock, which covers everything before it and starts from all ones.
    pub(super) fn seal(&self, raw: &mut [u8]) {
        if self.has_metadata_csum() {
            let sum = crc32c(!0, raw.get(..CHECKSUM_AT).unwrap_or_default());
            let _ = bytes::put(raw, CHECKSUM_AT, sum.to_le_bytes());
        }
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

    /// The number of blocks of a group: the same for all except the last.
    pub(super) fn group_len(&self, group: u64) -> u64 {
        self.blocks.saturating_sub(self.group_start(group)).min(self.blocks_per_group)
    }

    /// The number of group descriptors per block.
    pub(super) fn descriptors_a_block(&self) -> u64 {
        self.block_len.checked_div(self.descriptor_len).unwrap_or(1).max(1)
    }

    /// The block of the descriptor of `group`, and its offset in the block.
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

    /// The offset of the metadata of group 0 from its start: with bigalloc and blocks of 1 KiB, the group starts at
    /// block 0 and the superblock is in block 1.
    fn shift(&self, group: u64) -> u64 {
        if group == 0 { self.primary().saturating_sub(self.first_data_block) } else { 0 }
    }

    /// Returns whether a group starts with a superblock: the first, and those that the sparse rules name.
    pub(super) fn has_superblock(&self, group: u64) -> bool {
        let power_of = |base: u64| {
            let mut power = base;
            while power < group {
                power = power.saturating_mul(base);
            }
            power == group
        };
        if self.compat & features::COMPAT_SPARSE_SUPER2 != 0 {
            return group == 0 || self.backup_groups.iter().any(|g| u64::from(*g) == group);
        }
        self.ro_compat & features::RO_COMPAT_SPARSE_SUPER == 0
            || group <= 1
            || [3, 5, 7].into_iter().any(power_of)
    }

    /// The blocks of the descriptor table after the superblock of a group, by their index in the table.
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

    /// The range of `count` blocks from `first` in bytes; `None` if it is not in the volume.
    pub(super) fn span(&self, first: u64, count: u64) -> Option<Span> {
        let end = first.checked_add(count).filter(|end| *end <= self.blocks)?;
        let start = ByteOffset::new(first.checked_mul(self.block_len)?);
        Some(Span::between(start, ByteOffset::new(end.checked_mul(self.block_len)?)))
    }
}
