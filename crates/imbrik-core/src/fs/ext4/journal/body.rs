//! Where the blocks of a journal are, and whether they are void.

use super::log::{JOURNAL_INODE, MAGIC};
use crate::{
    bytes,
    error::Result,
    fs::ext4::{files::Reader, superblock::Superblock},
    store::{ReadAt, read_up_to},
    units::Span,
};

/// The blocks of a clean journal's body: all but its own superblock. Empty when anything about it
/// is out of the ordinary, since then it is better read than cleared.
///
/// # Errors
/// When the volume cannot be read.
pub(in crate::fs::ext4) fn void_body(
    store: &dyn ReadAt,
    superblock: &Superblock,
) -> Result<Vec<Span>> {
    if !superblock.has_journal() || superblock.journal_inode != JOURNAL_INODE {
        return Ok(Vec::new());
    }
    let reader = Reader { store, superblock };
    let Some(inode) = reader.inode(JOURNAL_INODE)? else { return Ok(Vec::new()) };
    let extents = reader.extents(&inode)?.unwrap_or_default();
    let Some(first) = extents.first().filter(|first| first.logical == 0) else {
        return Ok(Vec::new());
    };
    let Some(head) = superblock.span(first.physical, 1) else { return Ok(Vec::new()) };
    let head = read_up_to(store, head.start(), 1024)?;
    let s_start = bytes::array(&head, 0x1c).map(u32::from_be_bytes);
    if bytes::array(&head, 0).map(u32::from_be_bytes) != Some(MAGIC) || s_start != Some(0) {
        return Ok(Vec::new());
    }
    let body = extents.iter().map(|extent| {
        let skip = u64::from(extent.logical == 0);
        superblock.span(extent.physical.saturating_add(skip), extent.len.saturating_sub(skip))
    });
    Ok(body.collect::<Option<Vec<_>>>().unwrap_or_default())
}
