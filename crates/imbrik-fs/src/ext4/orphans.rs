//! Files that were deleted or truncated while open: the kernel completes that when it mounts the volume after a crash,
//! and it is done here for saved volumes.

use super::{
    edit::Editor,
    quota,
    structure::{
        Opened,
        inode::{MapKind, RawInode},
        map::{Map, map_of},
        orphan_file, trees,
    },
    superblock::Superblock,
};
use crate::{
    bits::{Bits, Run},
    files::FileTime,
    placement::Moves,
};
use imbrik_store::{
    Edited, ReadAt, bytes,
    error::{Error, Result},
    units::ByteOffset,
};
use std::{collections::BTreeSet, sync::Arc};

/// The volume after all orphans are completed; `None` if there are none.
///
/// # Errors
/// - When the store cannot be read.
/// - [`imbrik_store::Class::Corrupt`] and [`imbrik_store::Class::Unsupported`] with the obstacle: the orphans are
///   unchanged then.
pub(super) fn finished(store: &Arc<dyn ReadAt>, superblock: &Superblock) -> Result<Option<Edited>> {
    if superblock.last_orphan == 0 && !superblock.has_orphans_in_file() {
        return Ok(None);
    }
    let opened = Opened::of(Arc::clone(store))?;
    let waiting = Waiting::of(&opened)?;
    let now = bytes::le_u32(&opened.raw, 0x30).unwrap_or(0).max(1);
    let now = FileTime { seconds: now.into(), nanoseconds: 0 };
    let mut finish = Finish { editor: Editor::of(&opened, store, now) };
    for number in waiting.all() {
        finish.one(number)?;
    }
    finish.clear_lists()?;
    finish.editor.finish_metadata().map(Some)
}

/// The inodes that wait to be deleted or cut.
pub(super) struct Waiting {
    /// Those of the orphan file.
    in_file: BTreeSet<u32>,
    all: BTreeSet<u32>,
}

impl Waiting {
    /// Those of the volume.
    ///
    /// # Errors
    /// When they cannot be read, or [`imbrik_store::Class::Corrupt`] when the list or the file is invalid.
    pub(super) fn of(opened: &Opened) -> Result<Self> {
        let superblock = &opened.superblock;
        let mut this = Self { in_file: BTreeSet::new(), all: BTreeSet::new() };
        this.all.extend(listed(opened)?);
        if superblock.orphan_file == 0 {
            return Ok(this);
        }
        let inode = opened.inode(superblock.orphan_file)?;
        for (number, _) in blocks_of_file(opened, &inode)? {
            let block = opened.meta.block(number)?;
            this.in_file.extend(orphan_file::entries(&block).iter().map(|(_, inode)| *inode));
        }
        // Systems set the flag at every writable mount, so it only has a meaning while it is not set.
        if !this.in_file.is_empty() && !superblock.has_orphans_in_file() {
            return Err(inode.wrong("the superblock calls this orphan file empty, and it is not"));
        }
        this.all.extend(&this.in_file);
        Ok(this)
    }

    /// Returns whether there are none.
    pub(super) fn is_empty(&self) -> bool {
        self.all.is_empty()
    }

    fn all(&self) -> impl Iterator<Item = u32> + '_ {
        self.all.iter().copied()
    }
}

/// Those of the list that starts in the superblock, in its order.
///
/// # Errors
/// As [`Waiting::of`].
pub(super) fn listed(opened: &Opened) -> Result<Vec<u32>> {
    let (mut list, mut seen) = (Vec::new(), BTreeSet::new());
    let mut next = opened.superblock.last_orphan;
    while next != 0 {
        if !seen.insert(next) {
            return Err(Error::corrupt("its list of orphans is circular"));
        }
        list.push(next);
        next = opened.inode(next)?.dtime();
    }
    Ok(list)
}

/// The blocks of the orphan file, which are valid, and the seed of its checksums.
fn blocks_of_file(opened: &Opened, inode: &RawInode) -> Result<Vec<(u64, Option<u32>)>> {
    let superblock = &opened.superblock;
    // Its blocks are counted when its own turn comes.
    let mut left = superblock.blocks;
    let map = map_of(&opened.meta, superblock, inode, &mut |run| {
        left = left.checked_sub(run.len).ok_or_else(|| inode.wrong("it is circular"))?;
        Ok(())
    })?;
    let seed = superblock.has_metadata_csum().then(|| inode.seed(superblock));
    let mut blocks = Vec::new();
    for piece in map.pieces {
        opened.meta.each(piece.physical, piece.len, |number, block| {
            if !orphan_file::is_sound(block, number, seed) {
                return Err(inode.wrong("a block of this orphan file is damaged"));
            }
            blocks.push((number, seed));
            Ok(())
        })?;
    }
    Ok(blocks)
}

struct Finish<'a> {
    editor: Editor<'a>,
}

