//! Adding, removing and renaming files of a volume.
//!
//! An existing file keeps its inode, and with it its owner, mode and attributes; new content is written to other blocks
//! than the old. A hashed folder keeps its index.

mod attributes;
mod content;
mod delete;
mod folders;
mod index;
mod inherited_acl;
mod inline;
mod make;
mod open;
mod paths;

use crate::{
    edit::{Contents, EditOptions, EditedVolume, FileEdit, shortfall},
    ext4::{
        fixed::Fixed,
        quota,
        space::Space,
        structure::{
            Opened,
            inode::{RawInode, low_u32},
            map::Piece,
        },
        superblock::Superblock,
    },
    files::FileTime,
};
use imbrik_store::{
    Edited, ReadAt, bytes,
    error::{Error, Result},
    exact::Exact as _,
    read_vec,
    units::ByteOffset,
};
pub(super) use inline::with_a_map;
pub(super) use open::{OpenInode, joined};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

/// The volume in `store` with `edits` done to its files.
///
/// # Errors
/// - When the store cannot be read.
/// - [`imbrik_store::Class::Unsupported`] for unsupported volumes and files, [`imbrik_store::Class::Corrupt`] for
///   invalid metadata, [`imbrik_store::Class::NoRoom`] when no block or inode is free.
pub(crate) fn edit(
    store: &Arc<dyn ReadAt>,
    edits: &[FileEdit],
    options: EditOptions,
) -> Result<EditedVolume> {
    let opened = Opened::of(Arc::clone(store))?;
    let mut editor = Editor::of(&opened, store, options.now);
    if options.keeps_old {
        editor.space.keep_old();
    }
    for (index, edit) in edits.iter().enumerate() {
        let free = editor.space.free_blocks();
        editor.apply(edit).map_err(|error| {
            let rest = edits.get(index..).unwrap_or_default();
            let block_len = editor.superblock().block_len;
            shortfall(error, rest, free, block_len).at(edit.place())
        })?;
    }
    editor.finish()
}

/// Sets the write time of the superblock to `now`, in seconds since 1970, even if it is earlier, as the kernel does:
/// comparisons with an earlier state use it.
fn written_at(draft: &mut Edited, superblock: &Superblock, now: u64) -> Result<()> {
    let at = ByteOffset::new(Superblock::OFFSET);
    let mut raw = read_vec(&*draft, at, Superblock::LEN)?;
    let high = u8::try_from(now >> 32).unwrap_or(u8::MAX);
    let _ = bytes::put(&mut raw, 0x30, low_u32(now).to_le_bytes());
    let _ = bytes::put(&mut raw, 0x274, [high]);
    superblock.seal(&mut raw);
    draft.put(at, &raw)
}

/// A volume whose inodes are changed.
pub(super) struct Editor<'a> {
    pub(super) space: Space<'a>,
    /// The change time of changed inodes.
    now: FileTime,
    /// The change of each owner's usage.
    pub(super) usage: BTreeMap<quota::Owner, quota::Change>,
    /// The inodes that were changed, or are new. They are written when all is done.
    inodes: BTreeMap<u32, OpenInode>,
    /// The folders that paths led through: their inodes.
    paths: BTreeMap<Vec<Vec<u8>>, u32>,
    /// The blocks of the volume's own metadata, once they are needed.
    fixed: Option<Fixed>,
    /// The deleted inodes.
    gone: BTreeSet<u32>,
}

impl<'a> Editor<'a> {
    /// Nothing changed so far.
    pub(super) fn of(opened: &'a Opened, store: &Arc<dyn ReadAt>, now: FileTime) -> Self {
        Self {
            space: Space::of(opened, store),
            now,
            usage: BTreeMap::new(),
            inodes: BTreeMap::new(),
            paths: BTreeMap::new(),
            fixed: None,
            gone: BTreeSet::new(),
        }
    }

