//! Directory entries: lookup, addition, removal.

use super::{Editor, OpenInode};
use crate::ext4::structure::{
    attributes,
    folder::{self, NamedInode},
    inode::RawInode,
};
use imbrik_store::{
    bytes,
    error::{Error, Result},
    exact::Exact as _,
};

impl Editor<'_> {
    /// The inode that the entry `name` of a folder leads to.
    ///
    /// # Errors
    /// When the folder cannot be read, or is invalid.
    pub(in crate::ext4) fn look_up(&self, open: &OpenInode, name: &[u8]) -> Result<Option<u32>> {
        if open.inode.is_indexed() && self.can_keep_index(open)? {
            return Ok(self.find_hashed(open, name)?.map(|(_, inode)| inode));
        }
        let mut found = None;
        self.each_entry(open, &mut |entry| {
            if entry.name == name {
                found = Some(entry.inode);
            }
            found.is_none()
        })?;
        Ok(found)
    }

    /// Calls `each` with the entries of a folder until it returns `false`.
    fn each_entry(
        &self,
        open: &OpenInode,
        each: &mut dyn FnMut(NamedInode<'_>) -> bool,
    ) -> Result<()> {
        let folder = &open.inode;
        let wrong = || folder.wrong("a block of the folder is invalid");
        let mut some = |content: &[u8], start: usize| {
            for entry in folder::each_entry(content, start) {
                if !each(entry.ok_or_else(wrong)?) {
                    return Ok(false);
                }
            }
            Ok::<_, Error>(true)
        };
        if folder.is_inline() {
            let more = attributes::inline_data(folder);
            let more = more.and_then(|range| folder.raw.get(range)).unwrap_or_default();
            let _ = some(folder.i_block(), folder::INLINE)? && some(more, 0)?;
            return Ok(());
        }
        for block in open.blocks() {
            if !some(&self.space.block(block)?, 0)? {
                break;
            }
        }
        Ok(())
    }

    /// All names in a folder, and the inodes that they lead to.
    ///
    /// # Errors
    /// When the folder cannot be read, or is invalid.
    pub(super) fn names_in(&self, open: &OpenInode) -> Result<Vec<(Vec<u8>, u32)>> {
        let mut all = Vec::new();
        self.each_entry(open, &mut |entry| {
            all.push((entry.name.to_vec(), entry.inode));
            true
        })?;
        Ok(all)
    }

    /// Adds an entry for `inode` to a folder: in the free space after an entry, or in a new block.
    ///
    /// # Errors
    /// When the name cannot be, the folder must not be changed or is invalid, or there is no
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
        let kind = self.kind_of(inode.entry_kind());
        if open.inode.is_indexed() {
            if self.can_keep_index(open)? {
                return self.add_hashed(open, name, inode.number, kind);
            }
            self.unhash(open)?;
        }
        let seed = open.inode.seed(self.superblock());
        let has_tail = self.superblock().has_metadata_csum();
        let mut blocks = open.blocks();
        for block in &blocks {
            let mut content = self.space.block(*block)?;
            if folder::insert(&mut content, name, inode.number, kind, has_tail).is_some() {
                return self.put_folder_block(*block, content, seed);
            }
        }
        if self.start_index(open, name, inode.number, kind)? {
            return Ok(());
        }
        let mut content = folder::empty(self.space.block_len(), has_tail);
        folder::insert(&mut content, name, inode.number, kind, has_tail)
            .ok_or_else(|| Error::unsupported("a block has no room for such a name"))?;
        let block = self.space.take(blocks.last().copied().unwrap_or(0))?;
        blocks.push(block);
        self.put_folder_block(block, content, seed)?;
        let size = blocks.len().exact_as::<u64>()?;
        open.put_blocks(&blocks);
        open.inode.put_size(size.times(self.superblock().block_len)?);
        Ok(())
    }

    /// Removes the entry `name` from a folder; returns whether it existed.
    ///
    /// # Errors
    /// When the folder cannot be read, or is invalid.
    pub(in crate::ext4) fn remove_entry(
        &mut self,
        open: &mut OpenInode,
        name: &[u8],
    ) -> Result<bool> {
        if open.inode.is_immutable() {
            return Err(Error::unsupported("its folder must not be changed"));
        }
        self.folder_out_of_inode(open)?;
        let seed = open.inode.seed(self.superblock());
        let blocks = match open.inode.is_indexed() && self.can_keep_index(open)? {
            true => self.find_hashed(open, name)?.map(|(block, _)| block).into_iter().collect(),
            false => open.blocks(),
        };
        for block in blocks {
            let mut content = self.space.block(block)?;
            if folder::remove(&mut content, name).is_some() {
                self.put_folder_block(block, content, seed)?;
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// Sets the parent of a folder.
    ///
    /// # Errors
    /// When it is invalid.
    pub(super) fn put_parent(&mut self, open: &mut OpenInode, parent: u32) -> Result<()> {
        if open.inode.is_inline() {
            let mut map = open.inode.i_block().to_vec();
            let _ = bytes::put(&mut map, 0, parent.to_le_bytes());
            open.inode.put_i_block(&map);
            return Ok(());
        }
        let wrong = || Error::corrupt("the folder does not know which one it is in");
        let first = open.blocks().first().copied().ok_or_else(wrong)?;
        let mut content = self.space.block(first)?;
        folder::put_parent(&mut content, parent).ok_or_else(wrong)?;
        let seed = open.inode.seed(self.superblock());
        self.put_folder_block(first, content, seed)
    }

    /// The file type in an entry: none if entries of this volume have none.
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

    /// Converts a hashed folder to a plain one: its nodes become blocks without entries.
    fn unhash(&mut self, open: &mut OpenInode) -> Result<()> {
        let folder = &open.inode;
        let seed = folder.seed(self.superblock());
        let has_tail = self.superblock().has_metadata_csum();
        let len = self.space.block_len();
        let wrong = || folder.wrong("its hashed blocks are invalid");
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
