//! Extended attributes: entries in inodes and in attribute blocks, and their references to inodes that contain large
//! values (`ea_inode`).
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

/// The signature of attribute blocks, and of attributes in an inode.
pub(super) const MAGIC: u32 = 0xea02_0000;
const HASH_AT: usize = 12;
const CHECKSUM_AT: usize = 16;
const ENTRY: usize = 16;
/// Namespaces of names (`e_name_index`).
const USER: u8 = 1;
const ACL_OF_ACCESS: u8 = 2;
const ACL_OF_NEW: u8 = 3;
const TRUSTED: u8 = 4;
const SECURITY: u8 = 6;
/// Attributes that only the filesystem uses.
const SYSTEM: u8 = 7;
const RICH_ACL: u8 = 8;

/// An entry in its on-disk form.
struct AttributeEntry {
    at: usize,
    /// The offset of its name, and of the next entry.
    name_at: usize,
    next: usize,
    name_len: usize,
    /// `e_name_index`: the namespace of its name.
    index: u8,
    /// The offset of its value, relative to the start of the value area.
    offset: usize,
    /// The inode that contains its value; 0 if the value is next to the entries.
    inode: u32,
    len: u32,
    hash: u32,
}

impl AttributeEntry {
    fn read(bytes: &[u8], at: usize) -> Option<Self> {
        let name_len = usize::from(bytes::u8(bytes, at)?);
        let name_at = at.checked_add(ENTRY)?;
        Some(Self {
            at,
            name_at,
            next: name_at.checked_add(name_len)?.checked_next_multiple_of(4)?,
            name_len,
            index: bytes::u8(bytes, at.checked_add(1)?)?,
            offset: bytes::le_u16(bytes, at.checked_add(2)?)?.into(),
            inode: bytes::le_u32(bytes, at.checked_add(4)?)?,
            len: bytes::le_u32(bytes, at.checked_add(8)?)?,
            hash: bytes::le_u32(bytes, at.checked_add(12)?)?,
        })
    }

    fn name<'a>(&self, bytes: &'a [u8]) -> Option<&'a [u8]> {
        bytes.get(self.name_at..self.name_at.checked_add(self.name_len)?)
    }

    /// The offset of its value next to the entries; `None` if it is invalid.
    fn value(&self, base: usize) -> Option<Range<usize>> {
        let from = base.checked_add(self.offset)?;
        Some(from..from.checked_add(usize::try_from(self.len).ok()?)?)
    }

    /// Returns whether its value is next to the entries.
    fn is_beside(&self) -> bool {
        self.inode == 0 && self.len > 0
    }
}

/// The entries from `start`, up to the four zeros that end them or to the end of the area; the last one is `None` if
/// they are invalid from there.
fn entries(bytes: &[u8], start: usize) -> impl Iterator<Item = Option<AttributeEntry>> {
    let mut at = Some(start);
    std::iter::from_fn(move || {
        let entry = match bytes::le_u32(bytes, at?) {
            None | Some(0) => return None,
            Some(_) => AttributeEntry::read(bytes, at?).filter(|entry| entry.next <= bytes.len()),
        };
        at = entry.as_ref().map(|entry| entry.next);
        Some(entry)
    })
}

/// The offset of an inode number in an entry, and the number.
pub(in crate::ext4) type Reference = (usize, u32);

/// The inodes that the entries from `start` refer to; `None` if the entries are invalid.
pub(in crate::ext4) fn references(bytes: &[u8], start: usize) -> Option<Vec<Reference>> {
    let named =
        entries(bytes, start).filter(|entry| entry.as_ref().is_none_or(|one| one.inode != 0));
    named.map(|entry| entry.and_then(|one| Some((one.at.checked_add(4)?, one.inode)))).collect()
}

/// The number of blocks of values in other inodes: they are charged to the inode with the attributes. `None` if the
/// entries are invalid.
pub(in crate::ext4) fn blocks_of_values(bytes: &[u8], start: usize, block_len: u64) -> Option<u64> {
    let mut blocks = 0u64;
    for (at, _) in references(bytes, start)? {
        let len = u64::from(bytes::le_u32(bytes, at.checked_add(4)?)?);
        blocks = blocks.checked_add(len.div_ceil(block_len.max(1)))?;
    }
    Some(blocks)
}

