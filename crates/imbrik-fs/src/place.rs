//! What a volume says of its own place on the card, which follows when its partition moves.
//!
//! FAT and NTFS boot sectors count the sectors in front of them (byte 28), those of exFAT name the
//! partition's first sector (byte 64) under a checksum over eleven sectors.

use super::{Volume, VolumeKind, exfat};
use imbrik_store::{
    ReadAt, bytes,
    error::Result,
    read_up_to,
    units::{ByteLen, ByteOffset},
};

const HIDDEN: usize = 28;
const EXFAT_OFFSET: usize = 64;
/// Sectors of exFAT's boot region, the last of which holds the checksum.
const EXFAT_REGION: usize = 12;

/// What must be written where, in bytes from the volume's start, when the volume in `store` moves
/// from `from` to `to`. What says something else already stays.
///
/// # Errors
/// When the store cannot be read.
pub(super) fn at_another_place(
    store: &dyn ReadAt,
    volume: &Volume,
    from: ByteOffset,
    to: ByteOffset,
) -> Result<Vec<(ByteOffset, Vec<u8>)>> {
    let boot = read_up_to(store, ByteOffset::ZERO, 512)?;
    match volume.kind {
        VolumeKind::Fat12 | VolumeKind::Fat16 | VolumeKind::Fat32 => {
            let sector = u64::from(bytes::le_u16(&boot, 11).unwrap_or(512));
            let is_32 = bytes::le_u16(&boot, 22) == Some(0);
            let copy = bytes::le_u16(&boot, 50).filter(|copy| is_32 && *copy != 0);
            let copy = copy.map(|copy| sector.saturating_mul(copy.into()));
            hidden(store, [Some(0), copy], sector, from, to)
        }
        VolumeKind::Ntfs => {
            let sector = u64::from(bytes::le_u16(&boot, 11).unwrap_or(512));
            let count = bytes::le_u64(&boot, 40).and_then(|count| count.checked_mul(sector));
            hidden(store, [Some(0), count], sector, from, to)
        }
        VolumeKind::ExFat => first_sector(store, &boot, from, to),
        _ => Ok(Vec::new()),
    }
}

fn hidden(
    store: &dyn ReadAt,
    places: [Option<u64>; 2],
    sector: u64,
    from: ByteOffset,
    to: ByteOffset,
) -> Result<Vec<(ByteOffset, Vec<u8>)>> {
    let mut edits = Vec::new();
    let count = |at: ByteOffset| u32::try_from(at.get().checked_div(sector)?).ok();
    for place in places.into_iter().flatten() {
        let at = ByteOffset::new(place).saturating_add(ByteLen::from_usize(HIDDEN));
        let found = read_up_to(store, at, 4)?;
        if let (Some(was), Some(is)) = (count(from), count(to))
            && bytes::le_u32(&found, 0) == Some(was)
        {
            edits.push((at, is.to_le_bytes().to_vec()));
        }
    }
    Ok(edits)
}

fn first_sector(
    store: &dyn ReadAt,
    boot: &[u8],
    from: ByteOffset,
    to: ByteOffset,
) -> Result<Vec<(ByteOffset, Vec<u8>)>> {
    let shift = u32::from(bytes::u8(boot, 108).unwrap_or(9)).clamp(9, 12);
    let sector = 1usize.checked_shl(shift).unwrap_or(512);
    let count = |at: ByteOffset| at.get().checked_shr(shift).unwrap_or(0).to_le_bytes();
    let len = sector.saturating_mul(EXFAT_REGION);
    let mut edits = Vec::new();
    for copy in [0, len] {
        let at = ByteOffset::new(ByteLen::from_usize(copy).get());
        let mut region = read_up_to(store, at, len)?;
        if bytes::array(&region, EXFAT_OFFSET) != Some(count(from)) {
            continue;
        }
        let put = |region: &mut Vec<u8>| {
            bytes::put(region, EXFAT_OFFSET, count(to))?;
            exfat::seal_region(region, ByteLen::from_usize(sector).get())
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
    use imbrik_store::{SparseStore, WriteAt};

    fn volume(kind: VolumeKind) -> Volume {
        Volume { kind, label: None, uuid: None, size: ByteLen::mib(1) }
    }

    const FROM: ByteOffset = ByteOffset::new(2048 * 512);
    const TO: ByteOffset = ByteOffset::new(6144 * 512);

    #[test]
    fn both_boot_sectors_of_fat32_count_the_sectors_in_front() {
        let mut boot = vec![0; 8 * 512];
        for at in [0, 6 * 512] {
            boot[at + 11..at + 13].copy_from_slice(&512u16.to_le_bytes());
            boot[at + HIDDEN..at + HIDDEN + 4].copy_from_slice(&2048u32.to_le_bytes());
            boot[at + 50] = 6;
        }
        let store = SparseStore::of(&boot);
        let edits = at_another_place(&store, &volume(VolumeKind::Fat32), FROM, TO).unwrap();
        let places: Vec<_> = edits.iter().map(|(at, _)| at.get()).collect();
        assert_eq!(places, [28, 6 * 512 + 28]);
        assert!(edits.iter().all(|(_, bytes)| *bytes == 6144u32.to_le_bytes()));
        // One that says something else is nobody's business.
        store.write_at(ByteOffset::new(28), &[9, 0, 0, 0]).unwrap();
        let edits = at_another_place(&store, &volume(VolumeKind::Fat32), FROM, TO).unwrap();
        assert_eq!(edits.len(), 1);
    }

    #[test]
    fn exfat_names_its_first_sector_under_a_checksum() {
        let mut region = vec![7; 12 * 512];
        region[EXFAT_OFFSET..EXFAT_OFFSET + 8].copy_from_slice(&2048u64.to_le_bytes());
        region[108] = 9;
        let both = [region.clone(), region].concat();
        let edits = at_another_place(&SparseStore::of(&both), &volume(VolumeKind::ExFat), FROM, TO)
            .unwrap();
        assert_eq!(edits.len(), 2);
        let (_, changed) = &edits[1];
        assert_eq!(changed[EXFAT_OFFSET..EXFAT_OFFSET + 8], 6144u64.to_le_bytes());
        // The checksum does not go over the flags and the share in use.
        let mut other = both.clone();
        (other[106], other[112]) = (1, 2);
        let again =
            at_another_place(&SparseStore::of(&other), &volume(VolumeKind::ExFat), FROM, TO)
                .unwrap();
        assert_eq!(again[0].1[11 * 512..], changed[11 * 512..]);
    }

    #[test]
    fn other_kinds_say_nothing_of_their_place() {
        let store = SparseStore::of(&[0; 64]);
        for kind in [VolumeKind::Ext4, VolumeKind::Swap, VolumeKind::Fat16, VolumeKind::ExFat] {
            assert_eq!(at_another_place(&store, &volume(kind), FROM, TO).unwrap(), []);
        }
    }
}
