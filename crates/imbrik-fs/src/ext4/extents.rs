//! Where a file's blocks are: extent trees, and the indirect blocks of older files.
//!
//! Both start in the 60 bytes of `i_block`. An extent tree is a header (magic, entries, room,
//! depth) and entries of 12 bytes, in every node; an indirect map is twelve direct block numbers
//! and one each of single, double and triple indirect ones.

use super::superblock::Superblock;
use imbrik_store::{ReadAt, bytes, error::Result, read_up_to};
use std::cell::Cell;

const EXTENTS_FLAG: u32 = 0x8_0000;
const EXTENT_MAGIC: u16 = 0xf30a;
/// Deeper trees don't exist.
const MOST_DEPTH: u16 = 5;
/// More pieces than this are not followed: what is read through this module is small.
const MOST_EXTENTS: usize = 10_000;
/// Blocks of a map that are read: a made-up map can name the same few blocks again and again.
const MOST_READS: u32 = 20_000;
const DIRECT: usize = 12;

/// A run of a file's blocks.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Extent {
    /// The first block in the file.
    pub(super) logical: u64,
    /// The first block in the volume.
    pub(super) physical: u64,
    /// How many.
    pub(super) len: u64,
}

/// The runs of a file in order, from its `i_block` and its flags; `None` when the map makes no
/// sense or is longer than what is followed. Holes and unwritten extents have no run.
///
/// # Errors
/// When the volume cannot be read.
pub(super) fn extents(
    store: &dyn ReadAt,
    superblock: &Superblock,
    i_block: &[u8],
    flags: u32,
) -> Result<Option<Vec<Extent>>> {
    let walk = Walk { store, superblock, reads: Cell::new(0) };
    let found = match flags & EXTENTS_FLAG {
        0 => walk.indirect(i_block)?,
        _ => walk.tree(i_block)?,
    };
    Ok(found.map(|mut extents| {
        extents.sort_unstable();
        extents
    }))
}

struct Walk<'a> {
    store: &'a dyn ReadAt,
    superblock: &'a Superblock,
    reads: Cell<u32>,
}

impl Walk<'_> {
    fn block(&self, number: u64) -> Result<Vec<u8>> {
        self.reads.set(self.reads.get().saturating_add(1));
        match self.superblock.span(number, 1).filter(|_| self.reads.get() <= MOST_READS) {
            Some(span) => read_up_to(self.store, span.start(), span.len().to_usize().unwrap_or(0)),
            None => Ok(Vec::new()),
        }
    }

    fn tree(&self, root: &[u8]) -> Result<Option<Vec<Extent>>> {
        let mut extents = Vec::new();
        let mut nodes = vec![root.to_vec()];
        while let Some(node) = nodes.pop() {
            let Some((leaves, children)) = decode_node(&node) else { return Ok(None) };
            extents.extend(leaves);
            if extents.len().saturating_add(nodes.len()).saturating_add(children.len())
                > MOST_EXTENTS
            {
                return Ok(None);
            }
            for child in children {
                nodes.push(self.block(child)?);
            }
        }
        Ok(Some(extents))
    }

    fn indirect(&self, i_block: &[u8]) -> Result<Option<Vec<Extent>>> {
        let mut extents: Vec<Extent> = Vec::new();
        let mut logical = 0u64;
        let a_block = self.superblock.block_len / 4;
        for (index, number) in numbers(i_block).enumerate() {
            let depth = index.saturating_sub(DIRECT.saturating_sub(1));
            let depth = u32::try_from(depth).unwrap_or(u32::MAX);
            self.descend(number, depth, &mut logical, a_block, &mut extents)?;
            if extents.len() > MOST_EXTENTS || self.reads.get() > MOST_READS {
                return Ok(None);
            }
        }
        Ok(Some(extents))
    }

    /// Adds what stands under a block number `depth` levels above the data.
    fn descend(
        &self,
        number: u32,
        depth: u32,
        logical: &mut u64,
        a_block: u64,
        extents: &mut Vec<Extent>,
    ) -> Result<()> {
        if number == 0 || extents.len() > MOST_EXTENTS || self.reads.get() > MOST_READS {
            *logical = logical.saturating_add(a_block.saturating_pow(depth));
            return Ok(());
        }
        if let Some(above) = depth.checked_sub(1) {
            for number in numbers(&self.block(number.into())?) {
                self.descend(number, above, logical, a_block, extents)?;
            }
            return Ok(());
        }
        let physical = u64::from(number);
        match extents.last_mut() {
            Some(last)
                if last.logical.saturating_add(last.len) == *logical
                    && last.physical.saturating_add(last.len) == physical =>
            {
                last.len = last.len.saturating_add(1);
            }
            _ => extents.push(Extent { logical: *logical, physical, len: 1 }),
        }
        *logical = logical.saturating_add(1);
        Ok(())
    }
}

