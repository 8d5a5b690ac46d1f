//! Block maps of inodes.

use super::{
    inode::{MapKind, RawInode},
    metadata_cache::Blocks,
};
use crate::{
    bits::Run,
    ext4::{checksum::crc32c, superblock::Superblock},
};
use imbrik_store::{
    bytes,
    error::{Error, Result},
};
use std::ops::ControlFlow;

/// The magic number of an extent tree node.
pub(in crate::ext4) const EXTENT_MAGIC: u16 = 0xf30a;
const MOST_DEPTH: u16 = 5;
/// Above this, an extent's length means that it is unwritten.
pub(in crate::ext4) const MOST_WRITTEN: u64 = 32768;
/// How many blocks an indirect map names itself.
pub(in crate::ext4) const DIRECT: usize = 12;
/// Bytes of a node's head, and of each of its entries.
pub(in crate::ext4) const ENTRY: usize = 12;
/// Entries in the 60 bytes of the inode.
pub(in crate::ext4) const IN_INODE: usize = 4;

/// A piece of a file: blocks in a row both in the file and in the volume.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(in crate::ext4) struct Piece {
    /// The first block in the file.
    pub(in crate::ext4) logical: u64,
    /// The first block in the volume.
    pub(in crate::ext4) physical: u64,
    /// The number of blocks.
    pub(in crate::ext4) len: u64,
    /// True if the blocks are allocated but hold nothing yet.
    pub(in crate::ext4) is_unwritten: bool,
}

impl Piece {
    /// Its blocks in the volume.
    pub(in crate::ext4) fn run(&self) -> Run {
        Run::new(self.physical, self.len)
    }

    /// Returns whether `next` continues it, in the file and in the volume, and both fit into one extent.
    pub(in crate::ext4) fn is_continued_by(&self, next: &Self) -> bool {
        let most = MOST_WRITTEN.saturating_sub(u64::from(self.is_unwritten));
        self.is_followed_by(next) && self.len.saturating_add(next.len) <= most
    }

    /// Returns whether `next` continues it, in the file and in the volume.
    fn is_followed_by(&self, next: &Self) -> bool {
        self.logical.saturating_add(self.len) == next.logical
            && self.run().end() == next.physical
            && self.is_unwritten == next.is_unwritten
    }
}

/// The block map of an inode.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(in crate::ext4) struct Map {
    /// Its content, in the file's order.
    pub(in crate::ext4) pieces: Vec<Piece>,
    /// The blocks of the map itself.
    pub(in crate::ext4) nodes: Vec<Node>,
}

/// A block of a map.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::ext4) struct Node {
    /// Its first block in the volume.
    pub(in crate::ext4) block: u64,
    /// The first block of the file that it may lead to.
    pub(in crate::ext4) logical: u64,
}

impl Map {
    /// Removes everything after the first `blocks` of the file.
    pub(in crate::ext4) fn cut(&mut self, blocks: u64) {
        self.pieces.retain(|piece| piece.logical < blocks);
        self.nodes.retain(|node| node.logical < blocks);
        if let Some(last) = self.pieces.last_mut() {
            last.len = last.len.min(blocks.saturating_sub(last.logical));
        }
    }

    /// Every run of blocks that it names.
    pub(in crate::ext4) fn runs(&self) -> impl Iterator<Item = Run> + '_ {
        let nodes = self.nodes.iter().map(|node| Run::new(node.block, 1));
        self.pieces.iter().map(Piece::run).chain(nodes)
    }
}

/// Reads the complete map of `inode`. Every block in it is first passed to `own`, which refuses invalid ones; so a
/// cyclic map terminates.
///
/// # Errors
/// - When the volume cannot be read.
/// - [`imbrik_store::Class::Corrupt`] when the map is invalid, and what `own` answers.
pub(in crate::ext4) fn map_of(
    blocks: &dyn Blocks,
    superblock: &Superblock,
    inode: &RawInode,
    own: &mut dyn FnMut(Run) -> Result<()>,
) -> Result<Map> {
    let mut all = Collect { own, map: Map::default() };
    walk(blocks, superblock, inode, &mut all)?;
    Ok(all.map)
}

/// Receives the blocks of a map, and its faults.
pub(in crate::ext4) trait MapVisit {
    /// Blocks that the map names, before any of them is read.
    ///
    /// # Errors
    /// When they are not to be had: the walk ends with that.
    fn own(&mut self, run: Run) -> Result<()>;

