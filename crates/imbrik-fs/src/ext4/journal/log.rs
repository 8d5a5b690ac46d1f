//! The log of a journal: the future content of blocks after recovery, without writing to the volume. After the kernel's
//! documentation ("Journal (jbd2)").
//!
//! The log is a ring of transactions. Each consists of descriptor blocks, which record where the blocks after them
//! belong, revoke blocks, which cancel earlier copies of a block, and a commit block at the end. A transaction without
//! its commit block is ignored.
//!
//! ```text
//! superblock │ descriptor │ block │ block │ … │ revoke │ commit │ descriptor │ …
//! ```
//!
//! Everything in a journal is big-endian.

use crate::ext4::{
    checksum::{crc32_be, crc32c},
    journal::{JournalPlace, fast::Change},
    superblock::Superblock,
};
use imbrik_store::{
    ReadAt, bytes,
    error::{Error, Result},
    read_up_to,
    units::ByteOffset,
};
use std::collections::BTreeMap;

/// `JBD2_MAGIC_NUMBER`.
pub(super) const MAGIC: u32 = 0xc03b_3998;
pub(super) const DESCRIPTOR: u32 = 1;
pub(super) const COMMIT: u32 = 2;
const REVOKE: u32 = 5;
const COMPAT_CHECKSUM: u32 = 0x1;
const INCOMPAT_REVOKE: u32 = 0x1;
pub(super) const INCOMPAT_64BIT: u32 = 0x2;
const INCOMPAT_ASYNC_COMMIT: u32 = 0x4;
pub(super) const INCOMPAT_CSUM_V2: u32 = 0x8;
pub(super) const INCOMPAT_CSUM_V3: u32 = 0x10;
const INCOMPAT_FAST_COMMIT: u32 = 0x20;
const INCOMPAT_KNOWN: u32 = INCOMPAT_REVOKE
    | INCOMPAT_64BIT
    | INCOMPAT_ASYNC_COMMIT
    | INCOMPAT_CSUM_V2
    | INCOMPAT_CSUM_V3
    | INCOMPAT_FAST_COMMIT;
/// `s_uuid`: the volume it belongs to. The checksums of the log start from it.
pub(super) const UUID: std::ops::Range<usize> = 0x30..0x40;
pub(super) const TAG_ESCAPED: u32 = 1;
pub(super) const TAG_SAME_UUID: u32 = 2;
pub(super) const TAG_LAST: u32 = 8;
/// Blocks of fast commits when the superblock names no number.
const USUAL_FAST_COMMITS: u32 = 256;
/// The CRC-32 among the checksum types of a commit block, and its length.
const CRC32: [u8; 2] = [1, 4];

/// A journal that can be read.
pub(in crate::ext4) struct Journal<'a> {
    store: &'a dyn ReadAt,
    pub(super) superblock: &'a Superblock,
    at: &'a JournalPlace,
    pub(super) head: Vec<u8>,
    compat: u32,
    pub(super) incompat: u32,
    pub(super) seed: u32,
    /// The first block of the log.
    pub(super) first: u32,
    /// The end of the log, exclusive.
    pub(super) end: u32,
    /// The first block of the first transaction; 0 if the log is empty.
    start: u32,
    pub(super) sequence: u32,
}

/// The location of the newest content of a block in the journal.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::ext4) struct Logged {
    /// The byte of the volume where its copy starts.
    pub(in crate::ext4) at: ByteOffset,
    /// True if its first four bytes were taken away, since they looked like the journal's own.
    pub(in crate::ext4) is_escaped: bool,
}

/// The result of a replay.
pub(in crate::ext4) struct Replay {
    /// The blocks that have newer content in the journal.
    pub(in crate::ext4) blocks: BTreeMap<u64, Logged>,
    /// The journal's own superblock afterwards, and the block of the volume that holds it.
    pub(in crate::ext4) head: (u64, Vec<u8>),
    /// Later changes in fast commits.
    pub(in crate::ext4) fast: Vec<Change>,
}

pub(super) fn be_u32(bytes: &[u8], at: usize) -> Option<u32> {
    bytes::array(bytes, at).map(u32::from_be_bytes)
}

