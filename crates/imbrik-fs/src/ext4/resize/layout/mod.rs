//! The plan of a resize: which blocks and inodes go where.
//!
//! Only metadata are read, and nothing is written: a plan has a place for everything, or reports how many blocks are
//! missing.

use super::{
    census::{BAD_BLOCKS, Census, RESIZE, double_of},
    geometry::{Geometry, sized},
};
use crate::{
    bits::{Bits, Run},
    ext4::{
        structure::{
            Opened,
            inode::{MapKind, RawInode},
            map::{Map, map_of},
            trees,
        },
        superblock::Superblock,
    },
    placement::{Holes, Move, Moves, place},
};
use imbrik_store::{
    error::{Error, Result},
    exact::Exact as _,
    progress::Cancel,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

mod smallest;

/// The new map blocks of each inode whose map is rewritten.
pub(super) type MapBlocks = BTreeMap<u32, Vec<u64>>;

/// The smallest journal there is, in blocks.
const LEAST_JOURNAL: u64 = 1024;

/// The new ends, in blocks of the file, of the two maps that change their length.
#[derive(Clone, Copy, Debug)]
pub(super) struct Ends {
    /// The end of the journal.
    pub(super) journal: u64,
    /// That of the list of bad blocks: those past the end of the volume are dropped.
    pub(super) bad_blocks: u64,
}

/// New numbers for inodes of removed groups.
#[derive(Clone, Debug, Default)]
pub(super) struct InodeMoves {
    /// Old and new, by the old.
    pairs: Vec<(u32, u32)>,
}

impl InodeMoves {
    /// The new number of an inode; its own when it stays.
    pub(super) fn target_of(&self, number: u32) -> u32 {
        let found = self.pairs.binary_search_by_key(&number, |(old, _)| *old);
        found.ok().and_then(|index| self.pairs.get(index)).map_or(number, |(_, new)| *new)
    }

    /// The old number of an inode: they are handed out in order, so both sides are sorted.
    pub(super) fn source_of(&self, number: u32) -> u32 {
        let found = self.pairs.binary_search_by_key(&number, |(_, new)| *new);
        found.ok().and_then(|index| self.pairs.get(index)).map_or(number, |(old, _)| *old)
    }

    pub(super) fn is_empty(&self) -> bool {
        self.pairs.is_empty()
    }

    /// The number of inodes with a new number.
    pub(super) fn count(&self) -> u64 {
        u64::try_from(self.pairs.len()).unwrap_or(u64::MAX)
    }
}

/// A complete plan.
pub(super) struct Layout {
    pub(super) geometry: Geometry,
    pub(super) inodes: InodeMoves,
    pub(super) moves: Arc<Moves>,
    /// The blocks of each rewritten map, by its inode's old number.
    pub(super) map_blocks: MapBlocks,
    /// The inodes with moved blocks, by their old numbers.
    pub(super) movers: BTreeSet<u32>,
    /// How long the journal and the list of bad blocks are now.
    pub(super) ends: Ends,
    /// The blocks that files own afterwards.
    pub(super) owned: Bits,
    /// The number of blocks that had to move, and of those that do: without the body of the journal, which is not
    /// copied.
    pub(super) had_to_move: u64,
    pub(super) moved: u64,
}

/// The reason for the absence of a plan.
pub(super) enum Lack {
    /// So many blocks more are needed.
    Blocks(u64),
    /// Any other error.
    Other(Error),
}

impl From<Error> for Lack {
    fn from(error: Error) -> Self {
        Self::Other(error)
    }
}

/// The number of blocks of a volume of `blocks` that the kernel reserves for growing trees: requested free space is in
/// addition to them.
fn kept_back(superblock: &Superblock, blocks: u64) -> u64 {
    if superblock.has_extents() { (blocks / 50).min(4096) } else { 0 }
}

/// A volume after its census, for which plans are computed.
pub(super) struct Planner<'a> {
    pub(super) opened: &'a Opened,
    pub(super) census: &'a Census,
    pub(super) cancel: &'a Cancel,
}

/// Splits `owned`: the blocks that must move, because they are past the new end or where metadata will be, and all that
/// are taken without them.
fn divided(owned: &Bits, geometry: &Geometry) -> (Bits, Bits) {
    let all = Run::new(0, owned.len());
    let end = geometry.superblock.blocks;
    let mut must_move = Bits::new(owned.len());
    for run in owned.runs(all) {
        for both in geometry.metadata.runs(run) {
            must_move.add(both);
        }
        let first = run.first.max(end);
        must_move.add(Run::between(first, run.end()));
    }
    let mut taken = geometry.metadata.clone();
    for stays in owned.runs(all).flat_map(|run| must_move.holes(run)) {
        taken.add(stays);
    }
    (must_move, taken)
}