    /// A block of the map itself, before it is read.
    ///
    /// # Errors
    /// When it is not to be had.
    fn node(&mut self, node: Node) -> Result<()>;

    /// A piece of the content; they come in the file's order. `Break` ends the walk.
    ///
    /// # Errors
    /// Whatever ends the walk.
    fn piece(&mut self, piece: Piece) -> Result<ControlFlow<()>>;

    /// Something that is wrong and can be passed over: a checksum. It ends the walk unless it is
    /// taken.
    ///
    /// # Errors
    /// With the fault itself.
    fn fault(&mut self, fault: Error) -> Result<()> {
        Err(fault)
    }
}

/// All of a map.
struct Collect<'a> {
    own: &'a mut dyn FnMut(Run) -> Result<()>,
    map: Map,
}

impl MapVisit for Collect<'_> {
    fn own(&mut self, run: Run) -> Result<()> {
        (self.own)(run)
    }

    fn node(&mut self, node: Node) -> Result<()> {
        self.map.nodes.push(node);
        Ok(())
    }

    fn piece(&mut self, piece: Piece) -> Result<ControlFlow<()>> {
        self.map.pieces.push(piece);
        Ok(ControlFlow::Continue(()))
    }
}

/// Walks the map of `inode` in the file's order.
///
/// # Errors
/// - When the volume cannot be read.
/// - [`imbrik_store::Class::Corrupt`] when the map is invalid, and what `visit` answers.
pub(in crate::ext4) fn walk(
    blocks: &dyn Blocks,
    superblock: &Superblock,
    inode: &RawInode,
    visit: &mut dyn MapVisit,
) -> Result<()> {
    let mut walk = Walk { blocks, superblock, inode, visit };
    match inode.map_kind(superblock)? {
        MapKind::None => Ok(()),
        MapKind::Extents => walk.tree(),
        MapKind::Indirect => walk.indirect(),
    }
}

struct Walk<'a> {
    blocks: &'a dyn Blocks,
    superblock: &'a Superblock,
    inode: &'a RawInode,
    visit: &'a mut dyn MapVisit,
}

/// Continues or ends the walk.
type Flow = Result<ControlFlow<()>>;

const ON: Flow = Ok(ControlFlow::Continue(()));

/// How many entries a node has, and how deep the tree is under it.
fn node_head(node: &[u8], room: usize) -> Option<(usize, u16)> {
    let eh_entries = usize::from(bytes::le_u16(node, 2)?);
    let eh_max = usize::from(bytes::le_u16(node, 4)?);
    let eh_depth = bytes::le_u16(node, 6)?;
    let is_sound = bytes::le_u16(node, 0)? == EXTENT_MAGIC
        && eh_entries <= eh_max
        && eh_max <= room
        && eh_depth <= MOST_DEPTH;
    is_sound.then_some((eh_entries, eh_depth))
}

/// Verifies the checksum of an extent tree block, which is after its last possible entry.
fn check_node(block: &[u8], superblock: &Superblock, seed: u32) -> Option<()> {
    if !superblock.has_metadata_csum() {
        return Some(());
    }
    let at = tail_of(block)?;
    (crc32c(seed, block.get(..at)?) == bytes::le_u32(block, at)?).then_some(())
}

/// The offset of the checksum of an extent block.
pub(in crate::ext4) fn tail_of(block: &[u8]) -> Option<usize> {
    let eh_max = usize::from(bytes::le_u16(block, 4)?);
    eh_max.checked_mul(ENTRY)?.checked_add(ENTRY)
}