fn numbers(block: &[u8]) -> impl Iterator<Item = u32> + '_ {
    block.as_chunks::<4>().0.iter().map(|number| u32::from_le_bytes(*number))
}

/// The extents of a leaf, or the children of an index node; `None` for anything that is no node.
fn decode_node(node: &[u8]) -> Option<(Vec<Extent>, Vec<u64>)> {
    let eh_entries = bytes::le_u16(node, 2)?;
    let eh_depth = bytes::le_u16(node, 6)?;
    if bytes::le_u16(node, 0)? != EXTENT_MAGIC || eh_depth > MOST_DEPTH {
        return None;
    }
    let (mut leaves, mut children) = (Vec::new(), Vec::new());
    for index in 0..usize::from(eh_entries) {
        let at = index.checked_mul(12)?.checked_add(12)?;
        let block = |low: u32, high: u16| u64::from(low) | (u64::from(high) << 32);
        if eh_depth > 0 {
            let low = bytes::le_u32(node, at.checked_add(4)?)?;
            children.push(block(low, bytes::le_u16(node, at.checked_add(8)?)?));
            continue;
        }
        let ee_len = u64::from(bytes::le_u16(node, at.checked_add(4)?)?);
        let high = bytes::le_u16(node, at.checked_add(6)?)?;
        let physical = block(bytes::le_u32(node, at.checked_add(8)?)?, high);
        // Above 32768 the extent is allocated but unwritten: it reads as zeros.
        if (1..=32768).contains(&ee_len) {
            let logical = bytes::le_u32(node, at)?.into();
            leaves.push(Extent { logical, physical, len: ee_len });
        }
    }
    Some((leaves, children))
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_store::{
        SparseStore, WriteAt,
        units::{ByteLen, ByteOffset},
    };

    /// A superblock of a volume of 64 blocks of 1 KiB.
    fn superblock() -> Superblock {
        let mut raw = vec![0; Superblock::LEN];
        for (at, value) in [(0x4, 64u32), (0x14, 1), (0x20, 8192), (0x28, 16), (0x4c, 1)] {
            raw[at..at + 4].copy_from_slice(&value.to_le_bytes());
        }
        raw[0x38..0x3a].copy_from_slice(&[0x53, 0xef]);
        raw[0x58] = 128;
        Superblock::decode(&raw).unwrap()
    }

    fn i_block(numbers: &[(usize, u32)]) -> Vec<u8> {
        let mut block = vec![0; 60];
        for (index, number) in numbers {
            block[index * 4..index * 4 + 4].copy_from_slice(&number.to_le_bytes());
        }
        block
    }

    #[test]
    fn direct_and_indirect_blocks_become_runs() {
        let store = SparseStore::new(ByteLen::kib(64));
        store.write_at(ByteOffset::new(20 * 1024 + 4), &[31, 0, 0, 0, 32, 0, 0, 0]).unwrap();
        let i_block = i_block(&[(0, 10), (1, 11), (3, 12), (12, 20)]);
        let found = extents(&store, &superblock(), &i_block, 0).unwrap().unwrap();
        let run = |logical, physical, len| Extent { logical, physical, len };
        assert_eq!(found, [run(0, 10, 2), run(3, 12, 1), run(13, 31, 2)]);
    }

    #[test]
    fn a_map_that_leads_back_into_itself_comes_to_an_end() {
        // A triple indirect block whose entries all name the block itself, and one that names one
        // of zeros again and again: the second has no data at all to count.
        for target in [20u32, 21] {
            let store = SparseStore::new(ByteLen::kib(64));
            let block: Vec<u8> = std::iter::repeat_n(target.to_le_bytes(), 256).flatten().collect();
            store.write_at(ByteOffset::new(20 * 1024), &block).unwrap();
            store.write_at(ByteOffset::new(21 * 1024), &vec![0; 1024]).unwrap();
            let _ = extents(&store, &superblock(), &i_block(&[(14, 20)]), 0).unwrap();
        }
        let middle: Vec<u8> = std::iter::repeat_n(21u32.to_le_bytes(), 256).flatten().collect();
        let lowest: Vec<u8> = std::iter::repeat_n(22u32.to_le_bytes(), 256).flatten().collect();
        let store = SparseStore::new(ByteLen::kib(64));
        store.write_at(ByteOffset::new(20 * 1024), &middle).unwrap();
        store.write_at(ByteOffset::new(21 * 1024), &lowest).unwrap();
        let found = extents(&store, &superblock(), &i_block(&[(14, 20)]), 0).unwrap();
        assert_eq!(found, None, "65,792 reads for nothing");
    }
}
