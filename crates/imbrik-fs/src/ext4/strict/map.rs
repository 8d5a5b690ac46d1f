//! Where an inode's blocks are.

use super::{
    inode::{MapKind, RawInode},
    metadata_cache::MetadataCache,
};
use crate::{
    bits::Run,
    ext4::{checksum::crc32c, superblock::Superblock},
};
use imbrik_store::{bytes, error::Result};

/// What a node of an extent tree starts with.
pub(in crate::ext4) const EXTENT_MAGIC: u16 = 0xf30a;
const MOST_DEPTH: u16 = 5;
/// Above this, an extent's length means that it is unwritten.
const MOST_WRITTEN: u64 = 32768;
const DIRECT: usize = 12;
/// Bytes of a node's head, and of each of its entries.
pub(in crate::ext4) const ENTRY: usize = 12;

/// A piece of a file: blocks in a row both in the file and in the volume.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(in crate::ext4) struct Piece {
    /// The first block in the file.
    pub(in crate::ext4) logical: u64,
    /// The first block in the volume.
    pub(in crate::ext4) physical: u64,
    /// How many.
    pub(in crate::ext4) len: u64,
    /// Whether the blocks are allocated but hold nothing yet.
    pub(in crate::ext4) is_unwritten: bool,
}

impl Piece {
    /// Where it lies in the volume.
    pub(in crate::ext4) fn run(&self) -> Run {
        Run::new(self.physical, self.len)
    }

    /// Whether `next` goes on where it ends, in the file and in the volume, and both fit into one
    /// extent.
    pub(in crate::ext4) fn is_continued_by(&self, next: &Self) -> bool {
        let most = MOST_WRITTEN.saturating_sub(u64::from(self.is_unwritten));
        self.logical.saturating_add(self.len) == next.logical
            && self.run().end() == next.physical
            && self.is_unwritten == next.is_unwritten
            && self.len.saturating_add(next.len) <= most
    }
}

/// Where an inode's blocks are.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(in crate::ext4) struct Map {
    /// Its content, in the file's order.
    pub(in crate::ext4) pieces: Vec<Piece>,
    /// The blocks of the map itself.
    pub(in crate::ext4) nodes: Vec<Node>,
}

/// A block of a map.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::ext4) struct Node {
    /// Where it lies in the volume.
    pub(in crate::ext4) block: u64,
    /// The first block of the file that it may lead to.
    pub(in crate::ext4) logical: u64,
}

impl Map {
    /// Leaves out what lies behind the first `blocks` of the file.
    pub(in crate::ext4) fn cut(&mut self, blocks: u64) {
        self.pieces.retain(|piece| piece.logical < blocks);
        self.nodes.retain(|node| node.logical < blocks);
        if let Some(last) = self.pieces.last_mut() {
            last.len = last.len.min(blocks.saturating_sub(last.logical));
        }
    }

    /// Every run of blocks that it names.
    pub(in crate::ext4) fn runs(&self) -> impl Iterator<Item = Run> + '_ {
        let nodes = self.nodes.iter().map(|node| Run::new(node.block, 1));
        self.pieces.iter().map(Piece::run).chain(nodes)
    }
}

/// Reads the map of `inode`. Every block that it names is first given to `claim`, which refuses
/// what is not to be had; so a map that leads back into itself comes to an end.
///
/// # Errors
/// - When the volume cannot be read.
/// - [`imbrik_store::Class::Corrupt`] when the map makes no sense, and what `claim` answers.
pub(in crate::ext4) fn map_of(
    meta: &MetadataCache,
    superblock: &Superblock,
    inode: &RawInode,
    claim: &mut dyn FnMut(Run) -> Result<()>,
) -> Result<Map> {
    let mut walk = Walk { meta, superblock, inode, claim, map: Map::default() };
    match inode.map_kind(superblock)? {
        MapKind::None => {}
        MapKind::Extents => walk.tree()?,
        MapKind::Indirect => walk.indirect()?,
    }
    Ok(walk.map)
}

struct Walk<'a> {
    meta: &'a MetadataCache,
    superblock: &'a Superblock,
    inode: &'a RawInode,
    claim: &'a mut dyn FnMut(Run) -> Result<()>,
    map: Map,
}

/// How many entries a node has, and how deep the tree is under it.
fn node_head(node: &[u8], room: usize) -> Option<(usize, u16)> {
    let eh_entries = usize::from(bytes::le_u16(node, 2)?);
    let eh_max = usize::from(bytes::le_u16(node, 4)?);
    let eh_depth = bytes::le_u16(node, 6)?;
    let is_sound = bytes::le_u16(node, 0)? == EXTENT_MAGIC
        && eh_entries <= eh_max
        && eh_max <= room
        && eh_depth <= MOST_DEPTH;
    is_sound.then_some((eh_entries, eh_depth))
}

