//! The reshaped volume while it is made, and readable as a whole: blocks made anew, blocks that
//! come from elsewhere in the source, and those that stay where they are.

use crate::{
    bits::Run,
    ext4::{quota, strict::metadata_cache::MetadataCache},
    placement::Moves,
};
use imbrik_store::{
    ReadAt, Spill, check_range,
    error::{Error, Result},
    units::{ByteLen, ByteOffset, SectorSize},
};
use std::sync::Arc;

/// A volume of blocks that are made, moved, or as they were.
pub(super) struct Draft {
    meta: Arc<MetadataCache>,
    moves: Arc<Moves>,
    block_len: u64,
    blocks: u64,
    made: Spill,
}

impl Draft {
    /// A volume of `blocks` blocks out of those of `meta`; `made` takes those that are made anew.
    pub(super) fn new(
        meta: Arc<MetadataCache>,
        moves: Arc<Moves>,
        blocks: u64,
        made: Spill,
    ) -> Self {
        let block_len = meta.block_len();
        Self { meta, moves, block_len, blocks, made }
    }

    /// A block of zeros.
    pub(super) fn empty_block(&self) -> Vec<u8> {
        vec![0; usize::try_from(self.block_len).unwrap_or(0)]
    }

    /// The content of `block` as it is so far.
    ///
    /// # Errors
    /// When it cannot be read.
    pub(super) fn block(&self, block: u64) -> Result<Vec<u8>> {
        if let Some(made) = self.made.get(block)? {
            return Ok(made);
        }
        let mut source = block;
        self.moves.sources(Run::new(block, 1), |_, from| source = from.first);
        let end = source.saturating_add(1).saturating_mul(self.block_len);
        match end > self.meta.size().get() {
            true => Ok(self.empty_block()),
            false => Ok(self.meta.block(source)?.to_vec()),
        }
    }

    /// Gives `block` the content `bytes`.
    ///
    /// # Errors
    /// When it has to be put aside and cannot be.
    pub(super) fn put(&mut self, block: u64, bytes: Vec<u8>) -> Result<()> {
        self.made.put(block, bytes)
    }

    /// Puts `bytes` at `inside` in `block`, whose content is `base` if it was not made yet.
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
        let mut content = match self.made.get(block)? {
            Some(made) => made,
            None => base(self)?,
        };
        let place = content.get_mut(inside..inside.saturating_add(bytes.len()));
        let place = place.ok_or_else(|| Error::bug("an inode reaches past its block"))?;
        place.copy_from_slice(bytes);
        self.put(block, content)
    }

    /// The blocks that were made.
    pub(super) fn made(&self) -> &Spill {
        &self.made
    }

    /// Reads blocks none of which was made, from byte `inside` of the first one on.
    fn read_moved(&self, run: Run, inside: u64, buf: &mut [u8]) -> Result<()> {
        let mut rest = buf;
        let mut skip = inside;
        let mut result = Ok(());
        self.moves.sources(run, |_, from| {
            let len = from.len.saturating_mul(self.block_len).saturating_sub(skip);
            let len = usize::try_from(len).unwrap_or(usize::MAX).min(rest.len());
            let (now, later) = std::mem::take(&mut rest).split_at_mut(len);
            let at =
                ByteOffset::new(from.first.saturating_mul(self.block_len).saturating_add(skip));
            let end = ByteOffset::new(self.meta.size().get());
            let room = end.saturating_since(at).to_usize().unwrap_or(usize::MAX).min(now.len());
            let (there, behind) = now.split_at_mut(room);
            behind.fill(0);
            if result.is_ok() && !there.is_empty() {
                result = self.meta.read_at(at, there);
            }
            skip = 0;
            rest = later;
        });
        result
    }
}

impl quota::Target for Draft {
    fn place_of(&self, block: u64) -> u64 {
        self.moves.target_of(block)
    }

    fn block_at(&self, place: u64) -> Result<Vec<u8>> {
        self.block(place)
    }

    fn put_at(&mut self, place: u64, inside: usize, bytes: &[u8]) -> Result<()> {
        self.put_inside(place, inside, bytes, |draft| draft.block(place))
    }
}

impl ReadAt for Draft {
    fn size(&self) -> ByteLen {
        ByteLen::new(self.blocks.saturating_mul(self.block_len))
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        check_range(at, ByteLen::of(buf), self.size())?;
        let (mut at, mut rest) = (at, buf);
        while !rest.is_empty() {
            let block = at.get().checked_div(self.block_len).unwrap_or(0);
            let inside = at.get().checked_rem(self.block_len).unwrap_or(0);
            let next = self.made.next(block);
            let until = match next {
                Some(next) if next == block => next.saturating_add(1),
                Some(next) => next,
                None => self.blocks,
            };
            let room = until.saturating_mul(self.block_len).saturating_sub(at.get());
            let len = usize::try_from(room).unwrap_or(usize::MAX).min(rest.len());
            let (now, later) = std::mem::take(&mut rest).split_at_mut(len);
            match self.made.get(block)? {
                Some(content) => {
                    let from = usize::try_from(inside).unwrap_or(usize::MAX);
                    let part = content.get(from..from.saturating_add(len));
                    now.copy_from_slice(part.ok_or_else(|| Error::bug("a block is short"))?);
                }
                None => {
                    let count = inside.saturating_add(ByteLen::of(now).get());
                    let run = Run::new(block, count.div_ceil(self.block_len.max(1)));
                    self.read_moved(run, inside, now)?;
                }
            }
            at = at.saturating_add(ByteLen::from_usize(len));
            rest = later;
        }
        Ok(())
    }

    fn sector_size(&self) -> SectorSize {
        self.meta.sector_size()
    }
}
