//! The number of sectors before a volume, in byte 28 of the boot sectors of FAT and NTFS, which has to be updated when
//! its partition moves.

use imbrik_store::{
    ReadAt, bytes,
    error::Result,
    read_up_to,
    units::{ByteLen, ByteOffset},
};

const HIDDEN: usize = 28;

/// The changes, with offsets from the start of the volume, if the volume in `store` moves from `from` to `to`. Its boot
/// sectors are at `places`, and its sectors have `sector` bytes. A boot sector with another number is unchanged.
///
/// # Errors
/// When the store cannot be read.
pub(crate) fn hidden_sectors(
    store: &dyn ReadAt,
    places: [Option<u64>; 2],
    sector: u64,
    from: ByteOffset,
    to: ByteOffset,
) -> Result<Vec<(ByteOffset, Vec<u8>)>> {
    let mut edits = Vec::new();
    let count = |at: ByteOffset| u32::try_from(at.get().checked_div(sector)?).ok();
    for place in places.into_iter().flatten() {
        let at = ByteOffset::new(place).plus(ByteLen::from_usize(HIDDEN))?;
        let found = read_up_to(store, at, 4)?;
        if let (Some(was), Some(is)) = (count(from), count(to))
            && bytes::le_u32(&found, 0) == Some(was)
        {
            edits.push((at, is.to_le_bytes().to_vec()));
        }
    }
    Ok(edits)
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_store::{SparseStore, WriteAt};

    const FROM: ByteOffset = ByteOffset::new(2048 * 512);
    const TO: ByteOffset = ByteOffset::new(6144 * 512);

    #[test]
    fn hidden_sectors_are_updated_in_every_boot_sector() {
        let mut boot = vec![0; 8 * 512];
        for at in [0, 6 * 512] {
            boot[at + HIDDEN..at + HIDDEN + 4].copy_from_slice(&2048u32.to_le_bytes());
        }
        let store = SparseStore::of(&boot);
        let follow = || hidden_sectors(&store, [Some(0), Some(6 * 512)], 512, FROM, TO).unwrap();
        let edits = follow();
        let places: Vec<_> = edits.iter().map(|(at, _)| at.get()).collect();
        assert_eq!(places, [28, 6 * 512 + 28]);
        assert!(edits.iter().all(|(_, bytes)| *bytes == 6144u32.to_le_bytes()));
        // Another number is kept.
        store.write_at(ByteOffset::new(28), &[9, 0, 0, 0]).unwrap();
        assert_eq!(follow().len(), 1);
    }
}
