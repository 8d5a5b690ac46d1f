//! An inode that is changed, with its map: the map is rewritten once, when the inode is closed.

use super::Editor;
use crate::{
    bits::Bits,
    ext4::{
        quota,
        structure::{
            inode::{EXTENTS_FLAG, MapKind, RawInode},
            map::{DIRECT, Map, Piece, map_of},
            trees,
        },
        superblock::Superblock,
    },
    files::FileTime,
};
use imbrik_store::{
    ReadAt,
    error::{Error, Result},
    exact::Exact as _,
};
use std::sync::Arc;

/// An inode that is changed.
pub(in crate::ext4) struct OpenInode {
    pub(in crate::ext4) inode: RawInode,
    /// Its content, in the file's order.
    pub(in crate::ext4) pieces: Vec<Piece>,
    /// The new content of these blocks.
    pub(super) content: Option<Arc<dyn ReadAt>>,
    /// When its content was changed, whatever is done to it afterwards.
    pub(super) modified: Option<FileTime>,
    /// True if the volume does not have it.
    pub(super) is_new: bool,
    /// Its map as the volume has it.
    was: Map,
    /// The number of its other blocks: those of its attributes.
    others: u64,
}

impl OpenInode {
    /// One that has nothing yet.
    pub(in crate::ext4) fn empty(inode: RawInode) -> Self {
        Self {
            inode,
            pieces: Vec::new(),
            content: None,
            modified: None,
            is_new: true,
            was: Map::default(),
            others: 0,
        }
    }

    /// An inode with a known map.
    ///
    /// # Errors
    /// When its count of blocks is invalid.
    pub(super) fn with_map(inode: RawInode, was: Map, superblock: &Superblock) -> Result<Self> {
        let had: u64 = was.runs().map(|run| run.len).sum();
        let others = inode.blocks(superblock)?.saturating_sub(had);
        let pieces = was.pieces.clone();
        Ok(Self { inode, pieces, content: None, modified: None, is_new: false, was, others })
    }

    /// Counts one more block that is not part of its content: for attributes.
    pub(super) fn add_metadata_block(&mut self) {
        self.others = self.others.saturating_add(1);
    }

    /// The blocks of its content, in its order.
    pub(in crate::ext4) fn blocks(&self) -> Vec<u64> {
        self.pieces.iter().flat_map(|piece| piece.physical..piece.run().end()).collect()
    }

    /// Has it consist of `blocks`, in this order and without a hole.
    pub(in crate::ext4) fn put_blocks(&mut self, blocks: &[u64]) {
        let all = (0u64..).zip(blocks);
        self.pieces = joined(all.map(|(logical, block)| Piece {
            logical,
            physical: *block,
            len: 1,
            is_unwritten: false,
        }));
    }

    /// The blocks of its present map.
    pub(in crate::ext4) fn nodes(&self) -> impl Iterator<Item = u64> + '_ {
        self.was.nodes.iter().map(|node| node.block)
    }

    /// How many blocks it has as the volume has it.
    pub(in crate::ext4) fn blocks_before(&self) -> u64 {
        self.was.runs().map(|run| run.len).sum::<u64>().saturating_add(self.others)
    }
}

/// Pieces in the file's order, those in one that follow each other.
pub(in crate::ext4) fn joined(pieces: impl IntoIterator<Item = Piece>) -> Vec<Piece> {
    let mut all: Vec<Piece> = Vec::new();
    for next in pieces {
        match all.last_mut() {
            Some(last) if last.is_continued_by(&next) => {
                last.len = last.len.saturating_add(next.len);
            }
            _ => all.push(next),
        }
    }
    all
}

