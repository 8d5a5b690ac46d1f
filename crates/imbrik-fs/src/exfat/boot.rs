//! The main boot sector of exFAT (section 3.1 of the specification).

use imbrik_store::{
    Edited, ReadAt, bytes,
    error::{Error, Result},
    read_vec,
    units::{ByteLen, ByteOffset, Span},
};
use std::sync::Arc;

/// The bit of `VolumeFlags` that is set while the volume is mounted for writing.
pub(super) const VOLUME_DIRTY: u16 = 2;
/// The bit that is set when reading or writing the medium failed.
const MEDIA_FAILURE: u16 = 4;

/// A boot sector with consistent values.
pub(super) struct BootSector {
    /// `VolumeSerialNumber`.
    pub(super) serial: u32,
    /// `VolumeLength`, in bytes.
    pub(super) volume_len: ByteLen,
    /// The range of the allocation table.
    pub(super) table: Span,
    /// How many tables there are: two only with a transaction-safe variant.
    pub(super) table_count: u8,
    /// True if the volume was not unmounted cleanly: its bitmap may be older than its folders.
    pub(super) is_dirty: bool,
    /// True if its medium failed while it was used.
    pub(super) has_failed: bool,
    /// The number of clusters, and their size.
    pub(super) clusters: u64,
    pub(super) cluster: ByteLen,
    /// The root directory's first cluster, counted from 0.
    pub(super) root_cluster: u64,
    /// The sector size in bytes.
    pub(super) sector: u64,
    heap: ByteOffset,
    root_directory: ByteOffset,
}

impl BootSector {
    /// Decodes the first 512 bytes; `None` unless they are an exFAT boot sector in order.
    pub(super) fn decode(raw: &[u8]) -> Option<Self> {
        if raw.get(3..11)? != b"EXFAT   " || bytes::le_u16(raw, 510)? != 0xaa55 {
            return None;
        }
        let bytes_per_sector_shift = u32::from(bytes::u8(raw, 108)?);
        let sectors_per_cluster_shift = u32::from(bytes::u8(raw, 109)?);
        if !(9..=12).contains(&bytes_per_sector_shift)
            || sectors_per_cluster_shift > 25u32.checked_sub(bytes_per_sector_shift)?
        {
            return None;
        }
        let sector = 1u64.checked_shl(bytes_per_sector_shift)?;
        let cluster = sector.checked_shl(sectors_per_cluster_shift)?;
        let heap = u64::from(bytes::le_u32(raw, 88)?).checked_mul(sector)?;
        let cluster_count = bytes::le_u32(raw, 92)?;
        let first_cluster_of_root = bytes::le_u32(raw, 96)?.checked_sub(2)?;
        if first_cluster_of_root >= cluster_count {
            return None;
        }
        let root = heap.checked_add(cluster.checked_mul(first_cluster_of_root.into())?)?;
        let table = ByteOffset::new(u64::from(bytes::le_u32(raw, 80)?).checked_mul(sector)?);
        let table_len = ByteLen::new(u64::from(bytes::le_u32(raw, 84)?).checked_mul(sector)?);
        Some(Self {
            table: Span::new(table, table_len)?,
            table_count: bytes::u8(raw, 110)?,
            has_failed: bytes::le_u16(raw, 106)? & MEDIA_FAILURE != 0,
            is_dirty: bytes::le_u16(raw, 106)? & VOLUME_DIRTY != 0,
            clusters: cluster_count.into(),
            cluster: ByteLen::new(cluster),
            root_cluster: first_cluster_of_root.into(),
            sector,
            heap: ByteOffset::new(heap),
            serial: bytes::le_u32(raw, 100)?,
            volume_len: ByteLen::new(bytes::le_u64(raw, 72)?.checked_mul(sector)?),
            root_directory: ByteOffset::new(root),
        })
    }

    /// The range of the clusters.
    pub(super) fn data(&self) -> Span {
        let len = self.cluster.checked_mul(self.clusters).unwrap_or_default();
        Span::between(self.heap, self.heap.saturating_add(len))
    }

    /// The range of cluster `number`, counted from 0; `None` if it does not exist.
    pub(super) fn cluster_span(&self, number: u64) -> Option<Span> {
        let start = self.heap.checked_add(self.cluster.checked_mul(number)?)?;
        (number < self.clusters).then(|| Span::between(start, start.saturating_add(self.cluster)))
    }

    /// The offset of the first cluster of the root directory.
    pub(super) fn root_directory(&self) -> ByteOffset {
        self.root_directory
    }
}

/// The checksum over the first eleven sectors of a boot region (section 3.4). Two fields that change
/// while the volume is mounted don't count.
pub(super) fn region_checksum(region: &[u8], sector: u64) -> Option<u32> {
    let len = usize::try_from(sector.checked_mul(11)?).ok()?;
    let counted = region.get(..len)?.iter().enumerate();
    let counted = counted.filter(|(at, _)| !matches!(at, 106 | 107 | 112));
    Some(counted.fold(0u32, |sum, (_, byte)| sum.rotate_right(1).wrapping_add(u32::from(*byte))))
}

/// Fills the twelfth sector of a boot region with its checksum.
pub(crate) fn seal_region(region: &mut [u8], sector: u64) -> Option<()> {
    let sum = region_checksum(region, sector)?.to_le_bytes();
    let start = usize::try_from(sector.checked_mul(11)?).ok()?;
    let last = region.get_mut(start..)?;
    last.as_chunks_mut::<4>().0.iter_mut().for_each(|place| *place = sum);
    Some(())
}

/// The volume in `store` with the serial number `serial`, in both boot regions.
///
/// # Errors
/// When the store cannot be read, or a region is invalid.
pub(crate) fn with_serial(store: &Arc<dyn ReadAt>, serial: u32) -> Result<Edited> {
    let head = read_vec(&**store, ByteOffset::ZERO, 512)?;
    let boot =
        BootSector::decode(&head).ok_or_else(|| Error::corrupt("its boot sector is gone"))?;
    let len = usize::try_from(boot.sector.saturating_mul(12)).unwrap_or(0);
    let mut draft = Edited::new(Arc::clone(store));
    for at in [0, boot.sector.saturating_mul(12)].map(ByteOffset::new) {
        let mut region = read_vec(&draft, at, len)?;
        if BootSector::decode(&region).is_none() {
            continue;
        }
        let sealed = bytes::put(&mut region, 100, serial.to_le_bytes())
            .and_then(|()| seal_region(&mut region, boot.sector));
        sealed.ok_or_else(|| Error::corrupt("its boot region is truncated"))?;
        draft.put(at, &region)?;
    }
    Ok(draft)
}
