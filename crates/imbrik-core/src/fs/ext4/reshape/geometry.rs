//! The groups of a volume at another size, and where their bitmaps and tables stand.
//!
//! What stands somewhere stays there as long as that is in the volume and free of the copies of the
//! superblock and the descriptors. These keep their length: descriptors and the blocks reserved for
//! more add up to the same, until a growing table needs more than that; then whatever is behind it
//! makes room, in every group that has a copy.

use super::{
    super::{
        group::{Group, INODE_UNINIT, INODE_ZEROED},
        superblock::Superblock,
    },
    bits::{Bits, Run},
    opened::Opened,
};
use crate::error::{Error, Result};

/// A new last group with less room than this beside its own metadata is not worth having.
const LEAST_ROOM: u64 = 64;

/// The groups of a volume at a new size.
pub(super) struct Geometry {
    pub(super) superblock: Superblock,
    /// With their new places; the counts are the old ones.
    pub(super) groups: Vec<Group>,
    /// The blocks that the superblocks, descriptors, bitmaps and tables take.
    pub(super) metadata: Bits,
}

impl Geometry {
    /// The groups of `opened` with `blocks` blocks, or a few less where the last group would be too
    /// short for what it must hold. `owned` are the blocks of files: they are left in peace where
    /// there is a choice.
    ///
    /// # Errors
    /// [`crate::Class::Unsupported`] when the format has no room for that many blocks or inodes, and
    /// [`crate::Class::NoRoom`] when it has no place for a group's own metadata.
    pub(super) fn new(opened: &Opened, owned: &Bits, blocks: u64) -> Result<Self> {
        let superblock = sized(&opened.superblock, blocks)?;
        let mut metadata = Bits::new(superblock.blocks);
        for number in 0..superblock.groups() {
            metadata.add(leading(&superblock, number));
        }
        let kept = usize::try_from(superblock.groups()).unwrap_or(usize::MAX);
        let mut groups: Vec<Group> = opened.groups.iter().take(kept).cloned().collect();
        let mut displaced = Vec::new();
        for (number, group) in (0u64..).zip(&mut groups) {
            for what in [What::Table, What::BlockBitmap, What::InodeBitmap] {
                let run = Run::new(*what.place(group), what.len(&superblock));
                if run.end() > superblock.blocks || metadata.count_in(run) > 0 {
                    displaced.push((what, number));
                } else {
                    metadata.add(run);
                }
            }
        }
        for number in opened.superblock.groups()..superblock.groups() {
            let group = added(&superblock, number);
            let own = superblock.metadata_blocks_a_group();
            metadata.add(Run::new(group.block_bitmap, own));
            groups.push(group);
        }
        let mut this = Self { superblock, groups, metadata };
        // The tables first: they need the longest runs.
        displaced.sort_unstable();
        for (what, number) in displaced {
            let first = this.find_place(owned, number, what.len(&this.superblock))?;
            let group = this.groups.get_mut(usize::try_from(number).unwrap_or(usize::MAX));
            *what.place(group.ok_or_else(|| Error::corrupt("a group is missing"))?) = first;
        }
        Ok(this)
    }

    /// Finds a place of `len` blocks for something of group `number`: without flex_bg in that
    /// group, and where no file has to make room if there is such a place.
    fn find_place(&mut self, owned: &Bits, number: u64, len: u64) -> Result<u64> {
        let superblock = &self.superblock;
        let own = Run::new(superblock.group_start(number), superblock.group_len(number));
        let all = Run::new(superblock.first_data_block, superblock.blocks);
        let free = |within: Run| {
            let mut holes = self.metadata.holes(within).flat_map(|hole| owned.holes(hole));
            holes.find(|hole| hole.len >= len)
        };
        let taken = |within: Run| self.metadata.holes(within).find(|hole| hole.len >= len);
        let found = match superblock.has_flex_bg() {
            true => free(own).or_else(|| free(all)).or_else(|| taken(own)).or_else(|| taken(all)),
            false => free(own).or_else(|| taken(own)),
        };
        let found = found.ok_or_else(|| {
            Error::no_room(format!("group {number} has no room for its own metadata"))
        })?;
        self.metadata.add(Run::new(found.first, len));
        Ok(found.first)
    }
}

