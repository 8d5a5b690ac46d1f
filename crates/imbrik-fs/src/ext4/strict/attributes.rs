//! Extended attributes whose values stand in inodes of their own (`ea_inode`): where they name
//! these, in the inode and in attribute blocks.
//!
//! ```text
//! block: 0 magic   4 references   8 blocks   12 hash   16 checksum   … entries from 32
//! entry: 0 name length   1 index   2 offset of the value   4 inode of the value   8 size   12 hash
//! ```

use super::{
    dirhash::{of_attribute, words_of},
    inode::RawInode,
};
use crate::ext4::{checksum::crc32c, superblock::Superblock};
use imbrik_store::bytes;
use std::ops::Range;

const MAGIC: u32 = 0xea02_0000;
const HASH_AT: usize = 12;
const CHECKSUM_AT: usize = 16;
const ENTRY: usize = 16;
/// The kind of name of the attributes that the filesystem itself makes.
const SYSTEM: u8 = 7;
/// That of security modules.
const SECURITY: u8 = 6;

/// Where an entry names an inode, and which.
pub(in crate::ext4) type Reference = (usize, u32);

/// The inodes that the entries from `start` on name; `None` when the entries make no sense.
pub(in crate::ext4) fn references(bytes: &[u8], start: usize) -> Option<Vec<Reference>> {
    let mut found = Vec::new();
    let mut at = start;
    loop {
        // Four zeros end the list, and so does the end of the room.
        match bytes::le_u32(bytes, at) {
            None | Some(0) => return Some(found),
            Some(_) => {}
        }
        let name_len = usize::from(bytes::u8(bytes, at)?);
        let number_at = at.checked_add(4)?;
        match bytes::le_u32(bytes, number_at)? {
            0 => {}
            number => found.push((number_at, number)),
        }
        let len = ENTRY.checked_add(name_len)?.checked_next_multiple_of(4)?;
        at = at.checked_add(len).filter(|at| *at <= bytes.len())?;
    }
}

/// How many blocks the values take that stand in inodes of their own: they count for the inode
/// whose values they are. `None` when the entries make no sense.
pub(in crate::ext4) fn blocks_of_values(bytes: &[u8], start: usize, block_len: u64) -> Option<u64> {
    let mut blocks = 0u64;
    for (at, _) in references(bytes, start)? {
        let len = u64::from(bytes::le_u32(bytes, at.checked_add(4)?)?);
        blocks = blocks.checked_add(len.div_ceil(block_len.max(1)))?;
    }
    Some(blocks)
}

/// An attribute as its entry tells of it.
pub(in crate::ext4) struct Attribute<'a> {
    name: &'a [u8],
    /// Where the entry's hash stands.
    pub(in crate::ext4) hash_at: usize,
    hash: u32,
    /// The inode that holds its value; 0 when that stands beside the entry.
    pub(in crate::ext4) inode: u32,
    pub(in crate::ext4) len: u32,
    value: &'a [u8],
}

impl Attribute<'_> {
    /// Whether the entry's hash is that of its name and of `words`, with characters of either kind.
    pub(in crate::ext4) fn has_hash_of(&self, words: &[u32]) -> bool {
        [false, true].iter().any(|signed| self.hash == of_attribute(self.name, words, *signed))
    }

    /// The hash of its name and of `words`.
    pub(in crate::ext4) fn hash_of(&self, words: &[u32]) -> u32 {
        of_attribute(self.name, words, false)
    }
}