/// The blocks of files after the moves, without rewritten maps: unmoved and moved ones.
fn afterwards(taken: &Bits, geometry: &Geometry, data: &Moves) -> Bits {
    let end = geometry.superblock.blocks;
    let mut owned = Bits::new(end);
    for own in taken.runs(Run::new(0, end)).flat_map(|run| geometry.metadata.holes(run)) {
        owned.add(own);
    }
    for one in data.by_target() {
        owned.add(Run::new(one.to, one.len));
    }
    owned
}

/// The blocks that must move, by kind.
#[derive(Default)]
struct Load {
    rigid: Vec<Run>,
    loose: Vec<Run>,
    movers: BTreeSet<u32>,
    /// Blocks of the journal's body among them.
    journal: u64,
    /// Blocks of extent trees that must move: they are rewritten elsewhere.
    trees: u64,
}

impl Planner<'_> {
    /// The length of the journal in a volume of `blocks` blocks: the default for that size, but no more than now. A
    /// growing volume keeps its journal.
    fn journal_len(&self, blocks: u64) -> u64 {
        let Some((inode, _)) = &self.census.journal else { return 0 };
        let block_len = self.opened.superblock.block_len.max(1);
        let has = inode.size().checked_div(block_len).unwrap_or(0);
        if blocks >= self.opened.superblock.blocks || self.opened.superblock.has_fast_commits() {
            return has;
        }
        let k = 1024u64;
        let usual = match blocks.checked_div(k).unwrap_or(0) {
            0..32 => LEAST_JOURNAL,
            32..256 => 4 * k,
            256..512 => 8 * k,
            512..4096 => 16 * k,
            4096..8192 => 32 * k,
            8192..16384 => 64 * k,
            16384..32768 => 128 * k,
            _ => 256 * k,
        };
        has.min(usual)
    }

    /// The ends of the journal and the list of bad blocks in a volume of `blocks`.
    fn ends(&self, blocks: u64) -> Ends {
        let bad = self.census.bad_blocks_below(blocks).len();
        Ends {
            journal: self.journal_len(blocks),
            bad_blocks: u64::try_from(bad).unwrap_or(u64::MAX),
        }
    }

    /// Inodes whose maps change their length, each with its new end.
    fn cut_inodes(&self, ends: Ends) -> impl Iterator<Item = (&(RawInode, Map), u64)> {
        let journal = self.census.journal.iter().map(move |one| (one, ends.journal));
        journal.chain(self.census.bad_blocks.iter().map(move |one| (one, ends.bad_blocks)))
    }

    /// The end of an inode's map that changes its length; `None` for any other.
    pub(super) fn end_of(&self, number: u32, ends: Ends) -> Option<u64> {
        let mut cut = self.cut_inodes(ends);
        cut.find(|((inode, _), _)| inode.number == number).map(|(_, end)| end)
    }

    /// Returns whether an inode keeps the length of its map.
    fn keeps_its_length(&self, inode: &RawInode, ends: Ends) -> bool {
        let block_len = self.opened.superblock.block_len.max(1);
        let end = self.end_of(inode.number, ends);
        end.is_none_or(|end| inode.size().checked_div(block_len) == Some(end))
    }

    /// The blocks of files with these ends of two maps.
    fn owned(&self, ends: Ends) -> Bits {
        let mut owned = self.census.owned.clone();
        for ((inode, map), end) in self.cut_inodes(ends) {
            map.runs().for_each(|run| owned.remove(run));
            let kept = self.cut(inode, map, end);
            kept.runs().for_each(|run| {
                owned.add(run);
            });
        }
        owned
    }

    /// A map shortened to `len`. A shortened tree is rewritten, so only as many of its blocks are kept as it needs.
    fn cut(&self, inode: &RawInode, map: &Map, len: u64) -> Map {
        let mut map = map.clone();
        map.cut(len);
        if matches!(inode.map_kind(&self.opened.superblock), Ok(MapKind::Extents)) {
            let needs = trees::blocks_of_tree(map.pieces.len(), self.opened.superblock.block_len);
            map.nodes.truncate(needs);
        }
        map
    }

    /// The plan with the most blocks of at most `blocks`.
    ///
    /// # Errors
    /// The number of missing blocks; all other errors as `Other`.
    pub(super) fn longest(&self, blocks: u64) -> std::result::Result<Layout, Lack> {
        let lack = match self.plan(blocks) {
            Err(Lack::Blocks(lack)) => lack,
            other => return other,
        };
        // A short last group may need more blocks for metadata, in itself and before it, than it provides.
        let sized = sized(&self.opened.superblock, blocks)?;
        let last = sized.groups().saturating_sub(1);
        let takes = sized.leading_blocks(last).plus(sized.metadata_blocks_a_group())?;
        if last > 0 && sized.group_len(last).plus(lack)? <= takes {
            match self.plan(sized.group_start(last)) {
                Err(Lack::Blocks(_)) => {}
                other => return other,
            }
        }
        Err(Lack::Blocks(lack))
    }

    /// A plan for `blocks` blocks, or a few less if the last group would be too short.
    ///
    /// # Errors
    /// As [`Planner::longest`].
    fn plan(&self, blocks: u64) -> std::result::Result<Layout, Lack> {
        let ends = self.ends(blocks);
        let old = &self.opened.superblock;
        let owned = self.owned(ends).reaching(blocks);
        let geometry = Geometry::new(self.opened, &owned, blocks)?;
        let new = &geometry.superblock;
        let (must_move, taken) = divided(&owned, &geometry);
        let room = Run::between(new.first_data_block, new.blocks);
        let free = room.len.minus(taken.count_in(room))?;
        let needed = must_move.count();
        if needed > free {
            return Err(Lack::Blocks(needed.saturating_sub(free)));
        }
        let inodes = self.inode_moves(new.inodes())?;
        let load = self.load(&must_move, ends)?;
        let mut holes = Holes::of(&taken, room);
        let data = place(&mut holes, load.rigid, load.loose).map_err(Lack::Blocks)?;
        let map_blocks = self.map_blocks(&load.movers, &must_move, &data, ends, &mut holes)?;
        let moved: u64 = data.by_target().iter().map(|one| one.len).sum();
        let moved = moved.saturating_sub(load.journal).plus(load.trees)?;
        let mut owned = afterwards(&taken, &geometry, &data);
        for number in &load.movers {
            for run in self.old_tree(*number, ends)? {
                if !must_move.contains(run.first) {
                    owned.remove(run);
                }
            }
        }
        for block in map_blocks.values().flatten() {
            owned.add(Run::new(*block, 1));
        }
        let tables = self.opened.groups.iter().zip(&geometry.groups).filter_map(|(was, is)| {
            let (from, to) = (was.inode_table, is.inode_table);
            (from != to).then_some(Move { from, to, len: old.table_blocks() })
        });
        let moves = Moves::of(data.by_target().iter().copied().chain(tables).collect());
        Ok(Layout {
            had_to_move: needed.saturating_sub(load.journal),
            moves: Arc::new(moves),
            geometry,
            inodes,
            map_blocks,
            movers: load.movers,
            ends,
            owned,
            moved,
        })
    }

    /// The blocks of an inode's extent tree; none when it has another kind of map.
    fn old_tree(&self, number: u32, ends: Ends) -> Result<Vec<Run>> {
        let (inode, map) = self.map(number, ends)?;
        Ok(match inode.map_kind(&self.opened.superblock)? {
            MapKind::Extents => map.nodes.iter().map(|node| Run::new(node.block, 1)).collect(),
            MapKind::Indirect | MapKind::None => Vec::new(),
        })
    }

    /// An inode and its map, cut to its length.
    pub(super) fn map(&self, number: u32, ends: Ends) -> Result<(RawInode, Map)> {
        for ((inode, map), end) in self.cut_inodes(ends) {
            if inode.number == number {
                return Ok((inode.clone(), self.cut(inode, map, end)));
            }
        }
        let inode = self.opened.inode(number)?;
        let map = map_of(&self.opened.meta, &self.opened.superblock, &inode, &mut |_| Ok(()))?;
        Ok((inode, map))
    }

    /// New numbers for the inodes after the first `count`: the first free ones.
    fn inode_moves(&self, count: u64) -> std::result::Result<InodeMoves, Lack> {
        let superblock = &self.opened.superblock;
        let used = &self.census.inodes;
        if count >= used.len() {
            return Ok(InodeMoves::default());
        }
        let first = u64::from(superblock.first_inode).saturating_sub(1);
        let room = Run::between(first, count);
        let behind = Run::between(count, used.len());
        let mut free = used.holes(room).flat_map(|run| run.first..run.end());
        let mut pairs = Vec::new();
        for index in used.runs(behind).flat_map(|run| run.first..run.end()) {
            let number = |index: u64| u32::try_from(index.saturating_add(1)).unwrap_or(u32::MAX);
            let to = free
                .next()
                .ok_or_else(|| Error::no_room("it would have fewer inodes than are in use"))?;
            pairs.push((number(index), number(to)));
        }
        if superblock.has_stable_inodes() && !pairs.is_empty() {
            return Err(Lack::Other(Error::unsupported(
                "its inodes must keep their numbers (stable_inodes), but some are in groups that \
                 would be removed",
            )));
        }
        Ok(InodeMoves { pairs })
    }

    /// The blocks that must move, by kind.
    fn load(&self, must_move: &Bits, ends: Ends) -> Result<Load> {
        let superblock = &self.opened.superblock;
        let mut load = Load::default();
        let mut cut = self.cut_inodes(ends);
        let keep_their_length = cut.all(|((inode, _), _)| self.keeps_its_length(inode, ends));
        if must_move.count() == 0 && keep_their_length {
            return Ok(load);
        }
        let mut shared = BTreeSet::new();
        self.opened.each_inode(|inode, is_used| {
            self.cancel.check()?;
            if !is_used {
                return Ok(());
            }
            if inode.number == RESIZE {
                let double = double_of(&inode);
                if superblock.has_resize_inode() && must_move.contains(double) {
                    load.loose.push(Run::new(double, 1));
                }
                return Ok(());
            }
            let is_journal = Some(inode.number) == self.census.journal_number();
            let map = match self.end_of(inode.number, ends) {
                Some(_) => self.map(inode.number, ends)?.1,
                None => map_of(&self.opened.meta, superblock, &inode, &mut |_| Ok(()))?,
            };
            let kind = inode.map_kind(superblock)?;
            let mut is_mover = !self.keeps_its_length(&inode, ends);
            for piece in &map.pieces {
                for run in must_move.runs(piece.run()) {
                    if inode.number == BAD_BLOCKS {
                        return Err(Error::no_room(format!(
                            "block {} is on its list of bad blocks, but its metadata would be there",
                            run.first
                        )));
                    }
                    is_mover = true;
                    if is_journal {
                        load.journal = load.journal.plus(run.len)?;
                    }
                    match kind {
                        MapKind::Extents => load.rigid.push(run),
                        MapKind::Indirect | MapKind::None => load.loose.push(run),
                    }
                }
            }
            for node in map.nodes.iter().filter(|node| must_move.contains(node.block)) {
                is_mover = true;
                match kind {
                    MapKind::Extents => load.trees = load.trees.plus(1)?,
                    _ => load.loose.push(Run::new(node.block, 1)),
                }
            }
            let file_acl = inode.file_acl(superblock);
            if file_acl != 0 && must_move.contains(file_acl) {
                is_mover = true;
                if shared.insert(file_acl) {
                    load.loose.push(Run::new(file_acl, 1));
                }
            }
            if is_mover {
                load.movers.insert(inode.number);
            }
            Ok(())
        })?;
        Ok(load)
    }

    /// The blocks for the extent trees of `movers`: those that they have and that stay, and more out
    /// of the smallest holes.
    fn map_blocks(
        &self,
        movers: &BTreeSet<u32>,
        must_move: &Bits,
        data: &Moves,
        ends: Ends,
        holes: &mut Holes,
    ) -> std::result::Result<MapBlocks, Lack> {
        let block_len = self.opened.superblock.block_len;
        let mut found = MapBlocks::new();
        let mut shortfall = 0u64;
        for number in movers {
            self.cancel.check()?;
            let (inode, map) = self.map(*number, ends)?;
            if inode.map_kind(&self.opened.superblock)? != MapKind::Extents {
                continue;
            }
            let pieces = trees::moved(&map.pieces, data);
            let needed = trees::blocks_of_tree(pieces.len(), block_len);
            let stay = map.nodes.iter().map(|node| node.block);
            let mut blocks: Vec<u64> =
                stay.filter(|block| !must_move.contains(*block)).take(needed).collect();
            while blocks.len() < needed {
                match holes.take_one() {
                    Some(block) => blocks.push(block),
                    None => {
                        let missing = needed.saturating_sub(blocks.len());
                        shortfall = shortfall.plus(u64::try_from(missing).unwrap_or(u64::MAX))?;
                        break;
                    }
                }
            }
            found.insert(*number, blocks);
        }
        match shortfall {
            0 => Ok(found),
            _ => Err(Lack::Blocks(shortfall)),
        }
    }
}
