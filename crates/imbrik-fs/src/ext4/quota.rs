//! What quota files say that owners use: it follows when a map gets longer or shorter.
//!
//! A quota file is a tree over ids, in blocks of 1024 bytes: four levels of 256 block numbers each,
//! from block 1 down to a block of entries (id, limits, and what is in use).

use crate::ext4::{
    structure::{
        Opened,
        attributes::{self, Attribute},
        inode::RawInode,
        map::{Map, map_of},
        values,
    },
    superblock::Superblock,
};
use imbrik_store::{
    bytes,
    error::{Class, Error, Result},
    exact::{Exact as _, cannot_be},
};
use std::collections::{BTreeMap, BTreeSet};

const ROOT_FOLDER: u32 = 2;
const BLOCK: u64 = 1024;
const ROOT: u64 = 1;
const LEVELS: u32 = 4;
const NUMBERS: u32 = 256;
const HEAD_OF_ENTRIES: usize = 16;
const ENTRY: usize = 72;
/// Inodes and bytes in use, in an entry.
const CURINODES: usize = 24;
const CURSPACE: usize = 48;

/// By how much what somebody has changes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Change {
    /// In blocks.
    pub(super) blocks: i64,
    pub(super) inodes: i64,
}

/// How many inodes hold values of the attributes of `inode`: they are counted for its owners.
///
/// # Errors
/// When they cannot be read, or make no sense.
pub(super) fn values_of(opened: &Opened, inode: &RawInode) -> Result<i64> {
    if !opened.superblock.has_ea_inodes() {
        return Ok(0);
    }
    let wrong = || inode.wrong("its attributes make no sense");
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

/// A volume as it is, of which quota files are only read.
struct AsItIs<'a>(&'a Opened);

impl QuotaBlocks for AsItIs<'_> {
    fn place_of(&self, block: u64) -> u64 {
        block
    }

    fn block_at(&self, place: u64) -> Result<Vec<u8>> {
        self.0.meta.block(place).map(|block| block.to_vec())
    }

    fn put_at(&mut self, _: u64, _: usize, _: &[u8]) -> Result<()> {
        Err(cannot_be("a quota file that is only read is written to"))
    }
}

/// Compares what the quota files say with `usage`, what all owners have; answers where they differ, a
/// sentence each.
///
/// # Errors
/// When one of them cannot be read.
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
                    "the quota file of {} says that {id} has {told} bytes in {files} files, it has \
                     {has} in {are}",
                    kind.words()
                ));
            }
        }
    }
    Ok(faults)
}

/// Somebody for whom blocks are counted: in the file of users, groups or projects, and their id.
pub(super) type Owner = (OwnerKind, u32);

/// The three quota files.
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

    /// Where the superblock has the file's inode.
    fn inode_at(self) -> usize {
        match self {
            Self::Users => 0x240,
            Self::Groups => 0x244,
            Self::Projects => 0x26c,
        }
    }
}

/// For whom the blocks of `inode` are counted.
pub(super) fn owners(inode: &RawInode, superblock: &Superblock) -> Vec<Owner> {
    // The volume's own inodes are nobody's: a journal in more pieces costs no owner anything.
    let is_own = inode.number < superblock.first_inode && inode.number != ROOT_FOLDER;
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

/// Counts `change` for the owners of `inode`.
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

/// A volume that is made, in which quota files follow.
pub(super) trait QuotaBlocks {
    /// Where a block of the source stands in it.
    fn place_of(&self, block: u64) -> u64;
    /// A block as it is so far.
    ///
    /// # Errors
    /// When it cannot be read.
    fn block_at(&self, place: u64) -> Result<Vec<u8>>;
    /// Puts `bytes` at byte `inside` of a block.
    ///
    /// # Errors
    /// When they don't fit, or what is kept of the block cannot be read.
    fn put_at(&mut self, place: u64, inside: usize, bytes: &[u8]) -> Result<()>;
}

/// Adds `usage` to what the quota files say.
///
/// # Errors
/// When one of them cannot be read or makes no sense.
pub(super) fn follow(
    opened: &Opened,
    target: &mut impl QuotaBlocks,
    usage: &BTreeMap<Owner, Change>,
) -> Result<()> {
    for ((kind, id), change) in usage {
        let number = bytes::le_u32(&opened.raw, kind.inode_at()).unwrap_or(0);
        if number != 0 && *change != Change::default() {
            let inode = opened.inode(number)?;
            let file = File::of(opened, &inode)?;
            file.add(target, *id, *change)?;
        }
    }
    Ok(())
}

struct File<'a> {
    opened: &'a Opened,
    inode: &'a RawInode,
    map: Map,
}

