//! Replays fast commits on the volume after its last complete transaction.
//!
//! They record the blocks of files, so these are used; the blocks of folders and maps are not recorded, so new ones are
//! allocated, where no file will be. A file whose last name was removed is deleted later, like any orphan.

use super::{
    edit::{Editor, OpenInode, joined, with_a_map},
    fixed::Fixed,
    journal::{Change, Name},
    orphans, quota,
    structure::{
        Opened, attributes,
        inode::{CASEFOLD_FLAG, ENCRYPTED_FLAG, I_BLOCK, MapKind, RawInode},
        map::{EXTENT_MAGIC, Piece},
    },
    superblock::Superblock,
};
use crate::{
    bits::{Bits, Run},
    files::FileTime,
};
use imbrik_store::{
    Edited, ReadAt, bytes,
    error::{Error, Result},
    units::ByteOffset,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    ops::Range,
    sync::Arc,
};

/// The fields of an inode before its map, and the start of the recorded fields after it.
const FIELDS: Range<usize> = 0..0x28;
const MORE_FIELDS: usize = 0x64;
const GENERATION_AT: usize = 0x64;
/// The maximum number of blocks of a file.
const MOST_BLOCKS: u64 = 1 << 32;
/// More links than a folder counts: it counts none then.
const MOST_LINKS: u16 = 65_000;

/// The volume in `store` after `changes` are applied.
///
/// # Errors
/// - When the store cannot be read.
/// - [`imbrik_store::Class::Corrupt`] when they contradict the volume, and [`imbrik_store::Class::Unsupported`] for
///   unsupported changes.
pub(super) fn redone(store: &Arc<dyn ReadAt>, changes: &[Change]) -> Result<Edited> {
    let opened = Opened::of(Arc::clone(store))?;
    if opened.superblock.has_quota() {
        return Err(Error::unsupported("quota records are not updated for its fast commits"));
    }
    let fixed = Fixed::of(&opened.superblock, &opened.groups)?;
    let mut redo = Redo {
        editor: Editor::of(&opened, store, FileTime { seconds: 0, nanoseconds: 0 }),
        inodes: BTreeMap::new(),
        waiting: orphans::listed(&opened)?.into_iter().collect(),
        told: Bits::new(opened.superblock.blocks),
        free: Bits::new(opened.superblock.blocks),
    };
    redo.reserve(changes, &fixed)?;
    for change in changes {
        redo.one(change)?;
    }
    redo.finish()
}

fn damaged(what: &str) -> Error {
    Error::corrupt(format!("its fast commits contradict the volume: {what}"))
}

/// An inode that they name.
struct Inode {
    open: OpenInode,
    /// Its previous state in the volume; `None` if it is new, even if its number was used before.
    before: Option<RawInode>,
    /// True if its bitmap has the number in use.
    is_in_use: bool,
}

impl Inode {
    fn number(&self) -> u32 {
        self.open.inode.number
    }

    fn links(&self) -> u16 {
        self.open.inode.links()
    }

    fn put_links(&mut self, links: u16) {
        self.open.inode.put_links(links);
    }
}

struct Redo<'a> {
    editor: Editor<'a>,
    inodes: BTreeMap<u32, Inode>,
    /// The list of inodes that already wait to be deleted. They stay in it even if their number was reused: that does
    /// no harm to a file in use.
    waiting: BTreeSet<u32>,
    /// All blocks that were recorded for a file at any time, and those of them that no file has in the end. The bitmaps
    /// have all of them in use meanwhile.
    told: Bits,
    free: Bits,
}

