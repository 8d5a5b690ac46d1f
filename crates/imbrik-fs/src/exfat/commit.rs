//! The steps in which an edited exFAT volume is written in place: content and new folders, then chains and the bits of
//! allocated clusters, then the entries that refer to them, then the bits of freed clusters.

use super::{
    boot::{BootSector, VOLUME_DIRTY},
    edit::{Tables, tables_of},
};
use crate::{
    bits::Run,
    clusters::span_of,
    commit::{AfterACut, Commit, CommitStep, entries_in_order, metadata, parted},
    edit::EditedVolume,
};
use imbrik_store::{
    ReadAt, bytes,
    error::{Error, Result},
    read_vec,
    units::{ByteLen, ByteOffset, Span},
};
use std::sync::Arc;

/// `VolumeFlags` of the main boot sector; its checksum does not count it.
const FLAGS_AT: u64 = 106;

/// The changes to the boot sector on unmount.
///
/// # Errors
/// When the store cannot be read.
pub(super) fn unmounted(store: &dyn ReadAt) -> Result<Vec<(ByteOffset, Vec<u8>)>> {
    let head = read_vec(store, ByteOffset::ZERO, 512)?;
    let flags = bytes::le_u16(&head, 106).unwrap_or(0) & !VOLUME_DIRTY;
    Ok(vec![(ByteOffset::new(FLAGS_AT), flags.to_le_bytes().to_vec())])
}

/// How `edited`, made of the volume in `store`, is written there.
///
/// # Errors
/// When the store cannot be read, or its bitmap is invalid.
pub(crate) fn commit(store: &Arc<dyn ReadAt>, edited: &EditedVolume) -> Result<Commit> {
    let head = read_vec(&**store, ByteOffset::ZERO, 512)?;
    let boot =
        BootSector::decode(&head).ok_or_else(|| Error::corrupt("its boot sector is gone"))?;
    let Tables { bitmap, used, .. } = tables_of(store, &boot)?;
    let new = &*edited.volume.store;
    let bitmap: Vec<Span> =
        bitmap.iter().map(|run| span_of(*run, boot.data().start(), boot.cluster)).collect();
    let tables: Vec<Span> = bitmap.iter().copied().chain([boot.table]).collect();
    let is_new = |at: ByteOffset| {
        let ahead = at.get().checked_sub(boot.data().start().get());
        let number = ahead.and_then(|ahead| ahead.checked_div(boot.cluster.get()));
        number
            .is_some_and(|number| number < boot.clusters && used.count_in(Run::new(number, 1)) == 0)
    };
    let unit = ByteLen::new(512);
    let (fresh, rest) = parted(&metadata(edited, &tables), is_new, unit);
    let (info, entries) = parted(&rest, |at| at < boot.data().start(), unit);
    let flags = bytes::le_u16(&head, 106).unwrap_or(0);

    let mut begin = CommitStep { content: edited.content.clone(), bytes: Vec::new() };
    begin.put(FLAGS_AT, (flags | VOLUME_DIRTY).to_le_bytes());
    for span in fresh {
        begin.push(new, span)?;
    }
    let (mut chains, mut freed) = (CommitStep::default(), CommitStep::default());
    for span in &edited.volume.rewritten {
        if let Some(span) = span.intersect(boot.table) {
            chains.push(new, span)?;
        }
        for span in bitmap.iter().filter_map(|bitmap| span.intersect(*bitmap)) {
            let len = span.len().to_usize().unwrap_or(0);
            let old = read_vec(&**store, span.start(), len)?;
            let now = read_vec(new, span.start(), len)?;
            let both: Vec<u8> = old.iter().zip(now).map(|(old, now)| old | now).collect();
            chains.put(span.start().get(), both);
            freed.push(new, span)?;
        }
    }
    let [added, changed] = entries_in_order(&**store, new, &entries, |first| first & 0x80 == 0)?;
    for span in info {
        freed.push(new, span)?;
        // The flags are in there, too: the volume still is in use.
        if span.start() == ByteOffset::ZERO
            && let Some((_, sector)) = freed.bytes.last_mut()
        {
            let _ = bytes::put(sector, 106, (flags | VOLUME_DIRTY).to_le_bytes());
        }
    }
    let mut end = CommitStep::default();
    end.put(FLAGS_AT, flags.to_le_bytes());
    let steps = vec![begin, chains, added, changed, freed, end];
    Ok(Commit { steps, after_a_cut: AfterACut::ToBeChecked })
}
