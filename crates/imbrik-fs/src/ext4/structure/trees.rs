//! Rewritten maps: extent trees of minimal size, and indirect maps with converted block numbers.

use super::{
    inode::{I_BLOCK, low_u32},
    map::{DIRECT, ENTRY, EXTENT_MAGIC, IN_INODE, MOST_WRITTEN, Piece, tail_of},
    metadata_cache::MetadataCache,
};
use crate::{
    ext4::{checksum::crc32c, superblock::Superblock},
    placement::Moves,
};
use imbrik_store::{
    bytes,
    error::{Error, Result},
    exact::Exact as _,
};

/// Entries in a block of a tree.
fn in_block(block_len: u64) -> usize {
    usize::try_from(block_len).unwrap_or(0).saturating_sub(ENTRY) / ENTRY
}

/// How many blocks the smallest tree of `extents` extents has.
pub(in crate::ext4) fn blocks_of_tree(extents: usize, block_len: u64) -> usize {
    let (mut level, mut all) = (extents, 0usize);
    while level > IN_INODE {
        level = level.div_ceil(in_block(block_len).max(1));
        all = all.saturating_add(level);
    }
    all
}

/// The pieces of a file at their new places, those joined that follow each other there.
pub(in crate::ext4) fn moved(pieces: &[Piece], moves: &Moves) -> Vec<Piece> {
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

/// A map: the part in the inode, and its blocks.
pub(in crate::ext4) struct Made {
    pub(in crate::ext4) i_block: Vec<u8>,
    pub(in crate::ext4) blocks: Vec<(u64, Vec<u8>)>,
}

/// The smallest tree of `pieces`, in the blocks `places`. `seed` is the initial value for the inode's checksums. `old`
/// is the previous `i_block`.
///
/// # Errors
/// When there are too few places, or a number has no room in an extent.
pub(in crate::ext4) fn tree(
    pieces: &[Piece],
    places: &[u64],
    old: &[u8],
    superblock: &Superblock,
    seed: u32,
) -> Result<Made> {
    let wrong = || Error::corrupt("a block map cannot be rebuilt");
    let room = in_block(superblock.block_len);
    let len = superblock.block_len.exact_as::<usize>()?;
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
        depth = depth.plus(1)?;
    }
    // The generation in the root's header is unused, and kept.
    let mut i_block = vec![0; I_BLOCK.len()];
    node(&mut i_block, &entries, IN_INODE, depth).ok_or_else(wrong)?;
    if let (Some(to), Some(from)) = (i_block.get_mut(8..12), old.get(8..12)) {
        to.copy_from_slice(from);
    }
    Ok(Made { i_block, blocks })
}

type TreeEntry = [u8; ENTRY];

fn extent(piece: &Piece) -> Option<TreeEntry> {
    let mut entry = [0; ENTRY];
    let len = if piece.is_unwritten { piece.len.checked_add(MOST_WRITTEN)? } else { piece.len };
    bytes::put(&mut entry, 0, u32::try_from(piece.logical).ok()?.to_le_bytes())?;
    bytes::put(&mut entry, 4, u16::try_from(len).ok()?.to_le_bytes())?;
    bytes::put(&mut entry, 6, u16::try_from(piece.physical >> 32).ok()?.to_le_bytes())?;
    bytes::put(&mut entry, 8, low_u32(piece.physical).to_le_bytes())?;
    Some(entry)
}

/// The entry that refers to a node at `place` with the first entry `first`.
fn index(first: &TreeEntry, place: u64) -> Option<TreeEntry> {
    let mut entry = [0; ENTRY];
    bytes::put(&mut entry, 0, bytes::array::<4>(first, 0)?)?;
    bytes::put(&mut entry, 4, low_u32(place).to_le_bytes())?;
    bytes::put(&mut entry, 8, u16::try_from(place >> 32).ok()?.to_le_bytes())?;
    Some(entry)
}