impl<'a> Redo<'a> {
    fn superblock(&self) -> &'a Superblock {
        self.editor.space.superblock()
    }

    /// Reserves the blocks that files will get.
    fn reserve(&mut self, changes: &[Change], fixed: &Fixed) -> Result<()> {
        let superblock = self.superblock();
        for change in changes {
            let Change::Mapped { piece, .. } = change else { continue };
            let run = piece.run();
            let end = piece.logical.saturating_add(piece.len);
            let is_inside = (1..=MOST_BLOCKS).contains(&end)
                && run.len > 0
                && run.first >= superblock.first_data_block
                && run.end() <= superblock.blocks
                && !fixed.touches(run);
            if !is_inside {
                return Err(damaged("a file has blocks that are none of a file"));
            }
            for block in run.first..run.end() {
                if !self.told.contains(block) && self.editor.space.take_this(block)? {
                    self.free.add(Run::new(block, 1));
                }
            }
            self.told.add(run);
        }
        Ok(())
    }

    fn one(&mut self, change: &Change) -> Result<()> {
        match change {
            Change::Inode { number, raw } => self.put(*number, raw),
            Change::Mapped { inode, piece } => {
                let Some(mut one) = self.take_file(*inode)? else { return Ok(()) };
                self.map(&mut one, *piece)?;
                self.give_back(one);
                Ok(())
            }
            Change::Unmapped { inode, logical, len } => {
                let Some(mut one) = self.take_file(*inode)? else { return Ok(()) };
                self.unmap(&mut one, *logical..logical.saturating_add(*len))?;
                self.give_back(one);
                Ok(())
            }
            Change::Created(name) => self.name(name, true),
            Change::Linked(name) => self.name(name, false),
            Change::Unlinked(name) => self.unname(name),
        }
    }

    /// Takes an inode out of those at work; `None` when it is not in use.
    fn take(&mut self, number: u32) -> Result<Option<Inode>> {
        if let Some(known) = self.inodes.remove(&number) {
            return Ok(Some(known));
        }
        if !self.editor.space.is_inode_used(number)? {
            return Ok(None);
        }
        let inode = self.editor.space.opened.inode(number)?;
        if inode.flags() & (CASEFOLD_FLAG | ENCRYPTED_FLAG) != 0 {
            return Err(Error::unsupported(
                "its fast commits concern encrypted or case-insensitive folders",
            ));
        }
        let before = Some(inode.clone());
        Ok(Some(Inode { open: self.editor.open(inode)?, before, is_in_use: true }))
    }

    /// The same for an inode with separate blocks.
    fn take_file(&mut self, number: u32) -> Result<Option<Inode>> {
        let Some(one) = self.take(number)? else { return Ok(None) };
        match one.open.inode.map_kind(self.superblock())? {
            MapKind::Extents => Ok(Some(one)),
            _ => Err(Error::unsupported("its fast commits speak of a file without extents")),
        }
    }

    fn give_back(&mut self, one: Inode) {
        self.inodes.insert(one.number(), one);
    }

    /// An inode's own fields.
    fn put(&mut self, number: u32, raw: &[u8]) -> Result<()> {
        let superblock = self.superblock();
        let len = usize::try_from(superblock.inode_len).unwrap_or(0);
        let is_one = number >= superblock.first_inode && u64::from(number) <= superblock.inodes();
        if !is_one || raw.len() > len {
            return Err(damaged(&format!("inode {number} is not an inode of a file")));
        }
        let generation = bytes::le_u32(raw, GENERATION_AT);
        let mut one = match self.take(number)? {
            Some(known) if Some(known.open.inode.generation()) == generation => known,
            Some(other) => {
                self.forget(&other)?;
                self.fresh(number, len, other.is_in_use)
            }
            None => self.fresh(number, len, false),
        };
        if one.open.inode.is_folder() {
            // Folders are described by the names in them.
            self.give_back(one);
            return Ok(());
        }
        let was_inline = one.open.inode.is_inline();
        let inode = &mut one.open.inode;
        let acl = inode.file_acl(superblock);
        let put = |to: &mut [u8], range: Range<usize>| {
            if let (Some(to), Some(from)) = (to.get_mut(range.clone()), raw.get(range)) {
                to.copy_from_slice(from);
            }
        };
        put(&mut inode.raw, FIELDS);
        put(&mut inode.raw, MORE_FIELDS..raw.len());
        inode.put_u32(
            0x14,
            match self.waiting.contains(&number) {
                true => self.editor.space.opened.inode(number)?.dtime(),
                false => 0,
            },
        );
        if inode.file_acl(superblock) != acl || inode.is_attribute_value() {
            return Err(Error::unsupported("its fast commits change attributes"));
        }
        if was_inline && !inode.is_inline() {
            attributes::remove_inline_data(inode)
                .ok_or_else(|| inode.wrong("its attributes are invalid"))?;
        }
        match inode.map_kind(superblock)? {
            MapKind::Extents if bytes::le_u16(inode.i_block(), 0) != Some(EXTENT_MAGIC) => {
                inode.put_i_block(&[0; I_BLOCK.end.saturating_sub(I_BLOCK.start)]);
                with_a_map(inode, superblock)?;
            }
            MapKind::Extents => {}
            // A device, the target of a link, or content.
            MapKind::None => put(&mut inode.raw, I_BLOCK),
            MapKind::Indirect if one.before.is_none() => {
                return Err(Error::unsupported("its fast commits make a file without extents"));
            }
            MapKind::Indirect => {}
        }
        self.give_back(one);
        Ok(())
    }

    fn fresh(&self, number: u32, len: usize, is_in_use: bool) -> Inode {
        let inode = RawInode { number, raw: vec![0; len] };
        Inode { open: OpenInode::empty(inode), before: None, is_in_use }
    }

    /// Frees the blocks of an inode whose number was reused.
    fn forget(&mut self, one: &Inode) -> Result<()> {
        let inode = &one.open.inode;
        let opened = self.editor.space.opened;
        if inode.file_acl(self.superblock()) != 0 || quota::values_of(opened, inode)? > 0 {
            return Err(Error::unsupported("its fast commits reuse an inode number"));
        }
        for piece in &one.open.pieces {
            self.release(piece.run())?;
        }
        if let Some(before) = &one.before {
            for node in one.open.nodes() {
                self.release(Run::new(node, 1))?;
            }
            if before.is_folder() {
                self.editor.space.count_folder(one.number(), false)?;
            }
        }
        Ok(())
    }

    fn release(&mut self, run: Run) -> Result<()> {
        for block in run.first..run.end() {
            match self.told.contains(block) {
                true => {
                    self.free.add(Run::new(block, 1));
                }
                false => self.editor.space.give_back(block)?,
            }
        }
        Ok(())
    }

    fn own(&mut self, run: Run) -> Result<()> {
        if self.free.count_in(run) != run.len {
            return Err(damaged("a file gets blocks that are another's"));
        }
        self.free.remove(run);
        Ok(())
    }

    /// Maps an extent of a file.
    fn map(&mut self, one: &mut Inode, piece: Piece) -> Result<()> {
        let mut at = piece.logical;
        let end = piece.logical.saturating_add(piece.len);
        let place =
            |logical: u64| piece.physical.saturating_add(logical.saturating_sub(piece.logical));
        for was in cut(&one.open.pieces, at..end) {
            self.own(Run::new(place(at), was.logical.saturating_sub(at)))?;
            if was.physical != place(was.logical) {
                self.own(Run::new(place(was.logical), was.len))?;
                self.release(was.run())?;
            }
            at = was.logical.saturating_add(was.len);
        }
        self.own(Run::new(place(at), end.saturating_sub(at)))?;
        let mut pieces = outside(&one.open.pieces, piece.logical..end);
        pieces.push(piece);
        pieces.sort_unstable_by_key(|piece| piece.logical);
        one.open.pieces = joined(pieces);
        Ok(())
    }

    /// Has a part of a file be a hole.
    fn unmap(&mut self, one: &mut Inode, hole: Range<u64>) -> Result<()> {
        for was in cut(&one.open.pieces, hole.clone()) {
            self.release(was.run())?;
        }
        one.open.pieces = outside(&one.open.pieces, hole);
        Ok(())
    }

    /// Opens a folder to which a name is added or from which one is removed; `None` if it does not exist.
    fn take_folder(&mut self, number: u32) -> Result<Option<Inode>> {
        let found = self.take(number)?.filter(|folder| folder.links() > 0);
        Ok(found.filter(|folder| folder.open.inode.is_folder()))
    }

    /// Gives an inode a name.
    fn name(&mut self, name: &Name, is_new: bool) -> Result<()> {
        let missing = |number: u32| damaged(&format!("inode {number} does not exist"));
        let mut one = self.take(name.inode)?.ok_or_else(|| missing(name.inode))?;
        let folder = self.take_folder(name.folder)?;
        let mut folder = folder.ok_or_else(|| missing(name.folder))?;
        if self.editor.look_up(&folder.open, &name.name)?.is_none() {
            let is_folder = one.open.inode.is_folder();
            if is_folder && !is_new {
                return Err(damaged("a folder gets a second name"));
            }
            if is_folder {
                self.editor.begin_folder(&mut one.open, name.folder)?;
                let more = match folder.links() {
                    1 => 1,
                    MOST_LINKS.. => 1,
                    links => links.saturating_add(1),
                };
                folder.put_links(more);
            }
            self.editor.add_entry(&mut folder.open, &name.name, &one.open.inode)?;
            touch(&mut folder.open.inode, &one.open.inode);
            one.put_links(match (is_folder, is_new) {
                (true, _) => 2,
                (false, true) => 1,
                (false, false) => one.links().saturating_add(1),
            });
        }
        self.give_back(folder);
        self.give_back(one);
        Ok(())
    }

    /// Takes a name from an inode.
    fn unname(&mut self, name: &Name) -> Result<()> {
        let Some(mut one) = self.take(name.inode)? else { return Ok(()) };
        let Some(mut folder) = self.take_folder(name.folder)? else {
            self.give_back(one);
            return Ok(());
        };
        let found = self.editor.look_up(&folder.open, &name.name)?;
        if found == Some(name.inode) {
            self.editor.remove_entry(&mut folder.open, &name.name)?;
            touch(&mut folder.open.inode, &one.open.inode);
        }
        match one.open.inode.is_folder() {
            _ if found.is_none() || one.links() == 0 => {}
            true => {
                one.put_links(0);
                if folder.links() > 2 {
                    folder.put_links(folder.links().saturating_sub(1));
                }
            }
            // Another inode has that name now, and did not take it from this one.
            false => one.put_links(one.links().saturating_sub(1)),
        }
        self.give_back(folder);
        self.give_back(one);
        Ok(())
    }

    /// Writes all inodes, and has those without a name wait to be deleted.
    fn finish(mut self) -> Result<Edited> {
        let mut raw = self.editor.space.superblock_raw()?;
        let mut last_orphan = bytes::le_u32(&raw, 0xe8).unwrap_or(0);
        for (number, mut one) in std::mem::take(&mut self.inodes) {
            let is_gone = one.links() == 0;
            if is_gone && !one.is_in_use {
                for piece in &one.open.pieces {
                    self.release(piece.run())?;
                }
                continue;
            }
            let is_folder = one.open.inode.is_folder();
            match (&one.before, one.is_in_use) {
                (Some(_), _) => {}
                (None, true) if is_folder => self.editor.space.count_folder(number, true)?,
                (None, true) => {}
                (None, false) => self.editor.space.take_this_inode(number, is_folder)?,
            }
            if is_gone && !self.waiting.contains(&number) {
                one.open.inode.put_u32(0x14, last_orphan);
                last_orphan = number;
            }
            self.editor.close(one.open)?;
        }
        // Blocks that a file had for a time, and no file has in the end.
        let all = Run::new(0, self.free.len());
        for run in self.free.runs(all).collect::<Vec<_>>() {
            for block in run.first..run.end() {
                self.editor.space.give_back(block)?;
            }
        }
        let _ = bytes::put(&mut raw, 0xe8, last_orphan.to_le_bytes());
        self.superblock().seal(&mut raw);
        self.editor.space.put_bytes(ByteOffset::new(Superblock::OFFSET), &raw)?;
        self.editor.finish_metadata()
    }
}

