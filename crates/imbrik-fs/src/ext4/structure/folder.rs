//! Directory blocks: the inode numbers in their entries, and their checksums.
//!
//! A block is a chain of entries (inode, record length, name length, type, name). The nodes of a hashed directory are
//! hidden in an entry without an inode. With `metadata_csum`, a leaf ends in an entry of 12 bytes of the type 0xde that
//! contains the checksum; a node has it in 8 bytes after its last slot.

use crate::ext4::checksum::crc32c;
use imbrik_store::bytes;

/// Size of the entry that contains a block's checksum, in bytes.
pub(in crate::ext4) const TAIL: usize = 12;
/// Offset of the entries of an inline directory, after the number of its parent.
pub(in crate::ext4) const INLINE: usize = 4;
const TAIL_TYPE: u8 = 0xde;
/// Size of an entry before its name, in bytes.
const HEAD: usize = 8;

/// A record of a block: an entry, or free room.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Record {
    /// Its offset in the block.
    at: usize,
    /// Its length in bytes.
    len: usize,
    /// The inode that it refers to; 0 for free room.
    inode: u32,
    name_len: usize,
    kind: u8,
}

impl Record {
    fn read(block: &[u8], at: usize) -> Option<Self> {
        let len = usize::from(bytes::le_u16(block, at.checked_add(4)?)?);
        let record = Self {
            at,
            len,
            inode: bytes::le_u32(block, at)?,
            name_len: bytes::u8(block, at.checked_add(6)?)?.into(),
            kind: bytes::u8(block, at.checked_add(7)?)?,
        };
        let is_sound = record.end()? <= block.len()
            && len >= HEAD
            && len.is_multiple_of(4)
            && (record.inode == 0 || HEAD.checked_add(record.name_len)? <= len);
        is_sound.then_some(record)
    }

    /// The offset of its end.
    fn end(&self) -> Option<usize> {
        self.at.checked_add(self.len)
    }

    /// The bytes that it needs.
    fn own_len(&self) -> Option<usize> {
        match self.inode {
            0 => Some(0),
            _ => HEAD.checked_add(self.name_len)?.checked_next_multiple_of(4),
        }
    }

    fn name<'a>(&self, block: &'a [u8]) -> Option<&'a [u8]> {
        let from = self.at.checked_add(HEAD)?;
        block.get(from..from.checked_add(self.name_len)?)
    }
}

/// The records of a block from `start`; the last one is `None` if the chain is invalid from there.
fn records(block: &[u8], start: usize) -> impl Iterator<Item = Option<Record>> {
    let mut at = Some(start).filter(|at| *at < block.len());
    std::iter::from_fn(move || {
        let record = Record::read(block, at?);
        at = record.and_then(|record| record.end()).filter(|at| *at < block.len());
        Some(record)
    })
}

/// The offset of an inode number in an entry, and the number.
pub(in crate::ext4) type Reference = (usize, u32);

/// The inodes that the entries of a block refer to; `None` if they are invalid. `start` is the offset of the first
/// entry.
pub(in crate::ext4) fn references(block: &[u8], start: usize) -> Option<Vec<Reference>> {
    let named = records(block, start).filter(|record| record.is_none_or(|one| one.inode != 0));
    named.map(|record| record.map(|one| (one.at, one.inode))).collect()
}

/// An entry with an inode.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::ext4) struct NamedInode<'a> {
    pub(in crate::ext4) inode: u32,
    /// The type of the inode, if entries contain it.
    pub(in crate::ext4) kind: u8,
    pub(in crate::ext4) name: &'a [u8],
}

/// The entries of a block from `start` with an inode; `None` if they are invalid.
pub(in crate::ext4) fn entries(block: &[u8], start: usize) -> Option<Vec<NamedInode<'_>>> {
    each_entry(block, start).collect()
}

/// The same as an iterator; the last one is `None` if the chain is invalid from there.
pub(in crate::ext4) fn each_entry(
    block: &[u8],
    start: usize,
) -> impl Iterator<Item = Option<NamedInode<'_>>> {
    let named = records(block, start).filter(|record| record.is_none_or(|one| one.inode != 0));
    named.map(|record| {
        let record = record?;
        Some(NamedInode { inode: record.inode, kind: record.kind, name: record.name(block)? })
    })
}

/// A node of an indexed directory.
pub(in crate::ext4) struct IndexNode {
    /// The lowest hash of each child, and its block in the directory. The first has hash 0.
    pub(in crate::ext4) children: Vec<(u32, u32)>,
}