/// What a group has of its own.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum What {
    Table,
    BlockBitmap,
    InodeBitmap,
}

impl What {
    fn place(self, group: &mut Group) -> &mut u64 {
        match self {
            Self::Table => &mut group.inode_table,
            Self::BlockBitmap => &mut group.block_bitmap,
            Self::InodeBitmap => &mut group.inode_bitmap,
        }
    }

    fn len(self, superblock: &Superblock) -> u64 {
        match self {
            Self::Table => superblock.table_blocks(),
            Self::BlockBitmap | Self::InodeBitmap => 1,
        }
    }
}

/// The superblock at the new size: all numbers that the groups hang on.
pub(super) fn sized(old: &Superblock, blocks: u64) -> Result<Superblock> {
    if !old.is_64bit() && blocks > u64::from(u32::MAX) {
        return Err(Error::unsupported("it cannot count so many blocks (no 64bit)"));
    }
    let mut new = old.clone();
    new.blocks = blocks;
    loop {
        follow(old, &mut new);
        let groups = new.groups();
        if groups == 0 {
            return Err(Error::no_room("not even the metadata of one group would fit"));
        }
        let last = groups.saturating_sub(1);
        if new.group_len(last) >= least_of_last(old, &new, last) {
            break;
        }
        if last == 0 {
            return Err(Error::no_room("not even the metadata of one group would fit"));
        }
        new.blocks = new.group_start(last);
    }
    if new.inodes() > u64::from(u32::MAX) {
        return Err(Error::unsupported("it would have more inodes than can be counted"));
    }
    if new.leading_blocks(0).saturating_add(new.metadata_blocks_a_group()) >= new.blocks_per_group {
        return Err(Error::unsupported("its descriptors would not fit into a group (no meta_bg)"));
    }
    Ok(new)
}

/// Has everything that hangs on the number of groups follow it.
fn follow(old: &Superblock, new: &mut Superblock) {
    let last = new.groups().saturating_sub(1);
    if old.has_sparse_super2() {
        let (last_before, [first, second]) = (old.groups().saturating_sub(1), old.backup_groups);
        let last_now = u32::try_from(last).unwrap_or(0);
        let moved = |group: u32| match u64::from(group) {
            0 => 0,
            number if number == last_before && number != 1 => last_now,
            number if number > last => 0,
            _ => group,
        };
        let (first, second) = (moved(first), moved(second));
        let second = if second == first { 0 } else { second };
        new.backup_groups = [if last == 0 { 0 } else { first }, if last == 0 { 0 } else { second }];
    }
    let table = new.descriptor_blocks();
    if new.uses_meta_bg() {
        new.first_meta_bg = old.first_meta_bg.min(table);
    } else if new.has_resize_inode() {
        let all = old.descriptor_blocks().saturating_add(old.reserved_gdt_blocks);
        new.reserved_gdt_blocks = all.saturating_sub(table).min(new.block_len / 4);
    }
}

/// How many blocks the last group must have.
pub(super) fn least_of_last(old: &Superblock, new: &Superblock, last: u64) -> u64 {
    let leading = new.leading_blocks(last);
    let whole = leading.saturating_add(new.metadata_blocks_a_group());
    if last >= old.groups() {
        whole.saturating_add(LEAST_ROOM)
    } else if new.has_flex_bg() {
        leading.saturating_add(1)
    } else {
        whole.saturating_add(1)
    }
}

fn leading(superblock: &Superblock, number: u64) -> Run {
    let start = superblock.group_start(number);
    // In front of the first group, with blocks of 1 KiB, lies a block of boot code.
    Run::new(start, superblock.leading_blocks(number))
}

/// A group that was not there before, with its own bitmaps and table.
fn added(superblock: &Superblock, number: u64) -> Group {
    let leading = leading(superblock, number);
    let tells = superblock.has_group_checksums();
    Group {
        block_bitmap: leading.end(),
        inode_bitmap: leading.end().saturating_add(1),
        inode_table: leading.end().saturating_add(2),
        free_inodes: superblock.inodes_per_group,
        flags: if tells { INODE_UNINIT | INODE_ZEROED } else { 0 },
        unused_inodes: tells.then_some(superblock.inodes_per_group),
        ..Group::empty()
    }
}
