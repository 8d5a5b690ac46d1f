//! Blocks that inodes map, collected to check block bitmaps.
//!
//! A bitmap without a checksum can be stale: counts match and the kernel reads every file, but the last write of the
//! bitmap was lost. A checksum does not help against a stale block of the inode table either. So a block is free only
//! if its bitmap says so *and* no inode that the kernel can reach maps it. Reads the inode tables up to the last inode
//! that was ever used, the nodes of extent trees and indirect maps, and directories.

use super::{
    group::Group,
    structure::{
        attributes, folder, group_of,
        inode::RawInode,
        inode_in,
        map::{MapVisit, Node, Piece, walk},
        metadata_cache::MetadataCache,
        place_of,
    },
    superblock::Superblock,
    usage::runs,
};
use crate::bits::{Bits, Run};
use imbrik_store::{
    bytes,
    error::{Class, Error, Result},
};
use std::{collections::BTreeSet, ops::ControlFlow};

/// The inode that maps the blocks reserved for group descriptors.
const RESIZE_INODE: u32 = 7;
/// Offset in the inode of the pointer to its double indirect block.
const DOUBLE_INDIRECT: usize = 0x28 + 13 * 4;

/// The blocks that inodes map.
pub(super) struct MappedBlocks {
    /// Data, map nodes and attribute blocks of every inode in use except the journal.
    pub(super) blocks: Bits,
    /// Blocks of inode tables with an inode that only a directory entry leads to.
    pub(super) table_blocks: BTreeSet<u64>,
    /// Why the map of an inode could not be followed to its end: the first of these errors.
    pub(super) damage: Option<Error>,
    /// Why a directory could not be read to its end. The kernel stops there, too.
    pub(super) directory_damage: Option<Error>,
}

impl MappedBlocks {
    /// Reads every inode that is marked as used, has links, or is named by a directory.
    ///
    /// # Errors
    /// - When the volume cannot be read, except for bad sectors, which count as damage.
    /// - [`Class::Corrupt`] when maps share so many nodes that reading them would not terminate.
    pub(super) fn read(
        meta: &MetadataCache,
        superblock: &Superblock,
        groups: &[Group],
    ) -> Result<Self> {
        let mut walker = Walker {
            meta,
            superblock,
            groups,
            visited: Bits::new(superblock.inodes()),
            referenced: Vec::new(),
            // Every node and directory block has one owner in a consistent volume.
            reads_left: superblock.blocks.saturating_mul(2),
            found: Self {
                blocks: Bits::new(superblock.blocks),
                table_blocks: BTreeSet::new(),
                damage: None,
                directory_damage: None,
            },
        };
        for (number, group) in (0u64..).zip(groups) {
            walker.visit_table(number, group)?;
        }
        walker.visit_referenced()?;
        match walker.reads_left {
            0 => Err(Error::corrupt("its inodes share blocks of their maps")),
            _ => Ok(walker.found),
        }
    }

    fn note(&mut self, error: Error) -> Result<()> {
        keep_first(&mut self.damage, error)
    }
}

/// Keeps the first error that is about the volume; any other is returned.
fn keep_first(damage: &mut Option<Error>, error: Error) -> Result<()> {
    match error.class() {
        Class::Corrupt | Class::Unsupported | Class::Io => {
            damage.get_or_insert(error);
            Ok(())
        }
        _ => Err(error),
    }
}

struct Walker<'a> {
    meta: &'a MetadataCache,
    superblock: &'a Superblock,
    groups: &'a [Group],
    /// Inodes that were visited, counted from 0.
    visited: Bits,
    /// Inodes that directories and attributes name.
    referenced: Vec<u32>,
    /// Map nodes and directory blocks that may still be read.
    reads_left: u64,
    found: MappedBlocks,
}