impl Walk<'_> {
    fn tree(&mut self) -> Result<()> {
        let root = self.inode.i_block().to_vec();
        let head = node_head(&root, IN_INODE);
        let (_, depth) = head.ok_or_else(|| self.inode.wrong("its extent tree has no root"))?;
        let mut behind = 0;
        self.node(&root, IN_INODE, depth, &mut behind).map(|_| ())
    }

    fn nonsense(&self) -> Error {
        self.inode.wrong("its extent tree is invalid")
    }

    /// Walks a node that must have `depth`; `behind` is the smallest permitted logical block.
    fn node(&mut self, node: &[u8], room: usize, depth: u16, behind: &mut u64) -> Flow {
        let head = node_head(node, room).filter(|(_, found)| *found == depth);
        let (count, _) = head.ok_or_else(|| self.nonsense())?;
        for index in 0..count {
            let at = index.saturating_mul(ENTRY).saturating_add(ENTRY);
            let entry =
                node.get(at..).and_then(TreeEntry::decode).ok_or_else(|| self.nonsense())?;
            if entry.logical < *behind {
                return Err(self.nonsense());
            }
            let flow = match depth.checked_sub(1) {
                Some(below) => self.child(&entry, below, behind)?,
                None => self.leaf(&entry, behind)?,
            };
            if flow.is_break() {
                return Ok(flow);
            }
        }
        ON
    }

    fn child(&mut self, entry: &TreeEntry, depth: u16, behind: &mut u64) -> Flow {
        let (block, logical) = (entry.child, entry.logical);
        self.visit.own(Run::new(block, 1))?;
        self.visit.node(Node { block, logical })?;
        let child = self.blocks.block(block)?;
        if check_node(&child, self.superblock, self.inode.seed(self.superblock)).is_none() {
            let what = "a block of its extent tree has a wrong checksum";
            self.visit.fault(self.inode.wrong(what))?;
        }
        if bytes::le_u32(&child, ENTRY).map(u64::from) != Some(logical) {
            return Err(self.nonsense());
        }
        let room = child.len().saturating_sub(ENTRY) / ENTRY;
        self.node(&child, room, depth, behind)
    }

    fn leaf(&mut self, entry: &TreeEntry, behind: &mut u64) -> Flow {
        let is_unwritten = entry.len > MOST_WRITTEN;
        let len = if is_unwritten { entry.len.saturating_sub(MOST_WRITTEN) } else { entry.len };
        if len == 0 {
            return Err(self.nonsense());
        }
        let piece = Piece { logical: entry.logical, physical: entry.physical, len, is_unwritten };
        self.visit.own(piece.run())?;
        *behind = piece.logical.saturating_add(len);
        self.visit.piece(piece)
    }

    fn indirect(&mut self) -> Result<()> {
        let root = self.inode.i_block().to_vec();
        let mut row = Row { logical: 0, piece: None };
        for (index, number) in root.as_chunks::<4>().0.iter().enumerate() {
            let number = u32::from_le_bytes(*number);
            let depth = index.saturating_sub(DIRECT.saturating_sub(1));
            let depth = u32::try_from(depth).unwrap_or(0);
            if self.descend(number, depth, &mut row)?.is_break() {
                return Ok(());
            }
        }
        match row.piece {
            Some(last) => self.visit.piece(last).map(|_| ()),
            None => Ok(()),
        }
    }

    fn descend(&mut self, number: u32, depth: u32, row: &mut Row) -> Flow {
        let a_block = self.superblock.block_len / 4;
        if number == 0 {
            row.logical = row.logical.saturating_add(a_block.saturating_pow(depth));
            return ON;
        }
        let physical = u64::from(number);
        self.visit.own(Run::new(physical, 1))?;
        let Some(below) = depth.checked_sub(1) else {
            let next = Piece { logical: row.logical, physical, len: 1, is_unwritten: false };
            row.logical = row.logical.saturating_add(1);
            return match &mut row.piece {
                Some(last) if last.is_followed_by(&next) => {
                    last.len = last.len.saturating_add(1);
                    ON
                }
                piece => piece.replace(next).map_or(ON, |done| self.visit.piece(done)),
            };
        };
        self.visit.node(Node { block: physical, logical: row.logical })?;
        let block = self.blocks.block(physical)?;
        for number in block.as_chunks::<4>().0 {
            let flow = self.descend(u32::from_le_bytes(*number), below, row)?;
            if flow.is_break() {
                return Ok(flow);
            }
        }
        ON
    }
}

/// How far the walk through an indirect map is.
struct Row {
    /// The next block of the file.
    logical: u64,
    /// The piece that may still grow.
    piece: Option<Piece>,
}

/// An entry of a node: of a leaf (`ee_len`, `ee_start`) or of an index (`ei_leaf`).
struct TreeEntry {
    logical: u64,
    len: u64,
    physical: u64,
    child: u64,
}

impl TreeEntry {
    fn decode(raw: &[u8]) -> Option<Self> {
        let part = |at| bytes::le_u32(raw, at).map(u64::from);
        let half = |at| bytes::le_u16(raw, at).map(u64::from);
        Some(Self {
            logical: part(0)?,
            len: half(4)?,
            physical: part(8)? | half(6)? << 32,
            child: part(4)? | half(8)? << 32,
        })
    }
}
