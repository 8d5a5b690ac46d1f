//! Files that were deleted, or cut, while they were open: a system finishes them when it mounts the
//! volume after a crash, and so is done here, in what is made of a saved volume.

use super::{
    quota,
    space::Space,
    structure::{
        Opened, attributes,
        inode::{MapKind, RawInode},
        map::{Map, map_of},
        orphan_file, trees, values,
    },
    superblock::Superblock,
};
use crate::{
    bits::{Bits, Run},
    ext4::fixed::Fixed,
    placement::Moves,
};
use imbrik_store::{
    Edited, ReadAt, bytes,
    error::{Error, Result},
    units::ByteOffset,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

/// What stands in a volume once its orphans are finished; `None` when there are none.
///
/// # Errors
/// - When the store cannot be read.
/// - [`imbrik_store::Class::Corrupt`] and [`imbrik_store::Class::Unsupported`] with what is in the way: they are
///   left as they are then.
pub(super) fn finished(store: &Arc<dyn ReadAt>, superblock: &Superblock) -> Result<Option<Edited>> {
    if superblock.last_orphan == 0 && !superblock.has_orphans_in_file() {
        return Ok(None);
    }
    let opened = Opened::of(Arc::clone(store))?;
    let waiting = Waiting::of(&opened)?;
    let fixed = Fixed::of(&opened.superblock, &opened.groups)?;
    let mut finish = Finish {
        fixed,
        space: Space::of(&opened, store),
        usage: BTreeMap::new(),
        now: bytes::le_u32(&opened.raw, 0x30).unwrap_or(0).max(1),
        gone: BTreeSet::new(),
    };
    for number in waiting.all() {
        finish.one(number)?;
    }
    finish.clear_lists()?;
    quota::follow(&opened, &mut finish.space, &finish.usage)?;
    finish.space.finish().map(Some)
}

/// The inodes that wait to be deleted or cut.
pub(super) struct Waiting {
    /// Those of the orphan file.
    in_file: BTreeSet<u32>,
    all: BTreeSet<u32>,
}

impl Waiting {
    /// Those of the volume.
    ///
    /// # Errors
    /// When they cannot be read, or [`imbrik_store::Class::Corrupt`] when the list or the file makes no
    /// sense.
    pub(super) fn of(opened: &Opened) -> Result<Self> {
        let superblock = &opened.superblock;
        let mut this = Self { in_file: BTreeSet::new(), all: BTreeSet::new() };
        this.all.extend(listed(opened)?);
        if superblock.orphan_file == 0 {
            return Ok(this);
        }
        let inode = opened.inode(superblock.orphan_file)?;
        for (number, _) in blocks_of_file(opened, &inode)? {
            let block = opened.meta.block(number)?;
            this.in_file.extend(orphan_file::entries(&block).iter().map(|(_, inode)| *inode));
        }
        // Systems set the mark at every writable mount, so that it says nothing while it is set.
        if !this.in_file.is_empty() && !superblock.has_orphans_in_file() {
            return Err(inode.wrong("the superblock calls this orphan file empty, and it is not"));
        }
        this.all.extend(&this.in_file);
        Ok(this)
    }

    /// Whether there are none.
    pub(super) fn is_empty(&self) -> bool {
        self.all.is_empty()
    }

    fn all(&self) -> impl Iterator<Item = u32> + '_ {
        self.all.iter().copied()
    }
}

/// Those of the list that starts in the superblock, in its order.
///
/// # Errors
/// As [`Waiting::of`].
pub(super) fn listed(opened: &Opened) -> Result<Vec<u32>> {
    let (mut list, mut seen) = (Vec::new(), BTreeSet::new());
    let mut next = opened.superblock.last_orphan;
    while next != 0 {
        if !seen.insert(next) {
            return Err(Error::corrupt("its list of orphans runs in a circle"));
        }
        list.push(next);
        next = opened.inode(next)?.dtime();
    }
    Ok(list)
}

/// The blocks of the orphan file, each sound, and what its checksums start from.
fn blocks_of_file(opened: &Opened, inode: &RawInode) -> Result<Vec<(u64, Option<u32>)>> {
    let superblock = &opened.superblock;
    // Its blocks are counted when its own turn comes.
    let mut left = superblock.blocks;
    let map = map_of(&opened.meta, superblock, inode, &mut |run| {
        left = left.checked_sub(run.len).ok_or_else(|| inode.wrong("it runs in a circle"))?;
        Ok(())
    })?;
    let seed = superblock.has_metadata_csum().then(|| inode.seed(superblock));
    let mut blocks = Vec::new();
    for piece in map.pieces {
        opened.meta.each(piece.physical, piece.len, |number, block| {
            if !orphan_file::is_sound(block, number, seed) {
                return Err(inode.wrong("a block of this orphan file is damaged"));
            }
            blocks.push((number, seed));
            Ok(())
        })?;
    }
    Ok(blocks)
}