/// The header of the index in the root of an indexed directory.
pub(in crate::ext4) struct IndexRoot {
    pub(in crate::ext4) hash_version: u8,
    /// The number of levels between the root and the leaves.
    pub(in crate::ext4) levels: u8,
}

/// The header in the root of an index after "." and ".."; `None` if it is invalid.
pub(in crate::ext4) fn index_root(block: &[u8]) -> Option<IndexRoot> {
    let is_plain = node_counts(block)? == 32 && bytes::u8(block, 31)? == 0;
    is_plain.then_some(())?;
    Some(IndexRoot { hash_version: bytes::u8(block, 28)?, levels: bytes::u8(block, 30)? })
}

/// The children of a node; `None` if it is invalid, or has a capacity of another kind of node.
pub(in crate::ext4) fn index_node(block: &[u8], has_tail: bool) -> Option<IndexNode> {
    let counts = node_counts(block)?;
    let limit = usize::from(bytes::le_u16(block, counts)?);
    let count = usize::from(bytes::le_u16(block, counts.checked_add(2)?)?);
    let room = room_of(block.len(), counts, has_tail)?;
    if limit != room || count == 0 || count > limit {
        return None;
    }
    let child = |index: usize| {
        let at = counts.checked_add(index.checked_mul(8)?)?;
        let hash = if index == 0 { 0 } else { bytes::le_u32(block, at)? };
        Some((hash, bytes::le_u32(block, at.checked_add(4)?)? & 0x0fff_ffff))
    };
    Some(IndexNode { children: (0..count).map(child).collect::<Option<_>>()? })
}

/// The capacity of a node, whose slot counters are at `counts`.
fn room_of(len: usize, counts: usize, has_tail: bool) -> Option<usize> {
    let tail = if has_tail { 8 } else { 0 };
    Some(len.checked_sub(counts)?.checked_sub(tail)? / 8)
}

/// The capacity of the root of an index in blocks of `len` bytes, and that of the other nodes.
pub(in crate::ext4) fn index_rooms(len: usize, has_tail: bool) -> Option<(usize, usize)> {
    Some((room_of(len, 32, has_tail)?, room_of(len, HEAD, has_tail)?))
}

/// Writes the children of a node into a block; the hash of the first is not stored.
pub(in crate::ext4) fn put_index_node(
    block: &mut [u8],
    children: &[(u32, u32)],
    has_tail: bool,
) -> Option<()> {
    let counts = match node_counts(block) {
        Some(counts) => counts,
        None => {
            block.fill(0);
            bytes::put(block, 4, u16::try_from(block.len()).ok()?.to_le_bytes())?;
            HEAD
        }
    };
    let room = room_of(block.len(), counts, has_tail)?;
    if children.is_empty() || children.len() > room {
        return None;
    }
    block.get_mut(counts..)?.fill(0);
    let mut at = counts;
    for (hash, child) in children {
        bytes::put(block, at, hash.to_le_bytes())?;
        bytes::put(block, at.checked_add(4)?, child.to_le_bytes())?;
        at = at.checked_add(8)?;
    }
    bytes::put(block, counts, u16::try_from(room).ok()?.to_le_bytes())?;
    bytes::put(block, counts.checked_add(2)?, u16::try_from(children.len()).ok()?.to_le_bytes())
}

/// The root of an index without children, of the directory `number`; `kind` is the type of directories in entries.
pub(in crate::ext4) fn empty_index_root(
    len: usize,
    number: u32,
    parent: u32,
    kind: u8,
    root: &IndexRoot,
) -> Option<Vec<u8>> {
    let mut block = vec![0; len];
    bytes::put(&mut block, 0, number.to_le_bytes())?;
    bytes::put(&mut block, 4, 12u16.to_le_bytes())?;
    bytes::put(&mut block, 6, [1, kind])?;
    bytes::put(&mut block, 8, *b".")?;
    bytes::put(&mut block, 12, parent.to_le_bytes())?;
    bytes::put(&mut block, 16, u16::try_from(len.checked_sub(12)?).ok()?.to_le_bytes())?;
    bytes::put(&mut block, 18, [2, kind])?;
    bytes::put(&mut block, 20, *b"..")?;
    bytes::put(&mut block, 28, [root.hash_version, 8, root.levels, 0])?;
    Some(block)
}

