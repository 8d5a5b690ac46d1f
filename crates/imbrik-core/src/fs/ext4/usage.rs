//! Which blocks of an ext volume are in use: by its block bitmaps, where they can be trusted.

use super::{group::Group, journal, superblock::Superblock};
use crate::{
    error::{Class, Error, Result},
    fs::{Least, Usage},
    store::{ReadAt, read_up_to},
    units::{ByteLen, ByteOffset, Span},
};

/// What is in use, and how small the volume could become. One whose metadata contradict themselves
/// counts as used as a whole.
///
/// # Errors
/// When the store cannot be read.
pub(in crate::fs) fn usage(store: &dyn ReadAt) -> Result<(Usage, Option<Least>)> {
    let size = store.size();
    let found = match Superblock::read(store)? {
        Some(superblock) => superblock
            .can_be_trusted(size)
            .and_then(|()| Bitmaps { store, superblock: &superblock }.usage()),
        None => Err(Error::corrupt("its superblock is gone")),
    };
    match found {
        Err(error) if matches!(error.class(), Class::Corrupt | Class::Unsupported) => {
            Ok((Usage::distrusted(size, &error), None))
        }
        found => found,
    }
}

/// How small a volume could become: as many groups as its files' blocks fill, or its inodes.
fn least(superblock: &Superblock, usage: &Usage, free_inodes: u64) -> Least {
    let groups = superblock.groups();
    let inodes = superblock.inodes_per_group.saturating_mul(groups).saturating_sub(free_inodes);
    let for_inodes = inodes.div_ceil(superblock.inodes_per_group.max(1)).max(1);
    // What is in use of files and journal: everything but the metadata that groups bring along.
    let a_group = superblock.metadata_blocks_a_group();
    let own = a_group.saturating_mul(groups);
    let used = usage.in_use().get().checked_div(superblock.block_len).unwrap_or(0);
    let data = used.saturating_sub(own);
    let room = superblock.blocks_per_group.saturating_sub(a_group).max(1);
    let for_data = data.div_ceil(room);
    // The last group that the inodes need may be short of blocks.
    let by_inodes = for_inodes
        .saturating_sub(1)
        .saturating_mul(superblock.blocks_per_group)
        .saturating_add(a_group);
    let by_data = data.saturating_add(a_group.saturating_mul(for_data.max(for_inodes)));
    let (blocks, limit) = match by_inodes > by_data {
        true => (by_inodes, "its number of files (inodes)"),
        false => (by_data, "its data"),
    };
    let blocks = blocks.saturating_add(superblock.first_data_block).min(superblock.blocks);
    Least {
        size: ByteLen::new(blocks.saturating_mul(superblock.block_len)),
        limit,
        is_exact: false,
    }
}

struct Bitmaps<'a> {
    store: &'a dyn ReadAt,
    superblock: &'a Superblock,
}