struct Finish<'a> {
    fixed: Fixed,
    space: Space<'a>,
    usage: BTreeMap<quota::Owner, quota::Change>,
    now: u32,
    /// The inodes that are gone already.
    gone: BTreeSet<u32>,
}

impl<'a> Finish<'a> {
    fn superblock(&self) -> &'a Superblock {
        self.space.superblock()
    }

    fn one(&mut self, number: u32) -> Result<()> {
        let inode = self.space.opened.inode(number)?;
        if number < self.superblock().first_inode {
            return Err(inode.wrong("it is one of the volume's own, and waits to be deleted"));
        }
        match inode.links() {
            0 => self.delete(&inode),
            _ => self.cut(inode),
        }
    }

    /// The map of an inode whose blocks are nobody's own metadata.
    fn map(&self, inode: &RawInode) -> Result<Map> {
        let superblock = self.superblock();
        let mut seen = Bits::new(superblock.blocks);
        map_of(&self.space.opened.meta, superblock, inode, &mut |run| {
            let is_own = run.first >= superblock.first_data_block
                && !self.fixed.touches(run)
                && seen.add(run);
            is_own.then_some(()).ok_or_else(|| inode.wrong("it has blocks that are not its own"))
        })
    }

    /// An inode that no name leads to: all that it has is given back.
    fn delete(&mut self, inode: &RawInode) -> Result<()> {
        if !self.gone.insert(inode.number) {
            return Ok(());
        }
        let opened = self.space.opened;
        for run in self.map(inode)?.runs() {
            for block in run.first..run.end() {
                self.space.give_back(block)?;
            }
        }
        if !inode.is_attribute_value() {
            // What holds a value is counted for those whose attributes have it.
            let values = quota::values_of(opened, inode)?;
            let blocks = i64::try_from(inode.blocks(self.superblock())?).unwrap_or(i64::MAX);
            let inodes = values.saturating_add(1);
            let change =
                quota::Change { blocks: blocks.saturating_neg(), inodes: inodes.saturating_neg() };
            quota::count(&mut self.usage, inode, self.space.superblock(), change);
        }
        let found = values::in_inode(inode);
        let found = found.ok_or_else(|| inode.wrong("its attributes make no sense"))?;
        let held: Vec<u32> = found.iter().map(|attribute| attribute.inode).collect();
        self.release(&held)?;
        let block = inode.file_acl(self.superblock());
        if block != 0 {
            self.leave_attributes(block)?;
        }
        let mut raw = RawInode { number: inode.number, raw: vec![0; inode.raw.len()] };
        raw.put_u32(0x64, inode.generation());
        raw.put_u32(0x14, self.now);
        self.put_inode(raw)?;
        self.space.give_back_inode(inode.number, inode.is_folder())
    }

    /// One inode less shares an attribute block.
    fn leave_attributes(&mut self, number: u64) -> Result<()> {
        let wrong = || Error::corrupt(format!("the attributes in block {number} make no sense"));
        let mut block = self.space.block(number)?;
        let superblock = self.superblock();
        let sharers = attributes::sharers(&block, number, superblock).ok_or_else(wrong)?;
        match sharers.checked_sub(1).ok_or_else(wrong)? {
            0 => {
                let found = attributes::list(&block, attributes::IN_BLOCK, 0).ok_or_else(wrong)?;
                let held: Vec<u32> = found.iter().map(|attribute| attribute.inode).collect();
                self.release(&held)?;
                self.space.give_back(number)
            }
            left => {
                attributes::put_sharers(&mut block, left).ok_or_else(wrong)?;
                attributes::seal(&mut block, number, superblock).ok_or_else(wrong)?;
                self.space.put_block(number, &block)
            }
        }
    }

    /// One attribute less has the value in each of these inodes; 0 is none.
    fn release(&mut self, held: &[u32]) -> Result<()> {
        for number in held.iter().copied().filter(|number| *number != 0) {
            if self.gone.contains(&number) {
                continue;
            }
            let mut value = self.space.inode(number)?;
            if !value.is_attribute_value() {
                return Err(value.wrong("it is to hold the value of an attribute, and does not"));
            }
            match value.value_references().saturating_sub(1) {
                0 => self.delete(&value)?,
                left => {
                    value.put_value_references(left);
                    self.put_inode(value)?;
                }
            }
        }
        Ok(())
    }

    /// An inode that was being cut: what lies behind its end is given back.
    fn cut(&mut self, mut inode: RawInode) -> Result<()> {
        let superblock = self.superblock();
        let kind = inode.map_kind(superblock)?;
        inode.put_u32(0x14, 0);
        if kind == MapKind::None {
            return self.put_inode(inode);
        }
        let map = self.map(&inode)?;
        let blocks = inode.size().div_ceil(superblock.block_len);
        let mut kept = map.clone();
        kept.cut(blocks);
        let mut goes = Bits::new(superblock.blocks);
        map.runs().for_each(|run| {
            goes.add(run);
        });
        let made = match kind {
            MapKind::Extents => {
                let count = trees::blocks_of_tree(kept.pieces.len(), superblock.block_len);
                kept.nodes.truncate(count);
                let places: Vec<u64> = kept.nodes.iter().map(|node| node.block).collect();
                let seed = inode.seed(superblock);
                trees::tree(&kept.pieces, &places, inode.i_block(), superblock, seed)?
            }
            _ => {
                let none = Moves::of(Vec::new());
                let meta = &self.space.opened.meta;
                trees::indirect(meta, superblock, inode.i_block(), &none, blocks)?
            }
        };
        kept.runs().for_each(|run| goes.remove(run));
        let fewer = goes.count();
        for run in goes.runs(Run::new(0, superblock.blocks)) {
            for block in run.first..run.end() {
                self.space.give_back(block)?;
            }
        }
        for (block, content) in made.blocks {
            self.space.put_block(block, &content)?;
        }
        inode.put_i_block(&made.i_block);
        inode.put_blocks(inode.blocks(superblock)?.saturating_sub(fewer), superblock);
        let change = quota::Change {
            blocks: i64::try_from(fewer).unwrap_or(i64::MAX).saturating_neg(),
            inodes: 0,
        };
        quota::count(&mut self.usage, &inode, superblock, change);
        self.clear_tail(&inode, &kept)?;
        self.put_inode(inode)
    }

    /// What stands behind a file's end in its last block must be zeros: they show when it grows.
    fn clear_tail(&mut self, inode: &RawInode, map: &Map) -> Result<()> {
        let block_len = self.superblock().block_len.max(1);
        let inside = inode.size().checked_rem(block_len).unwrap_or(0);
        let logical = inode.size().checked_div(block_len).unwrap_or(0);
        let piece = map.pieces.iter().find(|piece| {
            (piece.logical..piece.logical.saturating_add(piece.len)).contains(&logical)
        });
        let Some(piece) = piece.filter(|piece| inside > 0 && !piece.is_unwritten) else {
            return Ok(());
        };
        if !inode.is_file() || inode.is_encrypted() {
            return Ok(());
        }
        let block = piece.physical.saturating_add(logical.saturating_sub(piece.logical));
        let rest = usize::try_from(block_len.saturating_sub(inside)).unwrap_or(0);
        self.space.put_in_block(block, usize::try_from(inside).unwrap_or(0), &vec![0; rest])
    }

    fn put_inode(&mut self, inode: RawInode) -> Result<()> {
        self.space.put_inode(inode)
    }

    /// Nothing waits any more: in the superblock, nor in the orphan file.
    fn clear_lists(&mut self) -> Result<()> {
        let opened = self.space.opened;
        if opened.superblock.orphan_file != 0 {
            let inode = opened.inode(opened.superblock.orphan_file)?;
            for (number, seed) in blocks_of_file(opened, &inode)? {
                let mut block = opened.meta.block(number)?.to_vec();
                let entries = orphan_file::entries(&block);
                if entries.is_empty() {
                    continue;
                }
                for (at, _) in entries {
                    let _ = bytes::put(&mut block, at, [0; 4]);
                }
                if let Some(seed) = seed {
                    orphan_file::seal(&mut block, number, seed)
                        .ok_or_else(|| inode.wrong("a block of this orphan file is damaged"))?;
                }
                self.space.put_block(number, &block)?;
            }
        }
        let mut raw = self.space.superblock_raw()?;
        let flags = bytes::le_u32(&raw, 0x64).unwrap_or(0) & !Superblock::ORPHAN_PRESENT;
        let _ = bytes::put(&mut raw, 0x64, flags.to_le_bytes());
        let _ = bytes::put(&mut raw, 0xe8, [0; 4]);
        self.superblock().seal(&mut raw);
        self.space.put_bytes(ByteOffset::new(Superblock::OFFSET), &raw)
    }
}
