//! The superblock, the descriptors, and their copies.

use super::{Rewriter, broken};
use crate::ext4::{
    group::Group,
    structure::inode::{RawInode, low_u32},
    superblock::Superblock,
};
use imbrik_store::{bytes, error::Result, exact::Exact as _};

impl Rewriter<'_> {
    /// The superblock, the descriptors, and all copies of both.
    pub(super) fn superblocks(&mut self, groups: &[Group]) -> Result<()> {
        let new = self.now().clone();
        let len = new.block_len.exact_as::<usize>()?;
        let raw_len = new.descriptor_len.exact_as::<usize>()?;
        let mut table = Vec::new();
        for (number, group) in (0u64..).zip(groups) {
            let mut raw = match number < self.was().groups() {
                true => {
                    let (block, inside) = self.was().descriptor_at(number);
                    let block = self.planner.opened.meta.block(block)?;
                    let inside = inside.exact_as::<usize>()?;
                    let raw = block.get(inside..inside.plus(raw_len)?);
                    raw.ok_or_else(|| broken("a descriptor"))?.to_vec()
                }
                false => vec![0; raw_len],
            };
            group.encode(&mut raw, number, &new)?;
            table.extend(raw);
        }
        table.resize(table.len().next_multiple_of(len.max(1)), 0);
        let table: Vec<&[u8]> = table.chunks(len.max(1)).collect();
        let superblock = self.superblock(groups).ok_or_else(|| broken("its superblock"))?;
        for number in 0..new.groups() {
            let start = new.group_start(number);
            let mut next = start;
            if new.has_superblock(number) {
                let mut raw = superblock.clone();
                let own = u16::try_from(number & 0xffff).unwrap_or(0);
                bytes::put(&mut raw, 0x5a, own.to_le_bytes())
                    .ok_or_else(|| broken("its superblock"))?;
                new.seal(&mut raw);
                let inside = match number {
                    0 => Superblock::OFFSET.checked_rem(new.block_len).unwrap_or(0),
                    _ => 0,
                };
                let inside = inside.exact_as::<usize>()?;
                let base = match number {
                    0 => self.draft.block(start)?,
                    _ => self.draft.empty_block(),
                };
                self.draft.put_inside(start, inside, &raw, |_| Ok(base))?;
                next = start.plus(1)?;
            }
            for index in new.descriptors_in(number) {
                let content = usize::try_from(index).ok().and_then(|index| table.get(index));
                let content = content.ok_or_else(|| broken("a descriptor"))?;
                self.draft.put(next, content.to_vec())?;
                next = next.plus(1)?;
            }
        }
        Ok(())
    }

    /// The superblock at the new size, without its checksum.
    fn superblock(&self, groups: &[Group]) -> Option<Vec<u8>> {
        let (old, new) = (self.was(), self.now());
        let mut raw = self.planner.opened.raw.clone();
        let was = raw.clone();
        let wide = |low: usize, high: usize| {
            let high = if new.is_64bit() { u64::from(bytes::le_u32(&was, high)?) << 32 } else { 0 };
            Some(u64::from(bytes::le_u32(&was, low)?) | high)
        };
        let split = |raw: &mut Vec<u8>, low: usize, high: usize, value: u64| {
            bytes::put(raw, low, low_u32(value).to_le_bytes())?;
            match new.is_64bit() {
                true => bytes::put(raw, high, low_u32(value >> 32).to_le_bytes()),
                false => Some(()),
            }
        };
        let put =
            |raw: &mut Vec<u8>, at: usize, value: u32| bytes::put(raw, at, value.to_le_bytes());
        let kept_back = u128::from(wide(0x8, 0x154)?).checked_mul(new.blocks.into())?;
        let kept_back = u64::try_from(kept_back.checked_div(old.blocks.into())?).ok()?;
        let free = groups.iter().map(|group| group.free_clusters).sum();
        let free_inodes: u64 = groups.iter().map(|group| group.free_inodes).sum();
        put(&mut raw, 0x0, u32::try_from(new.inodes()).ok()?)?;
        split(&mut raw, 0x4, 0x150, new.blocks)?;
        split(&mut raw, 0x8, 0x154, kept_back)?;
        split(&mut raw, 0xc, 0x158, free)?;
        put(&mut raw, 0x10, u32::try_from(free_inodes).ok()?)?;
        let reserved = u16::try_from(new.reserved_gdt_blocks).ok()?;
        bytes::put(&mut raw, 0xce, reserved.to_le_bytes())?;
        if new.uses_meta_bg() {
            put(&mut raw, 0x104, u32::try_from(new.first_meta_bg).ok()?)?;
        }
        if new.has_sparse_super2() {
            let [first, second] = new.backup_groups;
            put(&mut raw, 0x24c, first)?;
            put(&mut raw, 0x250, second)?;
        }
        // The overhead of the volume: its metadata and its journal.
        let overhead = u64::from(bytes::le_u32(&was, 0x248)?);
        if overhead > 0 {
            let before = self.planner.opened.metadata().ok()?.count();
            let journal = |inode: &RawInode| inode.size().checked_div(new.block_len).unwrap_or(0);
            let journal_before =
                self.planner.census.journal.as_ref().map_or(0, |(j, _)| journal(j));
            let now =
                self.layout.geometry.metadata.count().checked_add(self.layout.ends.journal)?;
            let overhead = overhead.checked_add(now)?.checked_sub(before)?;
            let overhead = overhead.checked_sub(journal_before)?;
            put(&mut raw, 0x248, u32::try_from(overhead).ok()?)?;
        }
        // Nothing waits to be deleted.
        put(&mut raw, 0xe8, 0)?;
        put(&mut raw, 0x64, bytes::le_u32(&was, 0x64)? & !Superblock::ORPHAN_PRESENT)?;
        // Quota files, lost+found, the orphan file, the inodes of the first and the last error; and the journal, which
        // is a file with a name if it was added later.
        for at in [0x240, 0x244, 0x26c, 0x268, 0x280, 0x19c, 0x1d0, 0xe0] {
            let number = bytes::le_u32(&was, at)?;
            put(&mut raw, at, self.layout.inodes.target_of(number))?;
        }
        // The copy of the journal's map: its 15 numbers, and both halves of its size.
        if let Some(journal) = &self.journal_map
            && bytes::u8(&was, 0xfd)? == 1
        {
            raw.get_mut(0x10c..0x148)?.copy_from_slice(journal.i_block());
            put(&mut raw, 0x148, low_u32(journal.size() >> 32))?;
            put(&mut raw, 0x14c, low_u32(journal.size()))?;
        }
        Some(raw)
    }
}
