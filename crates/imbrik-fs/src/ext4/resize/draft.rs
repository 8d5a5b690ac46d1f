//! The resized volume while it is built, readable as a whole: new blocks, blocks moved from elsewhere in the source,
//! and unchanged blocks.

use crate::{
    bits::Run,
    ext4::{
        quota,
        structure::{map::Piece, metadata_cache::MetadataCache},
    },
    placement::Moves,
};
use imbrik_store::{
    Concatenated, Edited, ReadAt, Spill,
    error::{Error, Result},
    exact::{Exact as _, invariant_error},
    units::{ByteLen, ByteOffset},
};
use std::sync::Arc;

/// A volume of new, moved and unchanged blocks.
pub(super) struct Draft {
    moves: Arc<Moves>,
    blocks: Edited,
}

impl Draft {
    /// A volume of `blocks` blocks based on `meta`; `made` stores the new ones.
    pub(super) fn new(
        meta: Arc<MetadataCache>,
        moves: Arc<Moves>,
        blocks: u64,
        made: Spill,
    ) -> Self {
        let block_len = meta.block_len();
        let bytes = |blocks: u64| blocks.saturating_mul(block_len);
        let mut pieces = Concatenated::new(meta.sector_size());
        let meta: Arc<dyn ReadAt> = meta;
        moves.sources(Run::new(0, blocks), |_, from| {
            let start = ByteOffset::new(bytes(from.first));
            pieces.push(&meta, start, ByteLen::new(bytes(from.len)));
        });
        Self { moves, blocks: Edited::in_units(Arc::new(pieces), block_len, made) }
    }

    /// A block of zeros.
    pub(super) fn empty_block(&self) -> Vec<u8> {
        self.blocks.empty_unit()
    }

    /// The present content of `block`.
    ///
    /// # Errors
    /// When it cannot be read.
    pub(super) fn block(&self, block: u64) -> Result<Vec<u8>> {
        self.blocks.unit(block)
    }

    /// Gives `block` the content `bytes`.
    ///
    /// # Errors
    /// When it can't be written to the temporary file.
    pub(super) fn put(&mut self, block: u64, bytes: Vec<u8>) -> Result<()> {
        self.blocks.put_unit(block, bytes)
    }

    /// Writes `bytes` at `inside` in `block`, whose content is `base` if it was not written yet.
    ///
    /// # Errors
    /// When the base cannot be read, or the bytes don't fit.
    pub(super) fn put_inside(
        &mut self,
        block: u64,
        inside: usize,
        bytes: &[u8],
        base: impl FnOnce(&Self) -> Result<Vec<u8>>,
    ) -> Result<()> {
        let mut content = match self.blocks.has_unit(block) {
            true => self.blocks.unit(block)?,
            false => base(self)?,
        };
        let place = content.get_mut(inside..inside.plus(bytes.len())?);
        let place = place.ok_or_else(|| invariant_error("an inode reaches past its block"))?;
        place.copy_from_slice(bytes);
        self.put(block, content)
    }

    /// The blocks that were made, in order.
    pub(super) fn made(&self) -> impl Iterator<Item = u64> + '_ {
        self.blocks.units()
    }

    /// The number of bytes in the temporary file.
    pub(super) fn aside(&self) -> ByteLen {
        self.blocks.aside()
    }

    /// The finished volume.
    pub(super) fn finished(self) -> Arc<dyn ReadAt> {
        Arc::new(self.blocks)
    }
}

impl quota::QuotaBlocks for Draft {
    fn place_of(&self, block: u64) -> u64 {
        self.moves.target_of(block)
    }

    fn block_at(&self, place: u64) -> Result<Vec<u8>> {
        self.block(place)
    }

    fn put_at(&mut self, place: u64, inside: usize, bytes: &[u8]) -> Result<()> {
        self.put_inside(place, inside, bytes, |draft| draft.block(place))
    }

    fn extend(&mut self, _: u32, _: u64) -> Result<Vec<Piece>> {
        Err(Error::unsupported("an owner of files has no quota record: run a file system check"))
    }
}
