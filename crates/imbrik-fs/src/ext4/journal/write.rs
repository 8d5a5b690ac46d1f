//! A transaction written into an empty journal: everything that changes at once, or not at all.
//!
//! ```text
//! descriptor │ block │ block │ … │ descriptor │ block │ … │ commit          and then, in the head: start
//! ```

use super::log::{
    COMMIT, DESCRIPTOR, INCOMPAT_64BIT, INCOMPAT_CSUM_V2, INCOMPAT_CSUM_V3, Journal, MAGIC,
    TAG_ESCAPED, TAG_LAST, TAG_SAME_UUID, UUID, be_u32, seal_head,
};
use crate::ext4::checksum::crc32c;
use imbrik_store::{
    bytes,
    error::{Error, Result},
    exact::Exact as _,
    units::ByteOffset,
};

/// The lengths in bytes of a block's header, and of the UUID after the first tag.
const HEAD: usize = 12;
const UUID_LEN: usize = 16;

/// Bytes, and where they go.
type Placed = (ByteOffset, Vec<u8>);

/// The writes for a transaction.
pub(in crate::ext4) struct Transaction {
    /// The blocks of the log.
    pub(in crate::ext4) log: Vec<Placed>,
    /// The journal's superblock that makes them valid.
    pub(in crate::ext4) begun: Placed,
    /// The journal's superblock after all blocks are at their places.
    pub(in crate::ext4) done: Placed,
}

