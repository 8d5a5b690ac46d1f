//! Reading the files of a volume: the implementation of [`Files`].
//!
//! It uses the same parsers of inodes, maps, folders and attributes as the code that changes a volume. A wrong checksum
//! ends that code, but here it is reported, and reading continues: a user who needs files from a damaged card wants
//! everything that is readable.

use super::{
    group::Group,
    structure::{
        attributes,
        folder::{self, NamedInode},
        group_of,
        inode::{I_BLOCK, MapKind, ROOT, RawInode},
        inode_in,
        map::{self, MapVisit, Node, Piece},
        metadata_cache::MetadataCache,
        values::{in_inode, value_of},
    },
    superblock::Superblock,
};
use crate::{
    bits::Run,
    files::{
        EachEntry, EachStretch, FileAttribute, FileId, FileInfo, FileKind, Files, FolderEntry,
        Stretch,
    },
};
use imbrik_store::{
    ReadAt,
    error::{Error, Result},
};
use std::{
    cell::RefCell,
    collections::{BTreeMap, BTreeSet},
    ops::ControlFlow,
};

/// Faults that are noted; more than these say nothing new.
const MOST_FAULTS: usize = 100;

/// A volume whose files are read.
pub(super) struct Reader<'a> {
    blocks: MetadataCache<&'a dyn ReadAt>,
    superblock: Superblock,
    groups: RefCell<BTreeMap<u64, Group>>,
    faults: RefCell<Vec<String>>,
}

impl<'a> Reader<'a> {
    /// The volume in `store`, with the superblock `superblock`.
    pub(super) fn new(store: &'a dyn ReadAt, superblock: Superblock) -> Self {
        Self {
            blocks: MetadataCache::new(store, superblock.block_len),
            superblock,
            groups: RefCell::default(),
            faults: RefCell::default(),
        }
    }

    fn note(&self, fault: &Error) {
        let mut faults = self.faults.borrow_mut();
        let text = fault.to_string();
        if faults.len() < MOST_FAULTS && !faults.contains(&text) {
            faults.push(text);
        }
    }

    fn group(&self, number: u64) -> Result<Group> {
        if let Some(known) = self.groups.borrow().get(&number) {
            return Ok(known.clone());
        }
        let group = Group::read(*self.blocks.store(), &self.superblock, number)?;
        self.groups.borrow_mut().insert(number, group.clone());
        Ok(group)
    }

    fn inode(&self, file: FileId) -> Result<RawInode> {
        let number = u32::try_from(file.number).unwrap_or(0);
        let group = self.group(group_of(&self.superblock, number))?;
        let inode = inode_in(&self.blocks, &self.superblock, &group, number)?;
        if let Err(fault) = inode.check(&self.superblock) {
            self.note(&fault);
        }
        Ok(inode)
    }

    /// Calls `each` with every written piece of an inode's content.
    fn pieces(
        &self,
        inode: &RawInode,
        each: &mut dyn FnMut(Piece) -> Result<ControlFlow<()>>,
    ) -> Result<()> {
        let mut look = Look { reader: self, inode, nodes: BTreeSet::new(), each };
        map::walk(&self.blocks, &self.superblock, inode, &mut look)
    }

    /// Calls `each` with the entries in a block of a folder, or in its inline data.
    fn entries_in(
        &self,
        inode: &RawInode,
        block: &[u8],
        start: usize,
        each: EachEntry<'_>,
    ) -> Result<ControlFlow<()>> {
        for entry in folder::each_entry(block, start) {
            let Some(NamedInode { inode: number, name, .. }) = entry else {
                self.note(&inode.wrong("a block of the folder is invalid"));
                break;
            };
            if matches!(name, b"." | b"..") {
                continue;
            }
            let flow = each(FolderEntry { name, file: FileId::of(number.into()) })?;
            if flow.is_break() {
                return Ok(flow);
            }
        }
        Ok(ControlFlow::Continue(()))
    }

    /// The inline content of an inode: the part in place of its map, and the rest in an attribute.
    fn inline<'b>(&self, inode: &'b RawInode) -> [&'b [u8]; 2] {
        let more = attributes::inline_data(inode).and_then(|range| inode.raw.get(range));
        [inode.i_block(), more.unwrap_or_default()]
    }

    /// Adds the attributes of a list, those that the filesystem keeps for itself left out.
    fn take_attributes(
        &self,
        inode: &RawInode,
        list: &[attributes::Attribute<'_>],
        all: &mut Vec<FileAttribute>,
    ) -> Result<()> {
        for one in list {
            let Some(name) = one.full_name() else { continue };
            let value = match one.inode {
                0 => one.value.to_vec(),
                number => {
                    let inode = self.inode(FileId::of(number.into()))?;
                    let value = value_of(&self.blocks, &self.superblock, &inode)?;
                    value.ok_or_else(|| inode.wrong("it holds no value of an attribute"))?
                }
            };
            let value = match one.is_acl() {
                true => attributes::told_acl(&value)
                    .ok_or_else(|| inode.wrong("an access control list is invalid"))?,
                false => value,
            };
            all.push(FileAttribute { name, value });
        }
        Ok(())
    }
}

