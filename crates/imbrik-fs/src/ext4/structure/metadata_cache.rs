//! A volume with a cache of its metadata, up to a limit, so that planning, verifying and copying share the reads.

use imbrik_store::{
    Keep, Lookup, Page, Pages, ReadAt,
    error::{Error, Result},
    read_vec,
    units::{ByteLen, ByteOffset, SectorSize},
};
use std::sync::Arc;

/// The size of the cache.
const MOST: ByteLen = ByteLen::mib(32);
/// How much is read at a time where tables are read through.
const AHEAD: u64 = 1 << 20;

/// A block's content.
pub(in crate::ext4) type Block = Page;

/// Whatever has a volume's blocks, by number.
pub(in crate::ext4) trait Blocks {
    /// The content of `block`.
    ///
    /// # Errors
    /// When it cannot be read, or does not exist.
    fn block(&self, block: u64) -> Result<Block>;
}

impl<T: Blocks + ?Sized> Blocks for Arc<T> {
    fn block(&self, block: u64) -> Result<Block> {
        (**self).block(block)
    }
}

/// A volume, read a block at a time.
pub(in crate::ext4) struct MetadataCache<S = Arc<dyn ReadAt>> {
    store: S,
    block_len: u64,
    blocks: Pages,
}

impl<S: ReadAt> MetadataCache<S> {
    /// The volume in `store`, in blocks of `block_len` bytes.
    pub(in crate::ext4) fn new(store: S, block_len: u64) -> Self {
        Self { store, block_len, blocks: Pages::new(MOST, Keep::First) }
    }

    /// The block size in bytes.
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
            Some((at, len)) => read_vec(&self.store, ByteOffset::new(at), len),
            None => Err(Error::corrupt(format!("block {first} lies outside"))),
        }
    }

    /// The content of `block`.
    ///
    /// # Errors
    /// When it cannot be read.
    pub(in crate::ext4) fn block(&self, block: u64) -> Result<Block> {
        self.blocks.get_or_make(block, || self.read(block, 1).map(Block::from))
    }

    /// The volume that is read.
    pub(in crate::ext4) fn store(&self) -> &S {
        &self.store
    }

    /// Calls `work` with each of `count` blocks from `first`, which are read many at a time.
    ///
    /// # Errors
    /// When they cannot be read, and those of `work`.
    pub(in crate::ext4) fn each(
        &self,
        first: u64,
        count: u64,
        mut work: impl FnMut(u64, &Block) -> Result<()>,
    ) -> Result<()> {
        let step = AHEAD.checked_div(self.block_len).unwrap_or(1).max(1);
        let (mut at, end) = (first, first.saturating_add(count));
        while at < end {
            let row = at..at.saturating_add(step).min(end);
            let absent = match self.blocks.find(row.clone(), row) {
                Lookup::Page(block) => {
                    work(at, &block)?;
                    at = at.saturating_add(1);
                    continue;
                }
                Lookup::Absent(absent) => absent,
            };
            let row = absent.row();
            let read = self.read(at, row.end.saturating_sub(at))?;
            let blocks: Vec<Block> =
                read.chunks(self.len().max(1)).map(|block| Arc::new(block.to_vec())).collect();
            absent.put(|block| {
                let index = usize::try_from(block.saturating_sub(row.start)).ok()?;
                blocks.get(index).map(Arc::clone)
            });
            for (number, block) in row.zip(&blocks) {
                work(number, block)?;
                at = number.saturating_add(1);
            }
        }
        Ok(())
    }

    /// The cached blocks, in order.
    pub(in crate::ext4) fn list(&self) -> Vec<u64> {
        self.blocks.list()
    }
}

impl<S: ReadAt> Blocks for MetadataCache<S> {
    fn block(&self, block: u64) -> Result<Block> {
        self.block(block)
    }
}

impl<S: ReadAt> ReadAt for MetadataCache<S> {
    fn size(&self) -> ByteLen {
        self.store.size()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        let (mut at, mut rest) = (at, buf);
        let number = at.get().checked_div(self.block_len).unwrap_or(0);
        if ByteLen::of(rest).get() == self.block_len && at.get().is_multiple_of(self.block_len) {
            let content = self.block(number)?;
            rest.copy_from_slice(content.get(..rest.len()).unwrap_or_default());
            return Ok(());
        }
        while !rest.is_empty() {
            let block = at.get().checked_div(self.block_len).unwrap_or(0);
            let inside = at.get().checked_rem(self.block_len).unwrap_or(0);
            let kept = self.blocks.get(block);
            let mut len = self.block_len.saturating_sub(inside);
            if kept.is_none() {
                // Blocks that are not cached are read in one request.
                let behind = at.get().saturating_add(ByteLen::of(rest).get());
                let next = self.blocks.next(block).unwrap_or(u64::MAX);
                let until = next.saturating_mul(self.block_len).min(behind);
                len = until.saturating_sub(at.get());
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
