//! NTFS: the boot sector, and the label from the volume's own file record.

use super::{Volume, VolumeKind};
use crate::{
    bytes,
    error::Result,
    store::{ReadAt, read_up_to},
    units::{ByteLen, ByteOffset},
};

/// The record of `$Volume` in the master file table.
const VOLUME_RECORD: u64 = 3;
/// The attribute that holds the label.
const VOLUME_NAME: u32 = 0x60;

/// Names an NTFS volume.
pub(super) fn recognise(store: &dyn ReadAt) -> Result<Option<Volume>> {
    let boot = read_up_to(store, ByteOffset::ZERO, 512)?;
    if boot.get(3..11) != Some(b"NTFS    ") || bytes::le_u16(&boot, 510) != Some(0xaa55) {
        return Ok(None);
    }
    let sector = u64::from(bytes::le_u16(&boot, 11).unwrap_or(0));
    let sectors = bytes::le_u64(&boot, 40).unwrap_or(0);
    let serial = bytes::le_u64(&boot, 72).unwrap_or(0);
    let label = match volume_record(&boot) {
        Some(at) => name_in(&read_up_to(store, at, 1024)?),
        None => None,
    };
    Ok(Some(Volume {
        kind: VolumeKind::Ntfs,
        label,
        uuid: (serial != 0).then(|| format!("{serial:016X}")),
        // The backup boot sector stands behind the last counted sector.
        size: ByteLen::new(sector.saturating_mul(sectors.saturating_add(1))),
    }))
}

/// Where the `$Volume` record starts.
fn volume_record(boot: &[u8]) -> Option<ByteOffset> {
    let sector = u64::from(bytes::le_u16(boot, 11)?);
    let cluster = sector.checked_mul(bytes::u8(boot, 13)?.into())?;
    let table = bytes::le_u64(boot, 48)?.checked_mul(cluster)?;
    // A size of 128 and above counts as a negative power of two, in bytes.
    let record = match bytes::u8(boot, 64)? {
        clusters @ ..128 => cluster.checked_mul(clusters.into())?,
        power => 1u64.checked_shl(256u32.checked_sub(power.into())?)?,
    };
    table.checked_add(record.checked_mul(VOLUME_RECORD)?).map(ByteOffset::new)
}

/// The label among a file record's attributes.
fn name_in(record: &[u8]) -> Option<String> {
    if !record.starts_with(b"FILE") {
        return None;
    }
    let mut at = usize::from(bytes::le_u16(record, 20)?);
    loop {
        let kind = bytes::le_u32(record, at)?;
        let len = usize::try_from(bytes::le_u32(record, at.checked_add(4)?)?).ok()?;
        if kind == VOLUME_NAME {
            let size = usize::try_from(bytes::le_u32(record, at.checked_add(16)?)?).ok()?;
            let value = at.checked_add(bytes::le_u16(record, at.checked_add(20)?)?.into())?;
            return bytes::text_utf16(record.get(value..value.checked_add(size)?)?);
        }
        if kind == u32::MAX || len < 16 {
            return None;
        }
        at = at.checked_add(len)?;
    }
}
