//! The superblock: `struct ext4_super_block`, 1024 bytes at byte 1024 of the volume.

use crate::{bytes, units::ByteLen};

const MAGIC: u16 = 0xef53;
const COMPAT_HAS_JOURNAL: u32 = 0x4;
/// Incompatible features that ext3 knows: filetype, recover, journal_dev, meta_bg.
const INCOMPAT_OF_EXT3: u32 = 0x2 | 0x4 | 0x8 | 0x10;
const INCOMPAT_64BIT: u32 = 0x80;
/// Read-only-compatible features that ext3 knows: sparse_super, large_file, btree_dir.
const RO_COMPAT_OF_EXT3: u32 = 0x1 | 0x2 | 0x4;

/// A superblock whose basic numbers make sense.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Superblock {
    pub(super) uuid: [u8; 16],
    pub(super) label: Option<String>,
    blocks: u64,
    block_len: u64,
    compat: u32,
    incompat: u32,
    ro_compat: u32,
}

impl Superblock {
    /// Where it stands in the volume, in bytes.
    pub(super) const OFFSET: u64 = 1024;
    /// How long it is, in bytes.
    pub(super) const LEN: usize = 1024;

    /// Decodes it; `None` unless it is one and its block size is one that exists.
    pub(super) fn decode(raw: &[u8]) -> Option<Self> {
        if raw.len() < Self::LEN || bytes::le_u16(raw, 0x38)? != MAGIC {
            return None;
        }
        let s_log_block_size = bytes::le_u32(raw, 0x18)?;
        if s_log_block_size > 6 {
            return None;
        }
        let incompat = bytes::le_u32(raw, 0x60)?;
        let high = match incompat & INCOMPAT_64BIT {
            0 => 0,
            _ => u64::from(bytes::le_u32(raw, 0x150)?) << 32,
        };
        Some(Self {
            uuid: bytes::array(raw, 0x68)?,
            label: bytes::text(raw.get(0x78..0x88)?),
            blocks: u64::from(bytes::le_u32(raw, 0x4)?) | high,
            block_len: 1024u64.checked_shl(s_log_block_size)?,
            compat: bytes::le_u32(raw, 0x5c)?,
            incompat,
            ro_compat: bytes::le_u32(raw, 0x64)?,
        })
    }

    /// How long the volume says it is; the largest length when 64 bits cannot hold it.
    pub(super) fn volume_len(&self) -> ByteLen {
        ByteLen::new(self.blocks.saturating_mul(self.block_len))
    }

    pub(super) fn has_journal(&self) -> bool {
        self.compat & COMPAT_HAS_JOURNAL != 0
    }

    pub(super) fn has_features_since_ext4(&self) -> bool {
        self.incompat & !INCOMPAT_OF_EXT3 != 0 || self.ro_compat & !RO_COMPAT_OF_EXT3 != 0
    }
}
