//! Values of attributes in separate inodes (`ea_inode`).

use super::{
    Opened,
    attributes::{self, Attribute},
    dirhash::words_of,
    inode::RawInode,
    map::map_of,
    metadata_cache::Blocks,
};
use crate::ext4::{checksum::crc32c, superblock::Superblock};
use imbrik_store::error::Result;

/// The longest value there is.
const MOST: u64 = 16 << 20;

/// The value that `inode` holds; `None` when it holds none.
///
/// # Errors
/// When it cannot be read, or its map is invalid.
pub(in crate::ext4) fn value_in(opened: &Opened, inode: &RawInode) -> Result<Option<Vec<u8>>> {
    value_of(&opened.meta, &opened.superblock, inode)
}

/// The same with the volume's blocks from anywhere.
///
/// # Errors
/// As [`value_in`].
pub(in crate::ext4) fn value_of(
    blocks: &dyn Blocks,
    superblock: &Superblock,
    inode: &RawInode,
) -> Result<Option<Vec<u8>>> {
    if !inode.is_attribute_value() || !inode.is_file() || inode.size() > MOST {
        return Ok(None);
    }
    let map = map_of(blocks, superblock, inode, &mut |_| Ok(()))?;
    let len = usize::try_from(inode.size()).unwrap_or(0);
    let mut value = Vec::with_capacity(len);
    for piece in map.pieces.iter().filter(|piece| !piece.is_unwritten) {
        if u64::try_from(value.len()) != Ok(piece.logical.saturating_mul(superblock.block_len)) {
            return Ok(None);
        }
        for block in piece.physical..piece.run().end() {
            if value.len() >= len {
                break;
            }
            value.extend_from_slice(&blocks.block(block)?);
        }
    }
    let is_whole = value.len() >= len;
    value.truncate(len);
    Ok(is_whole.then_some(value))
}

/// The hash that the inode of a value must have.
pub(in crate::ext4) fn hash_of(value: &[u8], superblock: &Superblock) -> u32 {
    crc32c(superblock.seed, value)
}

/// The words for the hash of an entry whose value has the hash `hash`.
pub(in crate::ext4) fn words_of_hash(hash: u32) -> Vec<u32> {
    words_of(&hash.to_le_bytes())
}

/// The attributes in the inode itself; `None` if they are invalid.
pub(in crate::ext4) fn in_inode(inode: &RawInode) -> Option<Vec<Attribute<'_>>> {
    match inode.attributes() {
        None => Some(Vec::new()),
        Some(region) => {
            let bytes = inode.raw.get(..region.end)?;
            // They may fill the inode to its end.
            attributes::list(bytes, region.start, region.start)
        }
    }
}