/// The attributes whose entries start at `start` and whose values are told from `base` on; `None`
/// when the entries make no sense, or they and the values overlap or reach behind the end.
pub(in crate::ext4) fn list(bytes: &[u8], start: usize, base: usize) -> Option<Vec<Attribute<'_>>> {
    let mut found = Vec::new();
    let mut taken: Vec<Range<usize>> = Vec::new();
    let mut at = start;
    while bytes::le_u32(bytes, at)? != 0 {
        let name_len = usize::from(bytes::u8(bytes, at)?);
        let name_at = at.checked_add(ENTRY)?;
        let name = bytes.get(name_at..name_at.checked_add(name_len)?)?;
        let offset = usize::from(bytes::le_u16(bytes, at.checked_add(2)?)?);
        let inode = bytes::le_u32(bytes, at.checked_add(4)?)?;
        let len = bytes::le_u32(bytes, at.checked_add(8)?)?;
        let hash_at = at.checked_add(12)?;
        let hash = bytes::le_u32(bytes, hash_at)?;
        let next = name_at.checked_add(name_len)?.checked_next_multiple_of(4)?;
        taken.push(at..next);
        let mut value: &[u8] = &[];
        if inode == 0 && len > 0 {
            let from = base.checked_add(offset)?;
            let to = from.checked_add(usize::try_from(len).ok()?)?;
            value = bytes.get(from..to)?;
            taken.push(from..to.checked_next_multiple_of(4)?);
        }
        found.push(Attribute { name, hash_at, hash, inode, len, value });
        at = next;
    }
    // Four zeros end the list.
    taken.push(at..at.checked_add(4)?);
    taken.sort_unstable_by_key(|range| range.start);
    let is_apart = taken.windows(2).all(|pair| match pair {
        [one, next] => one.end <= next.start,
        _ => true,
    });
    is_apart.then_some(found)
}

