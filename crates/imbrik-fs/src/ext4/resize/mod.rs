//! An ext volume at another size, as a view: the same tree, in fewer blocks or in more.
//!
//! ```text
//! open ─► census ─► layout ─► rewrite ─► draft ─► census again ─► the view
//!         every     geometry  inodes     made     the same
//!         inode,    moves of  trees      moved    fingerprint,
//!         once      blocks    folders    or as    or nothing
//!                   and of    bitmaps    it was   is written
//!                   inodes    …
//! ```
//!
//! [`census`] verifies every inode and refuses an inconsistent volume. [`layout`] decides where everything goes:
//! [`geometry`] places the metadata of groups, [`placement`](crate::placement) the blocks that must move. [`rewrite`]
//! writes the changed metadata into a [`draft`], which reads like the finished volume. Then the census of the draft
//! must have the fingerprint of the source.

mod census;
mod draft;
mod geometry;
mod layout;
mod prove;
mod rewrite;

use crate::{
    DerivedVolume, Moved, NewSize, ResizeOptions, ResizedVolume, bits::Run, ext4::structure::Opened,
};
use census::{Census, Faults, Itself};
use draft::Draft;
use imbrik_store::{
    ReadAt, Spill,
    error::{Error, Result},
    progress::Cancel,
    units::{ByteLen, ByteOffset, Span},
};
use layout::{Lack, Layout, Planner};
use std::sync::Arc;

/// Resizes the recovered volume in `store`. `replayed` are the ranges of newer blocks from a replay, in bytes: the data
/// at these places on the medium are outdated.
///
/// # Errors
/// - When the store cannot be read, or `cancel` was requested.
/// - [`imbrik_store::Class::Unsupported`] with the feature that is in the way.
/// - [`imbrik_store::Class::Corrupt`] with the first contradiction in the volume.
/// - [`imbrik_store::Class::NoRoom`] when the content doesn't fit, with the missing bytes.
pub(crate) fn resize(
    store: Arc<dyn ReadAt>,
    replayed: &[Span],
    goal: NewSize,
    work: ResizeOptions<'_>,
) -> Result<ResizedVolume> {
    let cancel = work.cancel;
    let opened = Opened::of(store)?;
    let faults = if work.as_found { Faults::MetadataCache(Vec::new()) } else { Faults::Refused };
    let census = Census::of(&opened, &Itself, faults, cancel)?;
    let planner = Planner { opened: &opened, census: &census, cancel };
    let layout = plan(&planner, goal)?;
    let made = Spill::new(opened.superblock.block_len, work.memory, work.temporary);
    let (draft, warnings) = rewrite::rewrite(&planner, &layout, made)?;
    let aside = draft.aside();
    let rewritten = rewritten(&opened, &layout, &draft, replayed);
    let store = draft.finished();
    prove::prove(&store, &census, &layout, cancel).map_err(|error| match error.class() {
        imbrik_store::Class::Corrupt | imbrik_store::Class::Unsupported => {
            Error::bug(format!("the resized volume would be wrong: {error}"))
        }
        _ => error,
    })?;
    let block_len = opened.superblock.block_len;
    let bytes = |blocks: u64| ByteLen::new(blocks.saturating_mul(block_len));
    let place = |run: Run| {
        let start = ByteOffset::new(run.first.saturating_mul(block_len));
        Span::between(start, start.saturating_add(bytes(run.len)))
    };
    let moved = layout.moves.by_target().iter().map(|one| Moved {
        to: place(Run::new(one.to, one.len)),
        from: ByteOffset::new(one.from.saturating_mul(block_len)),
    });
    Ok(ResizedVolume {
        moved: moved.collect(),
        volume: DerivedVolume { store, rewritten: rewritten.into_iter().map(place).collect() },
        had_to_move: bytes(layout.had_to_move),
        copied: bytes(layout.moved),
        inodes_moved: layout.inodes.count(),
        aside,
        limit: None,
        warnings,
        kept_faults: census.faults.list().to_vec(),
    })
}

/// The smallest size that the volume in `store`, which is recovered, can get.
///
/// # Errors
/// As [`resize`].
pub(crate) fn smallest(store: Arc<dyn ReadAt>, cancel: &Cancel) -> Result<ByteLen> {
    let opened = Opened::of(store)?;
    let census = Census::of(&opened, &Itself, Faults::Refused, cancel)?;
    let planner = Planner { opened: &opened, census: &census, cancel };
    let layout = planner.smallest(0)?;
    Ok(layout.geometry.superblock.volume_len())
}

/// Verifies block ownership in a volume that is marked as having errors. Returns the number of faults in folders,
/// attributes and links, which don't concern blocks.
///
/// # Errors
/// As [`crate::check`].
pub(super) fn check_blocks(store: Arc<dyn ReadAt>, cancel: &Cancel) -> Result<usize> {
    let opened = Opened::of(store)?;
    let census = Census::of(&opened, &Itself, Faults::MetadataCache(Vec::new()), cancel)?;
    Ok(census.faults.list().len())
}

/// Reads every used inode and all of its blocks.
///
/// # Errors
/// As [`crate::check`].
pub(crate) fn check(store: Arc<dyn ReadAt>, cancel: &Cancel) -> Result<()> {
    let opened = Opened::to_look_at(store)?;
    Census::of(&opened, &Itself, Faults::Refused, cancel).map(drop)
}

fn plan(planner: &Planner<'_>, goal: NewSize) -> Result<Layout> {
    let block_len = planner.opened.superblock.block_len.max(1);
    let blocks = |len: ByteLen| len.get().checked_div(block_len).unwrap_or(0);
    match goal {
        NewSize::Smallest { room } => planner.smallest(blocks(room)),
        NewSize::Bytes(len) => planner.longest(blocks(len)).map_err(|lack| match lack {
            Lack::Blocks(shortfall) => {
                let shortfall = ByteLen::new(shortfall.saturating_mul(block_len));
                Error::no_room(format!("{shortfall} short of the space its content needs"))
                    .with_shortfall(shortfall)
            }
            Lack::Other(error) => error,
        }),
    }
}

/// The blocks to read from the draft: generated ones, and those that it holds in memory.
fn rewritten(opened: &Opened, layout: &Layout, draft: &Draft, replayed: &[Span]) -> Vec<Run> {
    let block_len = opened.superblock.block_len.max(1);
    let mut newer = Vec::new();
    for span in replayed {
        let first = span.start().get().checked_div(block_len).unwrap_or(0);
        let end = span.end().get().div_ceil(block_len);
        layout.moves.targets(Run::between(first, end), |_, to| {
            newer.extend(to.first..to.end());
        });
    }
    let blocks = layout.geometry.superblock.blocks;
    let had = opened.superblock.blocks;
    let kept = opened.meta.list().into_iter().map(|block| layout.moves.target_of(block));
    let more = kept.chain(newer).filter(|block| *block < blocks);
    let mut all: Vec<u64> = draft.made().chain(more).collect();
    all.sort_unstable();
    all.dedup();
    // Space past the end of the source is not part of it.
    let behind = Run::between(had, blocks);
    let mut runs: Vec<Run> = Vec::new();
    for block in all.into_iter().filter(|block| *block < had) {
        match runs.last_mut() {
            Some(last) if last.end() == block => last.len = last.len.saturating_add(1),
            _ => runs.push(Run::new(block, 1)),
        }
    }
    runs.extend(Some(behind).filter(|run| run.len > 0));
    runs
}
