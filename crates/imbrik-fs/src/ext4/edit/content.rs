//! A file's content.

use super::{Editor, OpenInode, joined};
use crate::{
    bits::Run,
    ext4::structure::{
        inode::I_BLOCK,
        map::{MOST_WRITTEN, Piece},
    },
};
use imbrik_store::{
    ReadAt,
    error::{Error, Result},
    exact::Exact as _,
    read_vec,
    units::ByteOffset,
};
use std::sync::Arc;

/// The maximum inline content in place of the map; longer content continues in an attribute.
const IN_INODE: u64 = 60;
/// The longest file, in blocks.
const MOST_BLOCKS: u64 = 0xffff_ffff;

impl Editor<'_> {
    /// Replaces the content of a file: inline if the file has inline data, and in newly allocated blocks otherwise.
    ///
    /// # Errors
    /// When no block is free, or it is too long.
    pub(super) fn put_content(
        &mut self,
        file: &mut OpenInode,
        content: &Arc<dyn ReadAt>,
    ) -> Result<()> {
        let size = content.size().get();
        let is_long = file.inode.size() > IN_INODE || size > IN_INODE;
        if file.inode.is_inline() && is_long {
            self.empty_inline(&mut file.inode)?;
        }
        if file.inode.is_inline() {
            let mut map = read_vec(&**content, ByteOffset::ZERO, size.exact_as::<usize>()?)?;
            map.resize(I_BLOCK.len(), 0);
            file.inode.put_i_block(&map);
            file.content = None;
        } else {
            self.put_pieces(file, content)?;
        }
        file.inode.put_size(size);
        self.touch(&mut file.inode);
        Ok(())
    }

    /// Allocates blocks for `content` of an inode with a map, and frees its previous blocks.
    ///
    /// # Errors
    /// As [`Editor::put_content`].
    pub(super) fn put_pieces(
        &mut self,
        file: &mut OpenInode,
        content: &Arc<dyn ReadAt>,
    ) -> Result<()> {
        let block_len = self.superblock().block_len.max(1);
        if content.size().get().div_ceil(block_len) > MOST_BLOCKS {
            return Err(Error::unsupported("it is too long for a volume of this kind"));
        }
        let old = std::mem::take(&mut file.pieces);
        let mut near = self.home_of(file.inode.number);
        let mut pieces = Vec::new();
        let mut at = 0;
        while let Some(data) = content.next_data(ByteOffset::new(at))? {
            let first = data.start().get().max(at).over(block_len)?;
            let end = data.end().get().div_ceil(block_len);
            let mut logical = first;
            while logical < end {
                let most = end.minus(logical)?.min(MOST_WRITTEN);
                let Run { first: physical, len } = self.space.take_run(near, most)?;
                pieces.push(Piece { logical, physical, len, is_unwritten: false });
                near = physical.plus(len)?;
                logical = logical.plus(len)?;
            }
            at = end.times(block_len)?;
            if at >= content.size().get() {
                break;
            }
        }
        for piece in old {
            for block in piece.run().first..piece.run().end() {
                self.space.give_back(block)?;
            }
        }
        file.pieces = joined(pieces);
        file.content = Some(Arc::clone(content));
        Ok(())
    }
}