/// Whether the values that stand beside the entries have the hashes that these name. Entries in an
/// inode may do without.
pub(in crate::ext4) fn have_right_hashes(found: &[Attribute<'_>], may_be_zero: bool) -> bool {
    let mut beside = found.iter().filter(|attribute| attribute.inode == 0);
    beside.all(|attribute| {
        may_be_zero && attribute.hash == 0 || attribute.has_hash_of(&words_of(attribute.value))
    })
}

/// Makes the hash over all entries of a block anew.
pub(in crate::ext4) fn rehash(block: &mut [u8]) -> Option<()> {
    let hashes: Vec<u32> = list(block, IN_BLOCK, 0)?.iter().map(|found| found.hash).collect();
    let hash = match hashes.contains(&0) {
        // One that has none keeps the block from being shared.
        true => 0,
        false => hashes.iter().fold(0u32, |hash, entry| hash.rotate_left(16) ^ entry),
    };
    bytes::put(block, HASH_AT, hash.to_le_bytes())
}

/// Where the entries of an attribute block start.
pub(in crate::ext4) const IN_BLOCK: usize = 32;

/// How many inodes share an attribute block; `None` when it is none, or its checksum is wrong.
pub(in crate::ext4) fn sharers(block: &[u8], number: u64, superblock: &Superblock) -> Option<u32> {
    let h_refcount = bytes::le_u32(block, 4)?;
    let is_one = bytes::le_u32(block, 0)? == MAGIC && bytes::le_u32(block, 8)? == 1;
    let sum = checksum(block, number, superblock)?;
    let is_right = !superblock.has_metadata_csum() || bytes::le_u32(block, CHECKSUM_AT)? == sum;
    (is_one && is_right).then_some(h_refcount)
}

/// Makes the checksum of an attribute block that stands in block `number` anew.
pub(in crate::ext4) fn seal(block: &mut [u8], number: u64, superblock: &Superblock) -> Option<()> {
    if superblock.has_metadata_csum() {
        let sum = checksum(block, number, superblock)?;
        bytes::put(block, CHECKSUM_AT, sum.to_le_bytes())?;
    }
    Some(())
}

fn checksum(block: &[u8], number: u64, superblock: &Superblock) -> Option<u32> {
    let sum = crc32c(superblock.seed, &number.to_le_bytes());
    let sum = crc32c(crc32c(sum, block.get(..CHECKSUM_AT)?), &[0; 4]);
    Some(crc32c(sum, block.get(CHECKSUM_AT.checked_add(4)?..)?))
}

/// Says that `sharers` inodes share an attribute block.
pub(in crate::ext4) fn put_sharers(block: &mut [u8], sharers: u32) -> Option<()> {
    bytes::put(block, 4, sharers.to_le_bytes())
}

/// Whether there is a signature over an inode ("security.evm"), which may cover its number.
pub(in crate::ext4) fn is_signed(bytes: &[u8], start: usize) -> bool {
    let mut at = start;
    while let Some(1..) = bytes::le_u32(bytes, at) {
        let name_len = usize::from(bytes::u8(bytes, at).unwrap_or(0));
        let name_at = at.saturating_add(ENTRY);
        let name = bytes.get(name_at..name_at.saturating_add(name_len));
        if bytes::u8(bytes, at.saturating_add(1)) == Some(SECURITY) && name == Some(b"evm") {
            return true;
        }
        at = name_at.saturating_add(name_len).next_multiple_of(4);
    }
    false
}

/// The entry of the attribute "system.data", which holds the rest of the content of an inode that
/// keeps its content in itself: where it stands, and its value; `None` when there is none.
fn inline_entry(inode: &RawInode) -> Option<(Range<usize>, Range<usize>)> {
    let region = inode.attributes()?;
    let mut at = region.start;
    while bytes::le_u32(&inode.raw, at)? != 0 {
        let name_len = usize::from(bytes::u8(&inode.raw, at)?);
        let name_at = at.checked_add(ENTRY)?;
        let name = inode.raw.get(name_at..name_at.checked_add(name_len)?)?;
        let next = name_at.checked_add(name_len)?.checked_next_multiple_of(4)?;
        if bytes::u8(&inode.raw, at.checked_add(1)?)? == SYSTEM && name == b"data" {
            let offset = usize::from(bytes::le_u16(&inode.raw, at.checked_add(2)?)?);
            let len = usize::try_from(bytes::le_u32(&inode.raw, at.checked_add(8)?)?).ok()?;
            let start = region.start.checked_add(offset)?;
            let end = start.checked_add(len).filter(|end| *end <= inode.raw.len())?;
            return Some((at..next, start..end));
        }
        at = next;
    }
    None
}

/// Where the rest of the content of an inode stands that keeps its content in itself: the value of
/// the attribute "system.data"; `None` when there is none.
pub(in crate::ext4) fn inline_data(inode: &RawInode) -> Option<Range<usize>> {
    inline_entry(inode).map(|(_, value)| value).filter(|value| !value.is_empty())
}

/// Takes the attribute "system.data" out of an inode: the entries and values of the others move
/// together, as its system has them. `None` when they make no sense.
pub(in crate::ext4) fn remove_inline_data(inode: &mut RawInode) -> Option<()> {
    let region = inode.attributes()?;
    list(&inode.raw, region.start, region.start)?;
    let (entry, value) = inline_entry(inode)?;
    let room = value.len().checked_next_multiple_of(4)?;
    // Values stand packed from the end on.
    let mut lowest = value.start;
    let mut at = region.start;
    while bytes::le_u32(&inode.raw, at)? != 0 {
        let is_beside = bytes::le_u32(&inode.raw, at.checked_add(4)?)? == 0
            && bytes::le_u32(&inode.raw, at.checked_add(8)?)? > 0;
        let offset_at = at.checked_add(2)?;
        let offset = bytes::le_u16(&inode.raw, offset_at)?;
        let start = region.start.checked_add(offset.into())?;
        if room > 0 && is_beside && start < value.start {
            lowest = lowest.min(start);
            let moved = offset.checked_add(u16::try_from(room).ok()?)?;
            bytes::put(&mut inode.raw, offset_at, moved.to_le_bytes())?;
        }
        let name_len = usize::from(bytes::u8(&inode.raw, at)?);
        at = at.checked_add(ENTRY)?.checked_add(name_len)?.checked_next_multiple_of(4)?;
    }
    if room > 0 {
        let to = lowest.checked_add(room)?;
        inode.raw.copy_within(lowest..value.start, to);
        inode.raw.get_mut(lowest..to)?.fill(0);
    }
    // The entries behind it, and the zeros that end the list.
    let end = at.checked_add(4)?;
    inode.raw.copy_within(entry.end..end, entry.start);
    inode.raw.get_mut(end.checked_sub(entry.len())?..end)?.fill(0);
    Some(())
}