/// A folder changed when a name in it was added or removed: it gets the change time of that inode, in nanoseconds.
fn touch(folder: &mut RawInode, inode: &RawInode) {
    let seconds = bytes::le_u32(&inode.raw, 0xc).unwrap_or(0);
    folder.put_u32(0xc, seconds);
    folder.put_u32(0x10, seconds);
    if folder.extra_len().is_some_and(|len| len >= 0x1c) {
        let rest = bytes::le_u32(&inode.raw, 0x84).unwrap_or(0);
        folder.put_u32(0x84, rest);
        folder.put_u32(0x88, rest);
    }
}

/// The parts of `pieces` within `range` of the file.
fn cut(pieces: &[Piece], range: Range<u64>) -> Vec<Piece> {
    let parts = pieces.iter().filter_map(|piece| {
        let start = piece.logical.max(range.start);
        let end = piece.logical.saturating_add(piece.len).min(range.end);
        let ahead = start.saturating_sub(piece.logical);
        (start < end).then(|| Piece {
            logical: start,
            physical: piece.physical.saturating_add(ahead),
            len: end.saturating_sub(start),
            ..*piece
        })
    });
    parts.collect()
}

/// The parts of `pieces` outside of `range`, in order.
fn outside(pieces: &[Piece], range: Range<u64>) -> Vec<Piece> {
    let mut parts = cut(pieces, 0..range.start);
    parts.extend(cut(pieces, range.end..u64::MAX));
    parts
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ext4::resize::check_blocks;
    use imbrik_store::{
        FileStore, SparseStore, error::Class, progress::Cancel, read_vec, units::ByteLen,
    };
    use proptest::prelude::*;
    use std::{process::Command, sync::OnceLock};

    /// A volume of 8 MiB with some files, in memory.
    fn volume() -> Arc<dyn ReadAt> {
        static BYTES: OnceLock<Vec<u8>> = OnceLock::new();
        let bytes = BYTES.get_or_init(|| {
            let dir = tempfile::tempdir().unwrap();
            let line = "mkdir -p f/hive f/brood; for n in 1 2 3 4 5 6; do head -c ${n}0000 /dev/zero \
                        | tr '\\0' $n > f/hive/$n; done; ln f/hive/1 f/brood/same; \
                        PATH=$PATH:/sbin:/usr/sbin mke2fs -q -t ext4 -b 1024 -O inline_data \
                        -d f v 8M";
            let done = Command::new("sh").args(["-c", line]).current_dir(dir.path()).status();
            assert!(done.unwrap().success(), "mke2fs: ./test installs it");
            let store = FileStore::open(&dir.path().join("v")).unwrap();
            read_vec(&store, ByteOffset::ZERO, ByteLen::mib(8).to_usize().unwrap()).unwrap()
        });
        Arc::new(SparseStore::of(bytes))
    }

    fn change() -> impl Strategy<Value = Change> {
        let inode = || 10u32..30;
        let name = (inode(), inode(), prop_oneof![Just("1"), Just("6"), Just("new"), Just("same")])
            .prop_map(|(folder, inode, name)| Name {
                folder,
                inode,
                name: name.as_bytes().to_vec(),
            });
        let fields = (inode(), any::<u16>(), 0u16..3, 0u32..4, any::<bool>());
        prop_oneof![
            fields.prop_map(|(number, mode, links, generation, is_tree)| {
                let mut raw = vec![0; 160];
                raw[..2].copy_from_slice(&mode.to_le_bytes());
                raw[0x1a..0x1c].copy_from_slice(&links.to_le_bytes());
                raw[0x22] = if is_tree { 8 } else { 0 };
                raw[0x64] = generation as u8;
                raw[0x80] = 32;
                Change::Inode { number, raw }
            }),
            (inode(), 0u64..40, 0u64..9000, 1u64..20, any::<bool>()).prop_map(
                |(inode, logical, physical, len, is_unwritten)| {
                    let piece = Piece { logical, physical, len, is_unwritten };
                    Change::Mapped { inode, piece }
                }
            ),
            (inode(), 0u64..40, 0u64..1 << 32).prop_map(|(inode, logical, len)| Change::Unmapped {
                inode,
                logical,
                len
            }),
            name.clone().prop_map(Change::Created),
            name.clone().prop_map(Change::Linked),
            name.prop_map(Change::Unlinked),
        ]
    }

    #[test]
    fn fast_commits_give_a_consistent_volume_or_are_refused() {
        let (mut done, mut refused) = (0, 0);
        let mut runner = proptest::test_runner::TestRunner::new(ProptestConfig::with_cases(300));
        let lists = proptest::collection::vec(change(), 1..12);
        let outcome = std::cell::RefCell::new((&mut done, &mut refused));
        let run = runner.run(&lists, |changes| {
            let store = volume();
            let mut counts = outcome.borrow_mut();
            match redone(&store, &changes) {
                Ok(redone) => {
                    *counts.0 += 1;
                    let store: Arc<dyn ReadAt> = Arc::new(redone);
                    let newer = crate::ext4::superblock::RawSuperblock::read(&*store);
                    let newer = newer.unwrap().unwrap().verified(store.size()).unwrap();
                    let _ = super::super::orphans::finished(&store, &newer);
                    let _ = check_blocks(store, &Cancel::new());
                }
                Err(error) => {
                    *counts.1 += 1;
                    let class = error.class();
                    let is_said =
                        matches!(class, Class::Corrupt | Class::Unsupported | Class::NoRoom);
                    prop_assert!(is_said, "{}", error);
                }
            }
            Ok(())
        });
        run.unwrap();
        assert!(done > 10 && refused > 10, "{done} done, {refused} refused");
    }

    #[test]
    fn ranges_are_removed_from_a_file() {
        let piece = |logical, physical, len| Piece { logical, physical, len, is_unwritten: false };
        let pieces = [piece(0, 100, 10), piece(20, 300, 5)];
        assert_eq!(cut(&pieces, 8..22), [piece(8, 108, 2), piece(20, 300, 2)]);
        assert_eq!(outside(&pieces, 8..22), [piece(0, 100, 8), piece(22, 302, 3)]);
        assert_eq!(outside(&pieces, 10..20), pieces);
    }
}
