//! Maps made anew: extent trees of the least possible size, and indirect maps whose numbers follow
//! their blocks.

use super::{
    super::{checksum::crc32c, superblock::Superblock},
    kept::Kept,
    map_of::{ENTRY, Piece, tail_of},
    placement::Moves,
    raw_inode::{I_BLOCK, low_u32},
};
use crate::{
    bytes,
    error::{Error, Result},
};

/// Entries in the 60 bytes of the inode.
const IN_INODE: usize = 4;
const MAGIC: u16 = 0xf30a;
/// What is added to the length of an unwritten extent.
const UNWRITTEN: u64 = 32768;
const DIRECT: usize = 12;

/// Entries in a block of a tree.
fn in_block(block_len: u64) -> usize {
    usize::try_from(block_len).unwrap_or(0).saturating_sub(ENTRY) / ENTRY
}

/// How many blocks the smallest tree of `extents` extents has.
pub(super) fn blocks_of_tree(extents: usize, block_len: u64) -> usize {
    let (mut level, mut all) = (extents, 0usize);
    while level > IN_INODE {
        level = level.div_ceil(in_block(block_len).max(1));
        all = all.saturating_add(level);
    }
    all
}

/// The pieces of a file at their new places, those joined that follow each other there.
pub(super) fn moved(pieces: &[Piece], moves: &Moves) -> Vec<Piece> {
    let mut out: Vec<Piece> = Vec::with_capacity(pieces.len());
    for piece in pieces {
        moves.targets(piece.run(), |part, to| {
            let ahead = part.first.saturating_sub(piece.physical);
            let next = Piece {
                logical: piece.logical.saturating_add(ahead),
                physical: to.first,
                len: to.len,
                is_unwritten: piece.is_unwritten,
            };
            match out.last_mut() {
                Some(last) if last.is_continued_by(&next) => {
                    last.len = last.len.saturating_add(next.len);
                }
                _ => out.push(next),
            }
        });
    }
    out
}

/// A map: what stands in the inode, and its blocks.
pub(super) struct Made {
    pub(super) i_block: Vec<u8>,
    pub(super) blocks: Vec<(u64, Vec<u8>)>,
}

/// The smallest tree of `pieces`, in the blocks `places`. `seed` is where the checksums of the
/// inode's blocks start from. `old` is the `i_block` that it had.
///
/// # Errors
/// When there are too few places, or a number has no room in an extent.
pub(super) fn tree(
    pieces: &[Piece],
    places: &[u64],
    old: &[u8],
    superblock: &Superblock,
    seed: u32,
) -> Result<Made> {
    let wrong = || Error::corrupt("a map cannot be made anew");
    let room = in_block(superblock.block_len);
    let len = usize::try_from(superblock.block_len).unwrap_or(0);
    let mut places = places.iter();
    let mut blocks = Vec::new();
    let entries: Option<Vec<_>> = pieces.iter().map(extent).collect();
    let mut entries = entries.ok_or_else(wrong)?;
    let mut depth = 0u16;
    while entries.len() > IN_INODE {
        let mut above = Vec::new();
        for some in entries.chunks(room.max(1)) {
            let place = *places.next().ok_or_else(wrong)?;
            let mut block = vec![0; len];
            node(&mut block, some, room, depth).ok_or_else(wrong)?;
            if superblock.has_metadata_csum() {
                seal(&mut block, seed).ok_or_else(wrong)?;
            }
            let first = some.first().ok_or_else(wrong)?;
            above.push(index(first, place).ok_or_else(wrong)?);
            blocks.push((place, block));
        }
        entries = above;
        depth = depth.saturating_add(1);
    }
    // The generation in the root's head is nobody's, and stays.
    let mut i_block = vec![0; I_BLOCK.len()];
    node(&mut i_block, &entries, IN_INODE, depth).ok_or_else(wrong)?;
    if let (Some(to), Some(from)) = (i_block.get_mut(8..12), old.get(8..12)) {
        to.copy_from_slice(from);
    }
    Ok(Made { i_block, blocks })
}

type Entry = [u8; ENTRY];

