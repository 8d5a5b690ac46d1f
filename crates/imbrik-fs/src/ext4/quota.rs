//! Quota files: the used space of each owner, updated when files change.
//!
//! A quota file (format vfsv1) is a tree over ids, in blocks of 1024 bytes: four levels of 256 block numbers each, from
//! block 1 down to a block of records (id, limits, and used space). Block 0 has the count of blocks, and the starts of
//! two lists: of free blocks, and of blocks of records with room.

use crate::ext4::{
    structure::{
        Opened,
        attributes::{self, Attribute},
        inode::RawInode,
        map::{Piece, map_of},
        values,
    },
    superblock::Superblock,
};
use imbrik_store::{
    bytes,
    error::{Class, Error, Result},
    exact::{Exact as _, invariant_error},
};
use std::collections::{BTreeMap, BTreeSet};

const ROOT_FOLDER: u32 = 2;
const BLOCK: u64 = 1024;
const BLOCK_LEN: usize = 1024;
const ROOT: u64 = 1;
const LEVELS: u32 = 4;
const NUMBERS: u32 = 256;
const HEAD_OF_ENTRIES: usize = 16;
const ENTRY: usize = 72;
/// Offsets of the used inodes and bytes in a record.
const CURINODES: usize = 24;
const CURSPACE: usize = 48;
const ITIME: usize = 64;
/// In block 0: the count of blocks, the first free block, and the first block with room for records.
const BLOCKS: usize = 20;
const FREE_BLOCK: usize = 24;
const FREE_ENTRY: usize = 28;

/// A change of the used space of an owner.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Change {
    /// In blocks.
    pub(super) blocks: i64,
    pub(super) inodes: i64,
}

/// Counts the inodes that contain attribute values of `inode`: they are charged to its owners.
///
/// # Errors
/// When the attributes can't be read, or are invalid.
pub(super) fn values_of(opened: &Opened, inode: &RawInode) -> Result<i64> {
    if !opened.superblock.has_ea_inodes() {
        return Ok(0);
    }
    let wrong = || inode.wrong("its attributes are invalid");
    let held = |found: Option<Vec<Attribute<'_>>>| {
        let found = found.ok_or_else(wrong)?;
        Ok::<_, Error>(found.iter().filter(|attribute| attribute.inode != 0).count())
    };
    let mut count = held(values::in_inode(inode))?;
    let block = inode.file_acl(&opened.superblock);
    if block != 0 {
        let content = opened.meta.block(block)?;
        let found = attributes::list(&content, attributes::IN_BLOCK, 0);
        count = count.plus(held(found)?)?;
    }
    Ok(i64::try_from(count).unwrap_or(i64::MAX))
}

/// An unchanged volume, whose quota files are only read.
struct AsItIs<'a>(&'a Opened);

impl QuotaBlocks for AsItIs<'_> {
    fn place_of(&self, block: u64) -> u64 {
        block
    }

    fn block_at(&self, place: u64) -> Result<Vec<u8>> {
        self.0.meta.block(place).map(|block| block.to_vec())
    }

    fn put_at(&mut self, _: u64, _: usize, _: &[u8]) -> Result<()> {
        Err(invariant_error("a quota file that is only read is written to"))
    }

    fn extend(&mut self, _: u32, _: u64) -> Result<Vec<Piece>> {
        Err(invariant_error("a quota file that is only read is extended"))
    }
}