fn be_u16(bytes: &[u8], at: usize) -> Option<u16> {
    bytes::array(bytes, at).map(u16::from_be_bytes)
}

pub(super) fn damaged(what: &str) -> Error {
    Error::corrupt(format!("its journal cannot be replayed: {what}"))
}

/// A block that a descriptor announces.
struct Tag {
    /// Its block in the volume.
    block: u64,
    flags: u32,
    checksum: u32,
}

/// The items of a transaction, for walking the log.
enum LogEntry {
    /// The new content of a block is in this block of the journal.
    Block(Tag, u32),
    /// Copies of this block in this transaction and earlier ones are void.
    Revoked(u64),
}

impl<'a> Journal<'a> {
    /// Opens the journal of a volume.
    ///
    /// # Errors
    /// [`imbrik_store::Class::Corrupt`] or [`imbrik_store::Class::Unsupported`] when it cannot be understood.
    pub(in crate::ext4) fn open(
        store: &'a dyn ReadAt,
        superblock: &'a Superblock,
        at: &'a JournalPlace,
    ) -> Result<Self> {
        if !at.is_confirmed {
            return Err(damaged("nothing confirms where it is"));
        }
        let mut this = Self {
            store,
            superblock,
            at,
            head: at.head.clone(),
            compat: 0,
            incompat: 0,
            seed: 0,
            first: 0,
            end: 0,
            start: 0,
            sequence: 0,
        };
        this.decode_head().ok_or_else(|| damaged("its superblock is invalid"))?;
        this.check_head()?;
        Ok(this)
    }

    fn decode_head(&mut self) -> Option<()> {
        let head = &self.head;
        let version = be_u32(head, 4)?;
        let block_len = u64::from(be_u32(head, 0xc)?);
        if be_u32(head, 0)? != MAGIC
            || !matches!(version, 3 | 4)
            || block_len != self.superblock.block_len
        {
            return None;
        }
        // The first version has no features.
        if version == 4 {
            self.compat = be_u32(head, 0x24)?;
            self.incompat = be_u32(head, 0x28)?;
        }
        self.seed = crc32c(!0, head.get(UUID)?);
        self.first = be_u32(head, 0x14)?;
        self.sequence = be_u32(head, 0x18)?;
        self.start = be_u32(head, 0x1c)?;
        self.end = be_u32(head, 0x10)?.checked_sub(self.fast_commits())?;
        let log = self.first..self.end;
        (self.first > 0 && !log.is_empty() && (self.start == 0 || log.contains(&self.start)))
            .then_some(())
    }

    /// How many blocks at the journal's end belong to fast commits.
    fn fast_commits(&self) -> u32 {
        match (self.incompat & INCOMPAT_FAST_COMMIT, be_u32(&self.head, 0x54)) {
            (0, _) => 0,
            (_, None | Some(0)) => USUAL_FAST_COMMITS,
            (_, Some(count)) => count,
        }
    }

    fn check_head(&self) -> Result<()> {
        let unknown = self.incompat & !INCOMPAT_KNOWN;
        if unknown != 0 {
            return Err(Error::unsupported(format!(
                "its journal has a feature that is not known: {unknown:#x}"
            )));
        }
        if self.has_checksums() && be_u32(&self.head, 0xfc) != Some(head_checksum(&self.head)) {
            return Err(damaged("its superblock has a wrong checksum"));
        }
        Ok(())
    }

    /// Returns whether every block of the log's own has a checksum.
    pub(super) fn has_checksums(&self) -> bool {
        self.incompat & (INCOMPAT_CSUM_V2 | INCOMPAT_CSUM_V3) != 0
    }

    /// The offset of a journal block in the volume.
    pub(super) fn place(&self, number: u32) -> Result<ByteOffset> {
        let number = u64::from(number);
        let pieces = &self.at.map.pieces;
        let after = pieces.partition_point(|piece| piece.logical <= number);
        let piece = after.checked_sub(1).and_then(|index| pieces.get(index));
        let inside = piece.and_then(|piece| {
            let ahead = number.checked_sub(piece.logical).filter(|ahead| *ahead < piece.len)?;
            self.superblock.span(piece.physical.checked_add(ahead)?, 1)
        });
        inside.map(|span| span.start()).ok_or_else(|| damaged("its map has a hole"))
    }

