//! The verification of every inode of a volume, and the ownership of all blocks.
//!
//! The census also verifies a resized volume before it is written: its content must have the fingerprint of its source,
//! computed with the source's numbers.

mod oddities;
mod tree;
mod values;

use crate::{
    bits::{Bits, Run},
    ext4::superblock::Superblock,
    ext4::{
        orphans::Waiting,
        quota,
        structure::{
            Opened, attributes,
            inode::{I_BLOCK, MapKind, RawInode},
            map::{Map, Piece, map_of},
        },
        usage,
    },
};
use imbrik_store::{
    bytes,
    error::{Error, Result},
    progress::Cancel,
};
use std::collections::BTreeMap;
use tree::Tree;
use values::Values;

/// The inode that lists bad blocks.
pub(super) const BAD_BLOCKS: u32 = 1;
/// The inode that holds the blocks reserved for more descriptors.
pub(super) const RESIZE: u32 = 7;
/// The pointer of an indirect map that leads to the double indirect block.
pub(super) const DOUBLE: usize = I_BLOCK.start.saturating_add(13 * 4);

/// The numbers of blocks and inodes in the source of a volume.
pub(super) trait Origin {
    /// Calls `work` with the pieces that `piece` was, in order.
    fn pieces(&self, piece: Piece, work: &mut dyn FnMut(Piece));
    /// The source's number of a block.
    fn block(&self, block: u64) -> u64;
    /// The source's number of an inode.
    fn inode(&self, number: u32) -> u32;
}

/// The volume is its own origin.
pub(super) struct Itself;

impl Origin for Itself {
    fn pieces(&self, piece: Piece, work: &mut dyn FnMut(Piece)) {
        work(piece);
    }
    fn block(&self, block: u64) -> u64 {
        block
    }
    fn inode(&self, number: u32) -> u32 {
        number
    }
}

/// How to handle faults that don't concern block ownership: in folders, attributes, links.
pub(super) enum Faults {
    /// The first fault ends the census.
    Refused,
    /// They are kept and reported.
    MetadataCache(Vec<String>),
}

impl Faults {
    /// The maximum number of stored faults: a result is compared with its source by their number.
    const MOST: usize = 1000;

    fn push(&mut self, fault: String) -> Result<()> {
        match self {
            Self::Refused => Err(Error::corrupt(fault)),
            Self::MetadataCache(list) if list.len() < Self::MOST => {
                list.push(fault);
                Ok(())
            }
            Self::MetadataCache(_) => {
                let most = Self::MOST;
                Err(Error::corrupt(format!("it has more than {most} faults; the next is: {fault}")))
            }
        }
    }

    /// The faults that were kept.
    pub(super) fn list(&self) -> &[String] {
        match self {
            Self::Refused => &[],
            Self::MetadataCache(list) => list,
        }
    }
}

/// The result of a census.
pub(super) struct Census {
    /// The blocks that inodes have: content, maps and attributes.
    pub(super) owned: Bits,
    /// The inodes in use, counted from 0.
    pub(super) inodes: Bits,
    /// Those among them that are folders.
    pub(super) folders: Bits,
    /// The journal.
    pub(super) journal: Option<(RawInode, Map)>,
    /// The list of bad blocks, in rising order; `None` without any.
    pub(super) bad_blocks: Option<(RawInode, Map)>,
    /// How many inodes share each attribute block.
    pub(super) shared: BTreeMap<u64, u32>,
    /// A digest of the content that is independent of block and inode numbers.
    pub(super) fingerprint: u128,
    /// The faults that are kept.
    pub(super) faults: Faults,
    /// With bigalloc, the clusters that are taken.
    clusters: Bits,
    tree: Tree,
    values: Values,
    /// The usage of each owner, for quota files.
    usage: BTreeMap<quota::Owner, quota::Change>,
}

