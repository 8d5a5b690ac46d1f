//! The journal of an ext volume: where its blocks are, and whether they are void.

use super::superblock::Superblock;
use crate::{
    bytes,
    error::Result,
    store::{ReadAt, read_up_to},
    units::Span,
};

const EXTENTS_FLAG: u32 = 0x8_0000;
const EXTENT_MAGIC: u16 = 0xf30a;
const JOURNAL_MAGIC: u32 = 0xc03b_3998;
/// Deeper trees don't exist; more extents than this no journal has.
const MOST_DEPTH: u16 = 5;
const MOST_EXTENTS: usize = 10_000;

/// The blocks of a clean journal's body: all but its own superblock. Empty when anything about it
/// is out of the ordinary, since then it is better read than cleared.
///
/// # Errors
/// When the volume cannot be read.
pub(super) fn void_body(
    store: &dyn ReadAt,
    superblock: &Superblock,
    inode_table: u64,
) -> Result<Vec<Span>> {
    if !superblock.has_journal() || superblock.journal_inode != 8 {
        return Ok(Vec::new());
    }
    let read_block = |block: u64| match superblock.span(block, 1) {
        Some(span) => read_up_to(store, span.start(), span.len().to_usize().unwrap_or(0)),
        None => Ok(Vec::new()),
    };
    let at = 7u64.saturating_mul(superblock.inode_len);
    let ahead = at.checked_div(superblock.block_len).unwrap_or(0);
    let block = read_block(inode_table.saturating_add(ahead))?;
    let inside = usize::try_from(at.checked_rem(superblock.block_len).unwrap_or(0)).unwrap_or(0);
    let inode = block.get(inside..).unwrap_or_default();
    let flags = bytes::le_u32(inode, 0x20).unwrap_or(0);
    if flags & EXTENTS_FLAG == 0 {
        return Ok(Vec::new());
    }
    let mut extents = Vec::new();
    let mut nodes = vec![inode.get(0x28..0x28 + 60).unwrap_or_default().to_vec()];
    while let Some(node) = nodes.pop() {
        let Some((leaves, children)) = decode_node(&node) else { return Ok(Vec::new()) };
        extents.extend(leaves);
        for child in children {
            nodes.push(read_block(child)?);
        }
        if extents.len().saturating_add(nodes.len()) > MOST_EXTENTS {
            return Ok(Vec::new());
        }
    }
    extents.sort_unstable();
    let Some((0, first, _)) = extents.first().copied() else { return Ok(Vec::new()) };
    let head = read_block(first)?;
    let s_start = bytes::array(&head, 0x1c).map(u32::from_be_bytes);
    if bytes::array(&head, 0).map(u32::from_be_bytes) != Some(JOURNAL_MAGIC) || s_start != Some(0) {
        return Ok(Vec::new());
    }
    let mut body = Vec::new();
    for (logical, block, len) in extents {
        // The journal's own superblock stays.
        let skip = u64::from(logical == 0);
        let rest = superblock.span(block.saturating_add(skip), len.saturating_sub(skip));
        let Some(span) = rest else { return Ok(Vec::new()) };
        body.push(span);
    }
    Ok(body)
}

type Extent = (u64, u64, u64);

/// The extents (first block of the file, first block of the volume, blocks) of a leaf, or the
/// children of an index node; `None` for anything that is no node.
fn decode_node(node: &[u8]) -> Option<(Vec<Extent>, Vec<u64>)> {
    let eh_entries = bytes::le_u16(node, 2)?;
    let eh_depth = bytes::le_u16(node, 6)?;
    if bytes::le_u16(node, 0)? != EXTENT_MAGIC || eh_depth > MOST_DEPTH {
        return None;
    }
    let (mut leaves, mut children) = (Vec::new(), Vec::new());
    for index in 0..usize::from(eh_entries) {
        let at = index.checked_mul(12)?.checked_add(12)?;
        let block = |low: u32, high: u16| u64::from(low) | (u64::from(high) << 32);
        if eh_depth > 0 {
            let low = bytes::le_u32(node, at.checked_add(4)?)?;
            children.push(block(low, bytes::le_u16(node, at.checked_add(8)?)?));
        } else {
            let len = bytes::le_u16(node, at.checked_add(4)?)?;
            let high = bytes::le_u16(node, at.checked_add(6)?)?;
            let start = block(bytes::le_u32(node, at.checked_add(8)?)?, high);
            // A journal has no unwritten extents.
            let len = Some(u64::from(len)).filter(|len| (1..=32768).contains(len))?;
            leaves.push((bytes::le_u32(node, at)?.into(), start, len));
        }
    }
    Some((leaves, children))
}
