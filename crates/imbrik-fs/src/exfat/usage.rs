//! The used clusters of an exFAT volume, from its allocation bitmap (section 7.1 of the specification), and from its
//! folders and chains.
//!
//! There is only one bitmap, without a checksum. So clusters of any entry count as used, whatever the bitmap says. That
//! also covers volumes that were not unmounted, whose bitmap may be older or newer than its folders.

use super::{
    boot::{BootSector, region_checksum},
    folders::{self, read_bitmap},
};
use crate::{
    Usage, VolumeFinding,
    bits::{Bits, Run},
    usage::cluster_spans,
};
use imbrik_store::{
    ReadAt, bytes,
    error::{Class, Error, Result},
    progress::Cancel,
    read_up_to,
    units::{ByteOffset, Span},
};

/// The used space. If the checksum of the boot region is wrong, or folders or the bitmap are invalid, the whole volume
/// counts as used.
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
    let volume = Span::whole(boot.volume_len);
    if !volume.contains(boot.data()) || !volume.contains(boot.table) {
        return Err(Error::corrupt("its boot sector's numbers contradict each other"));
    }
    check_boot_region(store, boot)?;
    let mut reached = Bits::new(boot.clusters);
    let mut bitmap = None;
    let root = folders::walk(store, boot, &Cancel::new(), &mut |set| {
        let runs = set.holdings.iter().flat_map(|holding| &holding.runs);
        runs.for_each(|run| {
            reached.add(*run);
        });
        if set.is_bitmap() && bitmap.is_none() {
            let runs: Vec<Run> =
                set.holdings.iter().flat_map(|holding| holding.runs.clone()).collect();
            bitmap = Some((runs, bytes::le_u64(&set.raw, 24).unwrap_or(0)));
        }
        Ok(())
    })?;
    root.iter().for_each(|run| {
        reached.add(*run);
    });
    let (runs, len) =
        bitmap.ok_or_else(|| Error::corrupt("its allocation bitmap was not found"))?;
    let marked = read_bitmap(store, boot, &runs, len)?;
    let all = Run::new(0, boot.clusters);
    let both: u64 = reached.runs(all).map(|run| marked.count_in(run)).sum();
    let unmarked = reached.count().saturating_sub(both);
    marked.runs(all).for_each(|run| {
        reached.add(run);
    });
    let mut used = vec![
        Span::between(ByteOffset::ZERO, boot.data().start()),
        Span::between(boot.data().end(), ByteOffset::new(size.get())),
    ];
    used.extend(cluster_spans(&reached, boot.data().start(), boot.cluster));
    let mut usage = Usage::of(used, Vec::new());
    usage.metadata = size.saturating_sub(boot.data().len());
    if unmarked > 0 {
        let len = boot.cluster.checked_mul(unmarked).unwrap_or_default();
        usage.findings.push(VolumeFinding::CalledFree { by: "bitmap", files: "hold", len });
    }
    Ok(usage)
}

/// Compares the eleven sectors of the boot region with the checksum in the twelfth. Two fields
/// that change while the volume is mounted don't count.
fn check_boot_region(store: &dyn ReadAt, boot: &BootSector) -> Result<()> {
    let sector = usize::try_from(boot.sector).unwrap_or(4096);
    let region = read_up_to(store, ByteOffset::ZERO, sector.saturating_mul(12))?;
    let computed = region_checksum(&region, boot.sector);
    let found = bytes::le_u32(&region, sector.saturating_mul(11)).unwrap_or(0);
    let Some(computed) = computed else {
        return Err(Error::corrupt("its boot region is truncated"));
    };
    if found == computed {
        return Ok(());
    }
    let what = format!("its boot checksum is {found:#010x}, computed {computed:#010x}");
    Err(Error::corrupt(what))
}
