//! The steps in which an edited FAT volume is written in place: content and new folders, then chains in both tables,
//! then the entries that refer to them, then freed clusters.

use super::{
    boot::{BootSector, Width},
    table::Table,
};
use crate::{
    clusters::Link,
    commit::{AfterACut, Commit, CommitStep, entries_in_order, metadata, parted},
    edit::EditedVolume,
};
use imbrik_store::{
    ReadAt,
    error::{Error, Result},
    read_vec,
    units::{ByteLen, ByteOffset, Span},
};
use std::sync::Arc;

/// Of the byte in the boot sector that systems mark while a volume is mounted.
const IN_USE: u8 = 1;

/// The offset of the byte that systems set while a volume is mounted.
fn state_at(boot: &BootSector) -> u64 {
    if boot.width == Width::Bits32 { 0x41 } else { 0x25 }
}

/// The changes to the boot sector on unmount.
///
/// # Errors
/// When the store cannot be read.
pub(super) fn unmounted(store: &dyn ReadAt) -> Result<Vec<(ByteOffset, Vec<u8>)>> {
    let sector = read_vec(store, ByteOffset::ZERO, 512)?;
    let Some(boot) = BootSector::decode(&sector) else { return Ok(Vec::new()) };
    let at = state_at(&boot);
    let state = read_vec(store, ByteOffset::new(at), 1)?;
    Ok(vec![(ByteOffset::new(at), state.iter().map(|state| state & !IN_USE).collect())])
}

/// How `edited`, made of the volume in `store`, is written there.
///
/// # Errors
/// When the store cannot be read, or its tables are invalid.
pub(crate) fn commit(store: &Arc<dyn ReadAt>, edited: &EditedVolume) -> Result<Commit> {
    let sector = read_vec(&**store, ByteOffset::ZERO, 512)?;
    let boot =
        BootSector::decode(&sector).ok_or_else(|| Error::corrupt("its boot sector is gone"))?;
    let new = &*edited.volume.store;
    let (old_table, mut between) = (Table::read(&**store, &boot)?, Table::read(new, &boot)?);
    // Freed clusters stay in their chain until no entry refers to it.
    for number in 0..boot.clusters {
        if between.link(number) == Link::Free && old_table.link(number) != Link::Free {
            between.put(number, old_table.value(number))?;
        }
    }
    let is_new = |at: ByteOffset| {
        let ahead = at.get().checked_sub(boot.data().start().get());
        let number = ahead.and_then(|ahead| ahead.checked_div(boot.cluster.get()));
        number.is_some_and(|number| number < boot.clusters && old_table.link(number) == Link::Free)
    };
    let tables: Vec<Span> = boot.tables().collect();
    let first_table = tables.first().map_or(ByteOffset::ZERO, |table| table.start());
    let unit = ByteLen::new(boot.sector.min(512));
    let others = metadata(edited, &tables);
    let (fresh, rest) = parted(&others, is_new, unit);
    // The count of free clusters is a hint, and comes last.
    let (info, entries) = parted(&rest, |at| at < first_table, unit);
    let state_at = state_at(&boot);
    let state = read_vec(new, ByteOffset::new(state_at), 1)?;
    let in_use: Vec<u8> = state.iter().map(|state| state | IN_USE).collect();

    let mut begin = CommitStep { content: edited.content.clone(), bytes: Vec::new() };
    begin.put(state_at, in_use);
    for span in fresh {
        begin.push(new, span)?;
    }
    let (mut chains, mut freed) = (CommitStep::default(), CommitStep::default());
    for table in &tables {
        for span in edited.volume.rewritten.iter().filter_map(|span| span.intersect(*table)) {
            let ahead = ByteOffset::new(span.start().saturating_since(table.start()).get());
            let len = span.len().to_usize().unwrap_or(0);
            chains.put(span.start().get(), read_vec(&between, ahead, len)?);
            freed.push(new, span)?;
        }
    }
    let [added, changed] = entries_in_order(&**store, new, &entries, |first| first == 0xe5)?;
    for span in info {
        freed.push(new, span)?;
    }
    // The first sector may be among those: it still marks the volume as in use.
    for (at, bytes) in &mut freed.bytes {
        if at.get() <= state_at
            && let Some(inside) = usize::try_from(state_at.saturating_sub(at.get())).ok()
            && let Some(state) = bytes.get_mut(inside)
        {
            *state |= IN_USE;
        }
    }
    let mut end = CommitStep::default();
    end.put(state_at, state);
    let steps = vec![begin, chains, added, changed, freed, end];
    Ok(Commit { steps, after_a_cut: AfterACut::ToBeChecked })
}