impl Walker<'_> {
    /// Visits the inodes in the part of a table that was ever used.
    fn visit_table(&mut self, number: u64, group: &Group) -> Result<()> {
        let (meta, superblock) = (self.meta, self.superblock);
        let inodes = superblock.inodes_per_group;
        let live = inodes.saturating_sub(group.unused_inodes.unwrap_or(0));
        if live == 0 {
            return Ok(());
        }
        let per_block = superblock.inodes_a_block().max(1);
        let mut marked = Bits::new(inodes);
        for (first, count) in runs(&meta.block(group.inode_bitmap)?, inodes) {
            marked.add(Run::new(first, count));
        }
        let mut wanted = Bits::new(superblock.table_blocks());
        if group.unused_inodes.is_some() {
            wanted.add(Run::new(0, live.div_ceil(per_block)));
        } else {
            for run in marked.runs(Run::new(0, inodes)) {
                let first = run.first.checked_div(per_block).unwrap_or(0);
                wanted.add(Run::between(first, run.end().div_ceil(per_block)));
            }
        }
        let len = usize::try_from(superblock.inode_len).unwrap_or(usize::MAX).max(1);
        let before = number.saturating_mul(inodes);
        for run in wanted.runs(Run::new(0, wanted.len())) {
            let first = group.inode_table.saturating_add(run.first);
            let read = meta.each(first, run.len, |block, content| {
                let index = block.saturating_sub(group.inode_table).saturating_mul(per_block);
                for (index, raw) in (index..live).zip(content.chunks_exact(len)) {
                    let number = before.saturating_add(index).saturating_add(1);
                    let Ok(number) = u32::try_from(number) else { break };
                    let inode = RawInode { number, raw: raw.to_vec() };
                    if marked.contains(index) || inode.links() > 0 {
                        self.visit(&inode)?;
                    }
                }
                Ok(())
            });
            read.or_else(|error| self.found.note(error))?;
        }
        Ok(())
    }

    /// Visits the inodes that only directories and attributes lead to.
    fn visit_referenced(&mut self) -> Result<()> {
        while let Some(number) = self.referenced.pop() {
            if self.is_visited(number) {
                continue;
            }
            let group = usize::try_from(group_of(self.superblock, number)).unwrap_or(usize::MAX);
            let Some(group) = self.groups.get(group) else { continue };
            match inode_in(self.meta, self.superblock, group, number) {
                Ok(inode) if inode.mode() != 0 => {
                    let place = place_of(self.superblock, self.groups, number);
                    self.found.table_blocks.extend(place.map(|(block, _)| block));
                    self.visit(&inode)?;
                }
                Ok(_) => {}
                Err(error) => self.found.note(error)?,
            }
        }
        Ok(())
    }

    fn is_visited(&self, number: u32) -> bool {
        self.visited.contains(u64::from(number).saturating_sub(1))
    }

    /// Adds the blocks of `inode`, and queues the inodes that it names.
    fn visit(&mut self, inode: &RawInode) -> Result<()> {
        let superblock = self.superblock;
        self.visited.add(Run::new(u64::from(inode.number).saturating_sub(1), 1));
        let is_reserved = inode.number < superblock.first_inode;
        let is_empty = is_reserved && inode.raw.iter().all(|byte| *byte == 0);
        let is_journal = superblock.has_journal() && inode.number == superblock.journal_inode;
        if is_empty || is_journal || self.reads_left == 0 {
            return Ok(());
        }
        if inode.number == RESIZE_INODE {
            // The descriptor blocks below it belong to the groups.
            let double = bytes::le_u32(&inode.raw, DOUBLE_INDIRECT).unwrap_or(0);
            self.found.blocks.add(Run::new(double.into(), 1));
            return Ok(());
        }
        let file_acl = inode.file_acl(superblock);
        if file_acl != 0 {
            self.found.blocks.add(Run::new(file_acl, 1));
        }
        let mut visit = Visit {
            superblock,
            inode,
            nodes: BTreeSet::new(),
            pieces: inode.is_folder().then(Vec::new),
            blocks: &mut self.found.blocks,
            reads_left: &mut self.reads_left,
        };
        let walked = walk(self.meta, superblock, inode, &mut visit);
        let pieces = visit.pieces.unwrap_or_default();
        walked.or_else(|error| self.found.note(error))?;
        if superblock.has_ea_inodes() {
            let values = self.attribute_values(inode, file_acl);
            values.or_else(|error| self.found.note(error))?;
        }
        if inode.is_folder() {
            let read = self.read_directory(inode, &pieces);
            read.or_else(|error| keep_first(&mut self.found.directory_damage, error))?;
        }
        Ok(())
    }

    /// Queues the inodes that hold values of this inode's attributes.
    fn attribute_values(&mut self, inode: &RawInode, file_acl: u64) -> Result<()> {
        let mut take = |bytes: &[u8], start: usize| {
            let named = attributes::references(bytes, start).unwrap_or_default();
            self.referenced.extend(named.into_iter().map(|(_, number)| number));
        };
        if let Some(region) = inode.attributes() {
            take(&inode.raw, region.start);
        }
        if file_acl != 0 {
            take(&self.meta.block(file_acl)?, attributes::IN_BLOCK);
        }
        Ok(())
    }

    /// Queues the inodes that the entries of a directory name.
    fn read_directory(&mut self, inode: &RawInode, pieces: &[Piece]) -> Result<()> {
        if inode.is_inline() {
            let more = attributes::inline_data(inode).and_then(|range| inode.raw.get(range));
            self.queue(inode.i_block(), folder::INLINE);
            self.queue(more.unwrap_or_default(), 0);
            return Ok(());
        }
        let blocks = inode.size().div_ceil(self.superblock.block_len);
        for piece in pieces.iter().filter(|piece| !piece.is_unwritten) {
            let count = blocks.saturating_sub(piece.logical).min(piece.len);
            for number in piece.physical..piece.physical.saturating_add(count) {
                self.reads_left = self.reads_left.saturating_sub(1);
                if self.reads_left == 0 {
                    return Ok(());
                }
                let block = self.meta.block(number)?;
                self.queue(&block, 0);
            }
        }
        Ok(())
    }

    fn queue(&mut self, entries: &[u8], start: usize) {
        for entry in folder::each_entry(entries, start) {
            let Some(entry) = entry else {
                let damage = Error::corrupt("a directory block is damaged");
                self.found.directory_damage.get_or_insert(damage);
                return;
            };
            if !self.is_visited(entry.inode) {
                self.referenced.push(entry.inode);
            }
        }
    }
}

