//! The proof of a resized volume: the same look at it as at its source, and the same content.

use super::{
    census::{Census, Faults, Origin},
    layout::{InodeMoves, Layout},
};
use crate::{
    bits::Run,
    ext4::structure::{Opened, map::Piece},
    placement::Moves,
};
use imbrik_store::{
    ReadAt,
    error::{Error, Result},
    progress::Cancel,
};
use std::sync::Arc;

/// Verifies the finished volume as thoroughly as its source.
pub(super) fn prove(
    store: &Arc<dyn ReadAt>,
    source: &Census,
    layout: &Layout,
    cancel: &Cancel,
) -> Result<()> {
    let opened = Opened::of(Arc::clone(store))?;
    if opened.superblock.blocks != layout.geometry.superblock.blocks {
        return Err(Error::corrupt("its length is another one"));
    }
    let back = Back { moves: &layout.moves, inodes: &layout.inodes };
    let faults = match source.faults {
        Faults::Refused => Faults::Refused,
        Faults::MetadataCache(_) => Faults::MetadataCache(Vec::new()),
    };
    let census = Census::of(&opened, &back, faults, cancel)?;
    if census.faults.list().len() > source.faults.list().len() {
        return Err(Error::corrupt("it has faults that its source does not have"));
    }
    if census.fingerprint != source.fingerprint {
        return Err(Error::corrupt("its files are not those of the source"));
    }
    let blocks = opened.superblock.blocks;
    if census.bad_blocks_below(u64::MAX) != source.bad_blocks_below(blocks) {
        return Err(Error::corrupt("its bad blocks are not those of the source"));
    }
    Ok(())
}

/// Converts a resized volume's numbers to those of its source.
struct Back<'a> {
    moves: &'a Moves,
    inodes: &'a InodeMoves,
}

impl Origin for Back<'_> {
    fn pieces(&self, piece: Piece, work: &mut dyn FnMut(Piece)) {
        self.moves.sources(piece.run(), |part, from| {
            let ahead = part.first.saturating_sub(piece.physical);
            let logical = piece.logical.saturating_add(ahead);
            work(Piece { logical, physical: from.first, len: from.len, ..piece });
        });
    }

    fn block(&self, block: u64) -> u64 {
        let mut source = block;
        self.moves.sources(Run::new(block, 1), |_, from| source = from.first);
        source
    }

    fn inode(&self, number: u32) -> u32 {
        self.inodes.source_of(number)
    }
}