fn node(out: &mut [u8], entries: &[TreeEntry], room: usize, depth: u16) -> Option<()> {
    bytes::put(out, 0, EXTENT_MAGIC.to_le_bytes())?;
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

/// Updates the checksum of a tree block.
pub(in crate::ext4) fn seal(block: &mut [u8], seed: u32) -> Option<()> {
    let at = tail_of(block)?;
    let sum = crc32c(seed, block.get(..at)?);
    bytes::put(block, at, sum.to_le_bytes())
}

/// Converts every block number of an indirect map, and removes everything after the first `limit` blocks of the file.
/// Unchanged blocks of the map are omitted.
///
/// # Errors
/// When a block of it cannot be read, or a number has no room.
pub(in crate::ext4) fn indirect(
    meta: &MetadataCache,
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
        let depth = depth.exact_as::<u32>()?;
        let number = this.follow(u32::from_le_bytes(*place), depth, &mut logical)?;
        *place = number.to_le_bytes();
    }
    Ok(Made { i_block, blocks: this.blocks })
}

struct Indirect<'a> {
    meta: &'a MetadataCache,
    moves: &'a Moves,
    limit: u64,
    a_block: u64,
    blocks: Vec<(u64, Vec<u8>)>,
}

impl Indirect<'_> {
    /// Converts `number`, which is `depth` levels above the data.
    fn follow(&mut self, number: u32, depth: u32, logical: &mut u64) -> Result<u32> {
        let start = *logical;
        if number == 0 || start >= self.limit {
            *logical = start.plus(self.a_block.saturating_pow(depth))?;
            return Ok(0);
        }
        let target = self.moves.target_of(number.into());
        let target = u32::try_from(target)
            .map_err(|_| Error::corrupt("an indirect map cannot address a block at that offset"))?;
        let Some(below) = depth.checked_sub(1) else {
            *logical = start.plus(1)?;
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{
        bits::Run,
        ext4::structure::{
            inode::{MapKind, RawInode},
            map::map_of,
        },
        placement::Move,
    };
    use imbrik_store::{
        ReadAt, SparseStore, WriteAt,
        units::{ByteLen, ByteOffset},
    };
    use proptest::prelude::*;
    use std::sync::Arc;

    const BLOCKS: u64 = 60_000;

    /// A superblock of blocks of 1 KiB, with checksums.
    fn superblock() -> Superblock {
        let mut raw = vec![0; Superblock::LEN];
        let fields = [(0x4, BLOCKS as u32), (0x14, 1), (0x20, 8192), (0x28, 16), (0x4c, 1)];
        for (at, value) in fields.into_iter().chain([(0x60, 0x40), (0x64, 0x400)]) {
            raw[at..at + 4].copy_from_slice(&value.to_le_bytes());
        }
        raw[0x38..0x3a].copy_from_slice(&[0x53, 0xef]);
        raw[0x59] = 1;
        Superblock::of_test(&raw)
    }

    fn file(flags: u32) -> RawInode {
        let mut inode = RawInode { number: 12, raw: vec![0; 256] };
        inode.raw[..2].copy_from_slice(&0x81a4u16.to_le_bytes());
        inode.put_u32(0x20, flags);
        inode.put_u32(0x64, 77);
        inode
    }

    proptest! {
        #[test]
        fn extent_tree_lists_the_extents_it_was_built_from(
            lens in proptest::collection::vec((1u64..4, 1u64..5, any::<bool>()), 0..1200),
            scattered in any::<u64>(),
        ) {
            let superblock = superblock();
            let (mut logical, mut physical) = (0, 3000);
            let mut pieces = Vec::new();
            for (index, (gap, len, is_unwritten)) in lens.into_iter().enumerate() {
                logical += gap;
                physical += 1 + (scattered >> (index % 60)) % 3;
                pieces.push(Piece { logical, physical, len, is_unwritten });
                (logical, physical) = (logical + len, physical + len);
            }
            let mut inode = file(0x8_0000);
            let seed = inode.seed(&superblock);
            let count = blocks_of_tree(pieces.len(), superblock.block_len);
            let places: Vec<u64> = (100..).take(count).collect();
            let made = tree(&pieces, &places, &[0; 60], &superblock, seed).unwrap();
            prop_assert_eq!(made.blocks.len(), count, "as many blocks as were counted");
            let store = SparseStore::new(ByteLen::kib(BLOCKS));
            for (block, content) in &made.blocks {
                store.write_at(ByteOffset::new(block * 1024), content).unwrap();
            }
            inode.put_i_block(&made.i_block);
            prop_assert_eq!(inode.map_kind(&superblock).unwrap(), MapKind::Extents);
            let store: Arc<dyn ReadAt> = Arc::new(store);
            let kept = MetadataCache::new(store, 1024);
            let map = map_of(&kept, &superblock, &inode, &mut |_| Ok(())).unwrap();
            prop_assert_eq!(&map.pieces, &pieces);
            prop_assert_eq!(map.nodes.len(), count);
            // The same tree under another number is not believed.
            let other = RawInode { number: 13, ..inode };
            let found = map_of(&kept, &superblock, &other, &mut |_| Ok(()));
            prop_assert_eq!(found.is_err(), count > 0);
            // One place too few is noticed.
            if let Some(fewer) = places.len().checked_sub(1) {
                prop_assert!(tree(&pieces, &places[..fewer], &[0; 60], &superblock, seed).is_err());
            }
        }

        #[test]
        fn indirect_map_lists_its_blocks(
            count in 1u64..900,
            moves in proptest::collection::vec((1000u64..1900, 1u64..50), 0..6),
            limit in 1u64..1000,
        ) {
            let superblock = superblock();
            // Twelve direct blocks, the rest through block 500, then 501 and the following ones.
            let mut i_block = vec![0; 60];
            let store = SparseStore::new(ByteLen::kib(BLOCKS));
            let put = |block: u64, index: u64, value: u64| {
                let at = ByteOffset::new(block * 1024 + index * 4);
                store.write_at(at, &(value as u32).to_le_bytes()).unwrap();
            };
            for index in 0..count {
                match index {
                    0..12 => {
                        let value = (1000 + index) as u32;
                        let at = index as usize * 4;
                        i_block[at..at + 4].copy_from_slice(&value.to_le_bytes());
                    }
                    12..268 => put(500, index - 12, 1000 + index),
                    _ => put(502 + (index - 268) / 256, (index - 268) % 256, 1000 + index),
                }
            }
            if count > 12 {
                i_block[48..52].copy_from_slice(&500u32.to_le_bytes());
            }
            if count > 268 {
                i_block[52..56].copy_from_slice(&501u32.to_le_bytes());
                (0..(count - 268).div_ceil(256)).for_each(|index| put(501, index, 502 + index));
            }
            let mut behind = 10_000;
            let mut list = Vec::new();
            let mut taken = 0;
            let mut sorted = moves;
            sorted.sort_unstable();
            for (from, len) in sorted {
                if from >= taken {
                    list.push(Move { from, to: behind, len });
                    (taken, behind) = (from + len, behind + len + 1);
                }
            }
            list.push(Move { from: 500, to: 9_000, len: 3 });
            let moves = Moves::of(list);
            let store: Arc<dyn ReadAt> = Arc::new(store);
            let kept = MetadataCache::new(Arc::clone(&store), 1024);
            let mut inode = file(0);
            inode.put_i_block(&i_block);
            let before = map_of(&kept, &superblock, &inode, &mut |_| Ok(())).unwrap();
            let made = indirect(&kept, &superblock, &i_block, &moves, limit).unwrap();
            let target = SparseStore::new(ByteLen::kib(BLOCKS));
            // Blocks that were not rewritten are unchanged.
            for block in 500..520u64 {
                let bytes = imbrik_store::read_vec(&*store, ByteOffset::new(block * 1024), 1024);
                let to = moves.target_of(block);
                target.write_at(ByteOffset::new(to * 1024), &bytes.unwrap()).unwrap();
            }
            for (block, content) in &made.blocks {
                target.write_at(ByteOffset::new(block * 1024), content).unwrap();
            }
            inode.put_i_block(&made.i_block);
            let target: Arc<dyn ReadAt> = Arc::new(target);
            let kept = MetadataCache::new(target, 1024);
            let after = map_of(&kept, &superblock, &inode, &mut |_| Ok(())).unwrap();
            let listed = |pieces: &[Piece], follow: bool| -> Vec<(u64, u64)> {
                let blocks = pieces.iter().flat_map(|piece| {
                    (0..piece.len).map(|ahead| (piece.logical + ahead, piece.physical + ahead))
                });
                let target = |block| if follow { moves.target_of(block) } else { block };
                blocks.map(|(at, block)| (at, target(block))).filter(|(at, _)| *at < limit).collect()
            };
            prop_assert_eq!(listed(&after.pieces, false), listed(&before.pieces, true));
            prop_assert!(after.pieces.iter().all(|piece| piece.logical < limit));
            let mut cut = before;
            cut.cut(limit);
            prop_assert_eq!(after.nodes.len(), cut.nodes.len());
            prop_assert!(after.runs().all(|run: Run| run.end() <= BLOCKS));
        }
    }
}
