//! A volume that was not unmounted, as its own system's recovery would leave it.

use super::{
    fixed::Fixed,
    group::Group,
    journal::{Change, Journal, JournalPlace, Replayed},
    orphans, redo,
    resize::check_blocks,
    structure::metadata_cache::MetadataCache,
    superblock::{RawSuperblock, Superblock},
};
use crate::DerivedVolume;
use imbrik_store::{
    ReadAt,
    error::{Class, Error, Result},
    progress::Cancel,
    read_vec,
    units::{ByteOffset, joined},
};
use std::sync::Arc;

/// The volume in `store` with its journal replayed, fast commits included, and its orphans finished,
/// as a view; `None` when there is nothing of that to do.
///
/// Orphans that cannot be completed are kept: the kernel does it when it mounts the volume for writing. It doesn't on a
/// volume that is marked as having errors, so neither does this.
///
/// # Errors
/// - When the store cannot be read.
/// - [`imbrik_store::Class::Corrupt`] or [`imbrik_store::Class::Unsupported`] with the reason why the journal
///   cannot be replayed.
pub(crate) fn recover(store: Arc<dyn ReadAt>) -> Result<Option<DerivedVolume>> {
    let Some(superblock) = RawSuperblock::read(&*store)? else { return Ok(None) };
    if !superblock.needs_recovery() {
        return finished(&store, None);
    }
    let superblock = superblock.verified(store.size())?;
    let (replayed, fast) = replayed(Arc::clone(&store), &superblock)?;
    if fast.is_empty() {
        return finished(&store, Some(replayed));
    }
    let redone = redo::redone(&replayed.store, &fast)?;
    let rewritten = joined(replayed.rewritten.into_iter().chain(redone.spans()).collect());
    let recovered = finished(&store, Some(DerivedVolume { store: Arc::new(redone), rewritten }))?;
    // Fast commits record single changes: only a check of the result shows if they are consistent.
    if let Some(recovered) = &recovered {
        check_blocks(Arc::clone(&recovered.store), &Cancel::new())?;
    }
    Ok(recovered)
}

/// The volume in `store`, replayed or not, with its orphans finished if that can be done.
fn finished(
    store: &Arc<dyn ReadAt>,
    replayed: Option<DerivedVolume>,
) -> Result<Option<DerivedVolume>> {
    let base = replayed.as_ref().map_or(store, |recovered| &recovered.store);
    let newer = RawSuperblock::read(&**base)?.filter(|newer| !newer.has_errors());
    let Some(newer) = newer.and_then(|newer| newer.verified(store.size()).ok()) else {
        return Ok(replayed);
    };
    let finished = match orphans::finished(base, &newer) {
        Err(error) if matches!(error.class(), Class::Corrupt | Class::Unsupported) => None,
        finished => finished?,
    };
    let Some(finished) = finished else { return Ok(replayed) };
    let before = replayed.iter().flat_map(|recovered| recovered.rewritten.iter().copied());
    let rewritten = joined(before.chain(finished.spans()).collect());
    Ok(Some(DerivedVolume { store: Arc::new(finished), rewritten }))
}

/// Replays the log of the volume in `store` into a view of it; also returns later changes in fast commits.
///
/// # Errors
/// As [`recover`].
pub(super) fn replayed(
    store: Arc<dyn ReadAt>,
    superblock: &Superblock,
) -> Result<(DerivedVolume, Vec<Change>)> {
    let size = store.size();
    let groups = Group::all(&*store, superblock)?;
    let fixed = Fixed::of(superblock, &groups)?;
    let meta = MetadataCache::new(Arc::clone(&store), superblock.block_len);
    let at = JournalPlace::of(&meta, superblock, &groups, &fixed)?
        .ok_or_else(|| Error::corrupt("its journal is to be replayed, and it has none"))?;
    let mut replay = Journal::open(&*store, superblock, &at)?.replay()?;
    let fast = std::mem::take(&mut replay.fast);
    let mut replayed = Replayed::new(&store, superblock.block_len, replay)?;
    let newer =
        RawSuperblock::read(replayed.store())?.filter(|newer| newer.has_geometry_of(superblock));
    let newer = newer.ok_or_else(|| {
        Error::corrupt("its journal cannot be replayed: it would change the volume's layout")
    })?;
    let newer = newer.verified(size)?;
    let (free_blocks, free_inodes) = totals(replayed.store(), &newer)?;
    let number = Superblock::OFFSET.checked_div(newer.block_len).unwrap_or(0);
    let inside = Superblock::OFFSET.checked_rem(newer.block_len).unwrap_or(0);
    let inside = usize::try_from(inside).unwrap_or(0);
    let len = usize::try_from(newer.block_len).unwrap_or(0);
    let at = ByteOffset::new(number.saturating_mul(newer.block_len));
    let mut block = read_vec(replayed.store(), at, len)?;
    let raw = block.get_mut(inside..inside.saturating_add(Superblock::LEN)).unwrap_or_default();
    recover_superblock(raw, &newer, free_blocks, free_inodes);
    replayed.put(number, block)?;
    let (store, rewritten) = replayed.finished();
    Ok((DerivedVolume { store, rewritten }, fast))
}

/// The free blocks and inodes of all groups: the journal does not keep the superblock's totals.
fn totals(store: &dyn ReadAt, superblock: &Superblock) -> Result<(u64, u64)> {
    let (mut blocks, mut inodes) = (0u64, 0u64);
    Group::for_each(store, superblock, |_, group| {
        let free = group.free_clusters.saturating_mul(superblock.cluster_blocks);
        blocks = blocks.saturating_add(free);
        inodes = inodes.saturating_add(group.free_inodes);
        Ok(())
    })?;
    Ok((blocks, inodes))
}

fn recover_superblock(raw: &mut [u8], superblock: &Superblock, blocks: u64, inodes: u64) {
    let mut put = |at: usize, value: u64| {
        let low = u32::try_from(value & u64::from(u32::MAX)).unwrap_or(0);
        if let Some(place) = raw.get_mut(at..at.saturating_add(4)) {
            place.copy_from_slice(&low.to_le_bytes());
        }
    };
    put(0xc, blocks);
    if superblock.is_64bit() {
        put(0x158, blocks >> 32);
    }
    put(0x10, inodes);
    put(0x60, superblock.incompat_recovered().into());
    superblock.seal(raw);
}
