//! The segment information table (SIT): which blocks of each segment are valid.

use super::{
    SEGMENT,
    checkpoint::Checkpoint,
    superblock::Superblock,
    versioned::{Blocks, Runs, Versioned, bit},
};
use imbrik_store::{
    ReadAt, bytes,
    error::{Error, Result},
};

/// Entries a block, and bytes an entry: a count, a map of 512 bits, a time.
pub(super) const ENTRIES: u64 = 55;
const ENTRY: usize = 74;
const MAP: usize = 64;
/// The count, in the lower bits of its field.
const COUNT: u16 = 0x3ff;

/// The valid blocks of every segment.
pub(super) struct Segments {
    maps: Vec<[u8; MAP]>,
}

impl Segments {
    /// Reads the table, with the newer entries of the checkpoint's journal. Adds the blocks of the table itself to
    /// `blocks`.
    ///
    /// # Errors
    /// - When the store cannot be read.
    /// - [`imbrik_store::Class::Corrupt`] when counts and maps don't agree.
    pub(super) fn read(
        store: &dyn ReadAt,
        superblock: &Superblock,
        checkpoint: &Checkpoint,
        blocks: &mut Blocks,
    ) -> Result<Self> {
        let table = Versioned {
            first: superblock.sit,
            stride: superblock.sit_blocks,
            versions: &checkpoint.sit_versions,
        };
        let newer = newer(&checkpoint.sit_journal, superblock.segments)?;
        let mut maps = Vec::new();
        let mut valid = 0u64;
        let count = superblock.segments.div_ceil(ENTRIES);
        table.each(store, count, blocks, |_, block| {
            for entry in block.chunks_exact(ENTRY) {
                let number = u64::try_from(maps.len()).unwrap_or(u64::MAX);
                if number == superblock.segments {
                    break;
                }
                let newest = newer.iter().find(|(segment, _)| *segment == number);
                let entry = newest.map_or(entry, |(_, entry)| entry);
                let (count, map) = decode(entry).ok_or_else(|| {
                    Error::corrupt(format!("segment {number}'s count and its map differ"))
                })?;
                valid = valid.saturating_add(count);
                maps.push(map);
            }
            Ok(())
        })?;
        if valid != checkpoint.valid_blocks {
            return Err(Error::corrupt(format!(
                "{valid} blocks are valid, and its checkpoint says {}",
                checkpoint.valid_blocks
            )));
        }
        Ok(Self { maps })
    }

    /// Returns whether block `number` of the volume is valid.
    pub(super) fn is_valid(&self, superblock: &Superblock, number: u64) -> bool {
        let ahead = number.checked_sub(superblock.main);
        let map = ahead.and_then(|ahead| self.maps.get(usize::try_from(ahead / SEGMENT).ok()?));
        map.zip(ahead).is_some_and(|(map, ahead)| bit(map, ahead % SEGMENT))
    }

    /// The valid blocks, and the summaries of segments with such blocks or with a log.
    pub(super) fn used(&self, superblock: &Superblock, checkpoint: &Checkpoint) -> Runs {
        let mut runs = Runs::new();
        let mut summaries = Runs::new();
        for (number, map) in (0u64..).zip(&self.maps) {
            let has_log = checkpoint.logs.iter().any(|(segment, _)| *segment == number);
            if map.iter().all(|byte| *byte == 0) && !has_log {
                continue;
            }
            let summary = superblock.ssa.saturating_add(number);
            summaries.push((summary, summary.saturating_add(1)));
            let start = superblock.main.saturating_add(number.saturating_mul(SEGMENT));
            for block in (0..SEGMENT).filter(|block| bit(map, *block)) {
                let block = start.saturating_add(block);
                match runs.last_mut() {
                    Some((_, end)) if *end == block => *end = block.saturating_add(1),
                    _ => runs.push((block, block.saturating_add(1))),
                }
            }
        }
        runs.extend(summaries);
        runs
    }

    /// The next block of each log, if it is not in use.
    pub(super) fn behind_the_logs(&self, superblock: &Superblock, checkpoint: &Checkpoint) -> Runs {
        let next = checkpoint.logs.iter().map(|(segment, offset)| {
            superblock.main.saturating_add(segment.saturating_mul(SEGMENT)).saturating_add(*offset)
        });
        let free = next
            .filter(|block| *block < superblock.main_end() && !self.is_valid(superblock, *block));
        free.map(|block| (block, block.saturating_add(1))).collect()
    }
}

/// The count of an entry and its map; `None` when they differ.
fn decode(entry: &[u8]) -> Option<(u64, [u8; MAP])> {
    let count = bytes::le_u16(entry, 0)? & COUNT;
    let map: [u8; MAP] = bytes::array(entry, 2)?;
    let bits: u32 = map.iter().map(|byte| byte.count_ones()).sum();
    (u32::from(count) == bits).then_some((bits.into(), map))
}

/// The entries of the journal: a count, then a segment number before each entry.
fn newer(journal: &[u8], segments: u64) -> Result<Vec<(u64, &[u8])>> {
    let wrong = || Error::corrupt("the journal of its segments is invalid");
    let count = usize::from(bytes::le_u16(journal, 0).ok_or_else(wrong)?);
    let entries = journal.get(2..).unwrap_or_default().chunks_exact(4 + ENTRY);
    if count > entries.len() {
        return Err(wrong());
    }
    let entries = entries.take(count).map(|raw| {
        let segment = bytes::le_u32(raw, 0).map(u64::from).filter(|segment| *segment < segments);
        Ok((segment.ok_or_else(wrong)?, raw.get(4..).ok_or_else(wrong)?))
    });
    entries.collect()
}
