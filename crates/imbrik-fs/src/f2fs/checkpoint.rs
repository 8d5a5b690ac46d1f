//! Checkpoints, which select the valid copy of everything that exists twice. Two packs of blocks are written
//! alternately; each starts and ends with the same block, so that an incomplete one is detected.

use super::{
    BLOCK, SEGMENT, place,
    superblock::{Superblock, checksum, continued},
};
use crate::State;
use imbrik_store::{
    ReadAt, bytes,
    error::{Error, Result},
    read_vec,
};

/// `ckpt_flags`.
const UMOUNT: u32 = 0x1;
const COMPACT_SUMMARIES: u32 = 0x4;
const ERROR: u32 = 0x8;
const FSCK: u32 = 0x10;
const LARGE_NAT_BITMAP: u32 = 0x400;
const QUOTA_NEEDS_FSCK: u32 = 0x800;
const DISABLED: u32 = 0x1000 | 0x2000;
const RESIZING: u32 = 0x4000;
/// The offset of the version bitmaps.
const BITMAPS: usize = 192;
/// The offset of the checksum in supported volumes.
const CHECKSUM: usize = 4092;
/// A summary block: 512 entries of 7 bytes, a journal, a footer of 5.
const JOURNAL_AT: usize = 3584;
const JOURNAL_LEN: usize = 507;
/// The logs that a pack has summaries of: three of data and three of nodes.
const LOGS: usize = 6;

/// A complete checkpoint pack.
pub(super) struct Checkpoint {
    version: u64,
    flags: u32,
    pub(super) valid_blocks: u64,
    pub(super) valid_nodes: u64,
    /// The next block of each log: a segment, and a block in it.
    pub(super) logs: Vec<(u64, u64)>,
    /// Which of the two copies of each SIT and NAT block is valid.
    pub(super) sit_versions: Vec<u8>,
    pub(super) nat_versions: Vec<u8>,
    /// Entries of the NAT and the SIT that are newer than those tables.
    pub(super) nat_journal: Vec<u8>,
    pub(super) sit_journal: Vec<u8>,
}

impl Checkpoint {
    /// The newer of the two.
    ///
    /// # Errors
    /// - When the store cannot be read.
    /// - [`imbrik_store::Class::Corrupt`] when one of them is not whole: which one counts would
    ///   hang on that alone.
    pub(super) fn newest(store: &dyn ReadAt, superblock: &Superblock) -> Result<Self> {
        let first = Self::read(store, superblock, superblock.cp)?;
        let second = Self::read(store, superblock, superblock.cp.saturating_add(SEGMENT))?;
        Ok(if second.version > first.version { second } else { first })
    }

    fn read(store: &dyn ReadAt, superblock: &Superblock, at: u64) -> Result<Self> {
        let torn = || Error::corrupt("one of its two checkpoints is not whole");
        let head = read_vec(store, place(at), BLOCK)?;
        let total =
            bytes::le_u32(&head, 136).map(u64::from).filter(|total| (2..=SEGMENT).contains(total));
        let total = total.filter(|_| is_sealed(&head)).ok_or_else(torn)?;
        let len = usize::try_from(total).ok().and_then(|total| total.checked_mul(BLOCK));
        let pack = read_vec(store, place(at), len.ok_or_else(torn)?)?;
        let tail = pack.rchunks_exact(BLOCK).next().unwrap_or_default();
        if !is_sealed(tail) || bytes::le_u64(&head, 0) != bytes::le_u64(tail, 0) {
            return Err(torn());
        }
        let flags = bytes::le_u32(&head, 132).ok_or_else(torn)?;
        if flags & LARGE_NAT_BITMAP != 0 {
            return Err(Error::unsupported("its bitmap of nodes is large"));
        }
        let this = Self::decode(&pack, flags, superblock);
        this.ok_or_else(|| Error::corrupt("a checkpoint is invalid"))
    }