/// Compares a block of an extent tree with the checksum behind its last possible entry.
fn check_node(block: &[u8], superblock: &Superblock, seed: u32) -> Option<()> {
    if !superblock.has_metadata_csum() {
        return Some(());
    }
    let at = tail_of(block)?;
    (crc32c(seed, block.get(..at)?) == bytes::le_u32(block, at)?).then_some(())
}

/// Where the checksum of an extent block stands.
pub(in crate::ext4) fn tail_of(block: &[u8]) -> Option<usize> {
    let eh_max = usize::from(bytes::le_u16(block, 4)?);
    eh_max.checked_mul(ENTRY)?.checked_add(ENTRY)
}

impl Walk<'_> {
    fn tree(&mut self) -> Result<()> {
        let root = self.inode.i_block().to_vec();
        let head = node_head(&root, 4);
        let (_, depth) = head.ok_or_else(|| self.inode.wrong("its extent tree has no root"))?;
        let mut behind = 0;
        self.node(&root, 4, depth, &mut behind)
    }

    /// Walks a node that must have `depth`; `behind` is the first logical block that may follow.
    fn node(&mut self, node: &[u8], room: usize, depth: u16, behind: &mut u64) -> Result<()> {
        let wrong = || self.inode.wrong("its extent tree makes no sense");
        let (count, found) = node_head(node, room).ok_or_else(wrong)?;
        if found != depth {
            return Err(wrong());
        }
        for index in 0..count {
            let at = index.saturating_mul(ENTRY).saturating_add(ENTRY);
            let part = |at: usize| bytes::le_u32(node, at).map(u64::from).ok_or_else(wrong);
            let half = |at: usize| bytes::le_u16(node, at).map(u64::from).ok_or_else(wrong);
            let logical = part(at)?;
            if logical < *behind {
                return Err(wrong());
            }
            if let Some(below) = depth.checked_sub(1) {
                let low = part(at.saturating_add(4))?;
                let block = low | (half(at.saturating_add(8))? << 32);
                (self.claim)(Run::new(block, 1))?;
                self.map.nodes.push(Node { block, logical });
                let child = self.meta.block(block)?;
                let seed = self.inode.seed(self.superblock);
                if check_node(&child, self.superblock, seed).is_none() {
                    return Err(self
                        .inode
                        .wrong("a block of its extent tree has a wrong checksum"));
                }
                if bytes::le_u32(&child, ENTRY).map(u64::from) != Some(logical) {
                    return Err(wrong());
                }
                let room = child.len().saturating_sub(ENTRY) / ENTRY;
                self.node(&child, room, below, behind)?;
                continue;
            }
            let len = half(at.saturating_add(4))?;
            let high = half(at.saturating_add(6))?;
            let physical = part(at.saturating_add(8))? | (high << 32);
            let is_unwritten = len > MOST_WRITTEN;
            let len = if is_unwritten { len.saturating_sub(MOST_WRITTEN) } else { len };
            if len == 0 {
                return Err(wrong());
            }
            (self.claim)(Run::new(physical, len))?;
            self.map.pieces.push(Piece { logical, physical, len, is_unwritten });
            *behind = logical.saturating_add(len);
        }
        Ok(())
    }

    fn indirect(&mut self) -> Result<()> {
        let root = self.inode.i_block().to_vec();
        let mut logical = 0;
        for (index, number) in root.as_chunks::<4>().0.iter().enumerate() {
            let number = u32::from_le_bytes(*number);
            let depth = index.saturating_sub(DIRECT.saturating_sub(1));
            self.descend(number, u32::try_from(depth).unwrap_or(0), &mut logical)?;
        }
        Ok(())
    }

    fn descend(&mut self, number: u32, depth: u32, logical: &mut u64) -> Result<()> {
        let a_block = self.superblock.block_len / 4;
        if number == 0 {
            *logical = logical.saturating_add(a_block.saturating_pow(depth));
            return Ok(());
        }
        let physical = u64::from(number);
        (self.claim)(Run::new(physical, 1))?;
        let Some(below) = depth.checked_sub(1) else {
            let piece = Piece { logical: *logical, physical, len: 1, is_unwritten: false };
            match self.map.pieces.last_mut() {
                Some(last)
                    if last.run().end() == physical
                        && last.logical.saturating_add(last.len) == *logical =>
                {
                    last.len = last.len.saturating_add(1);
                }
                _ => self.map.pieces.push(piece),
            }
            *logical = logical.saturating_add(1);
            return Ok(());
        };
        self.map.nodes.push(Node { block: physical, logical: *logical });
        let block = self.meta.block(physical)?;
        for number in block.as_chunks::<4>().0 {
            self.descend(u32::from_le_bytes(*number), below, logical)?;
        }
        Ok(())
    }
}