    pub(super) fn read(&self, number: u32) -> Result<Vec<u8>> {
        let len = usize::try_from(self.superblock.block_len).unwrap_or(0);
        read_up_to(self.store, self.place(number)?, len)
    }

    /// The block that follows `number` in the ring.
    pub(super) fn next(&self, number: u32) -> u32 {
        let next = number.saturating_add(1);
        if next >= self.end { self.first } else { next }
    }

    /// Replays the whole log.
    ///
    /// # Errors
    /// As [`Journal::open`].
    pub(in crate::ext4) fn replay(&self) -> Result<Replay> {
        let mut last_sequence = self.sequence;
        let mut blocks = BTreeMap::new();
        let mut fast = Vec::new();
        if self.start != 0 {
            last_sequence = self.walk(None, &mut |_, _| Ok(()))?;
            fast = self.fast_changes(last_sequence)?;
            let mut revoked: BTreeMap<u64, u32> = BTreeMap::new();
            self.walk(Some(last_sequence), &mut |sequence, entry| {
                if let LogEntry::Revoked(block) = entry {
                    revoked.insert(block, sequence);
                }
                Ok(())
            })?;
            self.walk(Some(last_sequence), &mut |sequence, entry| {
                let LogEntry::Block(tag, number) = entry else { return Ok(()) };
                let is_void =
                    revoked.get(&tag.block).is_some_and(|revoked| !is_after(sequence, *revoked));
                if !is_void {
                    self.check_block(&tag, number, sequence)?;
                    if self.superblock.span(tag.block, 1).is_none() {
                        return Err(damaged("a block of it belongs outside of the volume"));
                    }
                    if self.at.holds(tag.block) {
                        return Err(damaged("a block of it belongs into the journal itself"));
                    }
                    let is_escaped = tag.flags & TAG_ESCAPED != 0;
                    blocks.insert(tag.block, Logged { at: self.place(number)?, is_escaped });
                }
                Ok(())
            })?;
        }
        let head = self.head_afterwards(last_sequence.wrapping_add(1));
        let place = self.place(0)?.get().checked_div(self.superblock.block_len).unwrap_or(0);
        Ok(Replay { blocks, head: (place, head), fast })
    }

    /// Walks the transactions up to the one numbered `until`, or to the end of the log; returns the number of the next
    /// transaction.
    fn walk(
        &self,
        until: Option<u32>,
        visit: &mut dyn FnMut(u32, LogEntry) -> Result<()>,
    ) -> Result<u32> {
        let mut sequence = self.sequence;
        let mut number = self.start;
        // Limits the walk to one round of the ring.
        let mut left = self.end.saturating_sub(self.first);
        let mut v1_sum = !0;
        while until != Some(sequence) {
            let Some(rest) = left.checked_sub(1) else { break };
            left = rest;
            let block = self.read(number)?;
            let (Some(MAGIC), Some(kind), Some(found)) =
                (be_u32(&block, 0), be_u32(&block, 4), be_u32(&block, 8))
            else {
                break;
            };
            if found != sequence {
                break;
            }
            number = self.next(number);
            match kind {
                DESCRIPTOR => {
                    self.check_tail(&block)?;
                    v1_sum = self.v1_sum(v1_sum, &block, until);
                    for tag in
                        self.tags(&block).ok_or_else(|| damaged("a descriptor is damaged"))?
                    {
                        left = left.checked_sub(1).ok_or_else(|| damaged("it is circular"))?;
                        if self.compat & COMPAT_CHECKSUM != 0 && until.is_none() {
                            v1_sum = self.v1_sum(v1_sum, &self.read(number)?, until);
                        }
                        visit(sequence, LogEntry::Block(tag, number))?;
                        number = self.next(number);
                    }
                }
                REVOKE => {
                    self.check_tail(&block)?;
                    let revoked = self.revoked(&block);
                    for block in revoked.ok_or_else(|| damaged("a revoke block is damaged"))? {
                        visit(sequence, LogEntry::Revoked(block))?;
                    }
                }
                COMMIT => {
                    self.check_commit(&block, v1_sum, until)?;
                    v1_sum = !0;
                    sequence = sequence.wrapping_add(1);
                }
                _ => break,
            }
        }
        Ok(sequence)
    }