impl Census {
    /// Reads every inode of `opened`.
    ///
    /// # Errors
    /// - When the volume cannot be read, or `cancel` was requested.
    /// - [`imbrik_store::Class::Corrupt`] with the first inconsistency: a wrong checksum, a block with two owners, a
    ///   wrong bitmap, an orphan that could not be completed.
    /// - [`imbrik_store::Class::Unsupported`] for what is not resized.
    pub(super) fn of(
        opened: &Opened,
        origin: &dyn Origin,
        faults: Faults,
        cancel: &Cancel,
    ) -> Result<Self> {
        let superblock = &opened.superblock;
        let metadata = opened.metadata()?;
        refuse_waiting(opened)?;
        let mut this = Self {
            owned: Bits::new(superblock.blocks),
            clusters: match superblock.cluster_blocks {
                1 => Bits::new(0),
                cluster => metadata.in_clusters(Run::new(0, superblock.blocks), cluster),
            },
            inodes: Bits::new(superblock.inodes()),
            folders: Bits::new(superblock.inodes()),
            journal: None,
            bad_blocks: None,
            shared: BTreeMap::new(),
            fingerprint: 0,
            faults,
            tree: Tree::default(),
            values: Values::default(),
            usage: BTreeMap::new(),
        };
        opened.each_inode(|inode, is_used| {
            cancel.check()?;
            match is_used {
                true => this.take(opened, &metadata, inode, origin),
                false if inode.links() > 0 && inode.dtime() == 0 && inode.mode() != 0 => {
                    Err(inode.wrong("it has links, and its bitmap says that it is not in use"))
                }
                false => Ok(()),
            }
        })?;
        let shared = std::mem::take(&mut this.shared);
        for (block, sharers) in &shared {
            let found = attributes::sharers(&opened.meta.block(*block)?, *block, superblock);
            if found != Some(*sharers) {
                return Err(Error::corrupt(format!(
                    "the attributes in block {block} are damaged, or shared by others than they say"
                )));
            }
            this.values.look_at_block(opened, *block, &mut this.faults)?;
        }
        this.shared = shared;
        this.values.compare(opened, &mut this.faults)?;
        this.tree.compare(opened, &mut this.faults, cancel)?;
        for fault in quota::compare(opened, &this.usage)? {
            this.faults.push(fault)?;
        }
        // The data about single inodes are no longer needed.
        this.tree = Tree::default();
        this.clusters = Bits::new(0);
        this.compare_bitmaps(opened, metadata)?;
        Ok(this)
    }

    /// The journal's inode; `None` without a journal.
    pub(super) fn journal_number(&self) -> Option<u32> {
        self.journal.as_ref().map(|(inode, _)| inode.number)
    }

    /// The bad blocks among the first `blocks` of the volume.
    pub(super) fn bad_blocks_below(&self, blocks: u64) -> Vec<u64> {
        let map = self.bad_blocks.iter().flat_map(|(_, map)| &map.pieces);
        let all = map.flat_map(|piece| piece.physical..piece.run().end());
        all.filter(|block| *block < blocks).collect()
    }

