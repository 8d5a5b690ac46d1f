//! Trees: blocks with a header and sorted keys. A node refers to other blocks, a leaf has items, whose data grow from
//! its end.

use super::{
    chunks::Chunks,
    superblock::{Superblock, is_sealed},
};
use imbrik_store::{
    ReadAt, bytes,
    error::{Error, Result},
    read_vec,
};

/// Bytes of a block's head, of an item's, and of a node's entry.
const HEAD: usize = 101;
const ITEM: usize = 25;
const POINTER: usize = 33;
/// Deeper trees don't exist.
const MOST_LEVEL: u8 = 8;

/// The object, the type, and an offset that means something else for each type.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Key {
    pub(super) object: u64,
    pub(super) kind: u8,
    pub(super) offset: u64,
}

impl Key {
    pub(super) fn decode(raw: &[u8], at: usize) -> Option<Self> {
        Some(Self {
            object: bytes::le_u64(raw, at)?,
            kind: bytes::u8(raw, at.checked_add(8)?)?,
            offset: bytes::le_u64(raw, at.checked_add(9)?)?,
        })
    }
}

/// A tree: its id, and its root's place, level and generation.
#[derive(Clone, Copy)]
pub(super) struct Tree {
    pub(super) id: u64,
    pub(super) root: u64,
    pub(super) level: u8,
    pub(super) generation: u64,
}

/// The next block of a walk: its address, level, generation, and expected first key.
struct Next {
    at: u64,
    level: u8,
    generation: u64,
    first: Option<Key>,
}

/// The trees of a volume.
pub(super) struct Trees<'a> {
    pub(super) store: &'a dyn ReadAt,
    pub(super) superblock: &'a Superblock,
    pub(super) chunks: &'a Chunks,
}

impl Trees<'_> {
    /// Calls `work` for each item of a tree, in the order of the keys, with its data.
    ///
    /// # Errors
    /// - When the store cannot be read, and those of `work`.
    /// - [`imbrik_store::Class::Corrupt`] for a block that does not match its tree.
    pub(super) fn each(
        &self,
        tree: Tree,
        mut work: impl FnMut(Key, &[u8]) -> Result<()>,
    ) -> Result<()> {
        let root =
            Next { at: tree.root, level: tree.level, generation: tree.generation, first: None };
        if tree.level > MOST_LEVEL {
            return Err(wrong(&root, "is too high"));
        }
        let mut waiting = vec![root];
        // Keys only ever go up: so no block is visited twice.
        let mut last = None;
        while let Some(next) = waiting.pop() {
            let block = self.block(&next, tree.id)?;
            let entries = entries(&block, next.level).ok_or_else(|| wrong(&next, "is cut"))?;
            if next.first.is_some() && entries.first().map(|(key, _)| *key) != next.first {
                return Err(wrong(&next, "starts with another key"));
            }
            if !entries.is_sorted_by(|(one, _), (two, _)| one < two) {
                return Err(wrong(&next, "is not sorted"));
            }
            match next.level.checked_sub(1) {
                None => {
                    for (key, data) in entries {
                        if last >= Some(key) {
                            return Err(wrong(&next, "is out of order"));
                        }
                        last = Some(key);
                        work(key, data)?;
                    }
                }
                Some(level) => {
                    for (key, pointer) in entries.into_iter().rev() {
                        let (at, generation) = bytes::le_u64(pointer, 0)
                            .zip(bytes::le_u64(pointer, 8))
                            .ok_or_else(|| wrong(&next, "is cut"))?;
                        waiting.push(Next { at, level, generation, first: Some(key) });
                    }
                }
            }
        }
        Ok(())
    }

    /// A block, from its first valid copy.
    fn block(&self, next: &Next, tree: u64) -> Result<Vec<u8>> {
        let places = self.chunks.places(next.at, self.superblock.node);
        let mut fault = wrong(next, "lies in no chunk");
        for place in places {
            let block = read_vec(self.store, place, self.superblock.node)?;
            let is_it = is_sealed(&block)
                && bytes::array(&block, 32) == Some(self.superblock.owner)
                && bytes::le_u64(&block, 48) == Some(next.at)
                && bytes::le_u64(&block, 80) == Some(next.generation)
                && bytes::le_u64(&block, 88) == Some(tree)
                && bytes::u8(&block, 100) == Some(next.level);
            if is_it {
                return Ok(block);
            }
            fault = wrong(next, "is not what its tree says");
        }
        Err(fault)
    }
}

fn wrong(next: &Next, what: &str) -> Error {
    Error::corrupt(format!("the tree block at logical byte {} {what}", next.at))
}

/// The entries of a block: those of a leaf with their data, those of a node with their child.
fn entries(block: &[u8], level: u8) -> Option<Vec<(Key, &[u8])>> {
    let count = usize::try_from(bytes::le_u32(block, 96)?).ok()?;
    let len = if level == 0 { ITEM } else { POINTER };
    if count > block.len().checked_sub(HEAD)?.checked_div(len)? || (level > 0 && count == 0) {
        return None;
    }
    let mut entries = Vec::new();
    for index in 0..count {
        let at = index.checked_mul(len)?.checked_add(HEAD)?;
        let key = Key::decode(block, at)?;
        let data = match level {
            0 => {
                let field = |ahead: usize| {
                    usize::try_from(bytes::le_u32(block, at.checked_add(ahead)?)?).ok()
                };
                let start = field(17)?.checked_add(HEAD)?;
                block.get(start..start.checked_add(field(21)?)?)?
            }
            _ => block.get(at.checked_add(17)?..at.checked_add(POINTER)?)?,
        };
        entries.push((key, data));
    }
    Some(entries)
}
