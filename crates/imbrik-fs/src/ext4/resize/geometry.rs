//! The groups of a resized volume, and the locations of their bitmaps and tables.
//!
//! Metadata stay at their place if that is in the volume, and not needed for backups of the superblock and the
//! descriptors. These keep their length: the number of descriptor blocks plus reserved ones is constant until a growing
//! table needs more; then the metadata after it move, in every group with a backup.

use crate::{
    bits::{Bits, Run},
    ext4::{
        group::{Group, INODE_UNINIT, INODE_ZEROED},
        structure::{Opened, can_be_planned},
        superblock::Superblock,
    },
};
use imbrik_store::{
    error::{Error, Result},
    exact::{Exact as _, invariant_error},
};

/// A new last group with less space than this besides its own metadata is not worth having.
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
    /// The groups of `opened` with `blocks` blocks, or a few less if the last group would be too short for its
    /// metadata. `owned` are the blocks of files, which are avoided if possible.
    ///
    /// # Errors
    /// [`imbrik_store::Class::Unsupported`] when the format has no room for that many blocks or inodes, and
    /// [`imbrik_store::Class::NoRoom`] when it has no place for a group's own metadata.
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
            for what in [MetadataKind::Table, MetadataKind::BlockBitmap, MetadataKind::InodeBitmap]
            {
                let run = Run::new(*what.place(group), what.len(&superblock));
                if run.end() > superblock.blocks || metadata.count_in(run) > 0 {
                    displaced.push((what, number));
                } else {
                    metadata.add(run);
                }
            }
        }
        let mut number = opened.superblock.groups();
        while number < superblock.groups() {
            let flex = superblock.flex_groups.max(1);
            let behind = number.over(flex)?.plus(1)?;
            let end = behind.times(flex)?.min(superblock.groups());
            groups.extend(added_together(&superblock, number, end, &mut metadata)?);
            number = end;
        }
        let mut this = Self { superblock, groups, metadata };
        // The tables first: they need the longest runs.
        displaced.sort_unstable();
        for (what, number) in displaced {
            let first = this.find_place(owned, number, what.len(&this.superblock))?;
            let group = this.groups.get_mut(usize::try_from(number).unwrap_or(usize::MAX));
            *what.place(group.ok_or_else(|| invariant_error("a group is missing"))?) = first;
        }
        Ok(this)
    }

    /// Finds a location of `len` blocks for metadata of group `number`: without flex_bg in that group, and where no
    /// file has to move, if possible.
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

/// The kinds of metadata of a group.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum MetadataKind {
    Table,
    BlockBitmap,
    InodeBitmap,
}