    /// Records a used inode.
    fn take(
        &mut self,
        opened: &Opened,
        metadata: &Bits,
        inode: RawInode,
        origin: &dyn Origin,
    ) -> Result<()> {
        let superblock = &opened.superblock;
        let index = u64::from(inode.number).saturating_sub(1);
        self.inodes.add(Run::new(index, 1));
        if inode.number < superblock.first_inode && inode.raw.iter().all(|byte| *byte == 0) {
            return Ok(());
        }
        is_alive(&inode, superblock)?;
        if inode.is_folder() {
            self.folders.add(Run::new(index, 1));
        }
        if inode.number == RESIZE {
            return self.take_resize_inode(superblock, metadata, &inode);
        }
        let map = map_of(&opened.meta, superblock, &inode, &mut |run| {
            owns(&mut self.owned, superblock, metadata, &inode, run)
        })?;
        let count = self.take_blocks(opened, metadata, &inode, &map)?;
        self.values.look_at_inode(opened, &inode, &mut self.faults)?;
        // The block count of a list of bad blocks includes only the listed ones.
        let listed: u64 = map.pieces.iter().map(|piece| piece.len).sum();
        let blocks = inode.blocks(superblock)?;
        let is_list = inode.number == BAD_BLOCKS && blocks == listed;
        if blocks != count && !is_list {
            return Err(inode.wrong("its count of blocks is wrong"));
        }
        oddities::look(opened, &inode, &map, &mut self.faults)?;
        let has_no_name = inode.number == superblock.orphan_file
            || superblock.quota_inodes.contains(&inode.number);
        // The inodes of large values are counted for the owners of the files that have them.
        if superblock.has_quota() && !has_no_name && !inode.is_attribute_value() {
            let inodes = quota::values_of(opened, &inode)?.saturating_add(1);
            let blocks = i64::try_from(count).unwrap_or(i64::MAX);
            let change = quota::Change { blocks, inodes };
            quota::count(&mut self.usage, &inode, superblock, change);
        }
        match inode.is_attribute_value() {
            true => self.values.note_holder(&inode),
            false if has_no_name => {}
            false => self.tree.note(&inode),
        }
        self.keep(opened, inode, map, origin)
    }

    /// Takes in the inode that reserves blocks for more descriptors.
    fn take_resize_inode(
        &mut self,
        superblock: &Superblock,
        metadata: &Bits,
        inode: &RawInode,
    ) -> Result<()> {
        // Its double indirect block refers to the reserved descriptor blocks.
        if superblock.has_resize_inode() {
            let double = Run::new(double_of(inode), 1);
            owns(&mut self.owned, superblock, metadata, inode, double)
        } else if inode.i_block().iter().any(|byte| *byte != 0) {
            Err(inode.wrong("it reserves blocks, and the feature for that is off"))
        } else {
            Ok(())
        }
    }

    /// Adds the attribute block of an inode, and the clusters of its content; returns the block count that it must
    /// have.
    fn take_blocks(
        &mut self,
        opened: &Opened,
        metadata: &Bits,
        inode: &RawInode,
        map: &Map,
    ) -> Result<u64> {
        let superblock = &opened.superblock;
        let file_acl = inode.file_acl(superblock);
        let cluster = superblock.cluster_blocks;
        let (mut taken, mut count) = clusters_of(map, cluster);
        if file_acl != 0 {
            count = count.saturating_add(cluster);
            // Others may share it.
            if !self.shared.contains_key(&file_acl) {
                taken.push(Run::new(file_acl.checked_div(cluster).unwrap_or(0), 1));
                owns(&mut self.owned, superblock, metadata, inode, Run::new(file_acl, 1))?;
            }
            let sharers = self.shared.entry(file_acl).or_default();
            *sharers = sharers.saturating_add(1);
        }
        // Two files with blocks of one cluster would both give it back.
        if cluster > 1 && !taken.into_iter().all(|run| self.clusters.add(run)) {
            return Err(inode.wrong("it has blocks in a cluster that is not its own"));
        }
        if superblock.has_ea_inodes() {
            count = count.saturating_add(values_elsewhere(opened, inode, file_acl)?);
        }
        Ok(count)
    }

    /// Keeps the inodes that are needed later, and adds all others to the fingerprint.
    fn keep(
        &mut self,
        opened: &Opened,
        inode: RawInode,
        map: Map,
        origin: &dyn Origin,
    ) -> Result<()> {
        let superblock = &opened.superblock;
        if superblock.has_journal() && inode.number == superblock.journal_inode {
            self.journal = Some((inode, map));
        } else if inode.number == BAD_BLOCKS && !map.pieces.is_empty() {
            if !map.pieces.is_sorted_by_key(|piece| piece.physical) {
                return Err(Error::unsupported("its list of bad blocks is in no order"));
            }
            self.bad_blocks = Some((inode, map));
        } else {
            let print = fingerprint(opened, &inode, &map, origin)?;
            self.fingerprint = self.fingerprint.wrapping_add(print);
        }
        Ok(())
    }

