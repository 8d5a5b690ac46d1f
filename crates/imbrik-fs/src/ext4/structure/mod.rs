//! Strict parsing of a volume that is to be changed: anything that the system's checker would report is an error, and
//! every structure can be written with its checksum.

pub(in crate::ext4) mod attributes;
pub(in crate::ext4) mod dirhash;
pub(in crate::ext4) mod folder;
pub(in crate::ext4) mod inode;
pub(in crate::ext4) mod map;
pub(in crate::ext4) mod metadata_cache;
pub(in crate::ext4) mod orphan_file;
pub(in crate::ext4) mod trees;
pub(in crate::ext4) mod values;

use crate::{
    bits::{Bits, Run},
    ext4::{
        fixed::Fixed,
        group::Group,
        superblock::{RawSuperblock, Superblock},
        usage,
    },
};
use imbrik_store::{
    ReadAt,
    error::{Error, Result},
    read_vec,
    units::ByteOffset,
};
use inode::RawInode;
use metadata_cache::{Block, Blocks, MetadataCache};
use std::sync::Arc;

/// The maximum number of blocks. A plan needs a few bits of memory per block; a larger volume (4 TiB with blocks of 4
/// KiB) is not on a card, and its size may be false.
const MOST_BLOCKS: u64 = 1 << 30;

/// Refuses a volume of `blocks` blocks that is too large.
///
/// # Errors
/// [`imbrik_store::Class::Unsupported`].
pub(in crate::ext4) fn can_be_planned(blocks: u64) -> Result<()> {
    match blocks <= MOST_BLOCKS {
        true => Ok(()),
        false => {
            let most = format!("{blocks} blocks are more than the supported {MOST_BLOCKS}");
            Err(Error::unsupported(most))
        }
    }
}

/// A volume with sound descriptors.
pub(in crate::ext4) struct Opened {
    pub(in crate::ext4) meta: Arc<MetadataCache>,
    pub(in crate::ext4) superblock: Superblock,
    /// The superblock's bytes.
    pub(in crate::ext4) raw: Vec<u8>,
    pub(in crate::ext4) groups: Vec<Group>,
}

impl Opened {
    /// Opens the volume in `store`.
    ///
    /// # Errors
    /// - When the store cannot be read.
    /// - [`imbrik_store::Class::Unsupported`] and [`imbrik_store::Class::Corrupt`] with the reason.
    pub(in crate::ext4) fn of(store: Arc<dyn ReadAt>) -> Result<Self> {
        let this = Self::to_look_at(store)?;
        this.superblock.is_resizable()?;
        Ok(this)
    }

    /// The same for a volume whose block ownership does not change: its bitmaps may count clusters.
    ///
    /// # Errors
    /// As [`Opened::of`].
    pub(in crate::ext4) fn to_look_at(store: Arc<dyn ReadAt>) -> Result<Self> {
        let superblock = RawSuperblock::read(&*store)?;
        let superblock = superblock.ok_or_else(|| Error::corrupt("its superblock is gone"))?;
        let superblock = superblock.verified_clean(store.size())?;
        superblock.is_known()?;
        can_be_planned(superblock.blocks)?;
        let raw = read_vec(&*store, ByteOffset::new(Superblock::OFFSET), Superblock::LEN)?;
        let groups = Group::all(&*store, &superblock)?;
        let meta = Arc::new(MetadataCache::new(store, superblock.block_len));
        Ok(Self { meta, superblock, raw, groups })
    }

    /// The blocks that the volume's own metadata take.
    ///
    /// # Errors
    /// when two of them overlap, or one is outside of the volume.
    pub(in crate::ext4) fn metadata(&self) -> Result<Bits> {
        let mut bits = Bits::new(self.superblock.blocks);
        for run in Fixed::of(&self.superblock, &self.groups)?.runs() {
            bits.add(*run);
        }
        Ok(bits)
    }

    /// Calls `work` with every inode of the tables that was ever used, in order, and with whether
    /// its bitmap has it in use; the bitmap is compared with its checksum and its count.
    ///
    /// # Errors
    /// Those of reading, and of `work`.
    pub(in crate::ext4) fn each_inode(
        &self,
        mut work: impl FnMut(RawInode, bool) -> Result<()>,
    ) -> Result<()> {
        for (number, group) in (0u64..).zip(&self.groups) {
            self.inodes_of(number, group, &mut work)?;
        }
        Ok(())
    }