/// Changes the inode of the entry ".."; `None` if the block has no such entry.
pub(in crate::ext4) fn put_parent(block: &mut [u8], parent: u32) -> Option<()> {
    let found = records(block, 0).map_while(|record| record);
    let at = { found }.find(|one| one.inode != 0 && one.name(block) == Some(b".."))?.at;
    bytes::put(block, at, parent.to_le_bytes())
}

/// The offset of the checksum in a block, and its correct value.
struct Sum {
    at: usize,
    value: u32,
}

/// The checksum of a directory block, with the seed `seed` of its inode.
fn checksum(block: &[u8], seed: u32) -> Option<Sum> {
    let tail = block.len().checked_sub(TAIL)?;
    if let Some(counts) = node_counts(block) {
        let limit = usize::from(bytes::le_u16(block, counts)?);
        let count = usize::from(bytes::le_u16(block, counts.checked_add(2)?)?);
        let used = counts.checked_add(count.checked_mul(8)?)?;
        let tail = counts.checked_add(limit.checked_mul(8)?)?;
        let value = crc32c(seed, block.get(..used).filter(|_| count <= limit)?);
        let value = crc32c(value, block.get(tail..tail.checked_add(4)?)?);
        return Some(Sum { at: tail.checked_add(4)?, value: crc32c(value, &[0; 4]) });
    }
    let is_tail = bytes::le_u32(block, tail)? == 0
        && bytes::le_u16(block, tail.checked_add(4)?)? == 12
        && bytes::u8(block, tail.checked_add(7)?)? == TAIL_TYPE;
    is_tail.then_some(())?;
    Some(Sum { at: tail.checked_add(8)?, value: crc32c(seed, block.get(..tail)?) })
}

/// The offset of the slot counters in a node of a hashed directory; `None` for a leaf.
fn node_counts(block: &[u8]) -> Option<usize> {
    let all = u16::try_from(block.len()).ok()?;
    let rec_len = bytes::le_u16(block, 4)?;
    if bytes::le_u32(block, 0)? == 0 && rec_len == all {
        return Some(HEAD);
    }
    // The root: ".", ".." up to the end of the block, and the header of the index after that name.
    let is_root = rec_len == 12
        && bytes::le_u16(block, 16)? == all.checked_sub(12)?
        && bytes::le_u32(block, 24)? == 0
        && bytes::u8(block, 29)? == 8;
    is_root.then_some(32)
}

/// Returns whether a block is a node of a hashed directory, or its root.
pub(in crate::ext4) fn is_node(block: &[u8]) -> bool {
    node_counts(block).is_some()
}

/// Returns whether the checksum of a block is correct.
pub(in crate::ext4) fn is_sound(block: &[u8], seed: u32) -> bool {
    checksum(block, seed).is_some_and(|sum| bytes::le_u32(block, sum.at) == Some(sum.value))
}

/// Updates the checksum of a block.
pub(in crate::ext4) fn seal(block: &mut [u8], seed: u32) -> Option<()> {
    let sum = checksum(block, seed)?;
    bytes::put(block, sum.at, sum.value.to_le_bytes())
}

/// A directory block without entries.
pub(in crate::ext4) fn empty(len: usize, has_tail: bool) -> Vec<u8> {
    let mut block = vec![0; len];
    let end = if has_tail { len.saturating_sub(TAIL) } else { len };
    let _ = bytes::put(&mut block, 4, u16::try_from(end).unwrap_or(0).to_le_bytes());
    if has_tail {
        let _ = bytes::put(&mut block, end.saturating_add(4), 12u16.to_le_bytes());
        let _ = bytes::put(&mut block, end.saturating_add(7), [TAIL_TYPE]);
    }
    block
}

/// Adds an entry of the type `kind` (0 if entries don't contain types) after another one with room; `None` if there is
/// no room.
pub(in crate::ext4) fn insert(
    block: &mut [u8],
    name: &[u8],
    number: u32,
    kind: u8,
    has_tail: bool,
) -> Option<()> {
    let needed = HEAD.checked_add(name.len())?.next_multiple_of(4);
    let end = if has_tail { block.len().checked_sub(TAIL)? } else { block.len() };
    let before_tail = records(block, 0).map_while(|record| record.filter(|one| one.at < end));
    let with_room = before_tail.filter_map(|record| {
        let own = record.own_len()?;
        (record.len.checked_sub(own)? >= needed).then_some((record.at, record.len, own))
    });
    let (at, len, own) = { with_room }.next()?;
    let place = at.checked_add(own)?;
    let rest = u16::try_from(len.checked_sub(own)?).ok()?;
    if own > 0 {
        bytes::put(block, at.checked_add(4)?, u16::try_from(own).ok()?.to_le_bytes())?;
    }
    let start = place.checked_add(HEAD)?;
    block.get_mut(start..start.checked_add(name.len())?)?.copy_from_slice(name);
    bytes::put(block, place, number.to_le_bytes())?;
    bytes::put(block, place.checked_add(4)?, rest.to_le_bytes())?;
    bytes::put(block, place.checked_add(6)?, [u8::try_from(name.len()).ok()?, kind])
}

