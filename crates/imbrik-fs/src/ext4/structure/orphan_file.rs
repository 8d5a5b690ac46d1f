//! The orphan file: inodes that wait to be deleted or cut.
//!
//! Each block is a list of inode numbers, 0 for an empty place, and ends in a magic number and a
//! checksum over the inode, the generation, the place of the block in the volume, and its list.

use crate::ext4::checksum::crc32c;
use imbrik_store::bytes;

const TAIL: usize = 8;
const MAGIC: u32 = 0x0b10_ca04;

/// The offsets of inode numbers in a block, and the numbers.
pub(in crate::ext4) fn entries(block: &[u8]) -> Vec<(usize, u32)> {
    let list = block.len().saturating_sub(TAIL);
    let places = (0..list).step_by(4);
    places
        .filter_map(|at| Some((at, bytes::le_u32(block, at).filter(|number| *number != 0)?)))
        .collect()
}

/// The checksum of block `number`, starting from `seed`.
fn checksum(block: &[u8], number: u64, seed: u32) -> Option<u32> {
    let list = block.get(..block.len().checked_sub(TAIL)?)?;
    Some(crc32c(crc32c(seed, &number.to_le_bytes()), list))
}

/// Returns whether a block is one of an orphan file, with the right checksum if `seed` is known.
pub(in crate::ext4) fn is_sound(block: &[u8], number: u64, seed: Option<u32>) -> bool {
    let sound = || {
        let tail = block.len().checked_sub(TAIL)?;
        let found = bytes::le_u32(block, tail.checked_add(4)?)?;
        let is_right = match seed {
            Some(seed) => checksum(block, number, seed)? == found,
            None => true,
        };
        Some(bytes::le_u32(block, tail)? == MAGIC && is_right)
    };
    sound().unwrap_or(false)
}

/// Updates the checksum of a block.
pub(in crate::ext4) fn seal(block: &mut [u8], number: u64, seed: u32) -> Option<()> {
    let sum = checksum(block, number, seed)?;
    let at = block.len().checked_sub(4)?;
    bytes::put(block, at, sum.to_le_bytes())
}
