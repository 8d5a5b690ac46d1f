//! The node address table (NAT): in which block each node is stored. Its nodes, and the data blocks that these
//! name, are compared with the segment information table: a block that a file has must be valid there.

use super::{
    BLOCK, SEGMENT,
    checkpoint::Checkpoint,
    node::Node,
    place,
    segments::Segments,
    superblock::Superblock,
    versioned::{Blocks, Versioned},
};
use imbrik_store::{
    ReadAt, bytes,
    error::{Error, Result},
    read_vec,
};
use std::collections::BTreeMap;

/// Bytes an entry: a version, an inode, a block.
const ENTRY: usize = 9;
const ENTRIES: u64 = 455;
/// An address that is not allocated yet.
const NEW: u32 = u32::MAX;
/// How many node blocks are read at once.
const MOST_AT_ONCE: usize = 64;

/// Compares the table, and every node in it, with the segments. Adds the blocks of the table itself to
/// `blocks`. Reads each node once.
///
/// # Errors
/// - When the store cannot be read.
/// - [`imbrik_store::Class::Corrupt`] when a node or a data block is stored in a block that is not valid, a
///   node has another number, or there are more or fewer nodes than the checkpoint counts.
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
    let mut nodes: Vec<(u32, u64)> = Vec::new();
    let mut look = |node: u64, block: u32| match block {
        0 | NEW => Ok(()),
        _ if superblock.without_node.contains(&node) => Ok(()),
        block if segments.is_valid(superblock, block.into()) => {
            nodes.push((block, node));
            Ok(())
        }
        block => {
            Err(Error::corrupt(format!("node {node} is stored in block {block}, which is free")))
        }
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
    if u64::try_from(nodes.len()) != Ok(checkpoint.valid_nodes) {
        return Err(Error::corrupt(format!(
            "it has {} nodes, and its checkpoint counts {}",
            nodes.len(),
            checkpoint.valid_nodes
        )));
    }
    nodes.sort_unstable();
    check_data(store, superblock, segments, &nodes)
}

/// Compares the data blocks of `nodes`, given as (block, number) in order of their blocks, with the segments.
fn check_data(
    store: &dyn ReadAt,
    superblock: &Superblock,
    segments: &Segments,
    nodes: &[(u32, u64)],
) -> Result<()> {
    let mut rest = nodes;
    while let Some((first, _)) = rest.first() {
        let run =
            (*first..).zip(rest).take(MOST_AT_ONCE).take_while(|(at, (block, _))| at == block);
        let (run, later) = rest.split_at(run.count());
        let read = read_vec(store, place((*first).into()), run.len().saturating_mul(BLOCK))?;
        for ((block, number), raw) in run.iter().zip(read.chunks_exact(BLOCK)) {
            let node = Node(raw);
            if node.number().map(u64::from) != Some(*number) {
                return Err(Error::corrupt(format!("block {block} does not hold node {number}")));
            }
            let mut free = None;
            node.data_blocks(superblock.has_xattr_size, |data| {
                if !segments.is_valid(superblock, data.into()) {
                    free = Some(data);
                }
            })
            .ok_or_else(|| Error::corrupt(format!("node {number} is damaged")))?;
            if let Some(data) = free {
                return Err(Error::corrupt(format!(
                    "node {number} has data in block {data}, which is free"
                )));
            }
        }
        rest = later;
    }
    Ok(())
}

/// The entries of the journal: a count, then a node number before each entry.
fn newer(journal: &[u8]) -> Result<BTreeMap<u64, u32>> {
    let wrong = || Error::corrupt("the journal of its nodes is invalid");
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