impl Bitmaps<'_> {
    fn usage(&self) -> Result<(Usage, Option<Least>)> {
        let superblock = self.superblock;
        let mut used = Vec::new();
        let mut cleared = Vec::new();
        // Boot code in front of the first block, and whatever lies behind the last.
        let blocks = superblock.span(0, superblock.blocks).unwrap_or_default();
        let head = superblock.span(0, superblock.first_data_block).unwrap_or_default();
        used.push(head);
        used.push(Span::between(blocks.end(), ByteOffset::new(self.store.size().get())));
        let mut free_inodes = 0u64;
        Group::for_each(self.store, superblock, |number, group| {
            free_inodes = free_inodes.saturating_add(group.free_inodes);
            self.group(number, group, &mut used, &mut cleared)
        })?;
        cleared.extend(journal::void_body(self.store, superblock)?);
        let usage = Usage::of(used, cleared);
        let least = least(superblock, &usage, free_inodes);
        Ok((usage, Some(least)))
    }

    /// A block of the volume.
    fn read_block(&self, block: u64) -> Result<Vec<u8>> {
        let span = self.span(block, 1)?;
        read_up_to(self.store, span.start(), span.len().to_usize().unwrap_or(0))
    }

    fn span(&self, first: u64, count: u64) -> Result<Span> {
        self.superblock.span(first, count).ok_or_else(|| {
            Error::corrupt(format!("block {first} is said to be in use and lies outside"))
        })
    }

    fn group(
        &self,
        number: u64,
        group: &Group,
        used: &mut Vec<Span>,
        cleared: &mut Vec<Span>,
    ) -> Result<()> {
        let superblock = self.superblock;
        let start = superblock.group_start(number);
        // What a group's metadata take is in use whatever its bitmap says.
        let leading = superblock.leading_blocks(number).min(superblock.group_len(number));
        used.push(self.span(start, leading)?);
        used.push(self.span(group.block_bitmap, 1)?);
        used.push(self.span(group.inode_bitmap, 1)?);
        let per_block = superblock.block_len.checked_div(superblock.inode_len).unwrap_or(1).max(1);
        let table_blocks = superblock.inodes_per_group.div_ceil(per_block);
        let table = self.span(group.inode_table, table_blocks)?;
        used.push(table);
        match group.unused_inodes {
            Some(unused) => {
                let live = superblock.inodes_per_group.saturating_sub(unused).div_ceil(per_block);
                let from = group.inode_table.saturating_add(live);
                cleared.push(self.span(from, table_blocks.saturating_sub(live))?);
            }
            None => self.clear_by_inode_bitmap(group, per_block, cleared)?,
        }
        if group.is_block_uninit {
            return Ok(());
        }
        let bitmap = self.read_block(group.block_bitmap)?;
        let cluster = superblock.cluster_blocks;
        group.check_block_bitmap(superblock.covered(&bitmap), number, superblock)?;
        let clusters = superblock.group_len(number).div_ceil(cluster);
        let mut in_use = 0u64;
        for (first, count) in runs(&bitmap, clusters) {
            in_use = in_use.saturating_add(count);
            let first = start.saturating_add(first.saturating_mul(cluster));
            let end = first.saturating_add(count.saturating_mul(cluster)).min(superblock.blocks);
            used.push(self.span(first, end.saturating_sub(first))?);
        }
        let free = clusters.saturating_sub(in_use);
        if free != group.free_clusters {
            return Err(Error::corrupt(format!(
                "group {number}: the bitmap has {free} free, the descriptor says {}",
                group.free_clusters
            )));
        }
        Ok(())
    }

    /// Without unused counts, whole blocks of the table in which no inode is in use are void.
    fn clear_by_inode_bitmap(
        &self,
        group: &Group,
        per_block: u64,
        cleared: &mut Vec<Span>,
    ) -> Result<()> {
        let bitmap = self.read_block(group.inode_bitmap)?;
        let blocks = self.superblock.inodes_per_group.div_ceil(per_block);
        let mut live = vec![false; usize::try_from(blocks).unwrap_or(0)];
        for (first, count) in runs(&bitmap, self.superblock.inodes_per_group) {
            let from = first.checked_div(per_block).unwrap_or(0);
            let to = first.saturating_add(count).div_ceil(per_block);
            for block in from..to {
                if let Some(live) = live.get_mut(usize::try_from(block).unwrap_or(usize::MAX)) {
                    *live = true;
                }
            }
        }
        for (block, _) in (0u64..).zip(live).filter(|(_, live)| !live) {
            cleared.push(self.span(group.inode_table.saturating_add(block), 1)?);
        }
        Ok(())
    }
}

/// The runs of set bits among the first `count`, as (first, how many).
pub(super) fn runs(bitmap: &[u8], count: u64) -> Vec<(u64, u64)> {
    let mut runs: Vec<(u64, u64)> = Vec::new();
    let mut from = None;
    let mut at = 0u64;
    for byte in bitmap {
        if at >= count {
            break;
        }
        let plain = match (byte, from) {
            (0, None) | (0xff, Some(_)) => at.saturating_add(8) <= count,
            _ => false,
        };
        if plain {
            at = at.saturating_add(8);
            continue;
        }
        for bit in 0..8 {
            if at >= count {
                break;
            }
            match (byte >> bit & 1, from) {
                (1, None) => from = Some(at),
                (0, Some(first)) => {
                    runs.push((first, at.saturating_sub(first)));
                    from = None;
                }
                _ => {}
            }
            at = at.saturating_add(1);
        }
    }
    if let Some(first) = from {
        runs.push((first, at.min(count).saturating_sub(first)));
    }
    runs
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn runs_are_exactly_the_set_bits(
            bytes in proptest::collection::vec(
                prop_oneof![Just(0u8), Just(0xff), any::<u8>()], 0..40),
            count in 0u64..330,
        ) {
            let mut expected = Vec::new();
            for bit in 0..count.min(bytes.len() as u64 * 8) {
                if bytes[(bit / 8) as usize] >> (bit % 8) & 1 == 1 {
                    expected.push(bit);
                }
            }
            let found: Vec<u64> =
                runs(&bytes, count).into_iter().flat_map(|(at, n)| at..at + n).collect();
            prop_assert_eq!(found, expected);
        }
    }

    #[test]
    fn lengths_are_told_in_bytes() {
        assert_eq!(Usage::of(vec![Span::whole(ByteLen::new(9))], vec![]).read(), ByteLen::new(9));
    }
}
