//! Which blocks of an ext volume are in use: by its block bitmaps, where nothing contradicts them.

use super::{
    fixed::Fixed,
    group::Group,
    journal::JournalPlace,
    mapped::MappedBlocks,
    resize::check_blocks,
    structure::metadata_cache::MetadataCache,
    superblock::{RawSuperblock, Superblock},
};
use crate::{Least, Usage, bits::Run, finding::VolumeFinding};
use imbrik_store::{
    ReadAt,
    error::{Class, Error, Result},
    progress::Cancel,
    units::{ByteLen, ByteOffset, Span, joined, without},
};
use std::sync::Arc;

/// The used space, and the smallest size. An inconsistent volume counts as used in full.
///
/// The superblock and the descriptors are verified by their checksums, or else against the first backup of the
/// descriptors; block and inode bitmaps by their checksums and the descriptors' counts; the location of the journal by
/// everything that [`JournalPlace`] compares. A block counts as unused if its bitmap says so, it contains none of the
/// volume's metadata, and no inode in [`MappedBlocks`] maps it.
///
/// # Errors
/// When the store cannot be read.
pub(crate) fn usage(store: &Arc<dyn ReadAt>) -> Result<(Usage, Option<Least>)> {
    let size = store.size();
    let found = match RawSuperblock::read(&**store)? {
        Some(superblock) => {
            superblock.verified_clean(size).and_then(|superblock| believed(store, &superblock))
        }
        None => Err(Error::corrupt("its superblock is gone")),
    };
    match found {
        Err(error) if matches!(error.class(), Class::Corrupt | Class::Unsupported) => {
            Ok((Usage::distrusted(size, &error), None))
        }
        found => found,
    }
}

fn believed(store: &Arc<dyn ReadAt>, superblock: &Superblock) -> Result<(Usage, Option<Least>)> {
    let faults = match superblock.has_errors() {
        true => Some(check_blocks(Arc::clone(store), &Cancel::new()).map_err(|error| {
            let class = error.class();
            Error::new(class, format!("it is marked as having errors, and has some: {error}"))
        })?),
        false => None,
    };
    let (mut usage, least) = Bitmaps::of(store, superblock)?.usage()?;
    usage.findings.extend(faults.map(|faults| VolumeFinding::MarkedAsFaulty { faults }));
    Ok((usage, least))
}

/// How small a volume could become: as many groups as its files' blocks fill, or its inodes.
fn least(superblock: &Superblock, usage: &Usage, free_inodes: u64) -> Least {
    let groups = superblock.groups();
    let inodes = superblock.inodes_per_group.saturating_mul(groups).saturating_sub(free_inodes);
    let for_inodes = inodes.div_ceil(superblock.inodes_per_group.max(1)).max(1);
    // The used space of files and journal: everything except the metadata of groups.
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
    superblock: &'a Superblock,
    meta: MetadataCache,
    groups: Vec<Group>,
    fixed: Fixed,
    /// The location of the journal, and whether it is certain enough to clear its body.
    journal: Option<JournalPlace>,
    /// True if the locations of the inode tables are confirmed by a backup, so that unused parts of them can be
    /// cleared.
    tables_are_told_twice: bool,
}

impl<'a> Bitmaps<'a> {
    fn of(store: &Arc<dyn ReadAt>, superblock: &'a Superblock) -> Result<Self> {
        let groups = Group::all(&**store, superblock)?;
        let fixed = Fixed::of(superblock, &groups)?;
        let meta = MetadataCache::new(Arc::clone(store), superblock.block_len);
        let journal = JournalPlace::of(&meta, superblock, &groups, &fixed)?;
        if journal.as_ref().is_some_and(|journal| !journal.is_empty()) {
            return Err(Error::corrupt(
                "its journal holds something to replay, and its superblock says that it does not",
            ));
        }
        let tables_are_told_twice =
            superblock.has_group_checksums() || descriptors_agree(&meta, superblock, &groups)?;
        Ok(Self { superblock, meta, groups, fixed, journal, tables_are_told_twice })
    }