/// Compares the quota files with `usage`, the used space of all owners. Returns one sentence per difference.
///
/// # Errors
/// When a quota file can't be read.
pub(super) fn compare(opened: &Opened, usage: &BTreeMap<Owner, Change>) -> Result<Vec<String>> {
    let mut faults = Vec::new();
    for kind in [OwnerKind::Users, OwnerKind::Groups, OwnerKind::Projects] {
        let number = bytes::le_u32(&opened.raw, kind.inode_at()).unwrap_or(0);
        if number == 0 {
            continue;
        }
        let inode = opened.inode(number)?;
        let file = File::of(opened, &inode)?;
        let mut told = BTreeMap::new();
        match file.entries(ROOT, LEVELS, &mut BTreeSet::new(), &mut told) {
            Ok(()) => {}
            Err(error) if error.class() == Class::Corrupt => {
                faults.push(error.to_string());
                continue;
            }
            Err(error) => return Err(error),
        }
        let block_len = i64::try_from(opened.superblock.block_len).unwrap_or(0);
        let owners = usage.iter().filter(|((of, _), _)| *of == kind);
        let found: BTreeMap<u32, (i64, i64)> = owners
            .map(|((_, id), has)| (*id, (has.blocks.saturating_mul(block_len), has.inodes)))
            .collect();
        let ids: BTreeSet<u32> = told.keys().chain(found.keys()).copied().collect();
        for id in ids {
            let of = |list: &BTreeMap<u32, (i64, i64)>| list.get(&id).copied().unwrap_or_default();
            let ((told, files), (has, are)) = (of(&told), of(&found));
            if (told, files) != (has, are) {
                faults.push(format!(
                    "the quota file of {} records {told} bytes in {files} files for {id}, which has \
                     {has} in {are}",
                    kind.words()
                ));
            }
        }
    }
    Ok(faults)
}

/// An owner: the kind, and the id of the user, group or project.
pub(super) type Owner = (OwnerKind, u32);

/// The kinds of quota files.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum OwnerKind {
    Users,
    Groups,
    Projects,
}

impl OwnerKind {
    fn words(self) -> &'static str {
        match self {
            Self::Users => "users",
            Self::Groups => "groups",
            Self::Projects => "projects",
        }
    }

    /// The offset of the quota inode in the superblock.
    fn inode_at(self) -> usize {
        match self {
            Self::Users => 0x240,
            Self::Groups => 0x244,
            Self::Projects => 0x26c,
        }
    }
}

/// The owners to whom the blocks of `inode` are charged.
pub(super) fn owners(inode: &RawInode, superblock: &Superblock) -> Vec<Owner> {
    // The blocks of the volume's own inodes, such as the journal, are not counted for any owner.
    let is_own = inode.number < superblock.first_inode && inode.number != ROOT_FOLDER
        || inode.number == superblock.orphan_file
        || superblock.quota_inodes.contains(&inode.number);
    if !superblock.has_quota() || is_own {
        return Vec::new();
    }
    let raw = &inode.raw;
    let wide = |low: usize, high: usize| {
        let high = bytes::le_u16(raw, high).map_or(0, u32::from);
        bytes::le_u16(raw, low).map_or(0, u32::from) | (high << 16)
    };
    let extra = bytes::le_u16(raw, 0x80).filter(|_| raw.len() > 128).unwrap_or(0);
    let project = bytes::le_u32(raw, 0x9c).filter(|_| extra >= 0x20).unwrap_or(0);
    vec![
        (OwnerKind::Users, wide(0x2, 0x78)),
        (OwnerKind::Groups, wide(0x18, 0x7a)),
        (OwnerKind::Projects, project),
    ]
}

/// Charges `change` to the owners of `inode`.
pub(super) fn count(
    usage: &mut BTreeMap<Owner, Change>,
    inode: &RawInode,
    superblock: &Superblock,
    change: Change,
) {
    for owner in owners(inode, superblock) {
        let sum = usage.entry(owner).or_default();
        sum.blocks = sum.blocks.saturating_add(change.blocks);
        sum.inodes = sum.inodes.saturating_add(change.inodes);
    }
}

