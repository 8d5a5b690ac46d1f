//! The offset on the card that an exFAT volume records.

use super::boot::seal_region;
use imbrik_store::{
    ReadAt, bytes,
    error::Result,
    exact::Exact as _,
    read_up_to,
    units::{ByteLen, ByteOffset},
};

const EXFAT_OFFSET: usize = 64;
/// Sectors of exFAT's boot region, the last of which holds the checksum.
const EXFAT_REGION: usize = 12;

/// The changes, with offsets from the start of the volume, if the volume in `store` moves from `from` to `to`: byte 64
/// contains the first sector of the partition, and the checksum of the region covers it. A boot region with another
/// number is unchanged.
///
/// # Errors
/// When the store cannot be read.
pub(super) fn at_another_place(
    store: &dyn ReadAt,
    from: ByteOffset,
    to: ByteOffset,
) -> Result<Vec<(ByteOffset, Vec<u8>)>> {
    let boot = read_up_to(store, ByteOffset::ZERO, 512)?;
    let shift = u32::from(bytes::u8(&boot, 108).unwrap_or(9)).clamp(9, 12);
    let sector = 1usize.checked_shl(shift).unwrap_or(512);
    let count = |at: ByteOffset| at.get().checked_shr(shift).unwrap_or(0).to_le_bytes();
    let len = sector.times(EXFAT_REGION)?;
    let mut edits = Vec::new();
    for copy in [0, len] {
        let at = ByteOffset::new(ByteLen::from_usize(copy).get());
        let mut region = read_up_to(store, at, len)?;
        if bytes::array(&region, EXFAT_OFFSET) != Some(count(from)) {
            continue;
        }
        let put = |region: &mut Vec<u8>| {
            bytes::put(region, EXFAT_OFFSET, count(to))?;
            seal_region(region, ByteLen::from_usize(sector).get())
        };
        if put(&mut region).is_none() {
            continue;
        }
        edits.push((at, region));
    }
    Ok(edits)
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_store::SparseStore;

    const FROM: ByteOffset = ByteOffset::new(2048 * 512);
    const TO: ByteOffset = ByteOffset::new(6144 * 512);

    #[test]
    fn exfat_hidden_sectors_are_updated_with_the_checksum() {
        let mut region = vec![7; 12 * 512];
        region[EXFAT_OFFSET..EXFAT_OFFSET + 8].copy_from_slice(&2048u64.to_le_bytes());
        region[108] = 9;
        let both = [region.clone(), region].concat();
        let edits = at_another_place(&SparseStore::of(&both), FROM, TO).unwrap();
        assert_eq!(edits.len(), 2);
        let (_, changed) = &edits[1];
        assert_eq!(changed[EXFAT_OFFSET..EXFAT_OFFSET + 8], 6144u64.to_le_bytes());
        // The checksum does not go over the flags and the share in use.
        let mut other = both.clone();
        (other[106], other[112]) = (1, 2);
        let again = at_another_place(&SparseStore::of(&other), FROM, TO).unwrap();
        assert_eq!(again[0].1[11 * 512..], changed[11 * 512..]);
    }
}