/// Removes the entry `name` from a block; `None` if it doesn't exist.
pub(in crate::ext4) fn remove(block: &mut [u8], name: &[u8]) -> Option<()> {
    let all: Vec<Record> = records(block, 0).collect::<Option<_>>()?;
    let is_it = |one: &Record| one.inode != 0 && one.name(block) == Some(name);
    let index = all.iter().position(is_it)?;
    let found = all.get(index)?;
    match index.checked_sub(1).and_then(|before| all.get(before)) {
        Some(before) => {
            let both = u16::try_from(before.len.checked_add(found.len)?).ok()?;
            bytes::put(block, before.at.checked_add(4)?, both.to_le_bytes())?;
            block.get_mut(found.at..found.end()?)?.fill(0);
            Some(())
        }
        None => bytes::put(block, found.at, [0; 4]),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A block of entries (inode, name), the last reaching to the end or to a checksum's entry.
    fn block(len: usize, entries: &[(u32, &[u8])], has_tail: bool) -> Vec<u8> {
        let mut block = vec![0; len];
        let end = len - if has_tail { TAIL } else { 0 };
        let mut at = 0;
        for (index, (inode, name)) in entries.iter().enumerate() {
            let own = (HEAD + name.len()).next_multiple_of(4);
            let rec_len = if index + 1 == entries.len() { end - at } else { own };
            block[at..at + 4].copy_from_slice(&inode.to_le_bytes());
            block[at + 4..at + 6].copy_from_slice(&(rec_len as u16).to_le_bytes());
            block[at + 6] = name.len() as u8;
            block[at + 8..at + 8 + name.len()].copy_from_slice(name);
            at += rec_len;
        }
        if has_tail {
            block[end + 4] = 12;
            block[end + 7] = TAIL_TYPE;
        }
        block
    }

    #[test]
    fn entries_are_found_and_leaf_checksums_match() {
        let mut leaf =
            block(1024, &[(12, b"."), (2, b".."), (0, b"gone"), (77, b"brood.wav")], true);
        let found: Vec<_> = references(&leaf, 0).unwrap().iter().map(|(_, inode)| *inode).collect();
        assert_eq!(found, [12, 2, 77]);
        assert!(!is_sound(&leaf, 5));
        seal(&mut leaf, 5).unwrap();
        assert!(is_sound(&leaf, 5) && !is_sound(&leaf, 6));
        leaf[9] ^= 1;
        assert!(!is_sound(&leaf, 5));
        // A block without a tail can't have a checksum.
        assert!(seal(&mut block(1024, &[(12, b".")], false), 5).is_none());
    }

    #[test]
    fn hash_tree_node_checksum_follows_its_last_entry() {
        // An empty entry to the end, then: 100 places, 3 of them taken.
        let mut node = block(1024, &[(0, b"")], false);
        node[8..12].copy_from_slice(&[100, 0, 3, 0]);
        seal(&mut node, 9).unwrap();
        assert!(is_sound(&node, 9));
        let tail = 8 + 100 * 8;
        assert!(node[tail + 4..tail + 8].iter().any(|byte| *byte != 0));
        node[8 + 3 * 8] ^= 1;
        assert!(is_sound(&node, 9), "what is behind the places in use does not count");
        node[8 + 2 * 8] ^= 1;
        assert!(!is_sound(&node, 9));
        node[8] = 255;
        assert!(seal(&mut node, 9).is_none(), "more places than the block has");
    }

    proptest! {
        #[test]
        fn random_bytes_parse_without_panic(
            bytes in proptest::collection::vec(any::<u8>(), 0..300),
            start in 0usize..320,
        ) {
            let _ = references(&bytes, start);
            let _ = is_sound(&bytes, 1);
            let _ = super::super::attributes::references(&bytes, start);
            let _ = super::super::attributes::is_signed(&bytes, start);
            let _ = super::super::attributes::blocks_of_values(&bytes, start, 1024);
            let _ = super::super::orphan_file::entries(&bytes);
        }
    }
}
