//! A parsed superblock that is not verified yet.

use super::{CHECKSUM_AT, JournalCopy, Superblock, features::*};
use crate::ext4::checksum::crc32c;
use imbrik_store::{
    ReadAt, bytes,
    error::{Error, Result},
    read_up_to,
    units::{ByteLen, ByteOffset},
};

const MAGIC: u16 = 0xef53;
/// `EXT3_JNL_BACKUP_BLOCKS`: the superblock has a copy of the journal's map.
const JOURNAL_IS_COPIED: u8 = 1;

/// A superblock that was only decoded. It has a name and a state of the volume; the layout is available after
/// [`RawSuperblock::verified`].
#[derive(Clone, Debug, PartialEq, Eq)]
pub(in crate::ext4) struct RawSuperblock {
    fields: Superblock,
    checksum_is_wrong: bool,
    /// `s_inodes_count`: the total of all groups in a consistent volume.
    inodes_count: u32,
    /// True if it has clusters of another length than its blocks, without the feature for that.
    has_stray_clusters: bool,
    /// `s_rev_level`: 0 has no features, and inodes of 128 bytes; higher ones than 1 don't exist.
    revision: u32,
}

impl RawSuperblock {
    /// Decodes it; `None` unless it is one and its block size is one that exists.
    pub(in crate::ext4) fn decode(raw: &[u8]) -> Option<Self> {
        if raw.len() < Superblock::LEN || bytes::le_u16(raw, 0x38)? != MAGIC {
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
        let fields = Superblock {
            label: bytes::text(raw.get(0x78..0x88)?),
            blocks: u64::from(bytes::le_u32(raw, 0x4)?) | high,
            block_len: 1024u64.checked_shl(s_log_block_size)?,
            first_data_block: bytes::le_u32(raw, 0x14)?.into(),
            blocks_per_group: bytes::le_u32(raw, 0x20)?.into(),
            cluster_blocks,
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
        };
        Some(Self {
            fields,
            checksum_is_wrong: has_checksums && bytes::le_u32(raw, CHECKSUM_AT)? != expected,
            inodes_count: bytes::le_u32(raw, 0)?,
            has_stray_clusters: ro_compat & RO_COMPAT_BIGALLOC == 0
                && (s_log_cluster_size != s_log_block_size
                    || bytes::le_u32(raw, 0x24)? != bytes::le_u32(raw, 0x20)?),
            revision: s_rev_level,
        })
    }

    /// Reads the superblock of the volume in `store`; `None` if it has none.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub(in crate::ext4) fn read(store: &dyn ReadAt) -> Result<Option<Self>> {
        Ok(Self::decode(&read_up_to(store, ByteOffset::new(Superblock::OFFSET), Superblock::LEN)?))
    }

    /// The label.
    pub(in crate::ext4) fn label(&self) -> Option<String> {
        self.fields.label.clone()
    }

    /// Its id.
    pub(in crate::ext4) fn uuid(&self) -> [u8; 16] {
        self.fields.uuid
    }

    /// The recorded length of the volume; the largest length if it exceeds 64 bits.
    pub(in crate::ext4) fn volume_len(&self) -> ByteLen {
        self.fields.volume_len()
    }

    /// Returns whether the system recorded errors in the volume.
    pub(in crate::ext4) fn has_errors(&self) -> bool {
        self.fields.has_errors()
    }

    /// Returns whether it was not unmounted, so that its journal has newer blocks.
    pub(in crate::ext4) fn needs_recovery(&self) -> bool {
        self.fields.incompat & INCOMPAT_RECOVER != 0
    }

    /// Returns whether it was unmounted as it should be.
    pub(in crate::ext4) fn was_unmounted(&self) -> bool {
        self.fields.state & STATE_VALID != 0
    }

    pub(in crate::ext4) fn has_journal(&self) -> bool {
        self.fields.has_journal()
    }

    pub(in crate::ext4) fn has_features_since_ext4(&self) -> bool {
        self.fields.has_features_since_ext4()
    }

