//! Members of Linux software RAID arrays (md), after the kernel's `md_p.h`.
//!
//! Formats 0.90 and 1.0 keep their superblock at the end of the partition, so that a filesystem appears to start
//! at its beginning. It belongs to the array: resizing it, or skipping its free space, would destroy the member.
//! Such a partition is copied in full and keeps its size.

use crate::{Volume, VolumeKind, filesystem::Filesystem, ids::uuid_text};
use imbrik_store::{ReadAt, bytes, error::Result, read_up_to, units::ByteOffset};

const MEMBER: VolumeKind = VolumeKind::new("RAID member");

const MAGIC: u32 = 0xa92b_4efc;
/// Size of the superblock of format 0.90 in bytes, and of the area at the end that is reserved for it.
const LEN_0_90: usize = 4096;
const RESERVED_0_90: u64 = 64 << 10;
/// Offset of the checksum of format 0.90.
const CHECKSUM_0_90: usize = 38 * 4;
const SECTOR: u64 = 512;

/// Members of md arrays.
pub(crate) struct Md;

impl Filesystem for Md {
    fn kinds(&self) -> &'static [VolumeKind] {
        &[MEMBER]
    }

    fn recognise(&self, store: &dyn ReadAt) -> Result<Option<Volume>> {
        let size = store.size();
        let found = |label, uuid| Volume { kind: MEMBER, label, uuid, size };
        let end = size.get() & !(RESERVED_0_90 - 1);
        if let Some(at) = end.checked_sub(RESERVED_0_90) {
            let raw = read_up_to(store, ByteOffset::new(at), LEN_0_90)?;
            if is_0_90(&raw) {
                return Ok(Some(found(None, uuid_0_90(&raw))));
            }
        }
        // Formats 1.0, 1.1 and 1.2 differ only in the place of the superblock.
        let sectors = (size.get() / SECTOR).checked_sub(16).map(|sectors| sectors & !7);
        let at_end = sectors.and_then(|sectors| sectors.checked_mul(SECTOR));
        for at in [Some(0), Some(8 * SECTOR), at_end].into_iter().flatten() {
            let raw = read_up_to(store, ByteOffset::new(at), 256)?;
            let is_member = bytes::le_u32(&raw, 0) == Some(MAGIC)
                && bytes::le_u32(&raw, 4) == Some(1)
                && bytes::le_u64(&raw, 144) == Some(at / SECTOR);
            if is_member {
                let label = raw.get(32..64).and_then(bytes::text);
                return Ok(Some(found(label, bytes::array(&raw, 16).and_then(uuid_text))));
            }
        }
        Ok(None)
    }
}

/// Returns whether `raw` is a superblock of format 0.90 with the right checksum.
fn is_0_90(raw: &[u8]) -> bool {
    let field = |at: usize| bytes::le_u32(raw, at);
    if (field(0), field(4), field(8)) != (Some(MAGIC), Some(0), Some(90)) || raw.len() != LEN_0_90 {
        return false;
    }
    let words = raw.as_chunks::<4>().0.iter().map(|word| u64::from(u32::from_le_bytes(*word)));
    let stored = u64::from(field(CHECKSUM_0_90).unwrap_or(0));
    let sum = words.sum::<u64>().saturating_sub(stored);
    let folded = (sum & u64::from(u32::MAX)).wrapping_add(sum >> 32);
    folded & u64::from(u32::MAX) == stored
}

fn uuid_0_90(raw: &[u8]) -> Option<String> {
    let mut uuid = [0; 16];
    for (part, at) in uuid.as_chunks_mut::<4>().0.iter_mut().zip([20, 52, 56, 60]) {
        // Its words are shown as numbers.
        part.copy_from_slice(&bytes::le_u32(raw, at)?.to_be_bytes());
    }
    uuid_text(uuid)
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_store::{SparseStore, WriteAt as _, units::ByteLen};

    fn superblock_0_90() -> Vec<u8> {
        let mut raw = vec![0; LEN_0_90];
        for (at, value) in [(0, MAGIC), (8, 90), (20, 0x7a11), (60, 9), (28, 1), (4000, u32::MAX)] {
            raw[at..at + 4].copy_from_slice(&value.to_le_bytes());
        }
        let sum: u64 =
            raw.as_chunks::<4>().0.iter().map(|w| u64::from(u32::from_le_bytes(*w))).sum();
        let sum = (sum as u32).wrapping_add((sum >> 32) as u32);
        raw[CHECKSUM_0_90..CHECKSUM_0_90 + 4].copy_from_slice(&sum.to_le_bytes());
        raw
    }

    fn kind_with(at: u64, raw: &[u8]) -> Option<VolumeKind> {
        let store = SparseStore::new(ByteLen::new((1 << 20) + 5 * 512));
        store.write_at(ByteOffset::new(at), raw).unwrap();
        crate::recognise(&store).unwrap().map(|volume| volume.kind)
    }

    #[test]
    fn member_of_format_0_90_is_recognised_at_its_end_only() {
        let raw = superblock_0_90();
        assert_eq!(kind_with((1 << 20) - (64 << 10), &raw), Some(MEMBER));
        assert_eq!(kind_with((1 << 20) - (128 << 10), &raw), None);
        let mut damaged = raw;
        damaged[1000] ^= 1;
        assert_eq!(kind_with((1 << 20) - (64 << 10), &damaged), None);
    }

    #[test]
    fn members_of_format_1_are_recognised_at_their_recorded_offset() {
        // 2053 sectors: 16 sectors before the end, rounded down to 4 KiB.
        for (at, expected) in [(0u64, true), (4096, true), (2032 * 512, true), (8192, false)] {
            let mut raw = vec![0; 256];
            raw[..4].copy_from_slice(&MAGIC.to_le_bytes());
            raw[4] = 1;
            raw[144..152].copy_from_slice(&(at / 512).to_le_bytes());
            assert_eq!(kind_with(at, &raw) == Some(MEMBER), expected, "{at}");
        }
    }
}
