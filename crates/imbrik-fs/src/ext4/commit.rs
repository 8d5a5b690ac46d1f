//! Writing an edited volume in place: through its journal, if it has one.

use super::{
    fixed::Fixed,
    group::Group,
    journal::{Journal, JournalPlace},
    orphans, recover,
    structure::{Opened, folder::entries, metadata_cache::MetadataCache},
    superblock::{RawSuperblock, Superblock},
};
use crate::{
    bits::Run,
    commit::{AfterACut, Commit, CommitStep, metadata, parted},
    edit::EditedVolume,
    examined::DerivedVolume,
};
use imbrik_store::{
    ReadAt, bytes,
    error::{Error, Result},
    exact::Exact as _,
    read_vec,
    units::{ByteLen, ByteOffset, Span},
};
use std::sync::Arc;

/// `s_feature_incompat`: the journal must be replayed.
const RECOVER: u32 = 0x4;
/// `s_state`: it was unmounted as it should be.
const VALID: u16 = 0x1;

/// How `edited`, made of the recovered volume in `store`, is written there.
///
/// # Errors
/// When the store cannot be read; [`imbrik_store::Class::NoRoom`] when the journal is too short for it,
/// [`imbrik_store::Class::Unsupported`] when its journal is elsewhere.
pub(crate) fn commit(store: &Arc<dyn ReadAt>, edited: &EditedVolume) -> Result<Commit> {
    let opened = Opened::to_look_at(Arc::clone(store))?;
    let superblock = &opened.superblock;
    let new = &*edited.volume.store;
    if !superblock.has_journal() {
        return without_journal(&opened, edited);
    }
    let fixed = Fixed::of(superblock, &opened.groups)?;
    let at = JournalPlace::of(&opened.meta, superblock, &opened.groups, &fixed)?
        .ok_or_else(|| Error::corrupt("its journal was not found"))?;
    let journal = Journal::open(&**store, superblock, &at)?;
    if !at.is_empty() {
        return Err(Error::corrupt("its journal is to be replayed first"));
    }
    // Complete blocks, including that of the superblock: it marks the journal as valid until everything is done.
    let len = superblock.block_len;
    let mut blocks = Vec::new();
    for span in metadata(edited, &[]) {
        let first = span.start().get().over(len)?;
        for number in first..span.end().get().div_ceil(len) {
            if blocks.last().is_none_or(|(last, _)| *last < number) {
                let at = ByteOffset::new(number.times(len)?);
                blocks.push((number, read_vec(new, at, len.exact_as::<usize>()?)?));
            }
        }
    }
    let own = Superblock::OFFSET.over(len)?;
    let inside = Superblock::OFFSET.checked_rem(len).unwrap_or(0).exact_as::<usize>()?;
    for (_, block) in blocks.iter_mut().filter(|(number, _)| *number == own) {
        let raw = block.get_mut(inside..inside.saturating_add(Superblock::LEN));
        to_recover(raw.unwrap_or_default(), superblock);
    }
    let mut marked = read_vec(&**store, ByteOffset::new(Superblock::OFFSET), Superblock::LEN)?;
    to_recover(&mut marked, superblock);
    let written = journal.transaction(&blocks)?;
    let mut begin = CommitStep { content: edited.content.clone(), bytes: Vec::new() };
    begin.put(Superblock::OFFSET, marked);
    let mut in_place = CommitStep::default();
    for (number, block) in blocks {
        in_place.put(number.times(len)?, block);
    }
    let mut end = CommitStep::default();
    let last = read_vec(new, ByteOffset::new(Superblock::OFFSET), Superblock::LEN)?;
    end.put(Superblock::OFFSET, last);
    let step = |bytes| CommitStep { content: Vec::new(), bytes };
    let steps = vec![
        begin,
        step(written.log),
        // From here on, the new files are there.
        step(vec![written.begun]),
        in_place,
        step(vec![written.done]),
        end,
    ];
    Ok(Commit { steps, after_a_cut: AfterACut::OldOrNew })
}

/// Sets the flag of a superblock that its journal must be replayed.
fn to_recover(raw: &mut [u8], superblock: &Superblock) {
    let flags = bytes::le_u32(raw, 0x60).unwrap_or(0) | RECOVER;
    let _ = bytes::put(raw, 0x60, flags.to_le_bytes());
    superblock.seal(raw);
}

/// Without a journal, each step is flushed before the next:
///
/// 1. content, and metadata in blocks that were free: nothing refers to these yet;
/// 2. metadata that refer to them, and names that are added;
/// 3. blocks of folders that lose names, because these were removed, or moved to other blocks of an index.
///
/// So a name that the edits don't touch is in its folder after each interruption.
fn without_journal(opened: &Opened, edited: &EditedVolume) -> Result<Commit> {
    let superblock = &opened.superblock;
    let new = &*edited.volume.store;
    let at = ByteOffset::new(Superblock::OFFSET);
    let in_use = |mut raw: Vec<u8>| {
        let state = bytes::le_u16(&raw, 0x3a).unwrap_or(0) & !VALID;
        let _ = bytes::put(&mut raw, 0x3a, state.to_le_bytes());
        superblock.seal(&mut raw);
        raw
    };
    let last = read_vec(new, at, Superblock::LEN)?;
    let mut begin = CommitStep { content: edited.content.clone(), bytes: Vec::new() };
    begin.put(Superblock::OFFSET, in_use(opened.raw.clone()));
    let (mut then, mut removed) = (CommitStep::default(), CommitStep::default());
    let own = Span::between(at, ByteOffset::new(Superblock::OFFSET.saturating_mul(2)));
    let len = superblock.block_len;
    let fixed = Fixed::of(superblock, &opened.groups)?;
    let changed = metadata(edited, &[own]);
    let (blocks, _) = parted(&changed, |_| true, ByteLen::new(len));
    for span in blocks {
        // Parts of a block are in one step, even where they are changed separately.
        let block = span.start().get().over(len)?;
        // Inode tables and similar: an inode can look like a directory entry.
        if fixed.touches(Run::new(block, 1)) {
            then.push(new, span)?;
        } else if is_free(opened, block)? {
            begin.push(new, span)?;
        } else if loses_names(&opened.meta, new, block)? {
            removed.push(new, span)?;
        } else {
            then.push(new, span)?;
        }
    }
    then.put(Superblock::OFFSET, in_use(last.clone()));
    let mut end = CommitStep::default();
    end.put(Superblock::OFFSET, last);
    Ok(Commit { steps: vec![begin, then, removed, end], after_a_cut: AfterACut::ToBeChecked })
}