impl Files for Reader<'_> {
    fn root(&self) -> FileId {
        FileId::of(ROOT.into())
    }

    fn entries(&self, folder: FileId, each: EachEntry<'_>) -> Result<()> {
        let inode = self.inode(folder)?;
        if !inode.is_folder() {
            return Err(inode.wrong("it is no folder"));
        }
        if inode.is_encrypted() {
            return Err(Error::unsupported("the names in it are encrypted"));
        }
        if inode.is_inline() {
            let [first, more] = self.inline(&inode);
            if self.entries_in(&inode, first, folder::INLINE, each)?.is_continue() {
                let _ = self.entries_in(&inode, more, 0, each)?;
            }
            return Ok(());
        }
        let seed = inode.seed(&self.superblock);
        let end = inode.size().div_ceil(self.superblock.block_len);
        self.pieces(&inode, &mut |piece| {
            let behind = piece.logical.saturating_add(piece.len).min(end);
            let count = behind.saturating_sub(piece.logical);
            for number in piece.physical..piece.physical.saturating_add(count) {
                let block = self.blocks.block(number)?;
                if self.superblock.has_metadata_csum() && !folder::is_sound(&block, seed) {
                    self.note(&inode.wrong("a block of the folder has a wrong checksum"));
                }
                let flow = self.entries_in(&inode, &block, 0, each)?;
                if flow.is_break() {
                    return Ok(flow);
                }
            }
            Ok(ControlFlow::Continue(()))
        })
    }

    fn info(&self, file: FileId) -> Result<FileInfo> {
        let inode = self.inode(file)?;
        let kind = inode.kind().ok_or_else(|| inode.wrong("its file type is invalid"))?;
        Ok(FileInfo {
            kind,
            size: inode.size(),
            links: inode.links().into(),
            ownership: Some(inode.ownership()),
            flags: inode.user_flags(),
            modified: inode.modified(),
            accessed: inode.accessed(),
            changed: inode.changed(),
            created: inode.created(),
        })
    }

    fn content(&self, file: FileId, each: EachStretch<'_>) -> Result<()> {
        let inode = self.inode(file)?;
        if inode.is_encrypted() {
            return Err(Error::unsupported("its content is encrypted"));
        }
        if inode.is_inline() {
            let [first, more] = self.inline(&inode);
            if each(0, Stretch::Here(first))?.is_continue() {
                let behind = u64::try_from(I_BLOCK.len()).unwrap_or(0);
                let _ = each(behind, Stretch::Here(more))?;
            }
            return Ok(());
        }
        if inode.kind() == Some(FileKind::Link)
            && inode.map_kind(&self.superblock)? == MapKind::None
        {
            let len = usize::try_from(inode.size()).unwrap_or(usize::MAX);
            let target = inode.i_block().get(..len);
            let target = target.ok_or_else(|| inode.wrong("its target is too long"))?;
            return each(0, Stretch::Here(target)).map(|_| ());
        }
        let block_len = self.superblock.block_len;
        self.pieces(&inode, &mut |piece| {
            let at = piece.logical.checked_mul(block_len);
            let span = self.superblock.span(piece.physical, piece.len);
            let (at, span) = at.zip(span).ok_or_else(|| inode.wrong("its map leads outside"))?;
            each(at, Stretch::InVolume(span))
        })
    }

    fn attributes(&self, file: FileId) -> Result<Vec<FileAttribute>> {
        let inode = self.inode(file)?;
        let wrong = || inode.wrong("its attributes are invalid");
        let mut all = Vec::new();
        self.take_attributes(&inode, &in_inode(&inode).ok_or_else(wrong)?, &mut all)?;
        let number = inode.file_acl(&self.superblock);
        if number != 0 {
            let block = self.blocks.block(number)?;
            if attributes::sharers(&block, number, &self.superblock).is_none() {
                self.note(&inode.wrong("the block of its attributes has a wrong checksum"));
            }
            let list = attributes::list(&block, attributes::IN_BLOCK, 0).ok_or_else(wrong)?;
            self.take_attributes(&inode, &list, &mut all)?;
        }
        Ok(all)
    }

    fn faults(&self) -> Vec<String> {
        self.faults.borrow().clone()
    }

    fn store(&self) -> &dyn ReadAt {
        *self.blocks.store()
    }
}

/// A tolerant walk through a map: no block of the map twice, and none outside of the volume.
struct Look<'a, 'b> {
    reader: &'a Reader<'b>,
    inode: &'a RawInode,
    nodes: BTreeSet<u64>,
    each: &'a mut dyn FnMut(Piece) -> Result<ControlFlow<()>>,
}

