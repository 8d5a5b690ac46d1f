//! Allocation of blocks and inodes, with the bitmaps, counters and checksums that record it.

use crate::{
    bits::{Bits, Run},
    edit::Contents,
    ext4::{
        checksum::crc32c,
        group::{BLOCK_UNINIT, Group, INODE_UNINIT},
        structure::{
            Opened,
            inode::{RawInode, low_u32},
        },
        superblock::Superblock,
        usage,
    },
};
use imbrik_store::{
    Edited, ReadAt, Spill, bytes,
    error::{Error, Result},
    exact::Exact as _,
    read_vec,
    units::{ByteLen, ByteOffset},
};
use std::{collections::BTreeMap, sync::Arc};

/// A volume in which blocks and inodes are allocated and freed.
pub(super) struct Space<'a> {
    pub(super) opened: &'a Opened,
    draft: Edited,
    groups: Vec<Group>,
    /// Block bitmaps that were read, by group.
    bitmaps: BTreeMap<usize, Bits>,
    /// Inode bitmaps that were read, by group, and whether they changed.
    inodes: BTreeMap<usize, (Bits, bool)>,
    /// The blocks of the metadata of all groups, once they were needed.
    metadata: Option<Bits>,
    /// Counts of allocated and freed blocks and inodes.
    taken_blocks: u64,
    freed_blocks: u64,
    taken_inodes: u64,
    freed_inodes: u64,
    /// Freed blocks. Their bits stay set until the edit is complete.
    freed: Bits,
    /// True if freed blocks and inodes are not reused.
    keeps_old: bool,
    /// Inodes that are freed when the edit is complete: groups, and indexes in them.
    waiting_inodes: Vec<(usize, u64)>,
}

impl<'a> Space<'a> {
    pub(super) fn of(opened: &'a Opened, store: &Arc<dyn ReadAt>) -> Self {
        let block_len = opened.superblock.block_len;
        Self {
            opened,
            draft: Edited::in_units(
                Arc::clone(store),
                block_len,
                Spill::new(block_len, ByteLen::ZERO, None),
            ),
            groups: opened.groups.clone(),
            bitmaps: BTreeMap::new(),
            inodes: BTreeMap::new(),
            metadata: None,
            taken_blocks: 0,
            freed_blocks: 0,
            taken_inodes: 0,
            freed_inodes: 0,
            freed: Bits::new(opened.superblock.blocks),
            keeps_old: false,
            waiting_inodes: Vec::new(),
        }
    }

    /// Disables the reuse of freed blocks and inodes.
    pub(super) fn keep_old(&mut self) {
        self.keeps_old = true;
    }

