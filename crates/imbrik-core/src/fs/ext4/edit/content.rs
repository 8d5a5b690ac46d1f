//! A file's content and the map of its blocks.

use super::Editor;
use crate::{
    error::{Error, Result},
    fs::ext4::{
        quota,
        strict::{
            inode::{EXTENTS_FLAG, I_BLOCK, MapKind, RawInode, low_u32},
            map::{Map, Piece},
            trees,
        },
    },
};

const DIRECT: usize = 12;
const MOST_EXTENTS: usize = 4;
/// Longer content of an inode that keeps it in itself goes on in an attribute.
const IN_INODE: u64 = 60;

impl Editor<'_> {
    /// Gives a file new content, in the blocks it has as far as they go.
    pub(super) fn put_content(&mut self, inode: &mut RawInode, content: &[u8]) -> Result<()> {
        if inode.is_inline() && (inode.size() > IN_INODE || content.len() > I_BLOCK.len()) {
            self.empty_inline(inode)?;
        }
        if inode.is_inline() {
            let mut map = content.to_vec();
            map.resize(I_BLOCK.len(), 0);
            inode.put_i_block(&map);
        } else {
            let map = self.map(inode)?;
            let len = self.space.block_len();
            let needed = content.len().div_ceil(len.max(1));
            let mut blocks: Vec<u64> = blocks_of(&map).collect();
            for block in blocks.split_off(needed.min(blocks.len())) {
                self.space.give_back(block)?;
            }
            while blocks.len() < needed {
                let behind = blocks.last().copied();
                let behind = behind.unwrap_or_else(|| self.home_of(inode.number));
                blocks.push(self.space.take(behind)?);
            }
            self.put_map(inode, &map, &blocks)?;
            for (block, piece) in blocks.iter().zip(content.chunks(len.max(1))) {
                let mut piece = piece.to_vec();
                piece.resize(len, 0);
                self.space.put_block(*block, &piece)?;
            }
        }
        inode.put_size(u64::try_from(content.len()).unwrap_or(0));
        inode.put_u32(0xc, self.now);
        inode.put_u32(0x10, self.now);
        Ok(())
    }

    /// Has `inode`, whose map was `old`, consist of `blocks`, in this order.
    pub(super) fn put_map(
        &mut self,
        inode: &mut RawInode,
        old: &Map,
        blocks: &[u64],
    ) -> Result<()> {
        for node in &old.nodes {
            self.space.give_back(node.block)?;
        }
        let superblock = self.superblock();
        let had: u64 = old.pieces.iter().map(|piece| piece.len).sum();
        let had = had.saturating_add(u64::try_from(old.nodes.len()).unwrap_or(0));
        let others = inode.blocks(superblock)?.saturating_sub(had);
        let is_tree = match inode.map_kind(superblock)? {
            MapKind::Extents => true,
            // A file without a block may start anew.
            _ => blocks.len() > DIRECT && superblock.has_extents(),
        };
        let mut nodes = 0u64;
        let map = if is_tree {
            inode.put_u32(0x20, inode.flags() | EXTENTS_FLAG);
            let pieces = pieces_of(blocks);
            let count = match pieces.len() <= MOST_EXTENTS {
                true => 0,
                false => trees::blocks_of_tree(pieces.len(), superblock.block_len),
            };
            let mut places = Vec::new();
            for _ in 0..count {
                places.push(self.space.take(blocks.last().copied().unwrap_or(0))?);
            }
            nodes = nodes.saturating_add(u64::try_from(places.len()).unwrap_or(0));
            let seed = inode.seed(superblock);
            let made = trees::tree(&pieces, &places, inode.i_block(), superblock, seed)?;
            for (block, content) in &made.blocks {
                self.space.put_block(*block, content)?;
            }
            made.i_block
        } else {
            let (direct, rest) = blocks.split_at(blocks.len().min(DIRECT));
            let mut numbers: Vec<u64> = direct.to_vec();
            numbers.resize(15, 0);
            if !rest.is_empty() {
                let mut content: Vec<u8> =
                    rest.iter().flat_map(|block| low_u32(*block).to_le_bytes()).collect();
                if content.len() > self.space.block_len() {
                    return Err(Error::unsupported("it is too long for a volume of this kind"));
                }
                content.resize(self.space.block_len(), 0);
                let block = self.space.take(direct.last().copied().unwrap_or(0))?;
                self.space.put_block(block, &content)?;
                nodes = 1;
                if let Some(place) = numbers.get_mut(DIRECT) {
                    *place = block;
                }
            }
            numbers.iter().flat_map(|block| low_u32(*block).to_le_bytes()).collect()
        };
        inode.put_i_block(&map);
        let all = u64::try_from(blocks.len()).unwrap_or(0).saturating_add(nodes);
        let signed = |count: u64| i64::try_from(count).unwrap_or(i64::MAX);
        let change = quota::Change { blocks: signed(all).saturating_sub(signed(had)), inodes: 0 };
        quota::count(&mut self.usage, inode, superblock, change);
        inode.put_blocks(all.saturating_add(others), superblock);
        Ok(())
    }
}

/// The blocks of a file's content, in its order.
pub(super) fn blocks_of(map: &Map) -> impl Iterator<Item = u64> + '_ {
    map.pieces.iter().flat_map(|piece| piece.physical..piece.physical.saturating_add(piece.len))
}

/// A file's pieces, from the list of its blocks.
fn pieces_of(blocks: &[u64]) -> Vec<Piece> {
    let mut pieces: Vec<Piece> = Vec::new();
    for (logical, block) in (0u64..).zip(blocks) {
        let next = Piece { logical, physical: *block, len: 1, is_unwritten: false };
        match pieces.last_mut() {
            Some(last) if last.is_continued_by(&next) => last.len = last.len.saturating_add(1),
            _ => pieces.push(next),
        }
    }
    pieces
}
