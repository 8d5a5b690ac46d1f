//! The extent tree: which logical addresses are given out.

use super::tree::{Key, Tree, Trees};
use imbrik_store::{
    bytes,
    error::{Error, Result},
    units::Span,
};
use std::collections::BTreeMap;

const ROOT_TREE: u64 = 1;
const EXTENT_TREE: u64 = 2;
const BLOCK_GROUP_TREE: u64 = 11;
const ROOT_ITEM: u8 = 132;
const EXTENT_ITEM: u8 = 168;
const METADATA_ITEM: u8 = 169;
const BLOCK_GROUP_ITEM: u8 = 192;
/// Fields of a root item.
const GENERATION: usize = 160;
const START: usize = 176;
const LEVEL: usize = 238;

/// The ranges of the device that extents occupy.
///
/// # Errors
/// - When the store cannot be read.
/// - [`imbrik_store::Class::Corrupt`] when extents overlap, are in no chunk, or don't add up to the used bytes of the
///   block groups and the superblock.
pub(super) fn spans(trees: &Trees<'_>) -> Result<Vec<Span>> {
    let mut found = Extents::default();
    let extent_tree = tree(trees, EXTENT_TREE)?;
    trees.each(extent_tree, |key, data| found.take(trees, key, data))?;
    if trees.superblock.has_block_group_tree {
        let groups = tree(trees, BLOCK_GROUP_TREE)?;
        trees.each(groups, |key, data| found.take_group(key, data))?;
    }
    found.checked(trees)
}

/// A tree by its id, from the root tree.
fn tree(trees: &Trees<'_>, id: u64) -> Result<Tree> {
    let (root, level) = trees.superblock.root;
    let generation = trees.superblock.generation;
    let mut found = None;
    trees.each(Tree { id: ROOT_TREE, root, level, generation }, |key, data| {
        if (key.object, key.kind) == (id, ROOT_ITEM) {
            found = root_item(id, data);
        }
        Ok(())
    })?;
    found.ok_or_else(|| Error::corrupt(format!("its tree {id} is gone")))
}

fn root_item(id: u64, data: &[u8]) -> Option<Tree> {
    Some(Tree {
        id,
        root: bytes::le_u64(data, START)?,
        level: bytes::u8(data, LEVEL)?,
        generation: bytes::le_u64(data, GENERATION)?,
    })
}

#[derive(Default)]
struct Extents {
    spans: Vec<Span>,
    /// The end of the last extent.
    end: u64,
    /// Bytes of extents in each chunk, by its start.
    in_chunks: BTreeMap<u64, u64>,
    /// The length of each block group, and its used bytes.
    groups: BTreeMap<u64, (u64, u64)>,
}

impl Extents {
    fn take(&mut self, trees: &Trees<'_>, key: Key, data: &[u8]) -> Result<()> {
        let len = match key.kind {
            EXTENT_ITEM => key.offset,
            METADATA_ITEM => u64::try_from(trees.superblock.node).unwrap_or(u64::MAX),
            _ => return self.take_group(key, data),
        };
        if key.object < self.end {
            return Err(Error::corrupt(format!("extents overlap at logical byte {}", key.object)));
        }
        let (chunk, spans) = trees.chunks.taken(key.object, len).ok_or_else(|| {
            Error::corrupt(format!("the extent at logical byte {} lies in no chunk", key.object))
        })?;
        self.end = key.object.saturating_add(len);
        let used = self.in_chunks.entry(chunk).or_default();
        *used = used.saturating_add(len);
        for span in spans {
            self.spans.push(span);
        }
        Ok(())
    }

    fn take_group(&mut self, key: Key, data: &[u8]) -> Result<()> {
        if key.kind == BLOCK_GROUP_ITEM {
            let used =
                bytes::le_u64(data, 0).ok_or_else(|| Error::corrupt("a block group is cut"))?;
            self.groups.insert(key.object, (key.offset, used));
        }
        Ok(())
    }

    fn checked(self, trees: &Trees<'_>) -> Result<Vec<Span>> {
        let mut all = 0u64;
        for (start, len) in trees.chunks.starts() {
            let used = self.in_chunks.get(&start).copied().unwrap_or(0);
            if self.groups.get(&start) != Some(&(len, used)) {
                return Err(Error::corrupt(format!(
                    "{used} bytes are used in the chunk at logical byte {start}, but its block group \
                     records another number"
                )));
            }
            all = all.saturating_add(used);
        }
        if all != trees.superblock.bytes_used {
            return Err(Error::corrupt(format!(
                "{all} bytes are used, and its superblock says {}",
                trees.superblock.bytes_used
            )));
        }
        Ok(self.spans)
    }
}