    fn usage(&self) -> Result<(Usage, Option<Least>)> {
        let superblock = self.superblock;
        let mut used = Vec::new();
        let mut cleared = Vec::new();
        // Boot code before the first block, and the space after the last.
        let blocks = superblock.span(0, superblock.blocks).unwrap_or_default();
        let head = superblock.span(0, superblock.first_data_block).unwrap_or_default();
        used.push(head);
        used.push(Span::between(blocks.end(), ByteOffset::new(self.meta.size().get())));
        // The metadata of a group count as used, whatever its bitmap says.
        for run in self.fixed.runs() {
            used.push(self.span(run.first, run.len)?);
        }
        let mut free_inodes = 0u64;
        for (number, group) in (0u64..).zip(&self.groups) {
            free_inodes = free_inodes.saturating_add(group.free_inodes);
            self.table(number, group, &mut cleared)?;
            self.blocks(number, group, &mut used)?;
        }
        if let Some(journal) =
            self.journal.as_ref().filter(|journal| journal.is_confirmed_to_its_end)
        {
            for run in journal.body() {
                cleared.push(self.span(run.first, run.len)?);
            }
        }
        let mut usage = self.with_mapped_blocks(Usage::of(used, cleared))?;
        usage.metadata = self.metadata()?;
        if let Some(errno) = self.journal.as_ref().and_then(JournalPlace::errno) {
            usage.findings.push(VolumeFinding::JournalError { errno });
        }
        let least = least(superblock, &usage, free_inodes);
        Ok((usage, Some(least)))
    }

    /// The bytes of groups and journal, and those outside of all blocks.
    fn metadata(&self) -> Result<ByteLen> {
        let first = self.superblock.first_data_block;
        let blocks = self.span(first, self.superblock.blocks.saturating_sub(first))?;
        let outside = self.meta.size().saturating_sub(blocks.len());
        let journal = self.journal.iter().flat_map(JournalPlace::runs);
        let runs = self.fixed.runs().iter().copied().chain(journal);
        let lens: Result<Vec<ByteLen>> =
            runs.map(|run| Ok(self.span(run.first, run.len)?.len())).collect();
        Ok(lens?.into_iter().sum::<ByteLen>().saturating_add(outside))
    }

    /// Adds the mapped blocks of inodes to `usage`: a block of a reachable file is never skipped or cleared.
    fn with_mapped_blocks(&self, mut usage: Usage) -> Result<Usage> {
        let superblock = self.superblock;
        let mapped = MappedBlocks::read(&self.meta, superblock, &self.groups)?;
        if let Some(damage) = mapped.damage {
            // Nothing else vouches for a bitmap without a checksum.
            if !superblock.has_metadata_csum() {
                return Err(damage);
            }
            usage.findings.push(VolumeFinding::MapDamaged { why: damage.to_string() });
        } else if let Some(damage) = mapped.directory_damage {
            usage.findings.push(VolumeFinding::MapDamaged { why: damage.to_string() });
        }
        let runs = mapped.blocks.runs(Run::new(0, superblock.blocks));
        let tables = mapped.table_blocks.into_iter().map(|block| Run::new(block, 1));
        let spans: Result<Vec<_>> =
            runs.chain(tables).map(|run| self.span(run.first, run.len)).collect();
        let spans = joined(spans?);
        let read = without(&usage.used, &usage.cleared);
        let missing = without(&spans, &read);
        if !missing.is_empty() {
            let len = missing.iter().map(|span| span.len()).sum();
            usage.findings.push(VolumeFinding::CalledFree { by: "bitmap", files: "hold", len });
            usage.cleared = without(&usage.cleared, &missing);
            usage.used.extend(missing);
            usage.used = joined(usage.used);
        }
        Ok(usage)
    }

    fn span(&self, first: u64, count: u64) -> Result<Span> {
        self.superblock.span(first, count).ok_or_else(|| {
            Error::corrupt(format!("block {first} is said to be in use and lies outside"))
        })
    }

    /// The blocks of group `number` that its bitmap calls used.
    fn blocks(&self, number: u64, group: &Group, used: &mut Vec<Span>) -> Result<()> {
        let superblock = self.superblock;
        let (start, len) = (superblock.group_start(number), superblock.group_len(number));
        let cluster = superblock.cluster_blocks;
        let clusters = len.div_ceil(cluster);
        let differ = |free: u64, what: &str| {
            Err(Error::corrupt(format!(
                "group {number}: {what} {free} free, the descriptor says {}",
                group.free_clusters
            )))
        };
        if group.is_block_uninit {
            let free = len.saturating_sub(superblock.implied_blocks(number, group));
            return match cluster > 1 || free == group.free_clusters {
                true => Ok(()),
                false => differ(free, "its bitmap was never written, which leaves"),
            };
        }
        let bitmap = self.meta.block(group.block_bitmap)?;
        group.check_block_bitmap(superblock.covered(&bitmap), number, superblock)?;
        let mut in_use = 0u64;
        for (first, count) in runs(&bitmap, clusters) {
            in_use = in_use.saturating_add(count);
            let first = start.saturating_add(first.saturating_mul(cluster));
            let end = first.saturating_add(count.saturating_mul(cluster)).min(superblock.blocks);
            used.push(self.span(first, end.saturating_sub(first))?);
        }
        let free = clusters.saturating_sub(in_use);
        if free != group.free_clusters {
            return differ(free, "the bitmap has");
        }
        for run in self.fixed.within(Run::new(start, len)) {
            let first = run.first.saturating_sub(start).checked_div(cluster).unwrap_or(0);
            let end = run.end().saturating_sub(start).div_ceil(cluster);
            if !(first..end).all(|bit| is_set(&bitmap, bit)) {
                return Err(Error::corrupt(format!(
                    "group {number}: the bitmap calls the volume's own metadata free"
                )));
            }
        }
        Ok(())
    }