    /// The tags of a descriptor block; `None` when they are invalid.
    fn tags(&self, block: &[u8]) -> Option<Vec<Tag>> {
        let is_wide = self.incompat & INCOMPAT_64BIT != 0;
        let is_v3 = self.incompat & INCOMPAT_CSUM_V3 != 0;
        let tag_len: usize = match (is_v3, self.incompat & INCOMPAT_CSUM_V2 != 0, is_wide) {
            (true, ..) => 16,
            (false, false, true) => 12,
            (false, false, false) => 8,
            // Two bytes more that hold nothing: the format is like that.
            (false, true, true) => 14,
            (false, true, false) => 10,
        };
        let tail = if self.has_checksums() { 4 } else { 0 };
        let end = block.len().checked_sub(tail)?;
        let mut tags = Vec::new();
        let mut at = 12usize;
        loop {
            let behind = at.checked_add(tag_len).filter(|behind| *behind <= end)?;
            let low = be_u32(block, at)?;
            let (flags, checksum, high) = if is_v3 {
                let high = be_u32(block, at.checked_add(8)?)?;
                (be_u32(block, at.checked_add(4)?)?, be_u32(block, at.checked_add(12)?)?, high)
            } else {
                let high = if is_wide { be_u32(block, at.checked_add(8)?)? } else { 0 };
                let flags = be_u16(block, at.checked_add(6)?)?.into();
                (flags, be_u16(block, at.checked_add(4)?)?.into(), high)
            };
            let high = if is_wide { u64::from(high) << 32 } else { 0 };
            tags.push(Tag { block: u64::from(low) | high, flags, checksum });
            at = if flags & TAG_SAME_UUID == 0 { behind.checked_add(16)? } else { behind };
            if flags & TAG_LAST != 0 {
                return Some(tags);
            }
            if at.checked_add(tag_len)? > end {
                return Some(tags);
            }
        }
    }

    /// The blocks that a revoke block names; `None` when it is invalid.
    fn revoked(&self, block: &[u8]) -> Option<Vec<u64>> {
        let used = usize::try_from(be_u32(block, 0xc)?).ok()?;
        let records = block.get(16..used)?;
        Some(match self.incompat & INCOMPAT_64BIT {
            0 => records.as_chunks::<4>().0.iter().map(|r| u32::from_be_bytes(*r).into()).collect(),
            _ => records.as_chunks::<8>().0.iter().map(|r| u64::from_be_bytes(*r)).collect(),
        })
    }

    /// Compares a descriptor or revoke block with the checksum in its last bytes.
    fn check_tail(&self, block: &[u8]) -> Result<()> {
        if !self.has_checksums() {
            return Ok(());
        }
        let at = block.len().saturating_sub(4);
        let sum = crc32c(crc32c(self.seed, block.get(..at).unwrap_or_default()), &[0; 4]);
        match be_u32(block, at) == Some(sum) {
            true => Ok(()),
            false => Err(damaged("one of its blocks has a wrong checksum")),
        }
    }

    /// Compares the copy of a block with the checksum in its tag.
    fn check_block(&self, tag: &Tag, number: u32, sequence: u32) -> Result<()> {
        if !self.has_checksums() {
            return Ok(());
        }
        let sum = crc32c(crc32c(self.seed, &sequence.to_be_bytes()), &self.read(number)?);
        let is_right = match self.incompat & INCOMPAT_CSUM_V3 {
            0 => tag.checksum == sum & 0xffff,
            _ => tag.checksum == sum,
        };
        if is_right { Ok(()) } else { Err(damaged("one of its copies has a wrong checksum")) }
    }

