//! The proof of a reshaped volume: the same look at it as at its source, and the same content.

use super::{
    census::{Census, Faults, Origin},
    layout::{InodeMoves, Layout},
};
use crate::{
    error::{Error, Result},
    fs::{
        bits::Run,
        ext4::strict::{
            Opened, attributes, folder,
            map::{Piece, map_of},
        },
        placement::Moves,
    },
    progress::Cancel,
    store::ReadAt,
};
use std::{collections::BTreeMap, sync::Arc};

/// Looks at the finished volume as closely as at its source.
pub(super) fn prove(
    store: &Arc<dyn ReadAt>,
    source: &Census,
    layout: &Layout,
    cancel: &Cancel,
) -> Result<()> {
    let opened = Opened::of(Arc::clone(store))?;
    if opened.superblock.blocks != layout.geometry.superblock.blocks {
        return Err(Error::corrupt("its length is another one"));
    }
    let back = Back { moves: &layout.moves, inodes: &layout.inodes };
    let faults = match source.faults {
        Faults::Refused => Faults::Refused,
        Faults::Kept(_) => Faults::Kept(Vec::new()),
    };
    let census = Census::of(&opened, &back, faults, cancel)?;
    if census.faults.list().len() > source.faults.list().len() {
        return Err(Error::corrupt("it has faults that its source does not have"));
    }
    if census.fingerprint != source.fingerprint || !census.orphans.is_empty() {
        return Err(Error::corrupt("its files are not those of the source"));
    }
    prove_links(&opened, &census, &layout.inodes, cancel)
}

fn count(links: &mut BTreeMap<u32, u32>, number: u32) {
    let links = links.entry(number).or_default();
    *links = links.saturating_add(1);
}

/// Counts the entries that lead to each inode that got another number.
fn prove_links(
    opened: &Opened,
    census: &Census,
    inodes: &InodeMoves,
    cancel: &Cancel,
) -> Result<()> {
    if inodes.is_empty() {
        return Ok(());
    }
    let superblock = &opened.superblock;
    let mut links: BTreeMap<u32, u32> = BTreeMap::new();
    let mut folders = Vec::new();
    opened.each_inode(|inode, is_used| {
        let index = u64::from(inode.number).saturating_sub(1);
        if is_used && census.folders.contains(index) && !inode.is_inline() {
            folders.push(inode);
        } else if is_used && inode.is_folder() {
            let more = attributes::inline_data(&inode).and_then(|range| inode.raw.get(range));
            let found = [
                folder::references(inode.i_block(), 4),
                more.and_then(|more| folder::references(more, 0)),
            ];
            found.into_iter().flatten().flatten().for_each(|(_, number)| count(&mut links, number));
        }
        Ok(())
    })?;
    for inode in &folders {
        cancel.check()?;
        let map = map_of(&opened.meta, superblock, inode, &mut |_| Ok(()))?;
        for piece in map.pieces.iter().filter(|piece| !piece.is_unwritten) {
            for block in piece.physical..piece.run().end() {
                let block = opened.meta.block(block)?;
                let wrong = || inode.wrong("a block of its entries is damaged");
                if superblock.has_metadata_csum()
                    && !folder::is_sound(&block, inode.seed(superblock))
                {
                    return Err(wrong());
                }
                for (_, number) in folder::references(&block, 0).ok_or_else(wrong)? {
                    count(&mut links, number);
                }
            }
        }
    }
    opened.each_inode(|inode, is_used| {
        let was_moved = inodes.source_of(inode.number) != inode.number;
        if is_used && was_moved && !inode.is_folder() && !inode.is_attribute_value() {
            let found = links.get(&inode.number).copied().unwrap_or(0);
            if u32::from(inode.links()) != found {
                return Err(inode.wrong("the names that lead to it are not as many as it counts"));
            }
        }
        Ok(())
    })
}

/// A reshaped volume's numbers, told as those of its source.
struct Back<'a> {
    moves: &'a Moves,
    inodes: &'a InodeMoves,
}

impl Origin for Back<'_> {
    fn pieces(&self, piece: Piece, work: &mut dyn FnMut(Piece)) {
        self.moves.sources(piece.run(), |part, from| {
            let ahead = part.first.saturating_sub(piece.physical);
            let logical = piece.logical.saturating_add(ahead);
            work(Piece { logical, physical: from.first, len: from.len, ..piece });
        });
    }

    fn block(&self, block: u64) -> u64 {
        let mut source = block;
        self.moves.sources(Run::new(block, 1), |_, from| source = from.first);
        source
    }

    fn inode(&self, number: u32) -> u32 {
        self.inodes.source_of(number)
    }
}