/// Collects the runs of one inode. Follows maps with wrong checksums: the kernel refuses such a file, but fsck
/// repairs it with the blocks that it has.
struct Visit<'a> {
    superblock: &'a Superblock,
    inode: &'a RawInode,
    nodes: BTreeSet<u64>,
    /// The extents, if the content is needed.
    pieces: Option<Vec<Piece>>,
    blocks: &'a mut Bits,
    reads_left: &'a mut u64,
}

impl MapVisit for Visit<'_> {
    fn own(&mut self, run: Run) -> Result<()> {
        if run.end() > self.superblock.blocks {
            return Err(self.inode.wrong("its map points past the end of the volume"));
        }
        self.blocks.add(run);
        Ok(())
    }

    fn node(&mut self, node: Node) -> Result<()> {
        *self.reads_left = self.reads_left.saturating_sub(1);
        match self.nodes.insert(node.block) && *self.reads_left > 0 {
            true => Ok(()),
            false => Err(self.inode.wrong("its map contains a block twice")),
        }
    }

    fn piece(&mut self, piece: Piece) -> Result<ControlFlow<()>> {
        if let Some(pieces) = &mut self.pieces {
            pieces.push(piece);
        }
        Ok(ControlFlow::Continue(()))
    }

    fn fault(&mut self, _fault: Error) -> Result<()> {
        Ok(())
    }
}