impl Editor<'_> {
    /// Opens an inode of the volume.
    ///
    /// # Errors
    /// When its map cannot be read, or is invalid.
    pub(in crate::ext4) fn open(&self, inode: RawInode) -> Result<OpenInode> {
        let superblock = self.superblock();
        let mut seen = Bits::new(superblock.blocks);
        let meta = &self.space.opened.meta;
        let was = map_of(meta, superblock, &inode, &mut |run| match seen.add(run) {
            true => Ok(()),
            false => Err(inode.wrong("its map has a block twice, or an invalid one")),
        })?;
        OpenInode::with_map(inode, was, superblock)
    }

    /// Writes an inode and its present map.
    ///
    /// # Errors
    /// When no block is free for that, or it is too long for its kind of map.
    pub(in crate::ext4) fn close(&mut self, open: OpenInode) -> Result<()> {
        let before = open.blocks_before();
        let modified = open.modified;
        let OpenInode { mut inode, pieces, was, others, is_new, .. } = open;
        if let Some(modified) = modified {
            inode.put_modified(modified);
        }
        if pieces == was.pieces {
            if is_new || inode.map_kind(self.superblock())? == MapKind::Extents {
                inode.put_blocks(before, self.superblock());
            }
            return self.space.put_inode(inode);
        }
        for node in &was.nodes {
            self.space.give_back(node.block)?;
        }
        let superblock = self.superblock();
        let had: u64 = was.runs().map(|run| run.len).sum();
        let body: u64 = pieces.iter().map(|piece| piece.len).sum();
        let is_tree = match inode.map_kind(superblock)? {
            MapKind::Extents => true,
            // A file without blocks can get another kind of map.
            _ => body > DIRECT.exact_as::<u64>()? && superblock.has_extents(),
        };
        let (i_block, nodes) = match is_tree {
            true => self.tree_of(&mut inode, &pieces)?,
            false => self.indirect_of(&inode, &pieces)?,
        };
        inode.put_i_block(&i_block);
        let all = body.plus(nodes)?;
        let signed = |count: u64| i64::try_from(count).unwrap_or(i64::MAX);
        let change = quota::Change { blocks: signed(all).saturating_sub(signed(had)), inodes: 0 };
        quota::count(&mut self.usage, &inode, superblock, change);
        inode.put_blocks(all.plus(others)?, superblock);
        self.space.put_inode(inode)
    }

    /// Builds an extent tree: the root in the inode, and the number of its blocks.
    fn tree_of(&mut self, inode: &mut RawInode, pieces: &[Piece]) -> Result<(Vec<u8>, u64)> {
        let superblock = self.superblock();
        inode.put_flags(inode.flags() | EXTENTS_FLAG);
        let near = pieces.last().map_or(0, |last| last.run().end().saturating_sub(1));
        let mut places = Vec::new();
        for _ in 0..trees::blocks_of_tree(pieces.len(), superblock.block_len) {
            places.push(self.space.take(near)?);
        }
        let seed = inode.seed(superblock);
        let made = trees::tree(pieces, &places, inode.i_block(), superblock, seed)?;
        for (block, content) in &made.blocks {
            self.space.put_block(*block, content)?;
        }
        Ok((made.i_block, places.len().exact_as::<u64>()?))
    }

    /// A map of direct blocks, and of those that lead to others.
    fn indirect_of(&mut self, inode: &RawInode, pieces: &[Piece]) -> Result<(Vec<u8>, u64)> {
        if pieces.iter().any(|piece| piece.is_unwritten) {
            return Err(inode.wrong("it has blocks without content, which cannot be kept here"));
        }
        let per = self.superblock().block_len / 4;
        let last = pieces.last().map_or(0, |last| last.run().end().saturating_sub(1));
        let mut made = Indirect { editor: self, pieces, per, near: last, nodes: 0 };
        let mut numbers = Vec::new();
        let mut logical = 0u64;
        for index in 0..DIRECT.saturating_add(3) {
            let depth = index.saturating_sub(DIRECT.saturating_sub(1)).exact_as::<u32>()?;
            numbers.push(made.below(logical, depth)?);
            logical = logical.plus(per.saturating_pow(depth))?;
        }
        if pieces.iter().any(|piece| piece.logical.saturating_add(piece.len) > logical) {
            return Err(Error::unsupported("it is too long for a volume of this kind"));
        }
        let nodes = made.nodes;
        Ok((numbers.iter().flat_map(|block| block.to_le_bytes()).collect(), nodes))
    }
}

/// A map of indirect blocks that is made.
struct Indirect<'e, 'a> {
    editor: &'e mut Editor<'a>,
    pieces: &'e [Piece],
    /// Numbers per block.
    per: u64,
    near: u64,
    nodes: u64,
}

impl Indirect<'_, '_> {
    /// The block that refers to block `logical` of the file, over `depth` levels; 0 for a hole.
    fn below(&mut self, logical: u64, depth: u32) -> Result<u32> {
        let end = logical.plus(self.per.saturating_pow(depth))?;
        let at =
            self.pieces.partition_point(|piece| piece.logical.saturating_add(piece.len) <= logical);
        let Some(piece) = self.pieces.get(at).filter(|piece| piece.logical < end) else {
            return Ok(0);
        };
        let too_far = |_| Error::unsupported("its block numbers are too large for its kind of map");
        let Some(below) = depth.checked_sub(1) else {
            let block = piece.physical.plus(logical.minus(piece.logical)?)?;
            return u32::try_from(block).map_err(too_far);
        };
        let mut content = Vec::new();
        let step = self.per.saturating_pow(below);
        let mut at = logical;
        for _ in 0..self.per {
            content.extend(self.below(at, below)?.to_le_bytes());
            at = at.plus(step)?;
        }
        let block = self.editor.space.take(self.near)?;
        self.nodes = self.nodes.plus(1)?;
        self.editor.space.put_block(block, &content)?;
        u32::try_from(block).map_err(too_far)
    }
}