    fn inodes_of(
        &self,
        number: u64,
        group: &Group,
        work: &mut impl FnMut(RawInode, bool) -> Result<()>,
    ) -> Result<()> {
        let superblock = &self.superblock;
        let a_group = superblock.inodes_per_group;
        let live = a_group.saturating_sub(group.unused_inodes.unwrap_or(0));
        let wrong = |what: &str| Err(Error::corrupt(format!("group {number}: {what}")));
        if live == 0 {
            return match group.free_inodes == a_group {
                true => Ok(()),
                false => wrong("its inodes were never used, and some are said to be in use"),
            };
        }
        let bitmap = self.meta.block(group.inode_bitmap)?;
        group.check_inode_bitmap(&bitmap, number, superblock)?;
        let mut used = Bits::new(a_group);
        for (first, count) in usage::runs(&bitmap, a_group) {
            used.add(Run::new(first, count));
        }
        if used.count() != a_group.saturating_sub(group.free_inodes) {
            return wrong("its inode bitmap and its count of free inodes differ");
        }
        if used.count_in(Run::new(live, a_group)) > 0 {
            return wrong("inodes that were never used are said to be in use");
        }
        // Without a count of unused inodes, a table block without an inode in use is void.
        let tells = group.unused_inodes.is_some();
        let per_block = superblock.block_len.checked_div(superblock.inode_len).unwrap_or(1).max(1);
        let len = usize::try_from(superblock.inode_len).unwrap_or(usize::MAX);
        let before = number.saturating_mul(a_group);
        let mut inodes = |index: u64, block: &Block| {
            let first = index.saturating_mul(per_block);
            for (index, raw) in (first..live).zip(block.chunks(len)) {
                let number = before.saturating_add(index).saturating_add(1);
                let number = u32::try_from(number)
                    .map_err(|_| Error::corrupt("it has more inodes than can be counted"))?;
                work(RawInode { number, raw: raw.to_vec() }, used.contains(index))?;
            }
            Ok(())
        };
        if tells {
            let blocks = live.div_ceil(per_block);
            return self.meta.each(group.inode_table, blocks, |block, content| {
                inodes(block.saturating_sub(group.inode_table), content)
            });
        }
        let mut blocks = Bits::new(superblock.table_blocks());
        for run in used.runs(Run::new(0, a_group)) {
            let first = run.first.checked_div(per_block).unwrap_or(0);
            blocks.add(Run::new(first, run.end().div_ceil(per_block).saturating_sub(first)));
        }
        for run in blocks.runs(Run::new(0, blocks.len())) {
            let first = group.inode_table.saturating_add(run.first);
            self.meta.each(first, run.len, |block, content| {
                inodes(block.saturating_sub(group.inode_table), content)
            })?;
        }
        Ok(())
    }

    /// The block of inode `number`, and its offset in it.
    pub(in crate::ext4) fn place_of(&self, number: u32) -> Option<(u64, usize)> {
        place_of(&self.superblock, &self.groups, number)
    }

    /// The inode `number`.
    ///
    /// # Errors
    /// When the number does not exist, or the inode's checksum is wrong.
    pub(in crate::ext4) fn inode(&self, number: u32) -> Result<RawInode> {
        let group = usize::try_from(group_of(&self.superblock, number)).unwrap_or(usize::MAX);
        let group = self.groups.get(group).ok_or_else(|| no_inode(number))?;
        let inode = inode_in(&self.meta, &self.superblock, group, number)?;
        inode.check(&self.superblock)?;
        Ok(inode)
    }
}

fn no_inode(number: u32) -> Error {
    Error::corrupt(format!("inode {number} does not exist"))
}

/// The group of inode `number`; an invalid one for 0, which is not an inode.
pub(in crate::ext4) fn group_of(superblock: &Superblock, number: u32) -> u64 {
    let index = number.checked_sub(1).map(u64::from);
    index.and_then(|index| index.checked_div(superblock.inodes_per_group)).unwrap_or(u64::MAX)
}

/// Reads inode `number` from the table of its group, without verifying its checksum.
///
/// # Errors
/// When the number does not exist, or the inode cannot be read.
pub(in crate::ext4) fn inode_in(
    blocks: &dyn Blocks,
    superblock: &Superblock,
    group: &Group,
    number: u32,
) -> Result<RawInode> {
    let place = place_in(superblock, group, number).ok_or_else(|| no_inode(number))?;
    let len = usize::try_from(superblock.inode_len).unwrap_or(0);
    let block = blocks.block(place.0)?;
    let raw = block.get(place.1..place.1.saturating_add(len)).ok_or_else(|| no_inode(number))?;
    Ok(RawInode { number, raw: raw.to_vec() })
}

/// The block of inode `number` in the table of its group, and its offset in the block.
fn place_in(superblock: &Superblock, group: &Group, number: u32) -> Option<(u64, usize)> {
    let inside = u64::from(number.checked_sub(1)?).checked_rem(superblock.inodes_per_group)?;
    let at = inside.checked_mul(superblock.inode_len)?;
    let block = group.inode_table.checked_add(at.checked_div(superblock.block_len)?)?;
    Some((block, usize::try_from(at.checked_rem(superblock.block_len)?).ok()?))
}

/// The block of inode `number` in the tables of `groups`, and its offset in the block.
pub(in crate::ext4) fn place_of(
    superblock: &Superblock,
    groups: &[Group],
    number: u32,
) -> Option<(u64, usize)> {
    let group = groups.get(usize::try_from(group_of(superblock, number)).ok()?)?;
    place_in(superblock, group, number)
}