    pub(super) fn superblock(&self) -> &'a Superblock {
        &self.opened.superblock
    }

    pub(super) fn block_len(&self) -> usize {
        usize::try_from(self.superblock().block_len).unwrap_or(0)
    }

    pub(super) fn place(&self, block: u64) -> ByteOffset {
        ByteOffset::new(block.saturating_mul(self.superblock().block_len))
    }

    /// Reads a block in its current state.
    ///
    /// # Errors
    /// When it can't be read.
    pub(super) fn block(&self, block: u64) -> Result<Vec<u8>> {
        read_vec(&self.draft, self.place(block), self.block_len())
    }

    /// # Errors
    /// When it is past the end, or the rest of it can't be read.
    pub(super) fn put_block(&mut self, block: u64, content: &[u8]) -> Result<()> {
        let at = self.place(block);
        self.draft.put(at, content)
    }

    /// Writes `bytes` at offset `inside` of a block.
    ///
    /// # Errors
    /// As [`Space::put_block`].
    pub(super) fn put_in_block(&mut self, block: u64, inside: usize, bytes: &[u8]) -> Result<()> {
        let inside = inside.exact_as::<u64>()?;
        let at = ByteOffset::new(self.place(block).get().plus(inside)?);
        self.draft.put(at, bytes)
    }

    /// Allocates a free inode in the group of `near` or in the next one with a free inode. Returns its number.
    ///
    /// # Errors
    /// [`imbrik_store::Class::NoRoom`] when all are in use, [`imbrik_store::Class::Corrupt`] when a bitmap is wrong.
    pub(super) fn take_inode(&mut self, near: u32, is_folder: bool) -> Result<u32> {
        let superblock = self.superblock();
        let a_group = superblock.inodes_per_group;
        let home = u64::from(near.saturating_sub(1)).over(a_group)?;
        let count = self.groups.len().exact_as::<u64>()?;
        for ahead in 0..count {
            let index = home.plus(ahead)?.checked_rem(count).unwrap_or(0);
            let at = index.exact_as::<usize>()?;
            if self.groups.get(at).is_none_or(|group| group.free_inodes == 0) {
                continue;
            }
            let used = self.inodes_of(at)?;
            let first = index.times(a_group)?;
            let reserved = u64::from(superblock.first_inode).minus(1)?;
            // Reserved inodes are only in the first groups.
            let within = Run::between(reserved.saturating_sub(first), a_group);
            let Some(hole) = used.0.holes(within).next() else { continue };
            let number = low_u32(first.plus(hole.first)?.plus(1)?);
            self.take_this_inode(number, is_folder)?;
            return Ok(number);
        }
        Err(Error::no_room("no inode is free"))
    }

    /// Allocates this free inode.
    ///
    /// # Errors
    /// [`imbrik_store::Class::Corrupt`] when it is in use, or a bitmap is wrong.
    pub(super) fn take_this_inode(&mut self, number: u32, is_folder: bool) -> Result<()> {
        let superblock = self.superblock();
        let a_group = superblock.inodes_per_group;
        let (at, inside) = self.group_of_inode(number);
        let wrong = || Error::corrupt(format!("inode {number} cannot be allocated"));
        let (used, is_changed) = self.inodes_of(at)?;
        if !used.add(Run::new(inside, 1)) {
            return Err(wrong());
        }
        *is_changed = true;
        // A group with a used inode has an initialised block bitmap.
        self.bitmap(at)?;
        let group = self.groups.get_mut(at).ok_or_else(wrong)?;
        group.flags &= !INODE_UNINIT;
        // A counter that is too small contradicts its bitmap: the volume is damaged.
        group.free_inodes = group.free_inodes.checked_sub(1).ok_or_else(wrong)?;
        let more = u64::from(is_folder);
        group.used_directories = group.used_directories.plus(more)?;
        if let Some(unused) = &mut group.unused_inodes {
            *unused = (*unused).min(a_group.minus(inside)?.minus(1)?);
        }
        self.taken_inodes = self.taken_inodes.plus(1)?;
        Ok(())
    }

    /// The group of an inode, and its index in the group.
    fn group_of_inode(&self, number: u32) -> (usize, u64) {
        let a_group = self.superblock().inodes_per_group;
        let index = u64::from(number).checked_sub(1).unwrap_or(u64::MAX);
        let group = index.checked_div(a_group).unwrap_or(u64::MAX);
        let inside = index.checked_rem(a_group).unwrap_or(0);
        (usize::try_from(group).unwrap_or(usize::MAX), inside)
    }

    /// The used inodes of a group, by index, and whether they changed.
    fn inodes_of(&mut self, index: usize) -> Result<&mut (Bits, bool)> {
        if !self.inodes.contains_key(&index) {
            let a_group = self.superblock().inodes_per_group;
            let mut used = Bits::new(a_group);
            let group = self.groups.get(index);
            let group = group.ok_or_else(|| Error::corrupt("an inode lies outside"))?;
            if group.flags & INODE_UNINIT == 0 {
                let bitmap = self.block(group.inode_bitmap)?;
                for (first, count) in usage::runs(&bitmap, a_group) {
                    used.add(Run::new(first, count));
                }
            }
            self.inodes.insert(index, (used, false));
        }
        self.inodes.get_mut(&index).ok_or_else(|| Error::bug("a bitmap is lost"))
    }

    /// Returns whether an inode is in use.
    ///
    /// # Errors
    /// When its bitmap can't be read, or it doesn't exist.
    pub(super) fn is_inode_used(&mut self, number: u32) -> Result<bool> {
        let (at, inside) = self.group_of_inode(number);
        Ok(self.inodes_of(at)?.0.contains(inside))
    }

    /// Adds or subtracts one in the folder count of an inode's group.
    ///
    /// # Errors
    /// [`imbrik_store::Class::Corrupt`] when the count is zero already.
    pub(super) fn count_folder(&mut self, number: u32, is_one_more: bool) -> Result<()> {
        let (at, _) = self.group_of_inode(number);
        let Some(group) = self.groups.get_mut(at) else { return Ok(()) };
        group.used_directories = match is_one_more {
            true => group.used_directories.plus(1)?,
            false => one_less(group.used_directories, "folders")?,
        };
        Ok(())
    }

    /// The block bitmap of a group, which will be written.
    fn bitmap(&mut self, index: usize) -> Result<Option<&mut Bits>> {
        if !self.bitmaps.contains_key(&index) {
            let Some(group) = self.groups.get(index) else { return Ok(None) };
            let superblock = self.superblock();
            let number = index.exact_as::<u64>()?;
            let len = superblock.group_len(number);
            let mut bits = Bits::new(len);
            if group.is_block_uninit {
                // It is not initialised: only the group's own metadata are used.
                if self.metadata.is_none() {
                    self.metadata = Some(self.opened.metadata()?);
                }
                let start = superblock.group_start(number);
                for run in self.metadata.iter().flat_map(|all| all.runs(Run::new(start, len))) {
                    bits.add(Run::new(run.first.minus(start)?, run.len));
                }
            } else {
                let content = self.block(group.block_bitmap)?;
                group.check_block_bitmap(superblock.covered(&content), number, superblock)?;
                for (first, count) in usage::runs(&content, len) {
                    bits.add(Run::new(first, count));
                }
            }
            if let Some(group) = self.groups.get_mut(index) {
                group.flags &= !BLOCK_UNINIT;
                group.is_block_uninit = false;
            }
            self.bitmaps.insert(index, bits);
        }
        Ok(self.bitmaps.get_mut(&index))
    }

    /// The group of a block, and its index in the group.
    fn group_of(&self, block: u64) -> (usize, u64) {
        let superblock = self.superblock();
        let inside = block.saturating_sub(superblock.first_data_block);
        let group = inside.checked_div(superblock.blocks_per_group).unwrap_or(0);
        let first = superblock.group_start(group);
        (usize::try_from(group).unwrap_or(usize::MAX), block.saturating_sub(first))
    }

    /// Allocates the next free block after `near`.
    ///
    /// # Errors
    /// [`imbrik_store::Class::NoRoom`] when all are in use, [`imbrik_store::Class::Corrupt`] when a bitmap is wrong.
    pub(super) fn take(&mut self, near: u64) -> Result<u64> {
        self.take_run(near, 1).map(|run| run.first)
    }

    /// Allocates up to `most` contiguous free blocks, the next ones after `near`.
    ///
    /// # Errors
    /// As [`Space::take`].
    pub(super) fn take_run(&mut self, near: u64, most: u64) -> Result<Run> {
        let (home, inside) = self.group_of(near);
        let count = self.groups.len();
        for ahead in 0..=count {
            let index = home.plus(ahead)?.checked_rem(count.max(1)).unwrap_or(0);
            if self.groups.get(index).is_none_or(|group| group.free_clusters == 0) {
                continue;
            }
            let from = if ahead == 0 { inside } else { 0 };
            let start = self.superblock().group_start(index.exact_as::<u64>()?);
            let Some(bits) = self.bitmap(index)? else { continue };
            let within = Run::between(from, bits.len());
            let hole = bits.holes(within).next();
            if let Some(hole) = hole {
                let run = Run::new(hole.first, hole.len.min(most));
                bits.add(run);
                self.count_taken(index, run.len)?;
                return Ok(Run::new(start.plus(run.first)?, run.len));
            }
        }
        let all = Run::new(0, self.freed.len());
        // Blocks that were written to before are known to the draft.
        let again = self.freed.runs(all).flat_map(|run| run.first..run.end());
        let again = { again }.find(|block| !self.draft.has_unit(*block));
        match again.filter(|_| !self.keeps_old) {
            Some(block) => {
                self.take_again(block)?;
                Ok(Run::new(block, 1))
            }
            None => Err(Error::no_room("no block is free")),
        }
    }

    fn count_taken(&mut self, group: usize, blocks: u64) -> Result<()> {
        if let Some(group) = self.groups.get_mut(group) {
            let left = group.free_clusters.checked_sub(blocks);
            let wrong = || Error::corrupt("a group counts too few free blocks");
            group.free_clusters = left.ok_or_else(wrong)?;
        }
        self.taken_blocks = self.taken_blocks.plus(blocks)?;
        Ok(())
    }

    /// Allocates a freed block again.
    fn take_again(&mut self, block: u64) -> Result<()> {
        self.freed.remove(Run::new(block, 1));
        let (index, _) = self.group_of(block);
        self.count_taken(index, 1)
    }

    /// Clears freed blocks, unless old content is to be kept.
    ///
    /// # Errors
    /// When it cannot be written.
    pub(super) fn clear_freed(&mut self, contents: &mut Contents) -> Result<()> {
        if self.keeps_old {
            return Ok(());
        }
        for run in self.freed.runs(Run::new(0, self.freed.len())).collect::<Vec<_>>() {
            for block in run.first..run.end() {
                match self.draft.has_unit(block) {
                    true => self.draft.put_unit(block, self.draft.empty_unit())?,
                    false => {
                        let span = self.superblock().span(block, 1);
                        span.into_iter().for_each(|span| contents.clear(span));
                    }
                }
            }
        }
        Ok(())
    }

    /// The current count of free blocks, according to the groups.
    pub(super) fn free_blocks(&self) -> u64 {
        self.groups.iter().fold(0, |sum, group| sum.saturating_add(group.free_clusters))
    }

    /// Allocates this block. Returns `false` if it is in use.
    ///
    /// # Errors
    /// [`imbrik_store::Class::Corrupt`] when it has no bitmap, or that is wrong.
    pub(super) fn take_this(&mut self, block: u64) -> Result<bool> {
        if self.freed.contains(block) {
            self.take_again(block)?;
            return Ok(true);
        }
        let (index, inside) = self.group_of(block);
        let bits = self.bitmap(index)?;
        let bits = bits.ok_or_else(|| Error::corrupt("a block in use has no bitmap"))?;
        let is_new = bits.add(Run::new(inside, 1));
        if is_new {
            self.count_taken(index, 1)?;
        }
        Ok(is_new)
    }

    /// # Errors
    /// [`imbrik_store::Class::Corrupt`] when a bitmap is wrong.
    pub(super) fn give_back(&mut self, block: u64) -> Result<()> {
        let (index, inside) = self.group_of(block);
        let bits = self.bitmap(index)?;
        let bits = bits.ok_or_else(|| Error::corrupt("a block in use has no bitmap"))?;
        if !bits.contains(inside) || !self.freed.add(Run::new(block, 1)) {
            return Err(Error::corrupt(format!("block {block} is free already")));
        }
        if let Some(group) = self.groups.get_mut(index) {
            group.free_clusters = group.free_clusters.plus(1)?;
        }
        self.freed_blocks = self.freed_blocks.plus(1)?;
        Ok(())
    }

    /// Frees an inode.
    ///
    /// # Errors
    /// [`imbrik_store::Class::Corrupt`] when its bitmap calls it free.
    pub(super) fn give_back_inode(&mut self, number: u32, is_folder: bool) -> Result<()> {
        let (at, inside) = self.group_of_inode(number);
        let wrong = || Error::corrupt(format!("inode {number} is free already"));
        let keeps_old = self.keeps_old;
        let (used, is_changed) = self.inodes_of(at)?;
        if !used.contains(inside) {
            return Err(wrong());
        }
        *is_changed = true;
        match keeps_old {
            // After an interruption, an old name can still refer to it.
            true => self.waiting_inodes.push((at, inside)),
            false => used.remove(Run::new(inside, 1)),
        }
        if let Some(group) = self.groups.get_mut(at) {
            group.free_inodes = group.free_inodes.plus(1)?;
            if is_folder {
                group.used_directories = one_less(group.used_directories, "folders")?;
            }
        }
        self.freed_inodes = self.freed_inodes.plus(1)?;
        Ok(())
    }

    /// Reads an inode in its current state.
    ///
    /// # Errors
    /// When it doesn't exist, or its checksum is wrong.
    pub(super) fn inode(&self, number: u32) -> Result<RawInode> {
        let len = self.superblock().inode_len.exact_as::<usize>()?;
        let at = self.place_of_inode(number)?;
        let inode = RawInode { number, raw: read_vec(&self.draft, at, len)? };
        inode.check(self.superblock())?;
        Ok(inode)
    }

    /// Writes an inode with a new checksum.
    ///
    /// # Errors
    /// When it is outside of all inode tables.
    pub(super) fn put_inode(&mut self, mut inode: RawInode) -> Result<()> {
        inode.seal(self.superblock());
        let at = self.place_of_inode(inode.number)?;
        self.draft.put(at, &inode.raw)
    }

    fn place_of_inode(&self, number: u32) -> Result<ByteOffset> {
        let place = self.opened.place_of(number);
        let (block, inside) =
            place.ok_or_else(|| Error::corrupt(format!("inode {number} does not exist")))?;
        let inside = inside.exact_as::<u64>()?;
        Ok(ByteOffset::new(self.place(block).get().plus(inside)?))
    }

    /// Reads the superblock in its current state.
    ///
    /// # Errors
    /// When it can't be read.
    pub(super) fn superblock_raw(&self) -> Result<Vec<u8>> {
        read_vec(&self.draft, ByteOffset::new(Superblock::OFFSET), Superblock::LEN)
    }

    /// # Errors
    /// As [`Space::put_block`].
    pub(super) fn put_bytes(&mut self, at: ByteOffset, bytes: &[u8]) -> Result<()> {
        self.draft.put(at, bytes)
    }

    /// Writes the bitmaps, descriptors and the superblock.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub(super) fn finish(mut self) -> Result<Edited> {
        let superblock = self.superblock();
        let len = self.block_len();
        for (index, mut bits) in std::mem::take(&mut self.bitmaps) {
            let start = superblock.group_start(index.exact_as::<u64>()?);
            for run in self.freed.runs(Run::new(start, bits.len())) {
                bits.remove(Run::new(run.first.minus(start)?, run.len));
            }
            let bitmap = bits.bitmap(Run::new(0, bits.len()), len);
            let sum = crc32c(superblock.seed, superblock.covered(&bitmap));
            let Some(group) = self.groups.get_mut(index) else { continue };
            group.block_bitmap_checksum = sum;
            let block = group.block_bitmap;
            self.put_block(block, &bitmap)?;
        }
        for (at, inside) in std::mem::take(&mut self.waiting_inodes) {
            self.inodes_of(at)?.0.remove(Run::new(inside, 1));
        }
        for (index, (bits, _)) in std::mem::take(&mut self.inodes).into_iter().filter(|all| all.1.1)
        {
            let bitmap = bits.bitmap(Run::new(0, bits.len()), len);
            let sum = crc32c(superblock.seed, superblock.covered_inodes(&bitmap));
            let Some(group) = self.groups.get_mut(index) else { continue };
            group.inode_bitmap_checksum = sum;
            let block = group.inode_bitmap;
            self.put_block(block, &bitmap)?;
        }
        let groups = (0u64..).zip(self.groups.iter().zip(&self.opened.groups));
        let changed: Vec<(u64, Group)> = groups
            .filter(|(_, (now, was))| now != was)
            .map(|(number, (now, _))| (number, now.clone()))
            .collect();
        for (number, group) in changed {
            let (block, inside) = superblock.descriptor_at(number);
            let at = ByteOffset::new(self.place(block).get().plus(inside)?);
            let len = superblock.descriptor_len.exact_as::<usize>()?;
            let mut raw = read_vec(&self.draft, at, len)?;
            group.encode(&mut raw, number, superblock)?;
            self.draft.put(at, &raw)?;
        }
        let at = ByteOffset::new(Superblock::OFFSET);
        let mut raw = read_vec(&self.draft, at, Superblock::LEN)?;
        let wide = if superblock.is_64bit() { bytes::le_u32(&raw, 0x158).unwrap_or(0) } else { 0 };
        let free = u64::from(wide) << 32 | u64::from(bytes::le_u32(&raw, 0xc).unwrap_or(0));
        let free = changed_by(free, self.freed_blocks, self.taken_blocks)?;
        let inodes = u64::from(bytes::le_u32(&raw, 0x10).unwrap_or(0));
        let inodes = changed_by(inodes, self.freed_inodes, self.taken_inodes)?;
        let _ = bytes::put(&mut raw, 0xc, low_u32(free).to_le_bytes());
        if superblock.is_64bit() {
            let _ = bytes::put(&mut raw, 0x158, low_u32(free >> 32).to_le_bytes());
        }
        let _ = bytes::put(&mut raw, 0x10, low_u32(inodes).to_le_bytes());
        superblock.seal(&mut raw);
        self.draft.put(at, &raw)?;
        Ok(self.draft)
    }
}

/// Subtracts one from a counter of a group.
fn one_less(count: u64, of: &str) -> Result<u64> {
    count.checked_sub(1).ok_or_else(|| Error::corrupt(format!("a group counts too few {of}")))
}

/// A counter of the superblock after `more` allocations and `fewer` deallocations. Systems recompute wrong counters.
fn changed_by(count: u64, more: u64, fewer: u64) -> Result<u64> {
    Ok(count.plus(more)?.saturating_sub(fewer))
}
