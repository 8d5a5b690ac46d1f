//! Resuming a save.

use super::{
    pipeline::{Pipeline, Sink, Tile, Transferred, run},
    salvage::Damage,
    saved::SaveOptions,
};
use crate::{
    image::{ImageWriter, Manifest, TILE, TileData, Unfinished, tile_count, tile_span},
    layout::View,
};
use imbrik_store::{
    ReadAt,
    error::{Error, Result},
    if_readable,
    progress::{Event, Step, Watch},
    units::{ByteLen, ByteOffset, Span, joined},
};
use std::{collections::BTreeSet, path::Path, sync::Arc};

/// The part at the start of each partition that is compared with the card: it contains the volume's metadata, and the
/// time of its last use.
const HEAD: ByteLen = ByteLen::mib(16);
/// The number of other tiles that are compared with the card.
const SAMPLES: usize = 16;

/// Only digests are wanted.
struct ToNothing;

impl Sink for ToNothing {
    type Worker = fn(Tile) -> Result<()>;
    type Piece = ();

    fn worker(&self) -> Result<Self::Worker> {
        Ok(|_| Ok(()))
    }

    fn commit(&mut self, _: Span, (): ()) -> Result<()> {
        Ok(())
    }
}

/// Resumes the unfinished image `name` of `view`, with the data in `manifest`: all intact tiles are kept, after a check
/// that they are of this card in its present state. Returns `None` if nothing can be resumed.
///
/// # Errors
/// [`imbrik_store::Class::Refused`] when it is of another card, or the card has changed since; the unfinished image is
/// kept then.
pub(super) fn resumed(
    view: &View,
    manifest: &Manifest,
    name: &Path,
    options: &SaveOptions,
    watch: Watch<'_>,
) -> Result<Option<(ImageWriter, Transferred)>> {
    let size = view.size();
    let found = Unfinished::open(name, options.replace, options.pack, size)?;
    let Some(unfinished) = found.filter(|found| !found.content.size().is_zero()) else {
        return Ok(None);
    };
    if !unfinished.is_of(manifest) {
        unfinished.leave();
        return Err(other("it is of another card, or was taken in another way"));
    }
    let in_pieces = options.is_in_pieces();
    let kept = match sound(&unfinished, size, in_pieces, watch) {
        Ok(kept) if kept.digests.is_empty() => return Ok(None),
        Ok(kept) => kept,
        Err(error) => {
            unfinished.leave();
            return Err(error);
        }
    };
    if let Err(error) = prove(view, manifest, &kept, watch) {
        unfinished.leave();
        return Err(error);
    }
    let SaveOptions { pack, sums, replace, owner, .. } = options;
    let tiles = kept.digests.len();
    tracing::info!(tiles, open = kept.unreadable.len(), "the unfinished image is resumed");
    let writer = ImageWriter::go_on(unfinished, tiles, name, *pack, sums, *replace, *owner)?;
    Ok(Some((writer, kept)))
}

fn other(what: &str) -> Error {
    Error::refused(format!("the unfinished image cannot be resumed: {what}"))
}

/// The tiles from the first on that can be decoded.
fn sound(
    unfinished: &Unfinished,
    size: ByteLen,
    in_pieces: bool,
    watch: Watch<'_>,
) -> Result<Transferred> {
    let view = View::whole(Arc::clone(&unfinished.content));
    watch.observer.on(&Event::StepAdded);
    let pipeline = Pipeline {
        view: &view,
        step: Step::CheckingTiles,
        total: view.size(),
        damage: Damage::Later,
        in_turn: false,
        in_pieces,
        done: Transferred::default(),
        is_intact: None,
        watch,
    };
    let mut found = run(&pipeline, &mut ToNothing)?;
    let damaged = found.unreadable.first().map_or(size.get(), |span| span.start().get());
    let whole = damaged.checked_div(TILE.get()).unwrap_or(0);
    // The last tile of a card may be shorter.
    let all = if damaged >= size.get() { tile_count(size) } else { whole };
    let all = usize::try_from(all).unwrap_or(usize::MAX);
    found.digests.truncate(all);
    found.pieces.truncate(all);
    let end = match found.digests.len().checked_sub(1).and_then(|last| u64::try_from(last).ok()) {
        Some(last) => tile_span(last, size).map_or(ByteOffset::ZERO, Span::end),
        None => ByteOffset::ZERO,
    };
    let kept = Span::between(ByteOffset::ZERO, end);
    found.unreadable =
        joined(unfinished.open.iter().filter_map(|span| span.intersect(kept)).collect());
    Ok(found)
}

/// Compares kept tiles with the card: those at the start of each partition, and samples.
fn prove(view: &View, manifest: &Manifest, kept: &Transferred, watch: Watch<'_>) -> Result<()> {
    let size = view.size();
    let count = u64::try_from(kept.digests.len()).unwrap_or(u64::MAX);
    let heads = manifest.partitions.iter().filter_map(|part| {
        Span::new(ByteOffset::new(part.start), HEAD.min(ByteLen::new(part.size)))
    });
    let first = Span::whole(TILE);
    let is_head =
        |tile: Span| heads.clone().chain([first]).any(|head| head.intersect(tile).is_some());
    let step = count.div_ceil(u64::try_from(SAMPLES).unwrap_or(1)).max(1);
    let step = usize::try_from(step).unwrap_or(usize::MAX);
    let mut wanted: BTreeSet<u64> = (0..count).step_by(step).collect();
    wanted.extend(count.checked_sub(1));
    wanted.extend((0..count).filter(|index| tile_span(*index, size).is_some_and(is_head)));
    let pool = imbrik_store::Pool::new(TILE.to_usize().unwrap_or(0));
    for index in wanted {
        watch.cancel.check()?;
        let Some(tile) = tile_span(index, size) else { continue };
        if kept.unreadable.iter().any(|span| span.intersect(tile).is_some()) {
            continue;
        }
        let mut buffer = pool.take(tile.len().to_usize().unwrap_or(0));
        if if_readable(view.read_at(tile.start(), &mut buffer))?.is_none() {
            continue;
        }
        let (_, digest) = TileData::of(buffer);
        let known = usize::try_from(index).ok().and_then(|index| kept.digests.get(index));
        if known != Some(&digest) {
            return Err(other(&format!("the card holds something else in {tile} by now")));
        }
    }
    Ok(())
}