/// An attribute.
pub(in crate::ext4) struct Attribute<'a> {
    /// `e_name_index`: the namespace of its name.
    pub(in crate::ext4) index: u8,
    pub(in crate::ext4) name: &'a [u8],
    /// The offset of the entry's hash.
    pub(in crate::ext4) hash_at: usize,
    hash: u32,
    /// The inode that contains its value; 0 if the value is next to the entries.
    pub(in crate::ext4) inode: u32,
    pub(in crate::ext4) len: u32,
    /// Its value; empty if another inode contains it.
    pub(in crate::ext4) value: &'a [u8],
}

impl Attribute<'_> {
    /// Its name with the namespace; `None` for attributes that only the filesystem uses.
    pub(in crate::ext4) fn full_name(&self) -> Option<Vec<u8>> {
        let whose: &[u8] = match self.index {
            USER => b"user.",
            ACL_OF_ACCESS => b"system.posix_acl_access",
            ACL_OF_NEW => b"system.posix_acl_default",
            TRUSTED => b"trusted.",
            SECURITY => b"security.",
            RICH_ACL => b"system.richacl",
            _ => return None,
        };
        Some([whose, self.name].concat())
    }

    /// Returns whether its value is an ACL, which has a separate on-disk format.
    pub(in crate::ext4) fn is_acl(&self) -> bool {
        matches!(self.index, ACL_OF_ACCESS | ACL_OF_NEW)
    }

    /// Returns whether the entry's hash matches its name and `words`, with signed or unsigned characters.
    pub(in crate::ext4) fn has_hash_of(&self, words: &[u32]) -> bool {
        [false, true].iter().any(|signed| self.hash == of_attribute(self.name, words, *signed))
    }

    /// The hash of its name and of `words`.
    pub(in crate::ext4) fn hash_of(&self, words: &[u32]) -> u32 {
        of_attribute(self.name, words, false)
    }
}

/// The attributes with entries from `start` and values relative to `base`; `None` if the entries are invalid, or
/// overlap with values or the end.
pub(in crate::ext4) fn list(bytes: &[u8], start: usize, base: usize) -> Option<Vec<Attribute<'_>>> {
    let mut found = Vec::new();
    let mut taken: Vec<Range<usize>> = Vec::new();
    let mut at = start;
    for entry in entries(bytes, start) {
        let entry = entry?;
        taken.push(entry.at..entry.next);
        let mut value: &[u8] = &[];
        if entry.is_beside() {
            let place = entry.value(base)?;
            value = bytes.get(place.clone())?;
            taken.push(place.start..place.end.checked_next_multiple_of(4)?);
        }
        found.push(Attribute {
            index: entry.index,
            name: entry.name(bytes)?,
            hash_at: entry.at.checked_add(12)?,
            hash: entry.hash,
            inode: entry.inode,
            len: entry.len,
            value,
        });
        at = entry.next;
    }
    // Without the zeros at the end, the list has no end.
    bytes::le_u32(bytes, at)?;
    // Four zeros end the list.
    taken.push(at..at.checked_add(4)?);
    taken.sort_unstable_by_key(|range| range.start);
    let is_apart = taken.windows(2).all(|pair| match pair {
        [one, next] => one.end <= next.start,
        _ => true,
    });
    is_apart.then_some(found)
}