/// A volume that is created or edited, with its quota files.
pub(super) trait QuotaBlocks {
    /// The block of the volume that block `block` of the source becomes.
    fn place_of(&self, block: u64) -> u64;
    /// Reads a block in its current state.
    ///
    /// # Errors
    /// When it can't be read.
    fn block_at(&self, place: u64) -> Result<Vec<u8>>;
    /// Writes `bytes` at offset `inside` of a block.
    ///
    /// # Errors
    /// When they don't fit, or the rest of the block can't be read.
    fn put_at(&mut self, place: u64, inside: usize, bytes: &[u8]) -> Result<()>;
    /// Extends a quota file to `size` bytes with zeroed blocks, and returns its map.
    ///
    /// # Errors
    /// When no block is free, or quota files keep their size in this kind of change.
    fn extend(&mut self, inode: u32, size: u64) -> Result<Vec<Piece>>;
}

/// Adds `usage` to the records of the quota files. An owner without a record gets one.
///
/// # Errors
/// When a quota file can't be read, is invalid, or has no room for a record.
pub(super) fn follow(
    opened: &Opened,
    target: &mut impl QuotaBlocks,
    usage: &BTreeMap<Owner, Change>,
) -> Result<()> {
    for kind in [OwnerKind::Users, OwnerKind::Groups, OwnerKind::Projects] {
        let number = bytes::le_u32(&opened.raw, kind.inode_at()).unwrap_or(0);
        let mut changes = usage
            .iter()
            .filter(|((of, _), change)| *of == kind && **change != Change::default())
            .peekable();
        if number == 0 || changes.peek().is_none() {
            continue;
        }
        let inode = opened.inode(number)?;
        let mut file = File::of(opened, &inode)?;
        for ((_, id), change) in changes {
            file.add(target, *id, *change)?;
        }
    }
    Ok(())
}

struct File<'a> {
    opened: &'a Opened,
    inode: &'a RawInode,
    pieces: Vec<Piece>,
    /// In bytes.
    size: u64,
}

impl<'a> File<'a> {
    fn of(opened: &'a Opened, inode: &'a RawInode) -> Result<Self> {
        let map = map_of(&opened.meta, &opened.superblock, inode, &mut |_| Ok(()))?;
        Ok(Self { opened, inode, pieces: map.pieces, size: inode.size() })
    }

    fn invalid(&self) -> Error {
        self.inode.wrong("this quota file is invalid")
    }

    /// The block of the target, and the offset in it, of a block of the file.
    fn place(&self, target: &impl QuotaBlocks, block: u64) -> Result<(u64, usize)> {
        let superblock = &self.opened.superblock;
        let at = block.times(BLOCK)?;
        let logical = at.over(superblock.block_len)?;
        let piece = self.pieces.iter().find(|piece| {
            (piece.logical..piece.logical.saturating_add(piece.len)).contains(&logical)
        });
        let piece = piece.ok_or_else(|| self.inode.wrong("this quota file has a hole"))?;
        let physical = piece.physical.plus(logical.saturating_sub(piece.logical))?;
        let inside = at.checked_rem(superblock.block_len).unwrap_or(0);
        Ok((target.place_of(physical), inside.exact_as::<usize>()?))
    }

    fn read(&self, target: &impl QuotaBlocks, block: u64) -> Result<Vec<u8>> {
        let (place, inside) = self.place(target, block)?;
        let content = target.block_at(place)?;
        let end = inside.plus(BLOCK.exact_as::<usize>()?)?;
        Ok(content.get(inside..end).unwrap_or_default().to_vec())
    }