impl<'a> Finish<'a> {
    fn superblock(&self) -> &'a Superblock {
        self.editor.space.superblock()
    }

    fn one(&mut self, number: u32) -> Result<()> {
        let inode = self.editor.space.opened.inode(number)?;
        if number < self.superblock().first_inode {
            return Err(inode.wrong("it is one of the volume's own, and waits to be deleted"));
        }
        match inode.links() {
            0 => self.editor.delete(&inode),
            _ => self.cut(inode),
        }
    }

    /// Completes the truncation of an inode: the blocks past its end are freed.
    fn cut(&mut self, mut inode: RawInode) -> Result<()> {
        let superblock = self.superblock();
        let kind = inode.map_kind(superblock)?;
        inode.put_u32(0x14, 0);
        if kind == MapKind::None {
            return self.put_inode(inode);
        }
        let map = self.editor.map_apart(&inode)?;
        let blocks = inode.size().div_ceil(superblock.block_len);
        let mut kept = map.clone();
        kept.cut(blocks);
        let mut goes = Bits::new(superblock.blocks);
        map.runs().for_each(|run| {
            goes.add(run);
        });
        let made = match kind {
            MapKind::Extents => {
                let count = trees::blocks_of_tree(kept.pieces.len(), superblock.block_len);
                kept.nodes.truncate(count);
                let places: Vec<u64> = kept.nodes.iter().map(|node| node.block).collect();
                let seed = inode.seed(superblock);
                trees::tree(&kept.pieces, &places, inode.i_block(), superblock, seed)?
            }
            _ => {
                let none = Moves::of(Vec::new());
                let meta = &self.editor.space.opened.meta;
                trees::indirect(meta, superblock, inode.i_block(), &none, blocks)?
            }
        };
        kept.runs().for_each(|run| goes.remove(run));
        let fewer = goes.count();
        for run in goes.runs(Run::new(0, superblock.blocks)) {
            for block in run.first..run.end() {
                self.editor.space.give_back(block)?;
            }
        }
        for (block, content) in made.blocks {
            self.editor.space.put_block(block, &content)?;
        }
        inode.put_i_block(&made.i_block);
        inode.put_blocks(inode.blocks(superblock)?.saturating_sub(fewer), superblock);
        let change = quota::Change {
            blocks: i64::try_from(fewer).unwrap_or(i64::MAX).saturating_neg(),
            inodes: 0,
        };
        quota::count(&mut self.editor.usage, &inode, superblock, change);
        self.clear_tail(&inode, &kept)?;
        self.put_inode(inode)
    }

    /// The rest of the last block after the end of a file must be zeros: they are visible when it grows.
    fn clear_tail(&mut self, inode: &RawInode, map: &Map) -> Result<()> {
        let block_len = self.superblock().block_len.max(1);
        let inside = inode.size().checked_rem(block_len).unwrap_or(0);
        let logical = inode.size().checked_div(block_len).unwrap_or(0);
        let piece = map.pieces.iter().find(|piece| {
            (piece.logical..piece.logical.saturating_add(piece.len)).contains(&logical)
        });
        let Some(piece) = piece.filter(|piece| inside > 0 && !piece.is_unwritten) else {
            return Ok(());
        };
        if !inode.is_file() || inode.is_encrypted() {
            return Ok(());
        }
        let block = piece.physical.saturating_add(logical.saturating_sub(piece.logical));
        let rest = usize::try_from(block_len.saturating_sub(inside)).unwrap_or(0);
        self.editor.space.put_in_block(block, usize::try_from(inside).unwrap_or(0), &vec![0; rest])
    }

    fn put_inode(&mut self, inode: RawInode) -> Result<()> {
        self.editor.space.put_inode(inode)
    }

    /// Nothing waits any more: in the superblock, nor in the orphan file.
    fn clear_lists(&mut self) -> Result<()> {
        let opened = self.editor.space.opened;
        if opened.superblock.orphan_file != 0 {
            let inode = opened.inode(opened.superblock.orphan_file)?;
            for (number, seed) in blocks_of_file(opened, &inode)? {
                let mut block = opened.meta.block(number)?.to_vec();
                let entries = orphan_file::entries(&block);
                if entries.is_empty() {
                    continue;
                }
                for (at, _) in entries {
                    let _ = bytes::put(&mut block, at, [0; 4]);
                }
                if let Some(seed) = seed {
                    orphan_file::seal(&mut block, number, seed)
                        .ok_or_else(|| inode.wrong("a block of this orphan file is damaged"))?;
                }
                self.editor.space.put_block(number, &block)?;
            }
        }
        let mut raw = self.editor.space.superblock_raw()?;
        let flags = bytes::le_u32(&raw, 0x64).unwrap_or(0) & !Superblock::ORPHAN_PRESENT;
        let _ = bytes::put(&mut raw, 0x64, flags.to_le_bytes());
        let _ = bytes::put(&mut raw, 0xe8, [0; 4]);
        self.superblock().seal(&mut raw);
        self.editor.space.put_bytes(ByteOffset::new(Superblock::OFFSET), &raw)
    }
}