    /// Returns whether it describes the same layout as `other`.
    pub(in crate::ext4) fn has_geometry_of(&self, other: &Superblock) -> bool {
        self.fields.has_geometry_of(other)
    }

    /// The superblock for reading files, if its values are consistent and the features of the layout are known; `None`
    /// otherwise.
    pub(in crate::ext4) fn readable(self) -> Option<Superblock> {
        let unknown = self.fields.incompat & !INCOMPAT_KNOWN & !INCOMPAT_RECOVER;
        (unknown == 0 && self.has_sound_numbers()).then_some(self.fields)
    }

    /// The superblock of a consistent volume with known features only, apart from the content of its journal, in a
    /// partition of `room` bytes.
    ///
    /// # Errors
    /// With the first reason why not.
    pub(in crate::ext4) fn verified(self, room: ByteLen) -> Result<Superblock> {
        self.is_understood(room)?;
        Ok(self.fields)
    }

    /// The same for a volume that has nothing in its journal: its own word on which of its blocks are
    /// in use can be taken.
    ///
    /// # Errors
    /// With the first reason why not.
    pub(in crate::ext4) fn verified_clean(self, room: ByteLen) -> Result<Superblock> {
        match self.needs_recovery() {
            true => Err(Error::unsupported("its journal is to be replayed first")),
            false => self.verified(room),
        }
    }

    /// Returns whether the numbers that all arithmetic rests on agree with each other.
    fn has_sound_numbers(&self) -> bool {
        let it = &self.fields;
        let bits = it.block_len.saturating_mul(8);
        let clusters = it.blocks_per_group.checked_div(it.cluster_blocks).unwrap_or(0);
        let per_block = it.block_len.checked_div(it.inode_len.max(1)).unwrap_or(0);
        // Smaller groups are not made, and would be a way to have millions of bitmaps read.
        let descriptors = if it.is_64bit() { 64..=1024 } else { 32..=1024 };
        let has_features = it.compat | it.incompat | it.ro_compat != 0;
        // The block of the superblock is the first of the first group, if possible.
        let first = u64::from(it.block_len == 1024 && it.cluster_blocks == 1);
        it.blocks > it.first_data_block
            && it.first_data_block == first
            && (self.revision == 1 || self.revision == 0 && !has_features)
            && !self.has_stray_clusters
            && it.blocks_per_group >= 256
            && (1..=bits).contains(&clusters)
            && (1..=bits).contains(&it.inodes_per_group)
            && it.inode_len.is_power_of_two()
            && (128..=it.block_len).contains(&it.inode_len)
            && it.inodes_per_group.is_multiple_of(per_block.max(1))
            && it.descriptor_len.is_power_of_two()
            && descriptors.contains(&it.descriptor_len)
            && it.descriptor_len <= it.block_len
    }

    /// Returns whether the volume is sound and all of its features are known.
    ///
    /// # Errors
    /// With the first reason why not.
    fn is_understood(&self, room: ByteLen) -> Result<()> {
        let it = &self.fields;
        let unknown = it.incompat & !INCOMPAT_KNOWN & !INCOMPAT_RECOVER & !INCOMPAT_JOURNAL_DEV;
        let wrong = |what: String| Err(Error::corrupt(what));
        if self.checksum_is_wrong {
            wrong("the superblock's checksum is wrong".into())
        } else if it.incompat & INCOMPAT_JOURNAL_DEV != 0 {
            Err(Error::unsupported("it is a journal for another volume"))
        } else if unknown != 0 {
            Err(Error::unsupported(format!("its feature {unknown:#x} is not known")))
        } else if it.volume_len() > room {
            wrong(format!("it says that it is {} long, its place has {room}", it.volume_len()))
        } else if !self.has_sound_numbers() || u64::from(self.inodes_count) != it.inodes() {
            wrong("the superblock's numbers contradict each other".into())
        } else {
            Ok(())
        }
    }
}

impl Superblock {
    /// That of a test.
    #[cfg(test)]
    pub(in crate::ext4) fn of_test(raw: &[u8]) -> Self {
        RawSuperblock::decode(raw).unwrap().fields
    }
}