    /// Collects the bytes and inodes of each id in the tree below `block`; `levels` is the number of tree levels above
    /// the records.
    fn entries(
        &self,
        block: u64,
        levels: u32,
        seen: &mut BTreeSet<u64>,
        told: &mut BTreeMap<u32, (i64, i64)>,
    ) -> Result<()> {
        let wrong = || self.inode.wrong("this quota file is invalid");
        if !seen.insert(block) {
            // Several ids share a block of records; a tree block has only one parent.
            return if levels == 0 { Ok(()) } else { Err(wrong()) };
        }
        let content = self.read(&AsItIs(self.opened), block)?;
        if let Some(below) = levels.checked_sub(1) {
            for number in content.as_chunks::<4>().0 {
                match u32::from_le_bytes(*number) {
                    0 => {}
                    next => self.entries(next.into(), below, seen, told)?,
                }
            }
            return Ok(());
        }
        let entries = content.get(HEAD_OF_ENTRIES..).unwrap_or_default();
        for entry in entries.chunks_exact(ENTRY).filter(|entry| !bytes::is_zero(entry)) {
            let id = bytes::le_u32(entry, 0).ok_or_else(wrong)?;
            let number = |at: usize| bytes::le_u64(entry, at).and_then(|n| i64::try_from(n).ok());
            let space = number(CURSPACE).ok_or_else(wrong)?;
            let inodes = number(CURINODES).ok_or_else(wrong)?;
            told.insert(id, (space, inodes));
        }
        Ok(())
    }

    fn write(&self, target: &mut impl QuotaBlocks, block: u64, content: &[u8]) -> Result<()> {
        let (place, inside) = self.place(target, block)?;
        target.put_at(place, inside, content)
    }

    /// Adds `change` to the record of an owner.
    fn add(&mut self, target: &mut impl QuotaBlocks, id: u32, change: Change) -> Result<()> {
        if bytes::le_u32(&self.read(target, 0)?, 4) != Some(1) {
            return Err(Error::unsupported("its quota files are of a version that is not known"));
        }
        let leaf = self.leaf_of(target, id)?;
        let mut records = self.read(target, leaf)?;
        let at = record_of(&records, id).ok_or_else(|| self.invalid())?;
        let block_len = i64::try_from(self.opened.superblock.block_len).unwrap_or(0);
        let space = change.blocks.saturating_mul(block_len);
        for (at, change) in [(at.plus(CURSPACE)?, space), (at.plus(CURINODES)?, change.inodes)] {
            let now = bytes::le_u64(&records, at).ok_or_else(|| self.invalid())?;
            let now = now.checked_add_signed(change).ok_or_else(|| self.invalid())?;
            bytes::put(&mut records, at, now.to_le_bytes()).ok_or_else(|| self.invalid())?;
        }
        self.write(target, leaf, &records)
    }

    /// The block with the record of an owner. Adds the record, and the tree blocks that lead to it, where they are
    /// missing.
    fn leaf_of(&mut self, target: &mut impl QuotaBlocks, id: u32) -> Result<u64> {
        let mut block = ROOT;
        for level in 1..=LEVELS {
            let step = NUMBERS.checked_pow(LEVELS.saturating_sub(level)).unwrap_or(1);
            let index = id.over(step)?.checked_rem(NUMBERS).unwrap_or(0);
            let at = index.exact_as::<usize>()?.times(4)?;
            let found = bytes::le_u32(&self.read(target, block)?, at);
            let mut next = found.ok_or_else(|| self.invalid())?;
            if next == 0 {
                next = match level == LEVELS {
                    true => self.add_record(target, id)?,
                    false => self.new_block(target)?,
                };
                let mut numbers = self.read(target, block)?;
                put_u32(&mut numbers, at, next)?;
                self.write(target, block, &numbers)?;
            }
            block = next.into();
        }
        Ok(block)
    }

    /// Adds a record of an owner who uses nothing yet to a block with room for it, and returns the block.
    fn add_record(&mut self, target: &mut impl QuotaBlocks, id: u32) -> Result<u32> {
        let head = self.read(target, 0)?;
        let mut leaf = bytes::le_u32(&head, FREE_ENTRY).ok_or_else(|| self.invalid())?;
        if leaf == 0 {
            leaf = self.new_block(target)?;
            self.put_head(target, FREE_ENTRY, leaf)?;
        }
        let mut records = self.read(target, leaf.into())?;
        let count = bytes::le_u16(&records, 8).ok_or_else(|| self.invalid())?.saturating_add(1);
        let free = records_at()
            .find(|at| records.get(*at..at.saturating_add(ENTRY)).is_some_and(bytes::is_zero));
        let free = free.ok_or_else(|| self.invalid())?;
        put_u32(&mut records, free, id)?;
        if id == 0 {
            // A record of zeros would count as free.
            put_u32(&mut records, free.plus(ITIME)?, 1)?;
        }
        bytes::put(&mut records, 8, count.to_le_bytes()).ok_or_else(|| self.invalid())?;
        self.write(target, leaf.into(), &records)?;
        if usize::from(count) >= records_at().count() {
            self.remove_from_list(target, leaf)?;
        }
        Ok(leaf)
    }

