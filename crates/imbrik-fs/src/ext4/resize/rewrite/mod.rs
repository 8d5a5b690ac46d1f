//! Rewriting the metadata that a plan changes.

mod groups;
mod superblocks;

use super::{
    census::{BAD_BLOCKS, DOUBLE, RESIZE, double_of},
    draft::Draft,
    layout::{Layout, Planner},
};
use crate::{
    ResizeWarning,
    bits::{Bits, Run},
    ext4::{
        journal::put_journal_len,
        quota,
        structure::{
            attributes, folder,
            inode::{MapKind, RawInode},
            map::map_of,
            orphan_file, place_of, trees,
        },
        superblock::Superblock,
    },
};
use imbrik_store::{
    Spill, bytes,
    error::{Error, Result},
    exact::Exact as _,
    read_vec,
    units::ByteOffset,
};
use std::{collections::BTreeMap, sync::Arc};

/// Builds the volume that `layout` plans; `made` stores the new blocks. Also returns warnings for the user.
///
/// # Errors
/// As for reading the source; [`imbrik_store::Class::Corrupt`] when its inline data is invalid.
pub(super) fn rewrite(
    planner: &Planner<'_>,
    layout: &Layout,
    made: Spill,
) -> Result<(Draft, Vec<ResizeWarning>)> {
    let new = &layout.geometry.superblock;
    let opened = planner.opened;
    let draft = Draft::new(Arc::clone(&opened.meta), Arc::clone(&layout.moves), new.blocks, made);
    let mut this = Rewriter {
        planner,
        layout,
        draft,
        inodes: Bits::new(new.inodes()),
        folders: Bits::new(new.inodes()),
        folder_blocks: Vec::new(),
        usage: BTreeMap::new(),
        journal_map: None,
        signed: 0,
    };
    this.inodes()?;
    this.folders()?;
    this.attribute_blocks()?;
    this.orphan_file()?;
    this.resize_inode()?;
    quota::follow(opened, &mut this.draft, &this.usage)?;
    let groups = this.groups()?;
    this.superblocks(&groups)?;
    let warnings = this.warnings()?;
    Ok((this.draft, warnings))
}

struct Rewriter<'a> {
    planner: &'a Planner<'a>,
    layout: &'a Layout,
    draft: Draft,
    /// The inodes in use, and the folders among them, by their new numbers from 0.
    inodes: Bits,
    folders: Bits,
    /// The blocks of folders, each with the old number of its folder.
    folder_blocks: Vec<(u64, u32)>,
    /// The change of each owner's usage.
    usage: BTreeMap<quota::Owner, quota::Change>,
    journal_map: Option<RawInode>,
    /// How many inodes with a signature got another number.
    signed: u64,
}

fn signed(count: u64) -> i64 {
    i64::try_from(count).unwrap_or(i64::MAX)
}

fn broken(what: &str) -> Error {
    Error::corrupt(format!("{what} is invalid"))
}