    fn check_commit(&self, block: &[u8], v1_sum: u32, until: Option<u32>) -> Result<()> {
        let found = be_u32(block, 0x10).unwrap_or(0);
        if self.has_checksums() {
            let (before, behind) = (block.get(..0x10), block.get(0x14..));
            let sum = crc32c(crc32c(self.seed, before.unwrap_or_default()), &[0; 4]);
            if crc32c(sum, behind.unwrap_or_default()) != found {
                return Err(damaged("a commit has a wrong checksum"));
            }
        } else if self.compat & COMPAT_CHECKSUM != 0
            && until.is_none()
            && block.get(0xc..0xe) == Some(&CRC32)
            && found != v1_sum
        {
            return Err(damaged("a transaction has a wrong checksum"));
        }
        Ok(())
    }

    /// The checksum of a transaction in version 1 covers all of its blocks.
    fn v1_sum(&self, sum: u32, block: &[u8], until: Option<u32>) -> u32 {
        match self.compat & COMPAT_CHECKSUM != 0 && until.is_none() {
            true => crc32_be(sum, block),
            false => sum,
        }
    }

    /// The blocks of fast commits. The first of them is one after the end of the log.
    pub(super) fn fast_blocks(&self) -> std::ops::Range<u32> {
        match self.fast_commits() {
            0 => 0..0,
            count => self.end.saturating_add(1)..self.end.saturating_add(count),
        }
    }

    /// The journal's superblock once everything is replayed, and the next transaction will be number
    /// `sequence`.
    pub(super) fn head_afterwards(&self, sequence: u32) -> Vec<u8> {
        let mut head = self.head.clone();
        let mut put = |at: usize, value: u32| {
            if let Some(place) = head.get_mut(at..at.saturating_add(4)) {
                place.copy_from_slice(&value.to_be_bytes());
            }
        };
        put(0x18, sequence);
        put(0x1c, 0);
        put(0x58, 0);
        if self.has_checksums() {
            let sum = head_checksum(&head);
            if let Some(place) = head.get_mut(0xfc..0x100) {
                place.copy_from_slice(&sum.to_be_bytes());
            }
        }
        head
    }
}

/// Returns whether transaction `a` comes after `b`; the numbers wrap around.
fn is_after(a: u32, b: u32) -> bool {
    a != b && a.wrapping_sub(b) < 1 << 31
}

/// The checksum of the journal's superblock, which is 1024 bytes in a block of any size.
fn head_checksum(head: &[u8]) -> u32 {
    let head = head.get(..1024).unwrap_or_default();
    let (before, behind) = (head.get(..0xfc), head.get(0x100..));
    let sum = crc32c(crc32c(!0, before.unwrap_or_default()), &[0; 4]);
    crc32c(sum, behind.unwrap_or_default())
}

/// Sets the length of a clean journal to `blocks`; `None` if this is not the superblock of a journal.
pub(in crate::ext4) fn put_journal_len(head: &mut [u8], blocks: u32) -> Option<()> {
    let version = be_u32(head, 4).filter(|_| be_u32(head, 0) == Some(MAGIC))?;
    bytes::put(head, 0x10, blocks.to_be_bytes())?;
    seal_head(head, version)
}

/// Replaces the volume UUID `old` in a clean journal by `new`; returns whether it contained `old`. `None` if this is
/// not the superblock of a journal.
pub(in crate::ext4) fn put_journal_uuid(
    head: &mut [u8],
    old: &[u8; 16],
    new: &[u8; 16],
) -> Option<bool> {
    let version = be_u32(head, 4).filter(|_| be_u32(head, 0) == Some(MAGIC))?;
    let is_clean = be_u32(head, 0x1c)? == 0;
    if !is_clean || head.get(UUID)? != old {
        return Some(false);
    }
    head.get_mut(UUID)?.copy_from_slice(new);
    seal_head(head, version).map(|()| true)
}

pub(super) fn seal_head(head: &mut [u8], version: u32) -> Option<()> {
    let has_checksum =
        version == 4 && be_u32(head, 0x28)? & (INCOMPAT_CSUM_V2 | INCOMPAT_CSUM_V3) != 0;
    if has_checksum {
        let sum = head_checksum(head);
        bytes::put(head, 0xfc, sum.to_be_bytes())?;
    }
    Some(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn transaction_numbers_wrap_around() {
        assert!(is_after(2, 1) && is_after(1, u32::MAX));
        assert!(!is_after(1, 1) && !is_after(u32::MAX, 1));
    }
}