    /// Removes a block without room from the list of blocks with room for records.
    fn remove_from_list(&self, target: &mut impl QuotaBlocks, block: u32) -> Result<()> {
        let mut content = self.read(target, block.into())?;
        let number = |at| bytes::le_u32(&content, at).ok_or_else(|| self.invalid());
        let (next, previous) = (number(0)?, number(4)?);
        let link = |target: &mut _, block: u32, at: usize, to: u32| {
            let mut content = self.read(target, block.into())?;
            put_u32(&mut content, at, to)?;
            self.write(target, block.into(), &content)
        };
        if next != 0 {
            link(target, next, 4, previous)?;
        }
        match previous {
            0 => self.put_head(target, FREE_ENTRY, next)?,
            previous => link(target, previous, 0, next)?,
        }
        put_u32(&mut content, 0, 0)?;
        put_u32(&mut content, 4, 0)?;
        self.write(target, block.into(), &content)
    }

    /// A zeroed block: from the list of free blocks, or at the end of the file.
    fn new_block(&mut self, target: &mut impl QuotaBlocks) -> Result<u32> {
        let head = self.read(target, 0)?;
        let number = |at| bytes::le_u32(&head, at).ok_or_else(|| self.invalid());
        let (blocks, free) = (number(BLOCKS)?, number(FREE_BLOCK)?);
        let block = match free {
            0 => {
                let count = blocks.plus(1)?;
                let size = u64::from(count).times(BLOCK)?;
                if size > self.size {
                    self.pieces = target.extend(self.inode.number, size)?;
                    self.size = size;
                }
                self.put_head(target, BLOCKS, count)?;
                blocks
            }
            free => {
                let next = bytes::le_u32(&self.read(target, free.into())?, 0);
                self.put_head(target, FREE_BLOCK, next.ok_or_else(|| self.invalid())?)?;
                free
            }
        };
        let is_inside = (ROOT.saturating_add(1)..blocks.max(block.saturating_add(1)).into())
            .contains(&block.into());
        if !is_inside {
            return Err(self.invalid());
        }
        self.write(target, block.into(), &[0; BLOCK_LEN])?;
        Ok(block)
    }

    fn put_head(&self, target: &mut impl QuotaBlocks, at: usize, number: u32) -> Result<()> {
        let mut head = self.read(target, 0)?;
        put_u32(&mut head, at, number)?;
        self.write(target, 0, &head)
    }
}

fn put_u32(block: &mut [u8], at: usize, number: u32) -> Result<()> {
    bytes::put(block, at, number.to_le_bytes())
        .ok_or_else(|| invariant_error("a block of a quota file is shorter than 1 KiB"))
}

/// Offsets of the records in a block of records, in bytes.
fn records_at() -> impl Iterator<Item = usize> {
    (HEAD_OF_ENTRIES..=BLOCK_LEN.saturating_sub(ENTRY)).step_by(ENTRY)
}

/// The offset of an owner's record in a block of records.
fn record_of(records: &[u8], id: u32) -> Option<usize> {
    records_at().find(|at| {
        let record = records.get(*at..at.saturating_add(ENTRY)).unwrap_or_default();
        bytes::le_u32(record, 0) == Some(id) && !bytes::is_zero(record)
    })
}
