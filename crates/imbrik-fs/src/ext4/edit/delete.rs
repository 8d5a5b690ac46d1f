//! Inodes that go, with all that they have.

use super::{Editor, OpenInode};
use crate::{
    bits::Bits,
    ext4::{
        fixed::Fixed,
        quota,
        structure::{
            attributes,
            inode::RawInode,
            map::{Map, map_of},
            values,
        },
    },
};
use imbrik_store::error::{Error, Result};

impl Editor<'_> {
    /// The map of an inode, after a check that it contains no metadata of the volume.
    ///
    /// # Errors
    /// When it cannot be read, or leads elsewhere.
    pub(in crate::ext4) fn map_apart(&mut self, inode: &RawInode) -> Result<Map> {
        let superblock = self.superblock();
        let opened = self.space.opened;
        let fixed = match self.fixed.take() {
            Some(fixed) => fixed,
            None => Fixed::of(superblock, &opened.groups)?,
        };
        let mut seen = Bits::new(superblock.blocks);
        let map = map_of(&opened.meta, superblock, inode, &mut |run| {
            let is_own =
                run.first >= superblock.first_data_block && !fixed.touches(run) && seen.add(run);
            is_own.then_some(()).ok_or_else(|| inode.wrong("it has blocks that are not its own"))
        });
        self.fixed = Some(fixed);
        map
    }

    /// Deletes an inode without a name: all of its blocks are freed.
    ///
    /// # Errors
    /// When what it has is invalid.
    pub(in crate::ext4) fn delete(&mut self, inode: &RawInode) -> Result<()> {
        if self.gone.contains(&inode.number) {
            return Ok(());
        }
        let map = self.map_apart(inode)?;
        let open = OpenInode::with_map(inode.clone(), map, self.superblock())?;
        self.delete_open(open)
    }

    /// The same for one that is at work.
    ///
    /// # Errors
    /// As [`Editor::delete`].
    pub(super) fn delete_open(&mut self, open: OpenInode) -> Result<()> {
        let inode = &open.inode;
        if !self.gone.insert(inode.number) {
            return Ok(());
        }
        let runs = open.pieces.iter().map(|piece| piece.run());
        for block in runs.flat_map(|run| run.first..run.end()).chain(open.nodes()) {
            self.space.give_back(block)?;
        }
        if !inode.is_attribute_value() {
            // The inodes of large values are counted for the owners of the files that have them.
            let values = match open.is_new {
                true => 0,
                false => quota::values_of(self.space.opened, inode)?,
            };
            let blocks = i64::try_from(open.blocks_before()).unwrap_or(i64::MAX);
            let inodes = values.saturating_add(1);
            let change =
                quota::Change { blocks: blocks.saturating_neg(), inodes: inodes.saturating_neg() };
            quota::count(&mut self.usage, inode, self.space.superblock(), change);
        }
        let found = values::in_inode(inode);
        let found = found.ok_or_else(|| inode.wrong("its attributes are invalid"))?;
        let held: Vec<u32> = found.iter().map(|attribute| attribute.inode).collect();
        self.release(&held)?;
        let block = inode.file_acl(self.superblock());
        if block != 0 {
            self.leave_attributes(block)?;
        }
        let mut raw = RawInode { number: inode.number, raw: vec![0; inode.raw.len()] };
        raw.put_u32(0x64, inode.generation());
        raw.put_u32(0x14, self.seconds().max(1));
        self.space.put_inode(raw)?;
        self.space.give_back_inode(inode.number, inode.is_folder())
    }

    /// One inode less shares an attribute block.
    fn leave_attributes(&mut self, number: u64) -> Result<()> {
        let wrong = || Error::corrupt(format!("the attributes in block {number} are invalid"));
        let mut block = self.space.block(number)?;
        let superblock = self.superblock();
        let sharers = attributes::sharers(&block, number, superblock).ok_or_else(wrong)?;
        match sharers.checked_sub(1).ok_or_else(wrong)? {
            0 => {
                let found = attributes::list(&block, attributes::IN_BLOCK, 0).ok_or_else(wrong)?;
                let held: Vec<u32> = found.iter().map(|attribute| attribute.inode).collect();
                self.release(&held)?;
                self.space.give_back(number)
            }
            left => {
                attributes::put_sharers(&mut block, left).ok_or_else(wrong)?;
                attributes::seal(&mut block, number, superblock).ok_or_else(wrong)?;
                self.space.put_block(number, &block)
            }
        }
    }

    /// Decrements the use count of each of these value inodes; 0 stands for no inode.
    fn release(&mut self, held: &[u32]) -> Result<()> {
        for number in held.iter().copied().filter(|number| *number != 0) {
            if self.gone.contains(&number) {
                continue;
            }
            let mut value = self.space.inode(number)?;
            if !value.is_attribute_value() {
                return Err(value.wrong("it is to hold the value of an attribute, and does not"));
            }
            match value.value_references().saturating_sub(1) {
                0 => self.delete(&value)?,
                left => {
                    value.put_value_references(left);
                    self.space.put_inode(value)?;
                }
            }
        }
        Ok(())
    }
}
