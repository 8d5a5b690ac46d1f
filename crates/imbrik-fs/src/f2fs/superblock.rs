//! The superblock, with the location of each area, at 1 KiB in each of the first two blocks.

use super::{BLOCK, SEGMENT};
use imbrik_store::{
    ReadAt, bytes,
    error::{Error, Result},
    read_up_to,
    units::ByteOffset,
};

pub(super) const MAGIC: u32 = 0xf2f5_2010;
/// The compared part of both copies: up to the list of devices, after which there are only error counters.
const COMPARED: usize = 2745;
const DEVICES: usize = 2201;
const CHECKSUM: usize = 3068;
/// Features that don't change the meaning of the areas.
const KNOWN_FEATURES: u32 = 0x3fff & !BLKZONED;
const BLKZONED: u32 = 0x2;
const SB_CHKSUM: u32 = 0x800;
const FLEXIBLE_INLINE_XATTR: u32 = 0x40;

/// A superblock with consecutive areas, in blocks and segments.
pub(super) struct Superblock {
    /// The first block of the checkpoints, of each table, and of the main area.
    pub(super) cp: u64,
    pub(super) sit: u64,
    pub(super) nat: u64,
    pub(super) ssa: u64,
    pub(super) main: u64,
    /// How many blocks one of the two copies of a table has.
    pub(super) sit_blocks: u64,
    pub(super) nat_blocks: u64,
    /// Segments of the main area.
    pub(super) segments: u64,
    /// The two inodes that have no node.
    pub(super) without_node: [u64; 2],
    /// True if inodes store the size of their inline extended attributes.
    pub(super) has_xattr_size: bool,
}

impl Superblock {
    /// Reads both copies.
    ///
    /// # Errors
    /// - When the store cannot be read.
    /// - [`imbrik_store::Class::Corrupt`] when they differ or are invalid, and [`imbrik_store::Class::Unsupported`] for
    ///   unsupported sizes and features.
    pub(super) fn read(store: &dyn ReadAt) -> Result<Self> {
        let raw = read_up_to(store, ByteOffset::ZERO, 2 * BLOCK)?;
        let copy = |at: usize| raw.get(at..at.checked_add(3072)?);
        let gone = || Error::corrupt("its superblock is gone");
        let first = copy(1024).ok_or_else(gone)?;
        let second = copy(BLOCK + 1024).ok_or_else(gone)?;
        if bytes::le_u32(first, 0) != Some(MAGIC) {
            return Err(gone());
        }
        if first.get(..COMPARED) != second.get(..COMPARED) {
            return Err(Error::corrupt("its two superblocks differ"));
        }
        let superblock =
            Self::decode(first)?.ok_or_else(|| Error::corrupt("its superblock is invalid"))?;
        let end = super::place(superblock.main_end());
        if end > ByteOffset::new(store.size().get()) {
            return Err(Error::corrupt("it is longer than its place"));
        }
        Ok(superblock)
    }

    /// `None` when the areas don't follow each other.
    fn decode(raw: &[u8]) -> Result<Option<Self>> {
        let field = |at: usize| bytes::le_u32(raw, at).map(u64::from);
        if (field(16), field(20)) != (Some(12), Some(9)) {
            return Err(Error::unsupported("it has blocks or segments of an unusual size"));
        }
        let features = bytes::le_u32(raw, 2180).unwrap_or(0);
        let unknown = features & !KNOWN_FEATURES;
        if unknown != 0 {
            return Err(Error::unsupported(format!("it has the features {unknown:#x}")));
        }
        if bytes::u8(raw, DEVICES).unwrap_or(0) != 0 {
            return Err(Error::unsupported("it spans several devices"));
        }
        if field(1664) != Some(0) {
            return Err(Error::unsupported("its checkpoints have a payload"));
        }
        let sum = checksum(raw.get(..CHECKSUM).unwrap_or_default());
        if features & SB_CHKSUM != 0 && bytes::le_u32(raw, CHECKSUM) != Some(sum) {
            return Err(Error::corrupt("its superblock's checksum is wrong"));
        }
        Ok(Self::areas(raw))
    }

    fn areas(raw: &[u8]) -> Option<Self> {
        let field = |at: usize| bytes::le_u32(raw, at).map(u64::from);
        let [cp, sit, nat, ssa, main] = [76, 80, 84, 88, 92].map(field);
        let [cp, sit, nat, ssa, main] = [cp?, sit?, nat?, ssa?, main?];
        let [ckpt, sits, nats, ssas, segments] = [52, 56, 60, 64, 68].map(field);
        let (ckpt, sits, nats, ssas, segments) = (ckpt?, sits?, nats?, ssas?, segments?);
        let behind = |at: u64, segments: u64| at.checked_add(segments.checked_mul(SEGMENT)?);
        let follows = ckpt == 2
            && behind(cp, ckpt)? == sit
            && behind(sit, sits)? == nat
            && behind(nat, nats)? == ssa
            && behind(ssa, ssas)? == main
            && behind(main, segments)? <= bytes::le_u64(raw, 36)?
            && sits % 2 == 0
            && nats % 2 == 0
            && cp >= 2;
        let sit_blocks = (sits / 2).checked_mul(SEGMENT)?;
        let is_long_enough = segments > 0
            && segments <= sit_blocks.checked_mul(super::segments::ENTRIES)?
            && segments <= ssas.checked_mul(SEGMENT)?;
        (follows && is_long_enough).then_some(Self {
            cp,
            sit,
            nat,
            ssa,
            main,
            sit_blocks,
            nat_blocks: (nats / 2).checked_mul(SEGMENT)?,
            segments,
            without_node: [field(100)?, field(104)?],
            has_xattr_size: bytes::le_u32(raw, 2180)? & FLEXIBLE_INLINE_XATTR != 0,
        })
    }

    /// The end of the main area.
    pub(super) fn main_end(&self) -> u64 {
        self.main.saturating_add(self.segments.saturating_mul(SEGMENT))
    }
}

/// The format's CRC-32: the usual polynomial from the magic on, without the usual inversions.
pub(super) fn checksum(bytes: &[u8]) -> u32 {
    continued(MAGIC, bytes)
}

/// The checksum `sum`, continued over more bytes.
pub(super) fn continued(sum: u32, bytes: &[u8]) -> u32 {
    let mut hasher = crc32fast::Hasher::new_with_initial(!sum);
    hasher.update(bytes);
    !hasher.finalize()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_checksum_starts_at_the_magic() {
        // Bit by bit, as in the format's description.
        let mut sum = MAGIC;
        for byte in b"hive-07" {
            sum ^= u32::from(*byte);
            for _ in 0..8 {
                sum = if sum & 1 == 1 { sum >> 1 ^ 0xedb8_8320 } else { sum >> 1 };
            }
        }
        assert_eq!(checksum(b"hive-07"), sum);
        assert_eq!(continued(checksum(b"hive"), b"-07"), sum);
    }
}
