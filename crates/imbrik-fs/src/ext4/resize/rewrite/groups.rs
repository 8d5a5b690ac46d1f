//! Rewriting bitmaps and group descriptors for the new used space.

use super::{Rewriter, broken};
use crate::{
    bits::Run,
    ext4::{
        checksum::crc32c,
        group::{BLOCK_UNINIT, Group, INODE_UNINIT},
    },
};
use imbrik_store::{error::Result, exact::Exact as _};

impl Rewriter<'_> {
    /// Writes the bitmaps; returns the groups for their descriptors.
    pub(super) fn groups(&mut self) -> Result<Vec<Group>> {
        let new = self.now().clone();
        let len = new.block_len.exact_as::<usize>()?;
        let mut used = self.layout.geometry.metadata.clone();
        for run in self.layout.owned.runs(Run::new(0, new.blocks)) {
            if !used.add(run) {
                return Err(broken("the plan"));
            }
        }
        let last = new.groups().saturating_sub(1);
        let mut groups = self.layout.geometry.groups.clone();
        for (number, group) in (0u64..).zip(&mut groups) {
            let run = Run::new(new.group_start(number), new.group_len(number));
            group.free_clusters = run.len.saturating_sub(used.count_in(run));
            let is_new = number >= self.was().groups();
            let implied = new.implied_blocks(number, group);
            let is_plain = used.count_in(run) == implied;
            let stays_unwritten = group.is_block_uninit && is_plain && number != last;
            // A new group's bitmap need not be written, either, where descriptors can say so.
            let is_unwritten = stays_unwritten
                || is_new && is_plain && number != last && new.has_group_checksums();
            group.is_block_uninit = is_unwritten;
            group.flags &= !BLOCK_UNINIT;
            let bitmap = used.bitmap(run, len);
            if is_unwritten {
                group.flags |= BLOCK_UNINIT;
            } else {
                self.put_if_new(group.block_bitmap, bitmap.clone())?;
            }
            group.block_bitmap_checksum = crc32c(new.seed, new.covered(&bitmap));
            let a_group = new.inodes_per_group;
            let own = Run::new(number.times(a_group)?, a_group);
            let in_use = self.inodes.count_in(own);
            group.free_inodes = a_group.saturating_sub(in_use);
            group.used_directories = self.folders.count_in(own);
            if let Some(unused) = &mut group.unused_inodes {
                let highest = self.inodes.runs(own).last().map_or(own.first, Run::end);
                let behind = own.end().saturating_sub(highest);
                *unused = behind.min(*unused);
                if in_use > 0 {
                    group.flags &= !INODE_UNINIT;
                }
            }
            let bitmap = self.inodes.bitmap(own, len);
            if new.has_group_checksums() && group.flags & INODE_UNINIT != 0 {
                // It is not read, whatever it contains.
                group.inode_bitmap_checksum = crc32c(new.seed, new.covered_inodes(&bitmap));
            } else {
                group.inode_bitmap_checksum = crc32c(new.seed, new.covered_inodes(&bitmap));
                self.put_if_new(group.inode_bitmap, bitmap)?;
            }
        }
        Ok(groups)
    }

    /// Writes `content` to `block` unless it is there already.
    fn put_if_new(&mut self, block: u64, content: Vec<u8>) -> Result<()> {
        if self.draft.block(block)? != content {
            self.draft.put(block, content)?;
        }
        Ok(())
    }
}