    /// Compares block ownership with the block bitmaps.
    fn compare_bitmaps(&self, opened: &Opened, mut used: Bits) -> Result<()> {
        let superblock = &opened.superblock;
        let owned = Run::new(0, superblock.blocks);
        for run in self.owned.runs(owned) {
            used.add(run);
        }
        let len = usize::try_from(superblock.block_len).unwrap_or(0);
        for (number, group) in (0u64..).zip(&opened.groups) {
            let blocks = Run::new(superblock.group_start(number), superblock.group_len(number));
            // A bit of a bitmap is a block, or a cluster of them.
            let (used, run) = match superblock.cluster_blocks {
                1 => (&used, blocks),
                cluster => {
                    (&used.in_clusters(blocks, cluster), Run::new(0, blocks.len.div_ceil(cluster)))
                }
            };
            let computed = used.bitmap(run, len);
            let free = run.len.saturating_sub(used.count_in(run));
            let wrong = |what: &str| {
                Err(Error::corrupt(format!("group {number}: {what} and the blocks in use differ")))
            };
            if free != group.free_clusters {
                return wrong("its count of free blocks");
            }
            if group.is_block_uninit {
                continue;
            }
            let found = opened.meta.block(group.block_bitmap)?;
            group.check_block_bitmap(superblock.covered(&found), number, superblock)?;
            let mut all = Bits::new(run.len);
            for (first, count) in usage::runs(&found, run.len) {
                all.add(Run::new(first, count));
            }
            if all.bitmap(Run::new(0, run.len), len) != computed {
                return wrong("its block bitmap");
            }
        }
        Ok(())
    }
}

/// The clusters of a map, none if a cluster is a block, and their number of blocks.
fn clusters_of(map: &Map, cluster: u64) -> (Vec<Run>, u64) {
    if cluster == 1 {
        return (Vec::new(), map.runs().map(|run| run.len).sum());
    }
    let mut runs: Vec<Run> = map.runs().collect();
    runs.sort_unstable_by_key(|run| run.first);
    let mut behind = 0u64;
    for run in &mut runs {
        let first = run.first.checked_div(cluster).unwrap_or(0).max(behind);
        behind = run.end().div_ceil(cluster).max(first);
        *run = Run::new(first, behind.saturating_sub(first));
    }
    let count: u64 = runs.iter().map(|run| run.len).sum();
    (runs, count.saturating_mul(cluster))
}

/// Refuses a volume whose orphans could not be finished when it was recovered.
fn refuse_waiting(opened: &Opened) -> Result<()> {
    if Waiting::of(opened)?.is_empty() {
        return Ok(());
    }
    Err(Error::corrupt(match opened.superblock.has_errors() {
        // The kernel discards the list of such a volume.
        true => "it is marked as having errors, and files wait to be deleted",
        false => "files that were deleted or truncated while open are inconsistent",
    }))
}

/// The number of blocks for attributes of an inode that are in separate inodes.
fn values_elsewhere(opened: &Opened, inode: &RawInode, file_acl: u64) -> Result<u64> {
    let block_len = opened.superblock.block_len;
    let wrong = || inode.wrong("its attributes are invalid");
    let mut count = match inode.attributes() {
        Some(region) => {
            let found = attributes::blocks_of_values(&inode.raw, region.start, block_len);
            found.ok_or_else(wrong)?
        }
        None => 0,
    };
    if file_acl != 0 {
        let block = opened.meta.block(file_acl)?;
        let found = attributes::blocks_of_values(&block, attributes::IN_BLOCK, block_len);
        count = count.saturating_add(found.ok_or_else(wrong)?);
    }
    Ok(count)
}