    /// The volume with all that was changed in it but content.
    ///
    /// # Errors
    /// When the store cannot be read, or what counts for owners is invalid.
    pub(super) fn finish_metadata(mut self) -> Result<Edited> {
        let usage = std::mem::take(&mut self.usage);
        quota::follow(self.space.opened, &mut self, &usage)?;
        // Quota files that became longer.
        for (_, open) in std::mem::take(&mut self.inodes) {
            self.close(open)?;
        }
        self.space.finish()
    }

    /// The volume with all that was changed.
    fn finish(mut self) -> Result<EditedVolume> {
        let mut contents = Contents::default();
        for (_, mut open) in std::mem::take(&mut self.inodes) {
            if let Some(content) = open.content.take() {
                for piece in &open.pieces {
                    let wrong = || Error::bug("file content has an invalid block number");
                    let span = self.superblock().span(piece.physical, piece.len);
                    let from = self.space.place(piece.logical);
                    contents.put(span.ok_or_else(wrong)?, &content, from);
                }
            }
            self.close(open)?;
        }
        self.space.clear_freed(&mut contents)?;
        let (superblock, now) = (self.superblock(), self.now.seconds.unsigned_abs());
        let mut draft = self.finish_metadata()?;
        written_at(&mut draft, superblock, now)?;
        Ok(EditedVolume::of(draft, &contents))
    }

    fn superblock(&self) -> &'a Superblock {
        self.space.superblock()
    }

    /// The modification time, clamped to the range of the old fields.
    fn seconds(&self) -> u32 {
        low_u32(self.now.seconds.unsigned_abs())
    }

    /// Sets the change time of an inode to now.
    fn touch(&self, inode: &mut RawInode) {
        inode.put_changed(self.now);
        inode.put_modified(self.now);
    }

    /// The preferred block for the content of an inode: the first one of its group.
    fn home_of(&self, number: u32) -> u64 {
        let index = u64::from(number.saturating_sub(1));
        let group = index.checked_div(self.superblock().inodes_per_group);
        self.superblock().group_start(group.unwrap_or(0))
    }

    /// Takes an inode out of those at work, or opens it.
    ///
    /// # Errors
    /// When it does not exist, or its map is invalid.
    fn take(&mut self, number: u32) -> Result<OpenInode> {
        match self.inodes.remove(&number) {
            Some(open) => Ok(open),
            None if self.gone.contains(&number) => {
                Err(Error::corrupt(format!("inode {number} is gone, and still has a name")))
            }
            None => self.open(self.space.opened.inode(number)?),
        }
    }

    /// Returns an inode that was opened.
    fn keep(&mut self, open: OpenInode) {
        self.inodes.insert(open.inode.number, open);
    }

    /// The present state of an inode.
    ///
    /// # Errors
    /// As [`Editor::take`].
    fn peek(&mut self, number: u32) -> Result<&mut OpenInode> {
        let open = self.take(number)?;
        Ok(self.inodes.entry(number).or_insert(open))
    }
}

impl quota::QuotaBlocks for Editor<'_> {
    fn place_of(&self, block: u64) -> u64 {
        block
    }

    fn block_at(&self, place: u64) -> Result<Vec<u8>> {
        self.space.block(place)
    }

    fn put_at(&mut self, place: u64, inside: usize, bytes: &[u8]) -> Result<()> {
        self.space.put_in_block(place, inside, bytes)
    }

    fn extend(&mut self, inode: u32, size: u64) -> Result<Vec<Piece>> {
        let mut open = self.take(inode)?;
        let mut blocks = open.blocks();
        let block_len = self.superblock().block_len;
        let zeros = vec![0; self.space.block_len()];
        while blocks.len().exact_as::<u64>()?.times(block_len)? < size {
            let near = blocks.last().copied().unwrap_or_else(|| self.home_of(inode));
            let block = self.space.take(near)?;
            self.space.put_block(block, &zeros)?;
            blocks.push(block);
        }
        open.put_blocks(&blocks);
        open.inode.put_size(size);
        let pieces = open.pieces.clone();
        self.keep(open);
        Ok(pieces)
    }
}
