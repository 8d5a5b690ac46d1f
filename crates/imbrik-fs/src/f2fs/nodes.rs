//! The node address table (NAT): in which block each node lies. It is asked whether it contradicts
//! the segments.

use super::{
    SEGMENT,
    checkpoint::Checkpoint,
    segments::Segments,
    superblock::Superblock,
    versioned::{Blocks, Versioned},
};
use imbrik_store::{
    ReadAt, bytes,
    error::{Error, Result},
};
use std::collections::BTreeMap;

/// Bytes an entry: a version, an inode, a block.
const ENTRY: usize = 9;
const ENTRIES: u64 = 455;
/// A place that is not given yet.
const NEW: u32 = u32::MAX;

/// Compares the table with the segments. Adds the blocks of the table itself to `blocks`.
///
/// # Errors
/// - When the store cannot be read.
/// - [`imbrik_store::Class::Corrupt`] when a node lies in no valid block, or there are more or fewer
///   of them than the checkpoint says.
pub(super) fn check(
    store: &dyn ReadAt,
    superblock: &Superblock,
    checkpoint: &Checkpoint,
    segments: &Segments,
    blocks: &mut Blocks,
) -> Result<()> {
    let table =
        Versioned { first: superblock.nat, stride: SEGMENT, versions: &checkpoint.nat_versions };
    let newer = newer(&checkpoint.nat_journal)?;
    let mut nodes = 0u64;
    let mut look = |node: u64, block: u32| match block {
        0 | NEW => Ok(()),
        _ if superblock.without_node.contains(&node) => Ok(()),
        block if segments.is_valid(superblock, block.into()) => {
            nodes = nodes.saturating_add(1);
            Ok(())
        }
        block => Err(Error::corrupt(format!("node {node} lies in block {block}, which is free"))),
    };
    table.each(store, superblock.nat_blocks, blocks, |number, raw| {
        let first = number.saturating_mul(ENTRIES);
        for (node, entry) in (first..).zip(raw.chunks_exact(ENTRY)) {
            if !newer.contains_key(&node) {
                look(node, bytes::le_u32(entry, 5).unwrap_or(0))?;
            }
        }
        Ok(())
    })?;
    for (node, block) in &newer {
        look(*node, *block)?;
    }
    match nodes == checkpoint.valid_nodes {
        true => Ok(()),
        false => Err(Error::corrupt(format!(
            "it has {nodes} nodes, and its checkpoint says {}",
            checkpoint.valid_nodes
        ))),
    }
}

/// The entries of the journal: a count, and for each a node in front of the entry itself.
fn newer(journal: &[u8]) -> Result<BTreeMap<u64, u32>> {
    let wrong = || Error::corrupt("the journal of its nodes makes no sense");
    let count = usize::from(bytes::le_u16(journal, 0).ok_or_else(wrong)?);
    let entries = journal.get(2..).unwrap_or_default().chunks_exact(4 + ENTRY);
    if count > entries.len() {
        return Err(wrong());
    }
    let entries = entries.take(count).map(|raw| {
        let node = bytes::le_u32(raw, 0).map(u64::from);
        Ok((node.ok_or_else(wrong)?, bytes::le_u32(raw, 9).ok_or_else(wrong)?))
    });
    entries.collect()
}