/// Returns whether the unedited volume does not use `block`, which is not part of the fixed metadata.
fn is_free(opened: &Opened, block: u64) -> Result<bool> {
    let superblock = &opened.superblock;
    let ahead = block.checked_sub(superblock.first_data_block);
    let number = ahead.and_then(|ahead| ahead.checked_div(superblock.blocks_per_group));
    let group = number.and_then(|number| opened.groups.get(usize::try_from(number).ok()?));
    let (Some(ahead), Some(group)) = (ahead, group) else { return Ok(false) };
    if group.is_block_uninit {
        return Ok(true);
    }
    let bitmap = opened.meta.block(group.block_bitmap)?;
    let bit = ahead
        .checked_rem(superblock.blocks_per_group)
        .unwrap_or(0)
        .over(superblock.cluster_blocks)?;
    let byte = bytes::u8(&bitmap, bit.over(8)?.exact_as::<usize>()?);
    Ok(byte.is_some_and(|byte| byte & 1 << (bit & 7) == 0))
}

/// Returns whether `block` belongs to a folder, and a name in it is missing in the edited volume. Other metadata rarely
/// look like a block of names; if they do, they are only written later.
fn loses_names(old: &MetadataCache, new: &dyn ReadAt, block: u64) -> Result<bool> {
    let before = old.block(block)?;
    let Some(before) = entries(&before, 0) else { return Ok(false) };
    let len = old.block_len();
    let after = read_vec(new, ByteOffset::new(block.times(len)?), len.exact_as::<usize>()?)?;
    let after = entries(&after, 0).unwrap_or_default();
    let is_lost = |name: &[u8]| !name.is_empty() && !after.iter().any(|other| other.name == name);
    Ok(before.iter().any(|one| is_lost(one.name)))
}

/// The next step of recovery for the volume in `store`, as on mount: first its journal is replayed, then orphans are
/// completed. `None` if neither is needed.
///
/// # Errors
/// Those of [`super::recover`] and [`commit`].
pub(crate) fn recovery(store: &Arc<dyn ReadAt>) -> Result<Option<(DerivedVolume, Commit)>> {
    let Some(raw) = RawSuperblock::read(&**store)? else { return Ok(None) };
    if raw.needs_recovery() {
        let superblock = raw.verified(store.size())?;
        let (replayed, fast) = recover::replayed(Arc::clone(store), &superblock)?;
        if !fast.is_empty() {
            return Err(Error::unsupported(
                "its journal holds fast commits, which only its own system brings in: let it start once",
            ));
        }
        let commit = replay(store, &superblock, &replayed)?;
        return Ok(Some((replayed, commit)));
    }
    let superblock = raw.verified(store.size())?;
    if superblock.has_errors() {
        return Ok(None);
    }
    let Some(finished) = orphans::finished(store, &superblock)? else { return Ok(None) };
    let edited = EditedVolume::without_content(finished.into());
    let commit = commit(store, &edited)?;
    Ok(Some((edited.volume, commit)))
}

/// Blocks are copied from the log to their places; only then is the log marked as empty.
fn replay(
    store: &Arc<dyn ReadAt>,
    superblock: &Superblock,
    replayed: &DerivedVolume,
) -> Result<Commit> {
    let groups = Group::all(&**store, superblock)?;
    let fixed = Fixed::of(superblock, &groups)?;
    let meta = MetadataCache::new(Arc::clone(store), superblock.block_len);
    let at = JournalPlace::of(&meta, superblock, &groups, &fixed)?
        .ok_or_else(|| Error::corrupt("its journal was not found"))?;
    let head = at.map.pieces.first().and_then(|first| superblock.span(first.physical, 1));
    let head = head.ok_or_else(|| Error::corrupt("its journal is empty"))?;
    let own = Span::between(
        ByteOffset::new(Superblock::OFFSET),
        ByteOffset::new(Superblock::OFFSET.saturating_mul(2)),
    );
    let edited = EditedVolume::without_content(replayed.clone());
    let mut in_place = CommitStep::default();
    for span in metadata(&edited, &[head, own]) {
        in_place.push(&*replayed.store, span)?;
    }
    let (mut empty, mut end) = (CommitStep::default(), CommitStep::default());
    empty.push(&*replayed.store, head)?;
    end.push(&*replayed.store, own)?;
    Ok(Commit { steps: vec![in_place, empty, end], after_a_cut: AfterACut::OldOrNew })
}