impl Rewriter<'_> {
    fn was(&self) -> &Superblock {
        &self.planner.opened.superblock
    }

    fn now(&self) -> &Superblock {
        &self.layout.geometry.superblock
    }

    /// Writes every used inode to its new place, with its changes.
    fn inodes(&mut self) -> Result<()> {
        let opened = self.planner.opened;
        opened.each_inode(|inode, is_used| {
            self.planner.cancel.check()?;
            if is_used { self.inode(inode) } else { Ok(()) }
        })
    }

    fn put_inode(&mut self, mut inode: RawInode) -> Result<()> {
        inode.seal(self.now());
        let place = place_of(self.now(), &self.layout.geometry.groups, inode.number);
        let (block, inside) = place.ok_or_else(|| inode.wrong("it has no place any more"))?;
        // A block of the table in which nothing was in use before may hold rubbish.
        let per_block = self.was().block_len.checked_div(self.was().inode_len).unwrap_or(1);
        let first = inside.exact_as::<u64>()?.checked_div(self.was().inode_len);
        let index = u64::from(inode.number).saturating_sub(1).saturating_sub(first.unwrap_or(0));
        let was_live = self.planner.census.inodes.count_in(Run::new(index, per_block)) > 0;
        self.draft.put_inside(block, inside, &inode.raw, |draft| match was_live {
            true => draft.block(block),
            false => Ok(draft.empty_block()),
        })
    }

    fn inode(&mut self, old: RawInode) -> Result<()> {
        let layout = self.layout;
        let mut inode = RawInode { number: layout.inodes.target_of(old.number), ..old.clone() };
        let index = Run::new(u64::from(inode.number).saturating_sub(1), 1);
        self.inodes.add(index);
        if inode.is_folder() {
            self.folders.add(index);
        }
        if old.number == RESIZE {
            return Ok(());
        }
        if layout.movers.contains(&old.number) {
            self.follow_blocks(&old, &mut inode)?;
        } else if inode.number != old.number {
            self.reseal_tree(&old, &inode)?;
        }
        if inode.number != old.number && self.is_signed(&old)? {
            self.signed = self.signed.plus(1)?;
        }
        if !layout.inodes.is_empty() {
            self.follow_inodes(&old, &mut inode)?;
        }
        if Some(old.number) == self.planner.census.journal_number() {
            self.journal(&mut inode)?;
        }
        if old.number == BAD_BLOCKS && layout.movers.contains(&old.number) {
            let listed = layout.ends.bad_blocks;
            inode.put_size(listed.times(self.now().block_len)?);
            inode.put_blocks(listed, self.now());
        }
        match inode == old {
            true => Ok(()),
            false => self.put_inode(inode),
        }
    }

    /// Has an inode's map and attributes follow its blocks.
    fn follow_blocks(&mut self, old: &RawInode, inode: &mut RawInode) -> Result<()> {
        let layout = self.layout;
        let (_, map) = self.planner.map(old.number, layout.ends)?;
        let superblock = self.now().clone();
        let made = match old.map_kind(&superblock)? {
            MapKind::None => None,
            MapKind::Extents => {
                let pieces = trees::moved(&map.pieces, &layout.moves);
                let places = layout.map_blocks.get(&old.number).map_or(&[][..], Vec::as_slice);
                let seed = inode.seed(&superblock);
                let had: u64 = self.tree_len(old)?;
                let has = u64::try_from(places.len()).unwrap_or(u64::MAX);
                if had != has {
                    self.count_blocks(old, inode, had, has)?;
                }
                Some(trees::tree(&pieces, places, old.i_block(), &superblock, seed)?)
            }
            MapKind::Indirect => {
                let meta = &self.planner.opened.meta;
                let limit = self.planner.end_of(old.number, layout.ends).unwrap_or(u64::MAX);
                Some(trees::indirect(meta, &superblock, old.i_block(), &layout.moves, limit)?)
            }
        };
        if let Some(made) = made {
            inode.put_i_block(&made.i_block);
            for (block, content) in made.blocks {
                self.draft.put(block, content)?;
            }
        }
        let file_acl = inode.file_acl(&superblock);
        if file_acl != 0 {
            inode.put_file_acl(layout.moves.target_of(file_acl), &superblock);
        }
        Ok(())
    }

    /// Returns whether an inode carries a signature that may cover its number.
    fn is_signed(&self, inode: &RawInode) -> Result<bool> {
        if let Some(region) = inode.attributes()
            && attributes::is_signed(&inode.raw, region.start)
        {
            return Ok(true);
        }
        let block = inode.file_acl(self.was());
        Ok(block != 0
            && attributes::is_signed(&self.planner.opened.meta.block(block)?, attributes::IN_BLOCK))
    }

    /// Warnings about things that have no checksum and that a resize may have broken.
    fn warnings(&self) -> Result<Vec<ResizeWarning>> {
        let mut warnings = Vec::new();
        if self.signed > 0 {
            warnings.push(ResizeWarning::SignedFiles { count: self.signed });
        }
        if self.was().has_errors() {
            warnings.push(ResizeWarning::StillMarkedAsFaulty);
        }
        let head = read_vec(&*self.planner.opened.meta, ByteOffset::ZERO, 1024)?;
        if self.layout.had_to_move > 0 && !bytes::is_zero(&head) {
            warnings.push(ResizeWarning::BootCode);
        }
        Ok(warnings)
    }

    /// How many blocks the extent tree of an inode had.
    fn tree_len(&self, old: &RawInode) -> Result<u64> {
        let (meta, superblock) = (&self.planner.opened.meta, self.was());
        let map = map_of(meta, superblock, old, &mut |_| Ok(()))?;
        Ok(u64::try_from(map.nodes.len()).unwrap_or(u64::MAX))
    }

    /// Changes the block count of an inode, and the usage of its owners, by the change of its map from `had` to `has`
    /// blocks.
    fn count_blocks(
        &mut self,
        old: &RawInode,
        inode: &mut RawInode,
        had: u64,
        has: u64,
    ) -> Result<()> {
        let blocks = old.blocks(self.was())?.saturating_sub(had).plus(has)?;
        inode.put_blocks(blocks, self.was());
        let blocks = signed(has).saturating_sub(signed(had));
        let superblock = &self.planner.opened.superblock;
        quota::count(&mut self.usage, old, superblock, quota::Change { blocks, inodes: 0 });
        Ok(())
    }

    /// The blocks of the extent tree of an inode that got another number: the checksums hang on it.
    fn reseal_tree(&mut self, old: &RawInode, inode: &RawInode) -> Result<()> {
        let superblock = self.now().clone();
        if !superblock.has_metadata_csum() || old.map_kind(&superblock)? != MapKind::Extents {
            return Ok(());
        }
        let map = map_of(&self.planner.opened.meta, &superblock, old, &mut |_| Ok(()))?;
        for node in map.nodes {
            let mut block = self.draft.block(node.block)?;
            let sealed = trees::seal(&mut block, inode.seed(&superblock));
            sealed.ok_or_else(|| old.wrong("its extent tree is invalid"))?;
            self.draft.put(node.block, block)?;
        }
        Ok(())
    }

    /// Updates references of an inode to other inodes, and records the blocks of a folder.
    fn follow_inodes(&mut self, old: &RawInode, inode: &mut RawInode) -> Result<()> {
        let inodes = &self.layout.inodes;
        let references = |found: Option<Vec<(usize, u32)>>| {
            let found = found.ok_or_else(|| old.wrong("its inline data is invalid"))?;
            let moved =
                found.into_iter().map(|(at, number)| (at, number, inodes.target_of(number)));
            Ok::<_, Error>(moved.filter(|(_, was, is)| was != is).collect::<Vec<_>>())
        };
        if let Some(attributes) = old.attributes() {
            let region = old.raw.get(..attributes.end).unwrap_or_default();
            if self.planner.opened.superblock.has_ea_inodes() {
                let found = attributes::references(region, attributes.start);
                for (at, _, number) in references(found)? {
                    inode.put_u32(at, number);
                }
            }
        }
        if old.is_attribute_value() {
            // An old-style value inode: its parent's number replaces the change time.
            let parent = bytes::le_u32(&old.raw, 0x10).unwrap_or(0);
            let target = inodes.target_of(parent);
            if target != parent
                && self.planner.opened.inode(parent)?.generation() == old.generation()
            {
                inode.put_u32(0x10, target);
            }
        }
        if old.is_folder() && old.is_inline() {
            let parent = bytes::le_u32(old.i_block(), 0).unwrap_or(0);
            inode.put_u32(0x28, inodes.target_of(parent));
            let found = folder::references(old.i_block(), 4);
            for (at, _, number) in references(found)? {
                inode.put_u32(at.plus(0x28)?, number);
            }
            if let Some(range) = attributes::inline_data(old) {
                let more = old.raw.get(range.clone()).unwrap_or_default();
                for (at, _, number) in references(folder::references(more, 0))? {
                    inode.put_u32(at.plus(range.start)?, number);
                }
            }
        } else if old.is_folder() {
            let meta = &self.planner.opened.meta;
            let map = map_of(meta, &self.planner.opened.superblock, old, &mut |_| Ok(()))?;
            for piece in map.pieces.iter().filter(|piece| !piece.is_unwritten) {
                let blocks = piece.physical..piece.run().end();
                self.folder_blocks.extend(blocks.map(|block| (block, old.number)));
            }
        }
        Ok(())
    }

    /// The journal at its new length: its inode, its own superblock, and the copy of its map in the
    /// volume's superblock.
    fn journal(&mut self, inode: &mut RawInode) -> Result<()> {
        let superblock = self.now().clone();
        let len = self.layout.ends.journal;
        let Some((old, _)) = &self.planner.census.journal else { return Ok(()) };
        let had = old.size().over(superblock.block_len)?;
        let (_, map) = self.planner.map(old.number, self.layout.ends)?;
        if had != len {
            let body: u64 = map.pieces.iter().map(|piece| piece.len).sum();
            let nodes = match inode.map_kind(&superblock)? {
                MapKind::Extents => {
                    self.layout.map_blocks.get(&old.number).map_or(map.nodes.len(), Vec::len)
                }
                _ => map.nodes.len(),
            };
            let file_acl = u64::from(old.file_acl(&superblock) != 0);
            let nodes = nodes.exact_as::<u64>()?;
            inode.put_size(len.times(superblock.block_len)?);
            inode.put_blocks(body.plus(nodes)?.plus(file_acl)?, &superblock);
            let first = map.pieces.first().filter(|first| first.logical == 0);
            let first = first.ok_or_else(|| broken("its journal"))?.physical;
            let mut head = self.planner.opened.meta.block(first)?.to_vec();
            let len = u32::try_from(len).map_err(|_| broken("its journal"))?;
            put_journal_len(&mut head, len).ok_or_else(|| broken("its journal"))?;
            self.draft.put(self.layout.moves.target_of(first), head)?;
        }
        self.journal_map = Some(inode.clone());
        Ok(())
    }

    /// The entries of folders, in the order of their blocks in the source.
    fn folders(&mut self) -> Result<()> {
        let superblock = self.now().clone();
        let mut blocks = std::mem::take(&mut self.folder_blocks);
        blocks.sort_unstable();
        for (number, of) in blocks {
            self.planner.cancel.check()?;
            let old = self.planner.opened.inode(of)?;
            let mut block = self.planner.opened.meta.block(number)?.to_vec();
            let wrong = || old.wrong("its entries are invalid");
            if superblock.has_metadata_csum() && !folder::is_sound(&block, old.seed(&superblock)) {
                return Err(old.wrong("a block of its entries has a wrong checksum"));
            }
            let target = self.layout.inodes.target_of(of);
            let mut is_changed = target != of && superblock.has_metadata_csum();
            for (at, entry) in folder::references(&block, 0).ok_or_else(wrong)? {
                let now = self.layout.inodes.target_of(entry);
                if now != entry {
                    bytes::put(&mut block, at, now.to_le_bytes()).ok_or_else(wrong)?;
                    is_changed = true;
                }
            }
            if is_changed {
                let renumbered = RawInode { number: target, ..old.clone() };
                if superblock.has_metadata_csum() {
                    folder::seal(&mut block, renumbered.seed(&superblock)).ok_or_else(wrong)?;
                }
                self.draft.put(self.layout.moves.target_of(number), block)?;
            }
        }
        Ok(())
    }

    /// Attribute blocks that move, or name inodes that moved.
    fn attribute_blocks(&mut self) -> Result<()> {
        let superblock = self.now().clone();
        for number in self.planner.census.shared.keys() {
            let target = self.layout.moves.target_of(*number);
            let wrong = || Error::corrupt(format!("the attributes in block {number} are invalid"));
            let old = self.planner.opened.meta.block(*number)?;
            let mut block = old.to_vec();
            if superblock.has_ea_inodes() && !self.layout.inodes.is_empty() {
                let found = attributes::references(&block, attributes::IN_BLOCK);
                for (at, inode) in found.ok_or_else(wrong)? {
                    let now = self.layout.inodes.target_of(inode);
                    bytes::put(&mut block, at, now.to_le_bytes()).ok_or_else(wrong)?;
                }
            }
            if target != *number || *old != *block {
                attributes::seal(&mut block, target, &superblock).ok_or_else(wrong)?;
                self.draft.put(target, block)?;
            }
        }
        Ok(())
    }

    /// The orphan file, which is empty: its checksums for its new place.
    fn orphan_file(&mut self) -> Result<()> {
        let superblock = self.now().clone();
        if self.was().orphan_file == 0 || !superblock.has_metadata_csum() {
            return Ok(());
        }
        let old = self.planner.opened.inode(self.was().orphan_file)?;
        let target = self.layout.inodes.target_of(old.number);
        let seed = RawInode { number: target, ..old.clone() }.seed(&superblock);
        let map = map_of(&self.planner.opened.meta, self.was(), &old, &mut |_| Ok(()))?;
        for piece in map.pieces {
            for number in piece.physical..piece.run().end() {
                let was = self.planner.opened.meta.block(number)?;
                let mut block = was.to_vec();
                let to = self.layout.moves.target_of(number);
                orphan_file::seal(&mut block, to, seed).ok_or_else(|| broken("its orphan file"))?;
                if to != number || *was != *block {
                    self.draft.put(to, block)?;
                }
            }
        }
        Ok(())
    }

    /// The resize inode holds the reserved descriptor blocks: the primary ones through its double
    /// indirect block, the copies of each through the primary one.
    fn resize_inode(&mut self) -> Result<()> {
        let new = self.now().clone();
        if !new.has_resize_inode() {
            return Ok(());
        }
        let mut inode = self.planner.opened.inode(RESIZE)?;
        let double = self.layout.moves.target_of(double_of(&inode));
        let copies: Vec<u64> =
            (1..new.groups()).filter(|group| new.has_superblock(*group)).collect();
        let a_block = new.block_len / 4;
        let wrong = || broken("its resize inode");
        let mut map = self.draft.empty_block();
        for index in 0..new.reserved_gdt_blocks {
            let slot = new.descriptor_blocks().plus(index)?;
            let primary = new.group_start(0).plus(1)?.plus(slot)?;
            let place = slot.checked_rem(a_block).unwrap_or(0).times(4)?;
            let number = |block: u64| u32::try_from(block).ok().map(u32::to_le_bytes);
            let put = |block: &mut Vec<u8>, at: u64, value: u64| {
                bytes::put(block, usize::try_from(at).ok()?, number(value)?)
            };
            put(&mut map, place, primary).ok_or_else(wrong)?;
            let mut list = self.draft.empty_block();
            for (entry, group) in (0u64..).zip(&copies) {
                let copy = group.times(new.blocks_per_group)?.plus(primary)?;
                put(&mut list, entry.times(4)?, copy).ok_or_else(wrong)?;
            }
            self.draft.put(primary, list)?;
        }
        self.draft.put(double, map)?;
        let copies = copies.len().exact_as::<u64>()?.plus(1)?;
        let held = new.reserved_gdt_blocks.times(copies)?.plus(1)?;
        inode.put_u32(DOUBLE, u32::try_from(double).map_err(|_| wrong())?);
        inode.put_blocks(held, &new);
        self.put_inode(inode)
    }
}