/// The double indirect block of an inode with an indirect map.
pub(super) fn double_of(inode: &RawInode) -> u64 {
    u64::from(bytes::le_u32(&inode.raw, DOUBLE).unwrap_or(0))
}

/// A digest of an inode's properties, with numbers converted to the source's.
fn fingerprint(opened: &Opened, inode: &RawInode, map: &Map, origin: &dyn Origin) -> Result<u128> {
    let superblock = &opened.superblock;
    let mut hasher = blake3::Hasher::new();
    hasher.update(&origin.inode(inode.number).to_le_bytes());
    let mut update = |range: std::ops::Range<usize>| {
        hasher.update(inode.raw.get(range).unwrap_or_default());
    };
    // In a value inode, the times and the version contain the number of its parent, or the number of attributes with
    // that value.
    let is_value = inode.is_attribute_value();
    update(if is_value { 0x0..0xc } else { 0x0..0x14 });
    update(0x18..0x1c);
    update(if is_value { 0x20..0x24 } else { 0x20..0x28 });
    update(0x64..0x68);
    update(0x6c..0x74);
    update(0x84..0xa0);
    let file_acl = inode.file_acl(superblock);
    let file_acl = if file_acl == 0 { 0 } else { origin.block(file_acl) };
    hasher.update(&file_acl.to_le_bytes());
    match inode.map_kind(superblock)? {
        // A folder within its inode holds numbers of others.
        MapKind::None if inode.is_folder() => {}
        MapKind::None => {
            hasher.update(inode.i_block());
            if !superblock.has_ea_inodes() {
                hasher.update(inode.raw.get(0xa0..).unwrap_or_default());
            }
        }
        MapKind::Extents | MapKind::Indirect => {
            let mut add = |piece: &Piece| {
                for number in [piece.logical, piece.physical, piece.len, piece.is_unwritten.into()]
                {
                    hasher.update(&number.to_le_bytes());
                }
            };
            let mut last: Option<Piece> = None;
            for piece in &map.pieces {
                origin.pieces(*piece, &mut |was| match &mut last {
                    Some(last) if follows(last, &was) => {
                        last.len = last.len.saturating_add(was.len);
                    }
                    _ => {
                        last.iter().for_each(&mut add);
                        last = Some(was);
                    }
                });
            }
            last.iter().for_each(&mut add);
        }
    }
    let digest = hasher.finalize();
    Ok(u128::from_le_bytes(bytes::array(digest.as_bytes(), 0).unwrap_or_default()))
}

/// Returns whether `next` continues `last`, whatever their lengths are.
fn follows(last: &Piece, next: &Piece) -> bool {
    last.logical.saturating_add(last.len) == next.logical
        && last.run().end() == next.physical
        && last.is_unwritten == next.is_unwritten
}

/// Returns whether an inode that its bitmap has in use can be.
///
/// # Errors
/// With the reason.
fn is_alive(inode: &RawInode, superblock: &Superblock) -> Result<()> {
    inode.check(superblock)?;
    let is_reserved = inode.number < superblock.first_inode;
    match inode.links() {
        0 if !is_reserved => Err(inode.wrong("it is in use, and nothing leads to it")),
        1.. if inode.dtime() != 0 => Err(inode.wrong("it is in use, and was deleted")),
        _ => Ok(()),
    }
}

/// Records blocks as owned by an inode. A second owner is an error, and so is a block of the volume's own metadata.
///
/// # Errors
/// When they have another owner, or are outside of the volume.
fn owns(
    owned: &mut Bits,
    superblock: &Superblock,
    metadata: &Bits,
    inode: &RawInode,
    run: Run,
) -> Result<()> {
    let is_inside = run.first >= superblock.first_data_block;
    match is_inside && metadata.count_in(run) == 0 && owned.add(run) {
        true => Ok(()),
        false => Err(inode.wrong(&format!(
            "its {} blocks from {} are not its own, or lie outside",
            run.len, run.first
        ))),
    }
}
