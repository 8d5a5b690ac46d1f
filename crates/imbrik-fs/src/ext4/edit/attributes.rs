//! Attributes of a new inode, and another owner for one that is there.

use super::{Editor, OpenInode};
use crate::{
    ext4::{
        quota,
        structure::attributes::{self, NewAttribute},
    },
    files::FileAttribute,
};
use imbrik_store::error::{Error, Result};

impl Editor<'_> {
    /// Adds attributes to a new inode: in the inode if there is space, otherwise all of them in a block.
    ///
    /// # Errors
    /// When they are not supported, or no block is free.
    pub(super) fn give_attributes(
        &mut self,
        open: &mut OpenInode,
        wanted: &[FileAttribute],
    ) -> Result<()> {
        if wanted.is_empty() {
            return Ok(());
        }
        let mut all = Vec::new();
        for one in wanted {
            let name = one.name.escape_ascii();
            let made = NewAttribute::of(&one.name, &one.value);
            let made = made.ok_or_else(|| {
                Error::unsupported(format!("it cannot have the attribute {name}"))
            })?;
            all.push(made);
        }
        if attributes::put_in_inode(&mut open.inode, &mut all).is_some() {
            return Ok(());
        }
        let len = self.space.block_len();
        let block = attributes::new_block(len, &mut all);
        let mut block = block.ok_or_else(|| Error::unsupported("its attributes are too long"))?;
        let number = self.space.take(self.home_of(open.inode.number))?;
        attributes::seal(&mut block, number, self.superblock())
            .ok_or_else(|| Error::bug("a block of attributes cannot be sealed"))?;
        self.space.put_block(number, &block)?;
        open.inode.put_file_acl(number, self.superblock());
        open.add_metadata_block();
        let superblock = self.superblock();
        let change = quota::Change { blocks: 1, inodes: 0 };
        quota::count(&mut self.usage, &open.inode, superblock, change);
        Ok(())
    }

    /// Changes the owner of an inode, and moves its usage to the new owner.
    ///
    /// # Errors
    /// When its attributes are invalid.
    pub(super) fn change_owner(
        &mut self,
        open: &mut OpenInode,
        owner: u32,
        group: u32,
    ) -> Result<()> {
        let superblock = self.superblock();
        let values = match open.is_new {
            true => 0,
            false => quota::values_of(self.space.opened, &open.inode)?,
        };
        let blocks = i64::try_from(open.blocks_before()).unwrap_or(i64::MAX);
        let inodes = values.saturating_add(1);
        let minus =
            quota::Change { blocks: blocks.saturating_neg(), inodes: inodes.saturating_neg() };
        quota::count(&mut self.usage, &open.inode, superblock, minus);
        open.inode.put_owner(owner, group);
        let plus = quota::Change { blocks, inodes };
        quota::count(&mut self.usage, &open.inode, superblock, plus);
        Ok(())
    }
}