impl Journal<'_> {
    /// A transaction of `blocks`, by their numbers in the volume, for this journal, which is empty.
    ///
    /// # Errors
    /// [`imbrik_store::Class::NoRoom`] when it is longer than the journal.
    pub(in crate::ext4) fn transaction(&self, blocks: &[(u64, Vec<u8>)]) -> Result<Transaction> {
        let wrong = || Error::bug("a transaction cannot be written");
        let len = usize::try_from(self.superblock.block_len).unwrap_or(0);
        let tail = if self.has_checksums() { 4 } else { 0 };
        let room = len.saturating_sub(HEAD).saturating_sub(tail).saturating_sub(UUID_LEN);
        let a_block = room.checked_div(self.tag_len()).unwrap_or(1).max(1);
        let needed = blocks.len().plus(blocks.len().div_ceil(a_block))?.plus(1)?;
        let there = usize::try_from(self.end.saturating_sub(self.first)).unwrap_or(0);
        if needed > there {
            return Err(Error::no_room(format!(
                "that changes {} blocks of metadata at once, but the journal of the volume has space \
                 for {}: change fewer files at a time",
                blocks.len(),
                there.saturating_sub(there.div_ceil(a_block)).saturating_sub(1)
            )));
        }
        let mut log = Vec::new();
        let mut number = self.first;
        for some in blocks.chunks(a_block) {
            let (descriptor, copies) = self.described(some).ok_or_else(wrong)?;
            for block in std::iter::once(descriptor).chain(copies) {
                log.push((self.place(number)?, block));
                number = self.next(number);
            }
        }
        log.push((self.place(number)?, self.commit_block(len).ok_or_else(wrong)?));
        let mut head = self.head.clone();
        let version = be_u32(&head, 4).ok_or_else(wrong)?;
        bytes::put(&mut head, 0x18, self.sequence.to_be_bytes()).ok_or_else(wrong)?;
        bytes::put(&mut head, 0x1c, self.first.to_be_bytes()).ok_or_else(wrong)?;
        seal_head(&mut head, version).ok_or_else(wrong)?;
        // The superblock of a journal is 1024 bytes long, and counts in its first sector.
        let short = |mut head: Vec<u8>| {
            head.truncate(1024);
            head
        };
        let at = self.place(0)?;
        let done = short(self.head_afterwards(self.sequence.wrapping_add(1)));
        Ok(Transaction { log, begun: (at, short(head)), done: (at, done) })
    }

    /// Bytes of a tag.
    fn tag_len(&self) -> usize {
        let is_wide = self.incompat & INCOMPAT_64BIT != 0;
        match (self.incompat & INCOMPAT_CSUM_V3, self.incompat & INCOMPAT_CSUM_V2, is_wide) {
            (1.., ..) => 16,
            (0, 0, true) => 12,
            (0, 0, false) => 8,
            (0, _, true) => 14,
            (0, _, false) => 10,
        }
    }

    fn head_of(&self, kind: u32, len: usize) -> Option<Vec<u8>> {
        let mut block = vec![0; len];
        bytes::put(&mut block, 0, MAGIC.to_be_bytes())?;
        bytes::put(&mut block, 4, kind.to_be_bytes())?;
        bytes::put(&mut block, 8, self.sequence.to_be_bytes())?;
        Some(block)
    }

    /// A descriptor block, and the blocks that follow it.
    fn described(&self, blocks: &[(u64, Vec<u8>)]) -> Option<(Vec<u8>, Vec<Vec<u8>>)> {
        let len = usize::try_from(self.superblock.block_len).ok()?;
        let mut descriptor = self.head_of(DESCRIPTOR, len)?;
        let mut copies = Vec::new();
        let mut at = HEAD;
        for (index, (number, content)) in blocks.iter().enumerate() {
            let mut copy = content.clone();
            let mut flags = 0;
            if be_u32(&copy, 0) == Some(MAGIC) {
                bytes::put(&mut copy, 0, [0; 4])?;
                flags |= TAG_ESCAPED;
            }
            flags |= if index > 0 { TAG_SAME_UUID } else { 0 };
            flags |= if index.checked_add(1)? == blocks.len() { TAG_LAST } else { 0 };
            let sum = crc32c(crc32c(self.seed, &self.sequence.to_be_bytes()), &copy);
            self.tag(descriptor.get_mut(at..)?, *number, flags, sum)?;
            at = at.checked_add(self.tag_len())?;
            if index == 0 {
                let uuid: [u8; UUID_LEN] = self.head.get(UUID)?.try_into().ok()?;
                bytes::put(&mut descriptor, at, uuid)?;
                at = at.checked_add(UUID_LEN)?;
            }
            copies.push(copy);
        }
        if self.has_checksums() {
            let at = len.checked_sub(4)?;
            let sum = crc32c(crc32c(self.seed, descriptor.get(..at)?), &[0; 4]);
            bytes::put(&mut descriptor, at, sum.to_be_bytes())?;
        }
        Some((descriptor, copies))
    }

    fn tag(&self, place: &mut [u8], number: u64, flags: u32, sum: u32) -> Option<()> {
        let low = u32::try_from(number & u64::from(u32::MAX)).ok()?;
        let high = u32::try_from(number >> 32).ok()?;
        let is_wide = self.incompat & INCOMPAT_64BIT != 0;
        (is_wide || high == 0).then_some(())?;
        bytes::put(place, 0, low.to_be_bytes())?;
        if self.incompat & INCOMPAT_CSUM_V3 != 0 {
            bytes::put(place, 4, flags.to_be_bytes())?;
            bytes::put(place, 8, high.to_be_bytes())?;
            return bytes::put(place, 12, sum.to_be_bytes());
        }
        let half = |value: u32| u16::try_from(value & 0xffff).unwrap_or(0).to_be_bytes();
        if self.has_checksums() {
            bytes::put(place, 4, half(sum))?;
        }
        bytes::put(place, 6, half(flags))?;
        if is_wide {
            bytes::put(place, 8, high.to_be_bytes())?;
        }
        Some(())
    }

    fn commit_block(&self, len: usize) -> Option<Vec<u8>> {
        let mut block = self.head_of(COMMIT, len)?;
        if self.has_checksums() {
            let sum = crc32c(self.seed, &block);
            bytes::put(&mut block, 0x10, sum.to_be_bytes())?;
        }
        Some(block)
    }
}