/// Returns whether the values next to the entries match their hashes. Entries in an inode can have none.
pub(in crate::ext4) fn have_right_hashes(found: &[Attribute<'_>], may_be_zero: bool) -> bool {
    let mut beside = found.iter().filter(|attribute| attribute.inode == 0);
    beside.all(|attribute| {
        may_be_zero && attribute.hash == 0 || attribute.has_hash_of(&words_of(attribute.value))
    })
}

/// Updates the hash over all entries of a block.
pub(in crate::ext4) fn rehash(block: &mut [u8]) -> Option<()> {
    let hashes: Vec<u32> = list(block, IN_BLOCK, 0)?.iter().map(|found| found.hash).collect();
    let hash = match hashes.contains(&0) {
        // An entry without a hash keeps the block from being shared.
        true => 0,
        false => hashes.iter().fold(0u32, |hash, entry| hash.rotate_left(16) ^ entry),
    };
    bytes::put(block, HASH_AT, hash.to_le_bytes())
}

/// Converts an ACL from its on-disk form (version 1, where only entries for a single user or group have an id) to that
/// of system calls (version 2, entries of eight bytes). `None` if it is invalid.
pub(in crate::ext4) fn told_acl(stored: &[u8]) -> Option<Vec<u8>> {
    const ONE_USER: u16 = 2;
    const ONE_GROUP: u16 = 8;
    (bytes::le_u32(stored, 0)? == 1).then_some(())?;
    let mut told = 2u32.to_le_bytes().to_vec();
    let mut at = 4usize;
    while at < stored.len() {
        let tag = bytes::le_u16(stored, at)?;
        told.extend(bytes::array::<4>(stored, at)?);
        at = at.checked_add(4)?;
        let has_number = matches!(tag, ONE_USER | ONE_GROUP);
        let number = if has_number { bytes::le_u32(stored, at)? } else { u32::MAX };
        told.extend(number.to_le_bytes());
        at = at.checked_add(if has_number { 4 } else { 0 })?;
    }
    Some(told)
}

/// The offset of the entries in an attribute block.
pub(in crate::ext4) const IN_BLOCK: usize = 32;

/// The number of inodes that share an attribute block; `None` if it is not one, or its checksum is wrong.
pub(in crate::ext4) fn sharers(block: &[u8], number: u64, superblock: &Superblock) -> Option<u32> {
    let h_refcount = bytes::le_u32(block, 4)?;
    let is_one = bytes::le_u32(block, 0)? == MAGIC && bytes::le_u32(block, 8)? == 1;
    let sum = checksum(block, number, superblock)?;
    let is_right = !superblock.has_metadata_csum() || bytes::le_u32(block, CHECKSUM_AT)? == sum;
    (is_one && is_right).then_some(h_refcount)
}

/// Updates the checksum of an attribute block with the number `number`.
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

/// Sets the number of inodes that share an attribute block.
pub(in crate::ext4) fn put_sharers(block: &mut [u8], sharers: u32) -> Option<()> {
    bytes::put(block, 4, sharers.to_le_bytes())
}

/// An attribute for a new inode.
pub(in crate::ext4) struct NewAttribute {
    index: u8,
    name: Vec<u8>,
    value: Vec<u8>,
}

impl NewAttribute {
    /// Parses the full name of an attribute; `None` for attributes that are not stored.
    pub(in crate::ext4) fn of(full_name: &[u8], value: &[u8]) -> Option<Self> {
        let (index, name) = match full_name {
            b"system.posix_acl_access" => (ACL_OF_ACCESS, &b""[..]),
            b"system.posix_acl_default" => (ACL_OF_NEW, &b""[..]),
            _ => {
                let begin = |index, whose: &[u8]| Some((index, full_name.strip_prefix(whose)?));
                begin(USER, b"user.")
                    .or_else(|| begin(TRUSTED, b"trusted."))
                    .or_else(|| begin(SECURITY, b"security."))?
            }
        };
        let value = match index {
            ACL_OF_ACCESS | ACL_OF_NEW => kept_acl(value)?,
            _ => value.to_vec(),
        };
        (name.len() <= 255).then(|| Self { index, name: name.to_vec(), value })
    }
}

/// Converts an ACL from the form of system calls to its on-disk form, the reverse of [`told_acl`]. `None` if it is
/// invalid.
fn kept_acl(told: &[u8]) -> Option<Vec<u8>> {
    (bytes::le_u32(told, 0)? == 2).then_some(())?;
    let mut kept = 1u32.to_le_bytes().to_vec();
    let (entries, rest) = told.get(4..)?.as_chunks::<8>();
    rest.is_empty().then_some(())?;
    for entry in entries {
        let (tag, number) = entry.split_at(4);
        kept.extend(tag);
        if matches!(bytes::le_u16(tag, 0)?, 2 | 8) {
            kept.extend(number);
        }
    }
    Some(kept)
}

/// Writes attributes into the zeroed area `room`: entries from its start, values from its end, with offsets relative to
/// `base` bytes before it. `None` if they don't fit.
fn put_all(room: &mut [u8], base: usize, wanted: &mut [NewAttribute]) -> Option<()> {
    wanted.sort_by(|a, b| (a.index, a.name.len(), &a.name).cmp(&(b.index, b.name.len(), &b.name)));
    let mut at = 0usize;
    let mut end = room.len();
    for one in wanted {
        let next = at.checked_add(ENTRY)?.checked_add(one.name.len())?.next_multiple_of(4);
        end = end.checked_sub(one.value.len().next_multiple_of(4))?;
        // Four zeros end the list.
        (next.checked_add(4)? <= end).then_some(())?;
        let offset = if one.value.is_empty() { 0 } else { base.checked_add(end)? };
        let hash = of_attribute(&one.name, &words_of(&one.value), false);
        bytes::put(room, at, [u8::try_from(one.name.len()).ok()?, one.index])?;
        bytes::put(room, at.checked_add(2)?, u16::try_from(offset).ok()?.to_le_bytes())?;
        let len = u32::try_from(one.value.len()).ok()?;
        bytes::put(room, at.checked_add(8)?, len.to_le_bytes())?;
        bytes::put(room, at.checked_add(12)?, hash.to_le_bytes())?;
        let name_at = at.checked_add(ENTRY)?;
        room.get_mut(name_at..name_at.checked_add(one.name.len())?)?.copy_from_slice(&one.name);
        room.get_mut(end..end.checked_add(one.value.len())?)?.copy_from_slice(&one.value);
        at = next;
    }
    Some(())
}

/// Writes attributes into an inode that has none; `None`, without a change, if they don't fit.
pub(in crate::ext4) fn put_in_inode(
    inode: &mut RawInode,
    wanted: &mut [NewAttribute],
) -> Option<()> {
    let start = 128usize.checked_add(inode.extra_len()?.into())?;
    let room = inode.raw.len().checked_sub(start.checked_add(4)?)?;
    let mut made = vec![0; room];
    put_all(&mut made, 0, wanted)?;
    bytes::put(&mut inode.raw, start, MAGIC.to_le_bytes())?;
    inode.raw.get_mut(start.checked_add(4)?..)?.copy_from_slice(&made);
    Some(())
}

/// A block of `len` bytes with these attributes, for one inode, without its checksum; `None` if they don't fit.
pub(in crate::ext4) fn new_block(len: usize, wanted: &mut [NewAttribute]) -> Option<Vec<u8>> {
    let mut block = vec![0; len];
    put_all(block.get_mut(IN_BLOCK..)?, IN_BLOCK, wanted)?;
    bytes::put(&mut block, 0, MAGIC.to_le_bytes())?;
    bytes::put(&mut block, 4, 1u32.to_le_bytes())?;
    bytes::put(&mut block, 8, 1u32.to_le_bytes())?;
    rehash(&mut block)?;
    Some(block)
}

/// Returns whether an inode has a signature ("security.evm"), which can include its number.
pub(in crate::ext4) fn is_signed(bytes: &[u8], start: usize) -> bool {
    let mut all = entries(bytes, start).flatten();
    all.any(|entry| entry.index == SECURITY && entry.name(bytes) == Some(b"evm"))
}

/// The entry "system.data", which contains the rest of inline content: its offset and value; `None` if it does not
/// exist.
fn inline_entry(inode: &RawInode) -> Option<(Range<usize>, Range<usize>)> {
    let region = inode.attributes()?;
    let is_it =
        |entry: &AttributeEntry| entry.index == SYSTEM && entry.name(&inode.raw) == Some(b"data");
    let entry = entries(&inode.raw, region.start).map_while(|entry| entry).find(is_it)?;
    let value = entry.value(region.start).filter(|value| value.end <= inode.raw.len())?;
    Some((entry.at..entry.next, value))
}

/// The location of the rest of inline content: the value of "system.data"; `None` if it does not exist.
pub(in crate::ext4) fn inline_data(inode: &RawInode) -> Option<Range<usize>> {
    inline_entry(inode).map(|(_, value)| value).filter(|value| !value.is_empty())
}

/// Removes "system.data" from an inode, and moves the other entries and values together. `None` if they are invalid.
pub(in crate::ext4) fn remove_inline_data(inode: &mut RawInode) -> Option<()> {
    let region = inode.attributes()?;
    list(&inode.raw, region.start, region.start)?;
    let (entry, value) = inline_entry(inode)?;
    let room = value.len().checked_next_multiple_of(4)?;
    // Values are packed from the end.
    let mut lowest = value.start;
    let mut at = region.start;
    for other in entries(&inode.raw, region.start).collect::<Option<Vec<_>>>()? {
        let start = other.value(region.start)?.start;
        if room > 0 && other.is_beside() && start < value.start {
            lowest = lowest.min(start);
            let moved = u16::try_from(other.offset.checked_add(room)?).ok()?;
            bytes::put(&mut inode.raw, other.at.checked_add(2)?, moved.to_le_bytes())?;
        }
        at = other.next;
    }
    if room > 0 {
        let to = lowest.checked_add(room)?;
        inode.raw.copy_within(lowest..value.start, to);
        inode.raw.get_mut(lowest..to)?.fill(0);
    }
    // The entries after it, and the zeros that end the list.
    let end = at.checked_add(4)?;
    inode.raw.copy_within(entry.end..end, entry.start);
    inode.raw.get_mut(end.checked_sub(entry.len())?..end)?.fill(0);
    Some(())
}
