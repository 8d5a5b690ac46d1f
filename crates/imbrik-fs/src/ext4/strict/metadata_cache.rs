//! A volume whose metadata are read but once: the blocks that were asked for are kept, up to a
//! bound, so that planning, proving and copying share one reading.

use imbrik_store::{
    ReadAt,
    error::{Error, Result},
    read_vec,
    units::{ByteLen, ByteOffset, SectorSize},
};
use std::{
    collections::HashMap,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};

/// How much is kept.
const MOST: usize = 32 << 20;
/// How much is read at a time where tables are read through.
const AHEAD: u64 = 1 << 20;

/// A block's content.
pub(in crate::ext4) type Block = Arc<[u8]>;

/// A volume, read a block at a time.
pub(in crate::ext4) struct MetadataCache {
    store: Arc<dyn ReadAt>,
    block_len: u64,
    blocks: Mutex<HashMap<u64, Block>>,
}

impl MetadataCache {
    /// The volume in `store`, in blocks of `block_len` bytes.
    pub(in crate::ext4) fn new(store: Arc<dyn ReadAt>, block_len: u64) -> Self {
        Self { store, block_len, blocks: Mutex::default() }
    }

    fn blocks(&self) -> MutexGuard<'_, HashMap<u64, Block>> {
        self.blocks.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Bytes a block.
    pub(in crate::ext4) fn block_len(&self) -> u64 {
        self.block_len
    }

    fn len(&self) -> usize {
        usize::try_from(self.block_len).unwrap_or(0)
    }

    fn read(&self, first: u64, count: u64) -> Result<Vec<u8>> {
        let at = first.checked_mul(self.block_len);
        let len = count.checked_mul(self.block_len).and_then(|len| usize::try_from(len).ok());
        match at.zip(len) {
            Some((at, len)) => read_vec(&*self.store, ByteOffset::new(at), len),
            None => Err(Error::corrupt(format!("block {first} lies outside"))),
        }
    }

    /// The content of `block`.
    ///
    /// # Errors
    /// When it cannot be read.
    pub(in crate::ext4) fn block(&self, block: u64) -> Result<Block> {
        if let Some(found) = self.blocks().get(&block) {
            return Ok(Arc::clone(found));
        }
        let content: Block = self.read(block, 1)?.into();
        self.keep(block, &content);
        Ok(content)
    }

    fn keep(&self, block: u64, content: &Block) {
        let mut blocks = self.blocks();
        if blocks.len().saturating_mul(self.len()) < MOST {
            blocks.insert(block, Arc::clone(content));
        }
    }

    /// Calls `work` with each of `count` blocks from `first`, which are read many at a time.
    ///
    /// # Errors
    /// When they cannot be read, and what `work` answers.
    pub(in crate::ext4) fn each(
        &self,
        first: u64,
        count: u64,
        mut work: impl FnMut(u64, &Block) -> Result<()>,
    ) -> Result<()> {
        let step = AHEAD.checked_div(self.block_len).unwrap_or(1).max(1);
        let mut done = 0;
        while done < count {
            let at = first.saturating_add(done);
            let many = count.saturating_sub(done).min(step);
            let is_kept = {
                let blocks = self.blocks();
                (at..at.saturating_add(many)).all(|block| blocks.contains_key(&block))
            };
            let read = if is_kept { Vec::new() } else { self.read(at, many)? };
            let mut pieces = read.chunks(self.len().max(1));
            for block in at..at.saturating_add(many) {
                match pieces.next() {
                    Some(piece) => {
                        let content: Block = piece.into();
                        self.keep(block, &content);
                        work(block, &content)?;
                    }
                    None => work(block, &self.block(block)?)?,
                }
            }
            done = done.saturating_add(many);
        }
        Ok(())
    }

    /// The blocks that are kept, in order.
    pub(in crate::ext4) fn list(&self) -> Vec<u64> {
        let mut list: Vec<_> = self.blocks().keys().copied().collect();
        list.sort_unstable();
        list
    }
}

impl ReadAt for MetadataCache {
    fn size(&self) -> ByteLen {
        self.store.size()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        let (mut at, mut rest) = (at, buf);
        while !rest.is_empty() {
            let block = at.get().checked_div(self.block_len).unwrap_or(0);
            let inside = at.get().checked_rem(self.block_len).unwrap_or(0);
            let kept = self.blocks().get(&block).cloned();
            let mut len = self.block_len.saturating_sub(inside);
            if kept.is_none() {
                // As far as nothing is kept, in one go.
                let behind = at.get().saturating_add(ByteLen::of(rest).get());
                let blocks = self.blocks();
                let mut next = block.saturating_add(1);
                while next.saturating_mul(self.block_len) < behind && !blocks.contains_key(&next) {
                    next = next.saturating_add(1);
                    len = len.saturating_add(self.block_len);
                }
            }
            let len = usize::try_from(len).unwrap_or(usize::MAX).min(rest.len());
            let (now, later) = std::mem::take(&mut rest).split_at_mut(len);
            match kept {
                None => self.store.read_at(at, now)?,
                Some(content) => {
                    let from = usize::try_from(inside).unwrap_or(usize::MAX);
                    let part = content.get(from..from.saturating_add(now.len()));
                    now.copy_from_slice(part.ok_or_else(|| Error::corrupt("a block is short"))?);
                }
            }
            at = at.saturating_add(ByteLen::of(now));
            rest = later;
        }
        Ok(())
    }

    fn sector_size(&self) -> SectorSize {
        self.store.sector_size()
    }
}
