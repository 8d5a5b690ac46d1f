//! Ids of volumes, as the system's tools write them.

/// A UUID as the system's tools write it; `None` when it is all zeros.
pub(crate) fn uuid_text(raw: [u8; 16]) -> Option<String> {
    let uuid = uuid::Uuid::from_bytes(raw);
    (!uuid.is_nil()).then(|| uuid.to_string())
}

/// A 32-bit volume serial as FAT and exFAT tools write it: `1A2B-3C4D`.
pub(crate) fn serial_text(serial: u32) -> Option<String> {
    let (high, low) = (serial >> 16, serial & 0xffff);
    (serial != 0).then(|| format!("{high:04X}-{low:04X}"))
}

/// A serial out of a UUID; never 0, which means none.
pub(crate) fn serial_of(id: uuid::Uuid) -> u32 {
    id.as_fields().0.max(1)
}
