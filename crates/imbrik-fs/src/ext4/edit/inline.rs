//! Moving inline content out of an inode.

use super::{Editor, OpenInode};
use crate::ext4::{
    structure::{
        attributes, folder,
        inode::{EXTENTS_FLAG, INLINE_DATA_FLAG, RawInode},
        trees,
    },
    superblock::Superblock,
};
use imbrik_store::{bytes, error::Result};

/// Bytes of "." and "..".
const DOT: u16 = 12;

impl Editor<'_> {
    /// Has an inode that keeps its content in itself be an empty one with a map. Its caller gives it
    /// its content.
    ///
    /// # Errors
    /// When its attributes are invalid.
    pub(super) fn empty_inline(&self, inode: &mut RawInode) -> Result<()> {
        let removed = attributes::remove_inline_data(inode);
        removed.ok_or_else(|| inode.wrong("its attributes are invalid"))?;
        inode.put_flags(inode.flags() & !INLINE_DATA_FLAG);
        inode.put_i_block(&[0; 60]);
        inode.put_size(0);
        with_a_map(inode, self.superblock())
    }

    /// Moves the inline entries of a folder into a block; other folders are unchanged.
    ///
    /// # Errors
    /// When they are invalid, or no block is free.
    pub(super) fn folder_out_of_inode(&mut self, open: &mut OpenInode) -> Result<()> {
        if !open.inode.is_inline() {
            return Ok(());
        }
        let old = open.inode.clone();
        let wrong = || old.wrong("the entries in it are invalid");
        let superblock = self.superblock();
        let has_tail = superblock.has_metadata_csum();
        let parent = bytes::le_u32(old.i_block(), 0).ok_or_else(wrong)?;
        let more = attributes::inline_data(&old).and_then(|range| old.raw.get(range));
        let mut entries = folder::entries(old.i_block(), 4).ok_or_else(wrong)?;
        entries.extend(folder::entries(more.unwrap_or_default(), 0).ok_or_else(wrong)?);
        let mut content = self.folder_of(old.number, parent).ok_or_else(wrong)?;
        for entry in entries {
            folder::insert(&mut content, entry.name, entry.inode, entry.kind, has_tail)
                .ok_or_else(wrong)?;
        }
        self.empty_inline(&mut open.inode)?;
        self.start_folder(open, content)
    }

    /// Has a folder that is new hold the names of itself and its parent.
    ///
    /// # Errors
    /// When no block is free.
    pub(in crate::ext4) fn begin_folder(
        &mut self,
        open: &mut OpenInode,
        parent: u32,
    ) -> Result<()> {
        if open.inode.is_inline() {
            self.empty_inline(&mut open.inode)?;
        }
        let content = self.folder_of(open.inode.number, parent);
        let content = content.ok_or_else(|| open.inode.wrong("its blocks are too short"))?;
        open.inode.clear_index();
        self.start_folder(open, content)
    }

    /// Gives a folder without a block its first one.
    ///
    /// # Errors
    /// When no block is free.
    pub(super) fn start_folder(&mut self, open: &mut OpenInode, content: Vec<u8>) -> Result<()> {
        let block = self.space.take(self.home_of(open.inode.number))?;
        open.put_blocks(&[block]);
        open.inode.put_size(self.superblock().block_len);
        let seed = open.inode.seed(self.superblock());
        self.put_folder_block(block, content, seed)
    }

    /// The block of a folder in which there is nothing but the names of itself and its parent.
    pub(super) fn folder_of(&self, number: u32, parent: u32) -> Option<Vec<u8>> {
        let has_tail = self.superblock().has_metadata_csum();
        let mut content = folder::empty(self.space.block_len(), has_tail);
        let rest = bytes::le_u16(&content, 4)?.checked_sub(DOT)?;
        let kind = self.kind_of(2);
        let mut put = |at: usize, number: u32, rec_len: u16, name: [u8; 2], len: u8| {
            bytes::put(&mut content, at, number.to_le_bytes())?;
            bytes::put(&mut content, at.checked_add(4)?, rec_len.to_le_bytes())?;
            bytes::put(&mut content, at.checked_add(6)?, [len, kind])?;
            bytes::put(&mut content, at.checked_add(8)?, name)
        };
        put(0, number, DOT, *b".\0", 1)?;
        put(DOT.into(), parent, rest, *b"..", 2)?;
        Some(content)
    }
}

/// Gives an inode without a block the kind of map that its volume gives to new ones.
pub(in crate::ext4) fn with_a_map(inode: &mut RawInode, superblock: &Superblock) -> Result<()> {
    if superblock.has_extents() {
        inode.put_flags(inode.flags() | EXTENTS_FLAG);
        let none = trees::tree(&[], &[], inode.i_block(), superblock, 0)?;
        inode.put_i_block(&none.i_block);
    }
    Ok(())
}