    fn decode(pack: &[u8], flags: u32, superblock: &Superblock) -> Option<Self> {
        let sit_len = usize::try_from(bytes::le_u32(pack, 156)?).ok()?;
        let nat_len = usize::try_from(bytes::le_u32(pack, 160)?).ok()?;
        let bitmap_len = |blocks: u64| usize::try_from(blocks.div_ceil(8)).ok();
        if sit_len != bitmap_len(superblock.sit_blocks)?
            || nat_len != bitmap_len(superblock.nat_blocks)?
        {
            return None;
        }
        let nat_at = BITMAPS.checked_add(sit_len)?;
        let end = nat_at.checked_add(nat_len).filter(|end| *end <= CHECKSUM)?;
        let mut logs = Vec::new();
        for (segments, offsets) in [(84usize, 116usize), (36, 68)] {
            for log in 0..LOGS / 2 {
                let segment = bytes::le_u32(pack, segments.checked_add(log.checked_mul(4)?)?)?;
                let offset = bytes::le_u16(pack, offsets.checked_add(log.checked_mul(2)?)?)?;
                logs.push((u64::from(segment), u64::from(offset)));
            }
        }
        let sound =
            |(segment, offset): &(u64, u64)| *segment < superblock.segments && *offset <= SEGMENT;
        if !logs.iter().all(sound) {
            return None;
        }
        let [nat_journal, sit_journal] = journals(pack, flags)?;
        Some(Self {
            version: bytes::le_u64(pack, 0)?,
            flags,
            valid_blocks: bytes::le_u64(pack, 16)?,
            valid_nodes: bytes::le_u32(pack, 144)?.into(),
            logs,
            sit_versions: pack.get(BITMAPS..nat_at)?.to_vec(),
            nat_versions: pack.get(nat_at..end)?.to_vec(),
            nat_journal: nat_journal.to_vec(),
            sit_journal: sit_journal.to_vec(),
        })
    }

    /// The state of the volume.
    pub(super) fn state(&self) -> State {
        if self.flags & (ERROR | FSCK | QUOTA_NEEDS_FSCK | RESIZING) != 0 {
            State::Errors
        } else if self.flags & UMOUNT == 0 || self.flags & DISABLED != 0 {
            State::Unclean
        } else {
            State::Clean
        }
    }
}

/// The journals of the NAT and the SIT. They follow each other in compact summaries, and are in the summary blocks of
/// the logs for hot and cold data otherwise.
fn journals(pack: &[u8], flags: u32) -> Option<[&[u8]; 2]> {
    let block = |number: usize| {
        let at = number.checked_mul(BLOCK)?;
        pack.get(at..at.checked_add(BLOCK)?)
    };
    if flags & COMPACT_SUMMARIES != 0 {
        let start = usize::try_from(bytes::le_u32(pack, 140)?).ok()?;
        let both = block(start)?.get(..2 * JOURNAL_LEN)?;
        return Some([both.get(..JOURNAL_LEN)?, both.get(JOURNAL_LEN..)?]);
    }
    let total = usize::try_from(bytes::le_u32(pack, 136)?).ok()?;
    // After an unmount, the summaries of all logs precede the last block.
    let logs = if flags & UMOUNT != 0 { LOGS } else { LOGS / 2 };
    let first = total.checked_sub(logs.checked_add(1)?)?;
    let journal =
        |log: usize| block(first.checked_add(log)?)?.get(JOURNAL_AT..JOURNAL_AT + JOURNAL_LEN);
    Some([journal(0)?, journal(2)?])
}

/// Returns whether a block of a checkpoint has the checksum that it says.
fn is_sealed(block: &[u8]) -> bool {
    let at = bytes::le_u32(block, 164).and_then(|at| usize::try_from(at).ok());
    let Some(at) = at.filter(|at| (BITMAPS..=CHECKSUM).contains(at)) else { return false };
    let sum = checksum(block.get(..at).unwrap_or_default());
    // If the checksum is not at the end, it also covers the bytes after it.
    let sum = continued(sum, block.get(at.saturating_add(4)..).unwrap_or_default());
    bytes::le_u32(block, at) == Some(sum)
}
