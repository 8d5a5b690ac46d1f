//! Which clusters of a FAT volume are in use: those with an entry in the file allocation table.

use super::boot::{BootSector, Width};
use crate::{
    error::{Error, Result},
    fs::{ClusterRuns, Usage},
    store::{ReadAt, read_up_to},
    units::{ByteLen, ByteOffset, Span},
};

/// How much of a table is read at once: a multiple of every entry's width, in bytes.
const PIECE: usize = 3 << 18;

/// What is in use. Lost chains have entries, so they count as used; a table that makes no sense
/// makes the whole volume count.
///
/// # Errors
/// When the store cannot be read.
pub(super) fn usage(store: &dyn ReadAt, boot: &BootSector) -> Result<Usage> {
    let size = store.size();
    if boot.volume_len > size {
        let what = format!("it says that it is {} long, its place has {size}", boot.volume_len);
        return Ok(Usage::whole(size, what));
    }
    // Everything up to the first cluster, and whatever lies behind the last.
    let data = boot.data();
    let mut used = vec![
        Span::between(ByteOffset::ZERO, data.start()),
        Span::between(data.end(), ByteOffset::new(size.get())),
    ];
    for table in boot.tables() {
        match clusters_in_use(store, boot, table)? {
            Ok(spans) => used.extend(spans),
            Err(why) => return Ok(Usage::distrusted(size, &why)),
        }
    }
    Ok(Usage::of(used, Vec::new()))
}

/// The clusters that one copy of the table calls used. What two copies disagree about counts as
/// used when either says so.
fn clusters_in_use(
    store: &dyn ReadAt,
    boot: &BootSector,
    table: Span,
) -> Result<std::result::Result<Vec<Span>, Error>> {
    let entries = boot.clusters.saturating_add(2);
    let mut runs = ClusterRuns::new(boot.data(), boot.cluster);
    let mut number = 0u64;
    let mut at = table.start();
    while number < entries {
        let bytes = read_up_to(store, at, PIECE)?;
        if bytes.is_empty() {
            return Ok(Err(Error::corrupt("its allocation table is cut short")));
        }
        at = at.saturating_add(ByteLen::of(&bytes));
        for entry in decode(boot.width, &bytes) {
            match (number, boot.width) {
                // The first entry repeats the media byte: a table without it is none.
                (0, _) if entry & 0xff != u32::from(boot.media) => {
                    return Ok(Err(Error::corrupt("its allocation table is damaged")));
                }
                (0 | 1, _) => {}
                (cluster, _) if cluster >= entries => break,
                (cluster, width) => {
                    let is_used = entry != 0 && entry != width.bad();
                    runs.push(cluster.saturating_sub(2), is_used);
                }
            }
            number = number.saturating_add(1);
        }
    }
    Ok(Ok(runs.finish()))
}

/// The entries in a piece of a table, the top four bits of 32-bit ones taken away.
fn decode(width: Width, bytes: &[u8]) -> Box<dyn Iterator<Item = u32> + '_> {
    match width {
        Width::Bits12 => Box::new(bytes.as_chunks::<3>().0.iter().flat_map(|[a, b, c]| {
            let (a, b, c) = (u32::from(*a), u32::from(*b), u32::from(*c));
            [a | (b & 0xf) << 8, b >> 4 | c << 4]
        })),
        Width::Bits16 => {
            let entries = bytes.as_chunks::<2>().0.iter();
            Box::new(entries.map(|entry| u16::from_le_bytes(*entry).into()))
        }
        Width::Bits32 => {
            let entries = bytes.as_chunks::<4>().0.iter();
            Box::new(entries.map(|entry| u32::from_le_bytes(*entry) & 0x0fff_ffff))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn entries_of_every_width_are_told_apart() {
        let of = |width, bytes: &[u8]| decode(width, bytes).collect::<Vec<_>>();
        assert_eq!(of(Width::Bits12, &[0xf8, 0x3f, 0x12]), [0xff8, 0x123]);
        assert_eq!(of(Width::Bits16, &[1, 2, 3, 4]), [0x201, 0x403]);
        assert_eq!(of(Width::Bits32, &[0, 0, 0, 0xf0]), [0], "the top bits are no cluster");
    }
}