impl MapVisit for Look<'_, '_> {
    fn own(&mut self, run: Run) -> Result<()> {
        match run.end() <= self.reader.superblock.blocks {
            true => Ok(()),
            false => Err(self.inode.wrong("its map leads outside")),
        }
    }

    fn node(&mut self, node: Node) -> Result<()> {
        match self.nodes.insert(node.block) {
            true => Ok(()),
            false => Err(self.inode.wrong("its map names a block twice")),
        }
    }

    fn piece(&mut self, piece: Piece) -> Result<ControlFlow<()>> {
        match piece.is_unwritten {
            true => Ok(ControlFlow::Continue(())),
            false => (self.each)(piece),
        }
    }

    fn fault(&mut self, fault: Error) -> Result<()> {
        self.reader.note(&fault);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_store::{
        SparseStore, WriteAt, bytes,
        units::{ByteLen, ByteOffset},
    };

    /// A volume of 64 blocks of 1 KiB, without a file.
    fn superblock() -> Superblock {
        let mut raw = vec![0; Superblock::LEN];
        for (at, value) in [(0x4, 64u32), (0x14, 1), (0x20, 8192), (0x28, 16), (0x4c, 1)] {
            raw[at..at + 4].copy_from_slice(&value.to_le_bytes());
        }
        raw[0x38..0x3a].copy_from_slice(&[0x53, 0xef]);
        raw[0x59] = 1;
        Superblock::of_test(&raw)
    }

    fn put(store: &SparseStore, block: u64, numbers: &[u32]) {
        let bytes: Vec<u8> = numbers.iter().flat_map(|number| number.to_le_bytes()).collect();
        store.write_at(ByteOffset::new(block * 1024), &bytes).unwrap();
    }

    /// A file with the map `numbers`.
    fn file(flags: u32, numbers: &[u32]) -> RawInode {
        let mut inode = RawInode { number: 12, raw: vec![0; 128] };
        bytes::put(&mut inode.raw, 0, 0x81a4u16.to_le_bytes()).unwrap();
        inode.put_flags(flags);
        let mut map: Vec<u8> = numbers.iter().flat_map(|number| number.to_le_bytes()).collect();
        map.resize(60, 0);
        inode.put_i_block(&map);
        inode
    }

    fn pieces(store: &SparseStore, inode: &RawInode) -> Result<Vec<(u64, u64, u64)>> {
        let reader = Reader::new(store, superblock());
        let mut all = Vec::new();
        reader.pieces(inode, &mut |piece| {
            all.push((piece.logical, piece.physical, piece.len));
            Ok(ControlFlow::Continue(()))
        })?;
        Ok(all)
    }

    #[test]
    fn indirect_map_keeps_holes_and_joins_runs() {
        let store = SparseStore::new(ByteLen::kib(64));
        let mut numbers = [0u32; 15];
        (numbers[0], numbers[1], numbers[3], numbers[12]) = (30, 31, 40, 20);
        put(&store, 20, &[41, 42, 0, 50]);
        let found = pieces(&store, &file(0, &numbers)).unwrap();
        assert_eq!(found, [(0, 30, 2), (3, 40, 1), (12, 41, 2), (15, 50, 1)]);
    }

    #[test]
    fn map_with_a_cycle_or_block_outside_the_volume_is_corrupt() {
        let store = SparseStore::new(ByteLen::kib(64));
        put(&store, 20, &[20; 256]);
        let mut numbers = [0u32; 15];
        numbers[14] = 20;
        assert!(pieces(&store, &file(0, &numbers)).is_err());
        numbers = [0; 15];
        numbers[0] = 64;
        assert!(pieces(&store, &file(0, &numbers)).is_err());
    }

    #[test]
    fn unwritten_extents_read_as_zeros_beyond_ten_thousand_extents() {
        let store = SparseStore::new(ByteLen::kib(64));
        // A root with an unwritten extent between two that are written.
        let root = [0x0003_f30a, 0x4, 0, 0, 2, 30, 2, 32770, 40, 5, 1, 33];
        let found = pieces(&store, &file(0x8_0000, &root)).unwrap();
        assert_eq!(found, [(0, 30, 2), (5, 33, 1)]);
    }

    #[test]
    fn random_maps_terminate_without_panic() {
        use proptest::prelude::*;
        proptest!(|(map in proptest::collection::vec(any::<u32>(), 15), flags in 0u32..2,
                    block in proptest::collection::vec(0u32..70, 256))| {
            let store = SparseStore::new(ByteLen::kib(64));
            (0..64).for_each(|at| put(&store, at, &block));
            let small: Vec<u32> = map.iter().map(|number| number % 64).collect();
            let _ = pieces(&store, &file(flags << 19, &map));
            let _ = pieces(&store, &file(flags << 19, &small));
        });
    }
}