impl MetadataKind {
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
    can_be_planned(blocks)?;
    let mut new = old.clone();
    new.blocks = blocks;
    loop {
        follow(old, &mut new)?;
        let Some(last) = new.groups().checked_sub(1) else {
            return Err(Error::no_room("not even the metadata of one group would fit"));
        };
        if new.group_len(last) >= least_of_last(old, &new, last)? {
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
    if new.leading_blocks(0).plus(new.metadata_blocks_a_group())? >= new.blocks_per_group {
        return Err(Error::unsupported("its descriptors would not fit into a group (no meta_bg)"));
    }
    Ok(new)
}

/// Has everything that hangs on the number of groups follow it.
fn follow(old: &Superblock, new: &mut Superblock) -> Result<()> {
    // The caller refuses a volume without a group.
    let last = new.groups().saturating_sub(1);
    if old.has_sparse_super2() {
        let (last_before, [first, second]) = (old.groups().minus(1)?, old.backup_groups);
        let last_now = last.exact_as::<u32>()?;
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
        let all = old.descriptor_blocks().plus(old.reserved_gdt_blocks)?;
        // A table that needs more than all of it leaves nothing in reserve.
        new.reserved_gdt_blocks = all.saturating_sub(table).min(new.block_len / 4);
    }
    Ok(())
}

/// How many blocks the last group must have.
///
/// # Errors
/// [`imbrik_store::Class::Bug`] when that cannot be counted.
pub(super) fn least_of_last(old: &Superblock, new: &Superblock, last: u64) -> Result<u64> {
    let leading = new.leading_blocks(last);
    let whole = leading.plus(new.metadata_blocks_a_group())?;
    if last >= old.groups() {
        whole.plus(LEAST_ROOM)
    } else if new.has_flex_bg() {
        leading.plus(1)
    } else {
        whole.plus(1)
    }
}

fn leading(superblock: &Superblock, number: u64) -> Run {
    let start = superblock.group_start(number);
    // With blocks of 1 KiB, a block of boot code precedes the first group.
    Run::new(start, superblock.leading_blocks(number))
}

/// A group that was not there before, with its own bitmaps and table.
fn added(superblock: &Superblock, number: u64) -> Result<Group> {
    let leading = leading(superblock, number);
    let tells = superblock.has_group_checksums();
    Ok(Group {
        block_bitmap: leading.end(),
        inode_bitmap: leading.end().plus(1)?,
        inode_table: leading.end().plus(2)?,
        free_inodes: superblock.inodes_per_group,
        flags: if tells { INODE_UNINIT | INODE_ZEROED } else { 0 },
        unused_inodes: tells.then_some(superblock.inodes_per_group),
        ..Group::empty()
    })
}

/// The new groups from `first` up to `end`, which belong to one flexible group: as mkfs does, their bitmaps and tables
/// are stored together in the first of them, or as many of them as fit.
fn added_together(
    superblock: &Superblock,
    first: u64,
    end: u64,
    metadata: &mut Bits,
) -> Result<Vec<Group>> {
    let all_added = || (first..end).map(|number| added(superblock, number)).collect::<Result<_>>();
    let mut groups: Vec<Group> = all_added()?;
    let last = end.minus(1)?;
    let behind = superblock.group_start(last).plus(superblock.group_len(last))?;
    let all = Run::between(superblock.group_start(first), behind);
    let mut placed = Vec::new();
    let mut is_packed = superblock.flex_groups > 1;
    for what in [MetadataKind::BlockBitmap, MetadataKind::InodeBitmap, MetadataKind::Table] {
        let len = what.len(superblock);
        for group in &mut groups {
            let hole = metadata.holes(all).find(|hole| hole.len >= len);
            match hole {
                Some(hole) => {
                    let run = Run::new(hole.first, len);
                    metadata.add(run);
                    placed.push(run);
                    *what.place(group) = hole.first;
                }
                None => {
                    is_packed = false;
                    break;
                }
            }
        }
        if !is_packed {
            break;
        }
    }
    if !is_packed {
        placed.into_iter().for_each(|run| metadata.remove(run));
        groups = all_added()?;
        for group in &groups {
            let own = superblock.metadata_blocks_a_group();
            metadata.add(Run::new(group.block_bitmap, own));
        }
    }
    Ok(groups)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ext4::structure::metadata_cache::MetadataCache;
    use imbrik_store::{ReadAt, SparseStore, error::Class, units::ByteLen};
    use proptest::prelude::*;
    use std::sync::Arc;

    /// A volume of `blocks` blocks of 1 KiB with the layout of mkfs and these features (compatible, incompatible,
    /// read-only-compatible).
    fn volume(blocks: u64, per_group: u32, features: (u32, u32, u32), reserved: u16) -> Opened {
        let mut raw = vec![0; Superblock::LEN];
        let (compat, incompat, ro_compat) = features;
        let fields = [(0x4, blocks as u32), (0x14, 1), (0x20, per_group), (0x28, 64), (0x4c, 1)];
        let more = [(0x5c, compat), (0x60, incompat), (0x64, ro_compat)];
        for (at, value) in fields.into_iter().chain(more) {
            raw[at..at + 4].copy_from_slice(&value.to_le_bytes());
        }
        raw[0x38..0x3a].copy_from_slice(&[0x53, 0xef]);
        raw[0x59] = 1;
        raw[0xce..0xd0].copy_from_slice(&reserved.to_le_bytes());
        let mut superblock = Superblock::of_test(&raw);
        loop {
            let last = superblock.groups().saturating_sub(1);
            if superblock.has_sparse_super2() {
                let second = if last > 1 { last as u32 } else { 0 };
                superblock.backup_groups = [1.min(last as u32), second];
            }
            let own = superblock.leading_blocks(last) + superblock.metadata_blocks_a_group();
            if superblock.group_len(last) >= own + LEAST_ROOM {
                break;
            }
            superblock.blocks = superblock.group_start(last);
        }
        let groups = (0..superblock.groups()).map(|number| added(&superblock, number).unwrap());
        let groups = groups.collect();
        let store: Arc<dyn ReadAt> = Arc::new(SparseStore::new(ByteLen::kib(1)));
        let meta = MetadataCache::new(store, 1024);
        Opened { meta: Arc::new(meta), superblock, raw, groups }
    }

    const SPARSE: u32 = 0x1;
    const FLEX: u32 = 0x200;

    proptest! {
        #[test]
        fn every_group_has_room_for_its_own_metadata(
            blocks in 600u64..60_000,
            per_group in (40u32..120).prop_map(|eighths| eighths * 8),
            features in prop_oneof![
                Just((0x10, FLEX, SPARSE)),
                Just((0x10, 0, SPARSE)),
                Just((0, 0, SPARSE)),
                Just((0x200, 0, 0)),
                Just((0, FLEX, 0)),
            ],
            reserved in 0u16..20,
            percent in 5u64..400,
            files in proptest::collection::vec((0u64..60_000, 1u64..300), 0..40),
        ) {
            let reserved = if features.0 & 0x10 != 0 { reserved } else { 0 };
            let opened = volume(blocks, per_group.max(320), features, reserved);
            let old = &opened.superblock;
            let before = opened.metadata().unwrap();
            let mut owned = Bits::new(old.blocks);
            for (first, len) in files {
                let run = Run::new(first.max(1), len);
                before.holes(run).for_each(|free| { owned.add(free); });
            }
            let wanted = old.blocks * percent / 100;
            let owned = owned.reaching(wanted);
            let geometry = match Geometry::new(&opened, &owned, wanted) {
                Ok(geometry) => geometry,
                Err(error) => {
                    // Too short for one group, or longer than descriptors can be.
                    let class = error.class();
                    prop_assert!(matches!(class, Class::NoRoom | Class::Unsupported), "{}", error);
                    return Ok(());
                }
            };
            let new = &geometry.superblock;
            prop_assert!(new.blocks <= wanted && new.blocks > 0);
            // The metadata of groups don't overlap, and are in the volume.
            let leading: u64 = (0..new.groups()).map(|group| new.leading_blocks(group)).sum();
            let all = leading + new.groups() * new.metadata_blocks_a_group();
            prop_assert_eq!(geometry.metadata.count(), all);
            prop_assert_eq!(geometry.groups.len() as u64, new.groups());
            for (number, group) in (0u64..).zip(&geometry.groups) {
                let own = new.group_start(number)..new.group_start(number) + new.group_len(number);
                let ends = [
                    (group.block_bitmap, 1),
                    (group.inode_bitmap, 1),
                    (group.inode_table, new.table_blocks()),
                ];
                for (first, len) in ends {
                    let inside = own.contains(&first) && first + len <= own.end;
                    prop_assert!(inside || new.has_flex_bg(), "group {}", number);
                    prop_assert!(first + len <= new.blocks);
                }
                // Groups are unchanged where possible: only the last one is shortened, or gets a backup of the
                // superblock.
                let is_shorter = new.descriptor_blocks() <= old.descriptor_blocks();
                let is_last = number + 1 == new.groups();
                let was = opened.groups.get(number as usize);
                if let Some(was) = was.filter(|_| is_shorter && !is_last) {
                    prop_assert_eq!(was.inode_table, group.inode_table);
                }
            }
            if new.has_sparse_super2() && new.groups() > 2 && old.groups() > 2 {
                prop_assert!(new.has_superblock(new.groups() - 1), "the second copy is at the end");
            }
            if new.has_resize_inode() && new.descriptor_blocks() <= old.descriptor_blocks() {
                prop_assert_eq!(
                    new.descriptor_blocks() + new.reserved_gdt_blocks,
                    old.descriptor_blocks() + old.reserved_gdt_blocks
                );
            }
        }
    }
}
