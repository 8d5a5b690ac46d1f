//! Entries of folders: looked up, added, taken out.

use super::{Editor, OpenInode};
use crate::ext4::structure::{attributes, folder, inode::RawInode};
use imbrik_store::{
    bytes,
    error::{Error, Result},
    exact::Exact as _,
};

impl Editor<'_> {
    /// The inode that the entry `name` of a folder leads to.
    ///
    /// # Errors
    /// When the folder cannot be read, or makes no sense.
    pub(in crate::ext4) fn look_up(&self, open: &OpenInode, name: &[u8]) -> Result<Option<u32>> {
        let folder = &open.inode;
        let wrong = || folder.wrong("a block of the folder makes no sense");
        let number = |content: &[u8], start: usize| {
            let entries = folder::entries(content, start).ok_or_else(wrong)?;
            let found = entries.iter().find(|entry| entry.name == name);
            Ok::<_, Error>(found.map(|entry| entry.inode))
        };
        if folder.is_inline() {
            let more = attributes::inline_data(folder);
            let more = more.and_then(|range| folder.raw.get(range)).unwrap_or_default();
            return Ok(number(folder.i_block(), folder::INLINE)?.or(number(more, 0)?));
        }
        for block in open.blocks() {
            if let Some(found) = number(&self.space.block(block)?, 0)? {
                return Ok(Some(found));
            }
        }
        Ok(None)
    }

    /// Adds an entry for `inode` to a folder: where one has room behind it, or in a new block.
    ///
    /// # Errors
    /// When the name cannot be, the folder must not be changed or makes no sense, or there is no
    /// room.
    pub(in crate::ext4) fn add_entry(
        &mut self,
        open: &mut OpenInode,
        name: &[u8],
        inode: &RawInode,
    ) -> Result<()> {
        if name.is_empty() || name.len() > 255 || name.contains(&b'/') || name.contains(&0) {
            return Err(Error::usage("such a name cannot be"));
        }
        if open.inode.is_immutable() {
            return Err(Error::unsupported("its folder must not be changed"));
        }
        self.folder_out_of_inode(open)?;
        if open.inode.is_indexed() {
            self.unhash(open)?;
        }
        let seed = open.inode.seed(self.superblock());
        let has_tail = self.superblock().has_metadata_csum();
        let kind = self.kind_of(inode.entry_kind());
        let mut blocks = open.blocks();
        for block in &blocks {
            let mut content = self.space.block(*block)?;
            if folder::insert(&mut content, name, inode.number, kind, has_tail).is_some() {
                return self.put_folder_block(*block, content, seed);
            }
        }
        let mut content = folder::empty(self.space.block_len(), has_tail);
        folder::insert(&mut content, name, inode.number, kind, has_tail)
            .ok_or_else(|| Error::unsupported("a block has no room for such a name"))?;
        let block = self.space.take(blocks.last().copied().unwrap_or(0))?;
        blocks.push(block);
        self.put_folder_block(block, content, seed)?;
        let size = blocks.len().fitting::<u64>()?;
        open.put_blocks(&blocks);
        open.inode.put_size(size.times(self.superblock().block_len)?);
        Ok(())
    }

    /// Takes the entry `name` out of a folder; answers whether there was one.
    ///
    /// # Errors
    /// When the folder cannot be read, or makes no sense.
    pub(in crate::ext4) fn remove_entry(
        &mut self,
        open: &mut OpenInode,
        name: &[u8],
    ) -> Result<bool> {
        self.folder_out_of_inode(open)?;
        let seed = open.inode.seed(self.superblock());
        for block in open.blocks() {
            let mut content = self.space.block(block)?;
            if folder::remove(&mut content, name).is_some() {
                self.put_folder_block(block, content, seed)?;
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// The kind that an entry gets: none where entries don't tell it.
    pub(super) fn kind_of(&self, kind: u8) -> u8 {
        if self.superblock().entries_have_types() { kind } else { 0 }
    }

    pub(super) fn put_folder_block(
        &mut self,
        block: u64,
        mut content: Vec<u8>,
        seed: u32,
    ) -> Result<()> {
        if self.superblock().has_metadata_csum() {
            folder::seal(&mut content, seed)
                .ok_or_else(|| Error::corrupt("a block of a folder has no place for a checksum"))?;
        }
        self.space.put_block(block, &content)
    }

    /// Makes a plain folder of a hashed one: its nodes become blocks without entries.
    fn unhash(&mut self, open: &mut OpenInode) -> Result<()> {
        let folder = &open.inode;
        let seed = folder.seed(self.superblock());
        let has_tail = self.superblock().has_metadata_csum();
        let len = self.space.block_len();
        let wrong = || folder.wrong("its hashed blocks make no sense");
        for (index, block) in open.blocks().into_iter().enumerate() {
            let old = self.space.block(block)?;
            if !folder::is_node(&old) {
                continue;
            }
            let mut content = folder::empty(len, has_tail);
            if index == 0 {
                let end = if has_tail { len.saturating_sub(folder::TAIL) } else { len };
                let dots = content.get_mut(..24).ok_or_else(wrong)?;
                dots.copy_from_slice(old.get(..24).ok_or_else(wrong)?);
                let rest = u16::try_from(end.saturating_sub(12)).map_err(|_| wrong())?;
                bytes::put(&mut content, 16, rest.to_le_bytes()).ok_or_else(wrong)?;
            }
            self.put_folder_block(block, content, seed)?;
        }
        open.inode.clear_index();
        Ok(())
    }
}
