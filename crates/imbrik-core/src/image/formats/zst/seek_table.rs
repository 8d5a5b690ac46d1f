//! The seek table of the Zstandard seekable format 0.1.0, with the length of each frame.
//!
//! ```text
//! skippable header │ entries: packed size (4), content size (4), checksum (4, optional) │
//! number of frames (4) │ descriptor (1) │ 0x8F92EAB1 (4)
//! ```
//!
//! A skippable frame has an entry, too, with a content of nothing.

use super::frame::skippable_header;
use crate::image::{formats::format::FrameLens, frames::MOST_FRAMES};
use imbrik_store::{
    ReadAt, bytes,
    error::{Error, Result},
    read_up_to,
    units::{ByteLen, ByteOffset},
};

const TABLE_MAGIC: u32 = 0x184d_2a5e;
const FOOTER_MAGIC: u32 = 0x8f92_eab1;
const FOOTER: u64 = 9;
const CHECKSUMS: u8 = 0x80;
/// The most frames the format allows.
const FORMAT_FRAMES: u32 = 0x0800_0000;

/// The whole skippable frame of a table; `None` when there are more frames than the format allows.
pub(super) fn encode(entries: &[FrameLens]) -> Option<Vec<u8>> {
    let count = u32::try_from(entries.len()).ok().filter(|count| *count <= FORMAT_FRAMES)?;
    let len = count.checked_mul(8)?.checked_add(9)?;
    let mut out = skippable_header(TABLE_MAGIC, len).to_vec();
    for entry in entries {
        out.extend_from_slice(&entry.packed.to_le_bytes());
        out.extend_from_slice(&entry.content.to_le_bytes());
    }
    out.extend_from_slice(&count.to_le_bytes());
    out.push(0);
    out.extend_from_slice(&FOOTER_MAGIC.to_le_bytes());
    Some(out)
}

/// Reads the table at the end of `file`; `None` if it has none.
///
/// # Errors
/// [`crate::Class::Corrupt`] when there is one and it doesn't describe this file.
pub(super) fn read(file: &dyn ReadAt) -> Result<Option<Vec<FrameLens>>> {
    let size = file.size().get();
    let Some(footer_at) = size.checked_sub(FOOTER) else { return Ok(None) };
    let footer = read_up_to(file, ByteOffset::new(footer_at), 9)?;
    if bytes::le_u32(&footer, 5) != Some(FOOTER_MAGIC) {
        return Ok(None);
    }
    let wrong = |what: &str| Error::corrupt(format!("the seek table {what}"));
    let count = bytes::le_u32(&footer, 0).unwrap_or(0);
    if usize::try_from(count).map_or(true, |count| count > MOST_FRAMES) {
        return Err(wrong(&format!("lists {count} frames, at most {MOST_FRAMES} are read")));
    }
    let step = if bytes::u8(&footer, 4).unwrap_or(0) & CHECKSUMS != 0 { 12u64 } else { 8 };
    let entries_len = u64::from(count).saturating_mul(step);
    let table_len = entries_len.saturating_add(8).saturating_add(FOOTER);
    // The length is bounded by the file itself, so the allocation is, too.
    let table_at = size.checked_sub(table_len).ok_or_else(|| wrong("is longer than the file"))?;
    let len = usize::try_from(table_len).map_err(|_| wrong("is too long for this system"))?;
    let table = read_up_to(file, ByteOffset::new(table_at), len)?;
    if bytes::le_u32(&table, 0) != Some(TABLE_MAGIC) {
        return Err(wrong("does not start at the recorded offset"));
    }
    let step = usize::try_from(step).unwrap_or(12);
    let raw = table.get(8..).unwrap_or_default().chunks_exact(step);
    let entry = |raw: &[u8]| {
        Some(FrameLens { packed: bytes::le_u32(raw, 0)?, content: bytes::le_u32(raw, 4)? })
    };
    let count = usize::try_from(count).unwrap_or(usize::MAX);
    let entries: Vec<FrameLens> = raw.take(count).filter_map(entry).collect();
    let frames: ByteLen = entries.iter().map(|entry| ByteLen::new(entry.packed.into())).sum();
    if frames.get() != table_at {
        return Err(wrong(&format!("lists {frames} of frames, {table_at} bytes are there")));
    }
    Ok(Some(entries))
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_store::SparseStore;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn seek_table_survives_a_round_trip_and_rejects_truncation(
            sizes in proptest::collection::vec((0u32..500, any::<u32>()), 0..40),
        ) {
            let entries: Vec<_> =
                sizes.into_iter().map(|(packed, content)| FrameLens { packed, content }).collect();
            let frames: usize = entries.iter().map(|entry| entry.packed as usize).sum();
            let mut file = vec![1; frames];
            file.extend(encode(&entries).unwrap());
            let read_all = |bytes: &[u8]| read(&SparseStore::of(bytes));
            prop_assert_eq!(read_all(&file).unwrap().unwrap(), entries);
            prop_assert!(read_all(&file[1..]).is_err());
            prop_assert_eq!(read_all(&file[..file.len() - 1]).unwrap(), None);
            let at = file.len() - 9;
            file[at..at + 4].copy_from_slice(&(MOST_FRAMES as u32 + 1).to_le_bytes());
            prop_assert!(read_all(&file).unwrap_err().to_string().contains("are read"));
        }

        #[test]
        fn random_footers_never_panic(tail in proptest::collection::vec(any::<u8>(), 0..64)) {
            let mut file = tail;
            file.extend_from_slice(&FOOTER_MAGIC.to_le_bytes());
            let _ = read(&SparseStore::of(&file));
        }
    }
}