fn extent(piece: &Piece) -> Option<Entry> {
    let mut entry = [0; ENTRY];
    let len = if piece.is_unwritten { piece.len.checked_add(UNWRITTEN)? } else { piece.len };
    bytes::put(&mut entry, 0, u32::try_from(piece.logical).ok()?.to_le_bytes())?;
    bytes::put(&mut entry, 4, u16::try_from(len).ok()?.to_le_bytes())?;
    bytes::put(&mut entry, 6, u16::try_from(piece.physical >> 32).ok()?.to_le_bytes())?;
    bytes::put(&mut entry, 8, low_u32(piece.physical).to_le_bytes())?;
    Some(entry)
}

/// The entry that leads to a node at `place` whose own first one is `first`.
fn index(first: &Entry, place: u64) -> Option<Entry> {
    let mut entry = [0; ENTRY];
    bytes::put(&mut entry, 0, bytes::array::<4>(first, 0)?)?;
    bytes::put(&mut entry, 4, low_u32(place).to_le_bytes())?;
    bytes::put(&mut entry, 8, u16::try_from(place >> 32).ok()?.to_le_bytes())?;
    Some(entry)
}

fn node(out: &mut [u8], entries: &[Entry], room: usize, depth: u16) -> Option<()> {
    bytes::put(out, 0, MAGIC.to_le_bytes())?;
    bytes::put(out, 2, u16::try_from(entries.len()).ok()?.to_le_bytes())?;
    bytes::put(out, 4, u16::try_from(room).ok()?.to_le_bytes())?;
    bytes::put(out, 6, depth.to_le_bytes())?;
    let mut at = ENTRY;
    for entry in entries {
        bytes::put(out, at, *entry)?;
        at = at.checked_add(ENTRY)?;
    }
    Some(())
}

/// Makes the checksum of a block of a tree anew.
pub(super) fn seal(block: &mut [u8], seed: u32) -> Option<()> {
    let at = tail_of(block)?;
    let sum = crc32c(seed, block.get(..at)?);
    bytes::put(block, at, sum.to_le_bytes())
}

/// An indirect map with every block number following its block, and nothing behind the first
/// `limit` blocks of the file. Blocks of the map that stay as they are are left out.
///
/// # Errors
/// When a block of it cannot be read, or a number has no room.
pub(super) fn indirect(
    meta: &Kept,
    superblock: &Superblock,
    old: &[u8],
    moves: &Moves,
    limit: u64,
) -> Result<Made> {
    let mut this =
        Indirect { meta, moves, limit, a_block: superblock.block_len / 4, blocks: Vec::new() };
    let mut i_block = old.to_vec();
    let mut logical = 0;
    for (index, place) in i_block.as_chunks_mut::<4>().0.iter_mut().enumerate() {
        let depth = index.saturating_sub(DIRECT.saturating_sub(1));
        let depth = u32::try_from(depth).unwrap_or(0);
        let number = this.follow(u32::from_le_bytes(*place), depth, &mut logical)?;
        *place = number.to_le_bytes();
    }
    Ok(Made { i_block, blocks: this.blocks })
}

struct Indirect<'a> {
    meta: &'a Kept,
    moves: &'a Moves,
    limit: u64,
    a_block: u64,
    blocks: Vec<(u64, Vec<u8>)>,
}

impl Indirect<'_> {
    /// What `number`, `depth` levels above the data, becomes.
    fn follow(&mut self, number: u32, depth: u32, logical: &mut u64) -> Result<u32> {
        let start = *logical;
        if number == 0 || start >= self.limit {
            *logical = start.saturating_add(self.a_block.saturating_pow(depth));
            return Ok(0);
        }
        let target = self.moves.target_of(number.into());
        let target = u32::try_from(target)
            .map_err(|_| Error::corrupt("an indirect map cannot reach a block so far behind"))?;
        let Some(below) = depth.checked_sub(1) else {
            *logical = start.saturating_add(1);
            return Ok(target);
        };
        let old = self.meta.block(number.into())?;
        let mut block = old.to_vec();
        for place in block.as_chunks_mut::<4>().0 {
            *place = self.follow(u32::from_le_bytes(*place), below, logical)?.to_le_bytes();
        }
        if *old != *block || u64::from(target) != u64::from(number) {
            self.blocks.push((target.into(), block));
        }
        Ok(target)
    }
}
