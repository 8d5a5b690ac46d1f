//! Which clusters of an exFAT volume are in use: by its allocation bitmap (section 7.1 of the
//! specification), which may lie anywhere and in pieces.

use super::boot::{BootSector, region_checksum};
use crate::{
    bytes,
    error::{Class, Error, Result},
    fs::{ClusterRuns, Usage},
    store::{ReadAt, read_up_to},
    units::{ByteLen, ByteOffset, Span},
};

/// The root directory's entry that tells where the bitmap is.
const ALLOCATION_BITMAP: u8 = 0x81;
/// Clusters of a chain that are followed: a longer root directory or bitmap doesn't exist.
const MOST_LINKS: usize = 1 << 16;
/// The longest bitmap: one bit for each of 2^32 clusters.
const MOST_BITMAP: u64 = 1 << 29;

/// What is in use. A boot region whose checksum is wrong, or a bitmap that makes no sense, makes
/// the whole volume count.
///
/// # Errors
/// When the store cannot be read.
pub(super) fn usage(store: &dyn ReadAt, boot: &BootSector) -> Result<Usage> {
    let size = store.size();
    match trusted(store, boot) {
        Err(error) if matches!(error.class(), Class::Corrupt | Class::Unsupported) => {
            Ok(Usage::distrusted(size, &error))
        }
        found => found,
    }
}

fn trusted(store: &dyn ReadAt, boot: &BootSector) -> Result<Usage> {
    let size = store.size();
    if boot.volume_len > size {
        let what = format!("it says that it is {} long, its place has {size}", boot.volume_len);
        return Err(Error::corrupt(what));
    }
    if boot.table_count != 1 {
        return Err(Error::unsupported("it has two allocation tables"));
    }
    if boot.is_dirty {
        return Err(Error::unsupported("it was not unmounted cleanly"));
    }
    let volume = Span::whole(boot.volume_len);
    if !volume.contains(boot.data()) || !volume.contains(boot.table) {
        return Err(Error::corrupt("its boot sector's numbers contradict each other"));
    }
    check_boot_region(store, boot)?;
    let root = chain(store, boot, boot.root_cluster)?;
    let (first, len) = find_bitmap(store, &root)?;
    if len < boot.clusters.div_ceil(8) || len > MOST_BITMAP {
        return Err(Error::corrupt("its allocation bitmap is too short for its clusters"));
    }
    let mut used = vec![
        Span::between(ByteOffset::ZERO, boot.data().start()),
        Span::between(boot.data().end(), ByteOffset::new(size.get())),
    ];
    let bitmap = chain(store, boot, first)?;
    used.extend(root);
    used.extend(&bitmap);
    let mut runs = ClusterRuns::new(boot.data(), boot.cluster);
    let mut number = 0u64;
    for piece in bitmap {
        let bytes = read_up_to(store, piece.start(), piece.len().to_usize().unwrap_or(0))?;
        for bit in bytes.iter().flat_map(|byte| (0..8).map(move |bit| byte >> bit & 1)) {
            if number >= boot.clusters {
                break;
            }
            runs.push(number, bit == 1);
            number = number.saturating_add(1);
        }
    }
    if number < boot.clusters {
        return Err(Error::corrupt("its allocation bitmap ends early"));
    }
    used.extend(runs.finish());
    Ok(Usage::of(used, Vec::new()))
}

/// Compares the eleven sectors of the boot region with the checksum in the twelfth. Two fields
/// that change while the volume is mounted don't count.
fn check_boot_region(store: &dyn ReadAt, boot: &BootSector) -> Result<()> {
    let sector = usize::try_from(boot.sector).unwrap_or(4096);
    let region = read_up_to(store, ByteOffset::ZERO, sector.saturating_mul(12))?;
    let computed = region_checksum(&region, boot.sector);
    let found = bytes::le_u32(&region, sector.saturating_mul(11)).unwrap_or(0);
    let Some(computed) = computed else {
        return Err(Error::corrupt("its boot region is cut short"));
    };
    if found == computed {
        return Ok(());
    }
    let what = format!("its boot checksum is {found:#010x}, computed {computed:#010x}");
    Err(Error::corrupt(what))
}

/// Where the clusters of the chain that starts at `first` (counted from 0) lie.
fn chain(store: &dyn ReadAt, boot: &BootSector, first: u64) -> Result<Vec<Span>> {
    let broken = || Error::corrupt("a chain of clusters is broken");
    let mut spans = Vec::new();
    let mut number = first;
    loop {
        spans.push(boot.cluster_span(number).ok_or_else(broken)?);
        if spans.len() > MOST_LINKS {
            return Err(Error::corrupt("a chain of clusters has no end"));
        }
        let at = number.saturating_add(2).saturating_mul(4);
        let entry = boot.table.start().saturating_add(ByteLen::new(at));
        let entry = read_up_to(store, entry, 4)?;
        number = match bytes::le_u32(&entry, 0).ok_or_else(broken)? {
            u32::MAX => return Ok(spans),
            next => u64::from(next).checked_sub(2).ok_or_else(broken)?,
        };
    }
}

/// The bitmap's first cluster, counted from 0, and its length in bytes.
fn find_bitmap(store: &dyn ReadAt, root: &[Span]) -> Result<(u64, u64)> {
    let missing = || Error::corrupt("its allocation bitmap is not to be found");
    for piece in root {
        let bytes = read_up_to(store, piece.start(), piece.len().to_usize().unwrap_or(0))?;
        for entry in bytes.as_chunks::<32>().0 {
            match entry.first() {
                Some(0) | None => return Err(missing()),
                Some(&ALLOCATION_BITMAP) => {
                    let first = bytes::le_u32(entry, 20).ok_or_else(missing)?;
                    let first = u64::from(first).checked_sub(2).ok_or_else(missing)?;
                    return Ok((first, bytes::le_u64(entry, 24).ok_or_else(missing)?));
                }
                Some(_) => {}
            }
        }
    }
    Err(missing())
}
