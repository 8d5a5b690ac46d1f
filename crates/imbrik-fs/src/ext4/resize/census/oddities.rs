//! Rules for inodes besides their blocks: mode, length, the target of a link, and special inodes.

use super::Faults;
use crate::ext4::structure::{
    Opened,
    inode::{EXTENTS_FLAG, RawInode},
    map::Map,
};
use imbrik_store::error::Result;

/// The longest target of a link that is stored in the inode.
const SHORT_LINK: usize = 60;

/// Checks a used inode with the map `map`.
///
/// # Errors
/// When the volume cannot be read, and those of `faults`.
pub(super) fn look(
    opened: &Opened,
    inode: &RawInode,
    map: &Map,
    faults: &mut Faults,
) -> Result<()> {
    let superblock = &opened.superblock;
    let mut fault = |what: &str| faults.push(format!("inode {}: {what}", inode.number));
    let is_reserved = inode.number < superblock.first_inode && inode.number != 2;
    let kind = inode.entry_kind();
    if kind == 0 && !(is_reserved && inode.mode() == 0) {
        fault("its mode is none")?;
    }
    if inode.extra_len().is_none() {
        fault("its additional fields are longer than there is room for")?;
    }
    // Written blocks past the inode's length.
    let written = map.pieces.iter().filter(|piece| !piece.is_unwritten);
    let behind = written.map(|piece| piece.logical.saturating_add(piece.len)).max();
    let last = behind.map(|behind| behind.saturating_sub(1).saturating_mul(superblock.block_len));
    match kind {
        1 if !inode.has_hashes_behind() && last.is_some_and(|last| inode.size() < last) => {
            fault("it has content after its end")?;
        }
        3..=6 => {
            if inode.size() != 0 {
                fault("it is not a file, but has a length")?;
            }
            if inode.is_indexed() || inode.flags() & EXTENTS_FLAG != 0 || inode.is_immutable() {
                fault("it is not a file, but has the flags of one")?;
            }
        }
        7 if !inode.is_encrypted() => link(opened, inode, map, &mut fault)?,
        _ => {}
    }
    Ok(())
}

/// The target of a link: as long as the inode says, without a zero byte, and terminated by one if there is space.
fn link(
    opened: &Opened,
    inode: &RawInode,
    map: &Map,
    fault: &mut impl FnMut(&str) -> Result<()>,
) -> Result<()> {
    if inode.is_inline() {
        return match inode.size() {
            0 => fault("it is a link without a target"),
            _ => Ok(()),
        };
    }
    if inode.is_indexed() || inode.is_immutable() {
        fault("it is a link, and has flags of something else")?;
    }
    let len = usize::try_from(inode.size()).unwrap_or(usize::MAX);
    let is_target = |bytes: &[u8], room: usize| {
        let ends = bytes.iter().position(|byte| *byte == 0).unwrap_or(bytes.len());
        len > 0 && len < room && ends == len
    };
    let is_sound = match map.pieces.as_slice() {
        [] => is_target(inode.i_block(), SHORT_LINK),
        [piece] if piece.len == 1 && piece.logical == 0 && !piece.is_unwritten => {
            let block = opened.meta.block(piece.physical)?;
            is_target(&block, block.len())
        }
        _ => false,
    };
    if is_sound { Ok(()) } else { fault("it is a link whose target is invalid") }
}