    /// Which part of the inode table of group `number` was never used: that is cleared.
    fn table(&self, number: u64, group: &Group, cleared: &mut Vec<Span>) -> Result<()> {
        let superblock = self.superblock;
        let a_group = superblock.inodes_per_group;
        let per_block = superblock.inodes_a_block();
        let wrong = |what: &str| Err(Error::corrupt(format!("group {number}: {what}")));
        let live = a_group.saturating_sub(group.unused_inodes.unwrap_or(0));
        if live == 0 {
            if group.free_inodes != a_group {
                return wrong("its inodes were never used, and some are said to be in use");
            }
            cleared.push(self.span(group.inode_table, superblock.table_blocks())?);
            return Ok(());
        }
        let bitmap = self.meta.block(group.inode_bitmap)?;
        group.check_inode_bitmap(&bitmap, number, superblock)?;
        let used = runs(&bitmap, a_group);
        let count: u64 = used.iter().map(|(_, count)| count).sum();
        if count != a_group.saturating_sub(group.free_inodes) {
            return wrong("its inode bitmap and its count of free inodes differ");
        }
        if used.last().is_some_and(|(first, count)| first.saturating_add(*count) > live) {
            return wrong("inodes that were never used are said to be in use");
        }
        if !self.tables_are_told_twice {
            return Ok(());
        }
        if group.unused_inodes.is_some() {
            let live = live.div_ceil(per_block);
            let from = group.inode_table.saturating_add(live);
            cleared.push(self.span(from, superblock.table_blocks().saturating_sub(live))?);
            return Ok(());
        }
        // Without a count of those never used, whole blocks in which no inode is in use are void.
        let mut behind = 0u64;
        let mut void = |from: u64, to: u64| -> Result<()> {
            let len = to.saturating_sub(from);
            cleared.push(self.span(group.inode_table.saturating_add(from), len)?);
            Ok(())
        };
        for (first, count) in used {
            void(behind, first.checked_div(per_block).unwrap_or(0))?;
            behind = first.saturating_add(count).div_ceil(per_block);
        }
        void(behind, superblock.table_blocks())
    }
}

fn is_set(bitmap: &[u8], bit: u64) -> bool {
    let byte = usize::try_from(bit / 8).ok().and_then(|byte| bitmap.get(byte));
    byte.is_some_and(|byte| byte >> (bit % 8) & 1 == 1)
}

/// Returns whether the first backup of the descriptors has the same locations of bitmaps and tables; false if there is
/// no backup.
///
/// # Errors
/// [`Class::Corrupt`] when it does not.
fn descriptors_agree(
    meta: &MetadataCache,
    superblock: &Superblock,
    groups: &[Group],
) -> Result<bool> {
    let copy = (1..superblock.groups()).find(|group| superblock.has_superblock(*group));
    let Some(start) = copy.map(|group| superblock.group_start(group)) else { return Ok(false) };
    if superblock.uses_meta_bg() {
        return Ok(false);
    }
    let a_block = superblock.descriptors_a_block();
    let len = usize::try_from(superblock.descriptor_len).unwrap_or(0);
    for (number, group) in (0u64..).zip(groups) {
        let ahead = number.checked_div(a_block).unwrap_or(0);
        let block = meta.block(start.saturating_add(1).saturating_add(ahead))?;
        let at = number.checked_rem(a_block).unwrap_or(0);
        let at = usize::try_from(at).unwrap_or(0).saturating_mul(len);
        let raw = block.get(at..at.saturating_add(len)).unwrap_or_default();
        let copy = Group::decode(raw, number, superblock)?;
        let places = |group: &Group| (group.block_bitmap, group.inode_bitmap, group.inode_table);
        if places(&copy) != places(group) {
            return Err(Error::corrupt(format!(
                "group {number}: its descriptor and the copy of that name different places"
            )));
        }
    }
    Ok(true)
}

/// The runs of set bits among the first `count`, as (first, length).
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
    fn lengths_are_in_bytes() {
        assert_eq!(Usage::of(vec![Span::whole(ByteLen::new(9))], vec![]).read(), ByteLen::new(9));
    }
}
