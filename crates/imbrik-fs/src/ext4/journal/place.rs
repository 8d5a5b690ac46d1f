//! The location of a journal, confirmed by several structures.
//!
//! The journal's blocks are cleared in an image, and their content is written over other blocks: a single wrong bit in
//! the length of its first extent would destroy files both ways. So its map is only used if the inode's checksum is
//! valid, and the backup in the superblock, the inode's length, the journal's own length and the block bitmaps agree.

use super::log::{MAGIC, be_u32, damaged};
use crate::{
    bits::{Bits, Run},
    ext4::{
        fixed::Fixed,
        group::Group,
        structure::{
            inode::RawInode,
            map::{Map, map_of},
            metadata_cache::MetadataCache,
            place_of,
        },
        superblock::Superblock,
    },
};
use imbrik_store::error::{Error, Result};

/// A journal within the volume.
pub(in crate::ext4) struct JournalPlace {
    /// Its blocks, in order and without a hole.
    pub(in crate::ext4) map: Map,
    /// Its first block: the journal's own superblock.
    pub(in crate::ext4) head: Vec<u8>,
    /// True if a checksum, or the superblock's copy of its start, confirms the map.
    pub(in crate::ext4) is_confirmed: bool,
    /// True if that is confirmed for every block of the map: map blocks outside of the inode have no backup, and
    /// without checksums a wrong bit in one of them would have a block of another file cleared.
    pub(in crate::ext4) is_confirmed_to_its_end: bool,
}

impl JournalPlace {
    /// The location of the journal of a volume with these descriptors; `None` if it has no journal.
    ///
    /// # Errors
    /// - When the volume cannot be read.
    /// - [`imbrik_store::Class::Corrupt`] with the first contradiction, and [`imbrik_store::Class::Unsupported`]
    ///   when it is on another device.
    pub(in crate::ext4) fn of(
        meta: &MetadataCache,
        superblock: &Superblock,
        groups: &[Group],
        fixed: &Fixed,
    ) -> Result<Option<Self>> {
        if !superblock.has_journal() {
            return Ok(None);
        }
        let number = superblock.journal_inode;
        if number == 0 {
            return Err(Error::unsupported("its journal is on another device"));
        }
        let wrong = |what: &str| Error::corrupt(format!("its journal: {what}"));
        let at = place_of(superblock, groups, number).ok_or_else(|| wrong("it has no inode"))?;
        let len = usize::try_from(superblock.inode_len).unwrap_or(0);
        let block = meta.block(at.0)?;
        let raw = block.get(at.1..at.1.saturating_add(len)).unwrap_or_default().to_vec();
        let inode = RawInode { number, raw };
        inode.check(superblock)?;
        if !inode.is_file() || inode.links() == 0 || inode.dtime() != 0 || inode.is_inline() {
            return Err(wrong("its inode is not that of a journal"));
        }
        let mut own = Bits::new(superblock.blocks);
        let map = map_of(meta, superblock, &inode, &mut |run| {
            let is_free =
                run.first >= superblock.first_data_block && !fixed.touches(run) && own.add(run);
            is_free
                .then_some(())
                .ok_or_else(|| wrong("its map leads to blocks that are not its own"))
        })?;
        let copy = superblock.journal_copy.as_ref();
        if copy.is_some_and(|copy| copy.i_block != inode.i_block() || copy.size != inode.size()) {
            return Err(wrong("its map and the superblock's copy of that differ"));
        }
        let mut behind = 0;
        for piece in &map.pieces {
            if piece.logical != behind || piece.is_unwritten {
                return Err(wrong("its map has a hole"));
            }
            behind = piece.logical.saturating_add(piece.len);
        }
        let first = map.pieces.first().ok_or_else(|| wrong("it is empty"))?.physical;
        let head = meta.block(first)?.to_vec();
        let s_maxlen = u64::from(be_u32(&head, 0x10).unwrap_or(0));
        if be_u32(&head, 0) != Some(MAGIC) {
            return Err(wrong("it does not start with its own superblock"));
        }
        let len = superblock.block_len.saturating_mul(s_maxlen);
        if behind != s_maxlen || len != inode.size() {
            return Err(wrong(&format!(
                "its map has {behind} blocks, its inode {} bytes, and its superblock records \
                 {s_maxlen} blocks",
                inode.size()
            )));
        }
        let is_confirmed = copy.is_some() || superblock.has_metadata_csum();
        let is_confirmed_to_its_end =
            superblock.has_metadata_csum() || is_confirmed && map.nodes.is_empty();
        let this = Self { map, head, is_confirmed, is_confirmed_to_its_end };
        this.compare_bitmaps(meta, superblock, groups)?;
        Ok(Some(this))
    }

    /// Compares its blocks with the bitmaps of their groups. Before a replay, the checksums of the bitmaps may be
    /// outdated.
    fn compare_bitmaps(
        &self,
        meta: &MetadataCache,
        superblock: &Superblock,
        groups: &[Group],
    ) -> Result<()> {
        for run in self.map.runs() {
            let mut at = run.first;
            while at < run.end() {
                let ahead = at.saturating_sub(superblock.first_data_block);
                let number = ahead.checked_div(superblock.blocks_per_group).unwrap_or(0);
                let group = usize::try_from(number).ok().and_then(|number| groups.get(number));
                let group = group.ok_or_else(|| damaged("it lies outside"))?;
                let start = superblock.group_start(number);
                let end = start.saturating_add(superblock.group_len(number)).min(run.end());
                let cluster = superblock.cluster_blocks.max(1);
                let first = at.saturating_sub(start).checked_div(cluster).unwrap_or(0);
                let last = end.saturating_sub(start).div_ceil(cluster);
                let bitmap = meta.block(group.block_bitmap)?;
                let is_used = |bit: u64| {
                    let byte = usize::try_from(bit / 8).ok().and_then(|byte| bitmap.get(byte));
                    byte.is_some_and(|byte| byte >> (bit % 8) & 1 == 1)
                };
                if group.is_block_uninit || !(first..last).all(is_used) {
                    return Err(Error::corrupt(format!(
                        "group {number}: its block bitmap calls blocks of the journal free"
                    )));
                }
                at = end.max(at.saturating_add(1));
            }
        }
        Ok(())
    }

    /// All of its blocks, with those of its own superblock.
    pub(in crate::ext4) fn runs(&self) -> impl Iterator<Item = Run> + '_ {
        self.map.pieces.iter().map(|piece| Run::new(piece.physical, piece.len))
    }

    /// The blocks of its body: all of its content but its own superblock.
    pub(in crate::ext4) fn body(&self) -> impl Iterator<Item = Run> + '_ {
        self.map.pieces.iter().map(|piece| {
            let skip = u64::from(piece.logical == 0);
            Run::new(piece.physical.saturating_add(skip), piece.len.saturating_sub(skip))
        })
    }

    /// Returns whether `block` is one of its blocks.
    pub(super) fn holds(&self, block: u64) -> bool {
        self.map.runs().any(|run| (run.first..run.end()).contains(&block))
    }

    /// The error that its system noted in it (`s_errno`); `None` for none.
    pub(in crate::ext4) fn errno(&self) -> Option<i32> {
        be_u32(&self.head, 0x20).filter(|errno| *errno != 0).map(u32::cast_signed)
    }

    /// Returns whether nothing in it is to be replayed.
    pub(in crate::ext4) fn is_empty(&self) -> bool {
        be_u32(&self.head, 0x1c) == Some(0)
    }
}