impl<'a> File<'a> {
    fn of(opened: &'a Opened, inode: &'a RawInode) -> Result<Self> {
        let map = map_of(&opened.meta, &opened.superblock, inode, &mut |_| Ok(()))?;
        Ok(Self { opened, inode, map })
    }

    /// The block and the byte in it of the target where a block of the file stands.
    fn place(&self, target: &impl QuotaBlocks, block: u64) -> Result<(u64, usize)> {
        let superblock = &self.opened.superblock;
        let at = block.times(BLOCK)?;
        let logical = at.over(superblock.block_len)?;
        let piece = self.map.pieces.iter().find(|piece| {
            (piece.logical..piece.logical.saturating_add(piece.len)).contains(&logical)
        });
        let piece = piece.ok_or_else(|| self.inode.wrong("this quota file has a hole"))?;
        let physical = piece.physical.plus(logical.saturating_sub(piece.logical))?;
        let inside = at.checked_rem(superblock.block_len).unwrap_or(0);
        Ok((target.place_of(physical), inside.fitting::<usize>()?))
    }

    fn read(&self, target: &impl QuotaBlocks, block: u64) -> Result<Vec<u8>> {
        let (place, inside) = self.place(target, block)?;
        let content = target.block_at(place)?;
        let end = inside.plus(BLOCK.fitting::<usize>()?)?;
        Ok(content.get(inside..end).unwrap_or_default().to_vec())
    }

    /// Adds what the tree below `block` says of each id, in bytes and inodes; `levels` of numbers stand
    /// above the entries.
    fn entries(
        &self,
        block: u64,
        levels: u32,
        seen: &mut BTreeSet<u64>,
        told: &mut BTreeMap<u32, (i64, i64)>,
    ) -> Result<()> {
        let wrong = || self.inode.wrong("this quota file makes no sense");
        if !seen.insert(block) {
            // Several ids share a block of entries; a block of numbers hangs on one place.
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

    fn add(&self, target: &mut impl QuotaBlocks, id: u32, change: Change) -> Result<()> {
        let wrong = || self.inode.wrong("this quota file makes no sense");
        let head = self.read(target, 0)?;
        if bytes::le_u32(&head, 4) != Some(1) {
            return Err(Error::unsupported("its quota files are of a version that is not known"));
        }
        let mut block = ROOT;
        for level in 1..=LEVELS {
            let step = NUMBERS.checked_pow(LEVELS.saturating_sub(level)).unwrap_or(1);
            let index = id.over(step)?.checked_rem(NUMBERS).unwrap_or(0);
            let at = index.fitting::<usize>()?.times(4)?;
            block =
                bytes::le_u32(&self.read(target, block)?, at).map(u64::from).ok_or_else(wrong)?;
            if block == 0 {
                // Nothing is counted for it.
                return Ok(());
            }
        }
        let mut entries = self.read(target, block)?;
        let mut at = HEAD_OF_ENTRIES;
        while let Some(found) = bytes::le_u32(&entries, at) {
            let entry = entries.get(at..at.plus(ENTRY)?).unwrap_or_default();
            let is_used = entry.iter().any(|byte| *byte != 0);
            if found == id && is_used {
                let bytes_of = i64::try_from(self.opened.superblock.block_len).unwrap_or(0);
                let space = change.blocks.saturating_mul(bytes_of);
                for (at, change) in
                    [(at.plus(CURSPACE)?, space), (at.plus(CURINODES)?, change.inodes)]
                {
                    let now = bytes::le_u64(&entries, at).ok_or_else(wrong)?;
                    let now = now.checked_add_signed(change).ok_or_else(wrong)?;
                    bytes::put(&mut entries, at, now.to_le_bytes()).ok_or_else(wrong)?;
                }
                let (to, inside) = self.place(target, block)?;
                return target.put_at(to, inside, &entries);
            }
            at = at.plus(ENTRY)?;
        }
        Err(wrong())
    }
}
