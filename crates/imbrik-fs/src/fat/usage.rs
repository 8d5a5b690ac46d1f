//! Which clusters of a FAT volume are in use: those with an entry in the file allocation table, and
//! those that an entry or a folder leads to.
//!
//! The boot sector is accepted if its backup (FAT32) is the same and every folder is where its entry says. Both copies
//! of the table are combined, and clusters of chains and folders are added, so that no single wrong entry frees a
//! cluster.

use super::{
    ROOT_PREFIX,
    boot::{BootSector, TOP, Width},
    folder::{self, FolderPlace, is_dots, is_folder, short_name},
    label_in,
    table::{TableOnCard, decode},
};
use crate::{
    Usage, VolumeFinding,
    bits::{Bits, Run},
    clusters,
    usage::cluster_spans,
};
use imbrik_store::{
    ReadAt,
    error::{Class, Error, Result},
    read_up_to,
    units::{ByteLen, ByteOffset, Span},
};

/// How much of a table is read at once: a multiple of every entry's width, in bytes.
const PIECE: usize = 3 << 18;

/// The used space. Lost chains have entries, so they count as used; if a table is invalid, the whole volume counts as
/// used.
///
/// # Errors
/// When the store cannot be read.
pub(super) fn usage(store: &dyn ReadAt, boot: &BootSector) -> Result<Usage> {
    match trusted(store, boot) {
        Err(error) if matches!(error.class(), Class::Corrupt | Class::Unsupported) => {
            Ok(Usage::distrusted(store.size(), &error))
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
    compare_with_copy(store, boot)?;
    // Everything up to the first cluster, and after the last.
    let data = boot.data();
    let mut used = vec![
        Span::between(ByteOffset::ZERO, data.start()),
        Span::between(data.end(), ByteOffset::new(size.get())),
    ];
    let mut clusters = Bits::new(boot.clusters);
    let mut readable = Vec::new();
    let mut unreadable = None;
    for table in boot.tables() {
        match take_table(store, boot, table, &mut clusters) {
            Err(error) if error.concerns_a_range() => unreadable = Some(error),
            taken => {
                taken?;
                readable.push(table);
            }
        }
    }
    let active = boot.tables().nth(boot.active_table());
    let active = active.filter(|table| readable.contains(table)).or(readable.first().copied());
    let active = match (active, &unreadable) {
        (Some(active), _) => active,
        (None, Some(error)) => return Err(Error::new(error.class(), error.to_string())),
        (None, None) => return Err(Error::corrupt("it has no allocation table")),
    };
    let had = clusters.count();
    take_folders(store, boot, active, &mut clusters)?;
    let unmarked = clusters.count().saturating_sub(had);
    used.extend(cluster_spans(&clusters, data.start(), boot.cluster));
    let mut usage = Usage::of(used, Vec::new());
    usage.metadata = size.saturating_sub(data.len());
    let root = read_up_to(store, boot.root_directory, ROOT_PREFIX)?;
    if let (Some(in_root), Some(in_boot)) = (label_in(&root), &boot.label)
        && in_root != *in_boot
    {
        usage.findings.push(VolumeFinding::TwoLabels { in_root, in_boot: in_boot.clone() });
    }
    if let Some(error) = unreadable {
        usage.findings.push(VolumeFinding::TableUnreadable { why: error.to_string() });
    }
    if unmarked > 0 {
        let len = boot.cluster.checked_mul(unmarked).unwrap_or_default();
        let (by, files) = ("allocation table", "start with");
        usage.findings.push(VolumeFinding::CalledFree { by, files, len });
    }
    Ok(usage)
}

/// Compares the layout in the boot sector with that in its backup, if there is one.
fn compare_with_copy(store: &dyn ReadAt, boot: &BootSector) -> Result<()> {
    if boot.width != Width::Bits32 || matches!(boot.backup, 0 | 0xffff) {
        return Ok(());
    }
    let at = ByteOffset::new(boot.backup.saturating_mul(boot.sector));
    let raw = read_up_to(store, at, 512)?;
    let layout = |boot: &BootSector| {
        let table = (boot.table_count, boot.table_sectors, boot.reserved);
        (boot.sector, boot.sec_per_clus, boot.clusters, table, boot.root_cluster, boot.volume_len)
    };
    match BootSector::decode(&raw) {
        Some(copy) if layout(&copy) == layout(boot) => Ok(()),
        Some(_) => Err(Error::corrupt("its boot sector and the copy of that differ")),
        None => Err(Error::corrupt("the backup of its boot sector is invalid")),
    }
}

/// Adds the clusters that a copy of the table calls used, or links to. If two copies disagree, a cluster counts as
/// used.
fn take_table(
    store: &dyn ReadAt,
    boot: &BootSector,
    table: Span,
    clusters: &mut Bits,
) -> Result<()> {
    let entries = boot.clusters.saturating_add(2);
    let mut number = 0u64;
    let mut at = table.start();
    // Whole entries of 12 bits come in pairs.
    let len = entries.saturating_mul(boot.width.bits()).div_ceil(8).next_multiple_of(3);
    let end = table.start().saturating_add(ByteLen::new(len));
    while number < entries {
        let rest = Span::between(at, end).len().to_usize().unwrap_or(PIECE);
        let bytes = read_up_to(store, at, rest.min(PIECE))?;
        if bytes.len() < 4 {
            return Err(Error::corrupt("its allocation table is truncated"));
        }
        at = at.saturating_add(ByteLen::of(&bytes));
        let own = if boot.width == Width::Bits32 { !TOP } else { u32::MAX };
        for entry in decode(boot.width, &bytes).map(|raw| raw & own) {
            match number {
                0 if !boot.width.is_media(entry) => {
                    return Err(Error::corrupt("its allocation table is damaged"));
                }
                0 | 1 => {}
                cluster if cluster >= entries => break,
                cluster => {
                    if entry != 0 && entry != boot.width.bad() {
                        clusters.add(Run::new(cluster.saturating_sub(2), 1));
                    }
                    // Numbers that are no cluster's are outside of the set.
                    if let Some(next) = u64::from(entry).checked_sub(2) {
                        clusters.add(Run::new(next, 1));
                    }
                }
            }
            number = number.saturating_add(1);
        }
    }
    Ok(())
}

/// Adds the first cluster of every entry, and verifies that the first entry of each folder has the folder's own
/// cluster.
fn take_folders(
    store: &dyn ReadAt,
    boot: &BootSector,
    table: Span,
    clusters: &mut Bits,
) -> Result<()> {
    let table = TableOnCard::new(store, boot, table);
    let root = boot.root().ok_or_else(|| Error::corrupt("its root directory has no cluster"))?;
    if let FolderPlace::Chain(first) = root
        && !clusters.add(Run::new(first, 1))
        && first >= boot.clusters
    {
        return Err(Error::corrupt("its root directory has no cluster"));
    }
    let mut seen = Bits::new(boot.clusters);
    let mut waiting = vec![(None, root)];
    while let Some((own, place)) = waiting.pop() {
        let records = folder::read(store, spans_of(boot, &table, place)?)?;
        if let Some(own) = own {
            let is_dot = records.first().is_some_and(|(_, entry)| {
                short_name(entry).as_deref() == Some(b".") && boot.first_of(entry) == Some(own)
            });
            if !is_dot {
                let cluster = own.saturating_add(2);
                return Err(Error::corrupt(format!(
                    "the folder in cluster {cluster} does not name itself"
                )));
            }
        }
        for one in folder::named(&records).filter(|one| !is_dots(one.raw)) {
            let first = boot.first_of(one.raw).filter(|first| *first < boot.clusters);
            let Some(first) = first else { continue };
            clusters.add(Run::new(first, 1));
            if is_folder(one.raw) && seen.add(Run::new(first, 1)) {
                waiting.push((Some(first), FolderPlace::Chain(first)));
            }
        }
    }
    Ok(())
}

/// The ranges of a folder's entries, up to the end of its chain or a broken link, limited to the maximum size of a
/// folder.
pub(super) fn spans_of(
    boot: &BootSector,
    table: &TableOnCard<'_>,
    place: FolderPlace,
) -> Result<Vec<Span>> {
    let first = match place {
        FolderPlace::Fixed(span) => return Ok(vec![span]),
        FolderPlace::Chain(first) => first,
    };
    let most = boot.most_of_a_folder().get().div_ceil(boot.cluster.get().max(1));
    let most = most.min(boot.clusters);
    let chain =
        clusters::follow_up_to(most, first, boot.clusters, &mut |number| table.link(number))?;
    Ok(chain.runs.into_iter().map(|run| boot.span_of(run)).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn entries_of_every_width_are_parsed() {
        let of = |width, bytes: &[u8]| decode(width, bytes).collect::<Vec<_>>();
        assert_eq!(of(Width::Bits12, &[0xf8, 0x3f, 0x12]), [0xff8, 0x123]);
        assert_eq!(of(Width::Bits16, &[1, 2, 3, 4]), [0x201, 0x403]);
        assert_eq!(of(Width::Bits32, &[1, 0, 0, 0xf0]), [0xf000_0001]);
        assert_eq!(Width::Bits32.link(0xf000_0000, 9), clusters::Link::Free, "its top bits");
    }

    #[test]
    fn first_fat_entry_holds_the_media_byte() {
        assert!(Width::Bits12.is_media(0xff8) && Width::Bits16.is_media(0xfff0));
        assert!(Width::Bits32.is_media(0x0fff_fff8));
        assert!(!Width::Bits16.is_media(0xff11) && !Width::Bits16.is_media(0x7ff8));
    }
}
