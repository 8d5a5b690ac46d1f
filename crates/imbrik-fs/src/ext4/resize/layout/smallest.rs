//! The plan for the smallest size of a volume.

use super::{Lack, Layout, Planner, kept_back};
use crate::{
    bits::Run,
    ext4::resize::geometry::{least_of_last, sized},
};
use imbrik_store::{
    error::{Class, Error, Result},
    exact::Exact as _,
};

impl Planner<'_> {
    /// The plan for the smallest size that has room for `room` blocks more than the content needs. With room, that can
    /// be larger than the present size.
    ///
    /// # Errors
    /// When no plan exists.
    pub(in crate::ext4::resize) fn smallest(&self, room: u64) -> Result<Layout> {
        let old = &self.opened.superblock;
        let inodes = self.census.inodes.count();
        let in_order = inodes.div_ceil(old.inodes_per_group.max(1)).max(1);
        let mut groups = match old.has_stable_inodes() {
            // None of them may get another number.
            true => in_order.max(self.last_inode().div_ceil(old.inodes_per_group.max(1))),
            false => in_order,
        };
        let mut refused = None;
        while room > 0 || groups <= old.groups() {
            let end = match room {
                0 => old.group_start(groups).min(old.blocks),
                _ => old.group_start(groups),
            };
            let needed = self.blocks_for(end, room)?;
            if needed > end {
                // As many groups as the missing blocks fill, and at least one more.
                let more = needed.saturating_sub(end).over(old.blocks_per_group)?;
                groups = groups.plus(more.max(1))?;
                continue;
            }
            let before = groups.saturating_sub(1);
            let whole = sized(old, end)?;
            let least = old.group_start(before).plus(least_of_last(old, &whole, before)?)?;
            let mut blocks = needed.max(least);
            while blocks <= end {
                self.cancel.check()?;
                match self.plan(blocks) {
                    Ok(layout) if layout.geometry.superblock.groups() == groups => {
                        return Ok(layout);
                    }
                    // The last group was left out: it must be longer.
                    Ok(_) => blocks = blocks.plus(1)?,
                    Err(Lack::Blocks(more)) => blocks = blocks.plus(more.max(1))?,
                    Err(Lack::Other(error)) if error.class() == Class::NoRoom => {
                        refused = Some(error);
                        break;
                    }
                    Err(Lack::Other(error)) => return Err(error),
                }
            }
            groups = groups.plus(1)?;
        }
        match refused {
            Some(error) if room == 0 => Err(error),
            _ => Err(Error::no_room("it is as small as it can be")),
        }
    }

    /// The number of the last inode in use.
    fn last_inode(&self) -> u64 {
        let used = &self.census.inodes;
        used.runs(Run::new(0, used.len())).last().map_or(0, Run::end)
    }

    /// The minimum number of blocks for the content and the groups of `blocks` blocks.
    fn blocks_for(&self, blocks: u64, room: u64) -> Result<u64> {
        let sized = sized(&self.opened.superblock, blocks)?;
        let leading: u64 = (0..sized.groups()).map(|group| sized.leading_blocks(group)).sum();
        let own = sized.groups().times(sized.metadata_blocks_a_group())?;
        let fixed = sized.first_data_block.plus(leading)?.plus(own)?;
        // A shorter volume may have a shorter journal, and its system keeps less for itself.
        let mut needed = blocks;
        for _ in 0..3 {
            // Excessive requests are refused by the caller.
            let more = kept_back(&sized, needed);
            let room = if room == 0 { 0 } else { room.saturating_add(more) };
            needed = fixed.plus(self.owned(self.ends(needed)).count())?;
            needed = needed.saturating_add(room);
        }
        Ok(needed)
    }
}
