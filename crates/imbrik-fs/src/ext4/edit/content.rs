//! A file's content.

use super::{Editor, OpenInode};
use crate::ext4::structure::inode::I_BLOCK;
use imbrik_store::{error::Result, exact::Exact as _};

/// Longer content of an inode that keeps it in itself goes on in an attribute.
const IN_INODE: u64 = 60;

impl Editor<'_> {
    /// Gives a file new content, in the blocks it has as far as they go.
    pub(super) fn put_content(&mut self, file: &mut OpenInode, content: &[u8]) -> Result<()> {
        let is_long = file.inode.size() > IN_INODE || content.len() > I_BLOCK.len();
        if file.inode.is_inline() && is_long {
            self.empty_inline(&mut file.inode)?;
        }
        if file.inode.is_inline() {
            let mut map = content.to_vec();
            map.resize(I_BLOCK.len(), 0);
            file.inode.put_i_block(&map);
        } else {
            let len = self.space.block_len();
            let needed = content.len().div_ceil(len.max(1));
            let mut blocks = file.blocks();
            for block in blocks.split_off(needed.min(blocks.len())) {
                self.space.give_back(block)?;
            }
            while blocks.len() < needed {
                let behind = blocks.last().copied();
                let behind = behind.unwrap_or_else(|| self.home_of(file.inode.number));
                blocks.push(self.space.take(behind)?);
            }
            for (block, piece) in blocks.iter().zip(content.chunks(len.max(1))) {
                let mut piece = piece.to_vec();
                piece.resize(len, 0);
                self.space.put_block(*block, &piece)?;
            }
            file.put_blocks(&blocks);
        }
        file.inode.put_size(content.len().fitting::<u64>()?);
        self.touch(&mut file.inode);
        Ok(())
    }
}
