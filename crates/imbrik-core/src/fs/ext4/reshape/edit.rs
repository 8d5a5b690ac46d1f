//! A small file put into a volume: what stands there is replaced, or a new one is added to its
//! folder. Its length may change, and blocks come and go.
//!
//! An existing file keeps its inode, and with it its owner, mode and attributes. A folder that is
//! hashed becomes a plain one when an entry is added to it: every kernel reads both alike.

use super::{
    bits::{Bits, Run},
    folder,
    map_of::{Map, Piece, map_of},
    opened::Opened,
    raw_inode::{MapKind, RawInode, low_u32},
    trees,
};
use crate::{
    bytes,
    error::{Error, Result},
    fs::{
        FilePut,
        ext4::{
            checksum::crc32c,
            group::{Group, INODE_UNINIT},
            superblock::Superblock,
        },
    },
    store::{Edited, ReadAt, read_vec},
    units::ByteOffset,
};
use std::{collections::BTreeMap, sync::Arc};

const ROOT: u32 = 2;
const INDEX_FLAG: u32 = 0x1000;
const ENCRYPTED_FLAG: u32 = 0x800;
const IMMUTABLE_FLAG: u32 = 0x10;
const VERITY_FLAG: u32 = 0x10_0000;
const EXTENTS_FLAG: u32 = 0x8_0000;
const CASEFOLD_FLAG: u32 = 0x4000_0000;
const TYPE_MASK: u16 = 0xf000;
const FILE: u16 = 0x8000;
const LINK: u16 = 0xa000;
const DIRECT: usize = 12;
const MOST_EXTENTS: usize = 4;
/// Bytes of an entry of a folder before its name, and of the one that holds the checksum.
const HEAD: usize = 8;
const TAIL: usize = 12;

/// The volume in `store` with a file put into it.
///
/// # Errors
/// - When the store cannot be read.
/// - [`crate::Class::Unsupported`] for what is not edited, [`crate::Class::Corrupt`] for what makes
///   no sense, [`crate::Class::NoRoom`] when no block or inode is free.
pub(in crate::fs) fn put_file(store: &Arc<dyn ReadAt>, put: &FilePut) -> Result<Edited> {
    let opened = Opened::of(Arc::clone(store))?;
    let mut editor = Editor {
        draft: Edited::new(Arc::clone(store)),
        block_bitmaps: BTreeMap::new(),
        groups: opened.groups.clone(),
        blocks: 0,
        inodes: 0,
        opened: &opened,
        now: low_u32(put.now),
    };
    editor.put(put)?;
    editor.finish()?;
    Ok(editor.draft)
}

struct Editor<'a> {
    opened: &'a Opened,
    draft: Edited,
    groups: Vec<Group>,
    /// Block bitmaps that were looked at, by group.
    block_bitmaps: BTreeMap<usize, Bits>,
    /// How many blocks and inodes are taken beyond those before.
    blocks: i64,
    inodes: i64,
    now: u32,
}

impl Editor<'_> {
    fn superblock(&self) -> &Superblock {
        &self.opened.superblock
    }

    fn block_len(&self) -> usize {
        usize::try_from(self.superblock().block_len).unwrap_or(0)
    }

    fn place(&self, block: u64) -> ByteOffset {
        ByteOffset::new(block.saturating_mul(self.superblock().block_len))
    }

    fn block(&self, block: u64) -> Result<Vec<u8>> {
        read_vec(&self.draft, self.place(block), self.block_len())
    }

    fn put_block(&mut self, block: u64, content: &[u8]) -> Result<()> {
        let at = self.place(block);
        self.draft.put(at, content)
    }

    fn put(&mut self, put: &FilePut) -> Result<()> {
        let (name, folders) =
            put.path.split_last().ok_or_else(|| Error::usage("a file needs a name"))?;
        let mut number = ROOT;
        for part in folders {
            let folder = self.folder(number)?;
            number = self.look_up(&folder, part)?.ok_or_else(|| {
                let part = String::from_utf8_lossy(part);
                Error::usage(format!("there is no folder {part} for it"))
            })?;
        }
        let folder = self.folder(number)?;
        let mut inode = match self.look_up(&folder, name)? {
            Some(found) => self.opened.inode(found)?,
            None => {
                let inode = self.new_inode(&folder, put)?;
                self.add_entry(folder, name, inode.number)?;
                inode
            }
        };
        match inode.mode() & TYPE_MASK {
            FILE => {}
            LINK => return Err(Error::unsupported("a link stands in its place")),
            _ => return Err(Error::unsupported("something else stands in its place")),
        }
        if inode.flags() & (ENCRYPTED_FLAG | VERITY_FLAG) != 0 {
            return Err(Error::unsupported("it is encrypted or sealed"));
        }
        if let Some(mode) = put.mode {
            let mode = FILE | mode & 0o7777;
            let _ = bytes::put(&mut inode.raw, 0, mode.to_le_bytes());
        }
        self.put_content(&mut inode, &put.content)?;
        self.put_inode(inode)
    }

    /// An inode that is a folder whose blocks can be read.
    fn folder(&self, number: u32) -> Result<RawInode> {
        let inode = self.opened.inode(number)?;
        if !inode.is_folder() {
            return Err(Error::unsupported("a link or a file stands where a folder is meant"));
        }
        if inode.is_inline() || inode.flags() & (ENCRYPTED_FLAG | CASEFOLD_FLAG) != 0 {
            let what = "a folder on its way is kept in its inode, encrypted or folds case";
            return Err(Error::unsupported(what));
        }
        Ok(inode)
    }

    fn map(&self, inode: &RawInode) -> Result<Map> {
        let mut seen = Bits::new(self.superblock().blocks);
        map_of(&self.opened.meta, self.superblock(), inode, &mut |run| match seen.add(run) {
            true => Ok(()),
            false => Err(inode.wrong("its map names a block twice, or one that is none")),
        })
    }

    fn look_up(&self, folder: &RawInode, name: &[u8]) -> Result<Option<u32>> {
        for block in blocks_of(&self.map(folder)?) {
            let content = self.block(block)?;
            let entries = folder::references(&content, 0)
                .ok_or_else(|| folder.wrong("a block of the folder makes no sense"))?;
            for (at, number) in entries {
                let len = usize::from(bytes::u8(&content, at.saturating_add(6)).unwrap_or(0));
                let start = at.saturating_add(HEAD);
                if content.get(start..start.saturating_add(len)) == Some(name) {
                    return Ok(Some(number));
                }
            }
        }
        Ok(None)
    }

    /// A new inode for a file in `folder`.
    fn new_inode(&mut self, folder: &RawInode, put: &FilePut) -> Result<RawInode> {
        let superblock = self.superblock().clone();
        let a_group = superblock.inodes_per_group;
        let home = u64::from(folder.number.saturating_sub(1)).checked_div(a_group).unwrap_or(0);
        let count = u64::try_from(self.groups.len()).unwrap_or(0);
        for index in (0..count).map(|ahead| home.saturating_add(ahead)) {
            let index = index.checked_rem(count).unwrap_or(0);
            let at = usize::try_from(index).unwrap_or(0);
            let Some(mut group) = self.groups.get(at).cloned() else { continue };
            if group.free_inodes == 0 || group.flags & INODE_UNINIT != 0 {
                continue;
            }
            let mut bitmap = self.block(group.inode_bitmap)?;
            let first = index.saturating_mul(a_group);
            let is_free = |inside: &u64| {
                let byte = usize::try_from(inside / 8).ok().and_then(|at| bitmap.get(at));
                byte.is_some_and(|byte| byte >> (inside % 8) & 1 == 0)
            };
            let reserved = u64::from(superblock.first_inode).saturating_sub(1);
            let free = (reserved.saturating_sub(first)..a_group).find(|inside| is_free(inside));
            let Some(inside) = free else { continue };
            if let Some(byte) = usize::try_from(inside / 8).ok().and_then(|at| bitmap.get_mut(at)) {
                *byte |= 1 << (inside % 8);
            }
            group.free_inodes = group.free_inodes.saturating_sub(1);
            if let Some(unused) = &mut group.unused_inodes {
                *unused = (*unused).min(a_group.saturating_sub(inside).saturating_sub(1));
            }
            group.inode_bitmap_checksum =
                crc32c(superblock.seed, superblock.covered_inodes(&bitmap));
            self.put_block(group.inode_bitmap, &bitmap)?;
            if let Some(place) = self.groups.get_mut(at) {
                *place = group;
            }
            self.inodes = self.inodes.saturating_add(1);
            let number = first.saturating_add(inside).saturating_add(1);
            return self.empty_inode(low_u32(number), put);
        }
        Err(Error::no_room("no inode is free"))
    }

    fn empty_inode(&self, number: u32, put: &FilePut) -> Result<RawInode> {
        let len = usize::try_from(self.superblock().inode_len).unwrap_or(128);
        let mut inode = RawInode { number, raw: vec![0; len] };
        let mode = FILE | put.mode.unwrap_or(0o644) & 0o7777;
        let _ = bytes::put(&mut inode.raw, 0, mode.to_le_bytes());
        for at in [0x8, 0xc, 0x10] {
            inode.put_u32(at, self.now);
        }
        // One link; a generation of its own; with room for them, the times' second halves.
        let _ = bytes::put(&mut inode.raw, 0x1a, 1u16.to_le_bytes());
        inode.put_u32(0x64, crc32c(self.now, &number.to_le_bytes()));
        if len > 128 {
            let _ = bytes::put(&mut inode.raw, 0x80, 32u16.to_le_bytes());
            inode.put_u32(0x90, self.now);
        }
        if self.superblock().has_extents() {
            inode.put_u32(0x20, EXTENTS_FLAG);
            let none = trees::tree(&[], &[], inode.i_block(), self.superblock(), 0)?;
            inode.put_i_block(&none.i_block);
        }
        Ok(inode)
    }

    /// Adds an entry to a folder: where one has room behind it, or in a new block.
    fn add_entry(&mut self, mut folder: RawInode, name: &[u8], number: u32) -> Result<()> {
        if name.is_empty() || name.len() > 255 || name.contains(&b'/') || name.contains(&0) {
            return Err(Error::usage("such a name cannot be"));
        }
        if folder.flags() & IMMUTABLE_FLAG != 0 {
            return Err(Error::unsupported("its folder must not be changed"));
        }
        let map = self.map(&folder)?;
        if folder.flags() & INDEX_FLAG != 0 {
            self.unhash(&folder, &map)?;
            folder.put_u32(0x20, folder.flags() & !INDEX_FLAG);
        }
        let seed = folder.seed(self.superblock());
        let has_tail = self.superblock().has_metadata_csum();
        let kind = self.superblock().entries_have_types();
        for block in blocks_of(&map) {
            let mut content = self.block(block)?;
            if insert(&mut content, name, number, kind, has_tail).is_some() {
                self.put_folder_block(block, content, seed)?;
                return self.put_folder(folder);
            }
        }
        let mut content = empty_folder_block(self.block_len(), has_tail);
        insert(&mut content, name, number, kind, has_tail)
            .ok_or_else(|| Error::unsupported("a block has no room for such a name"))?;
        let mut blocks: Vec<u64> = blocks_of(&map).collect();
        let behind = blocks.last().copied().unwrap_or(0);
        let block = self.take(behind)?;
        blocks.push(block);
        self.put_folder_block(block, content, seed)?;
        self.put_map(&mut folder, &map, &blocks)?;
        let size = u64::try_from(blocks.len()).unwrap_or(0);
        folder.put_size(size.saturating_mul(self.superblock().block_len));
        self.put_folder(folder)
    }

    fn put_folder(&mut self, mut folder: RawInode) -> Result<()> {
        folder.put_u32(0xc, self.now);
        folder.put_u32(0x10, self.now);
        self.put_inode(folder)
    }

    fn put_folder_block(&mut self, block: u64, mut content: Vec<u8>, seed: u32) -> Result<()> {
        if self.superblock().has_metadata_csum() {
            folder::seal(&mut content, seed)
                .ok_or_else(|| Error::corrupt("a block of a folder has no place for a checksum"))?;
        }
        self.put_block(block, &content)
    }

    /// Makes a plain folder of a hashed one: its nodes become blocks without entries.
    fn unhash(&mut self, folder: &RawInode, map: &Map) -> Result<()> {
        let seed = folder.seed(self.superblock());
        let has_tail = self.superblock().has_metadata_csum();
        let len = self.block_len();
        let wrong = || folder.wrong("its hashed blocks make no sense");
        for (index, block) in blocks_of(map).enumerate() {
            let old = self.block(block)?;
            if !folder::is_node(&old) {
                continue;
            }
            let mut content = empty_folder_block(len, has_tail);
            if index == 0 {
                let end = if has_tail { len.saturating_sub(TAIL) } else { len };
                let dots = content.get_mut(..24).ok_or_else(wrong)?;
                dots.copy_from_slice(old.get(..24).ok_or_else(wrong)?);
                let rest = u16::try_from(end.saturating_sub(12)).map_err(|_| wrong())?;
                bytes::put(&mut content, 16, rest.to_le_bytes()).ok_or_else(wrong)?;
            }
            self.put_folder_block(block, content, seed)?;
        }
        Ok(())
    }

    /// Gives a file new content, in the blocks it has as far as they go.
    fn put_content(&mut self, inode: &mut RawInode, content: &[u8]) -> Result<()> {
        if inode.is_inline() {
            let fits = inode.size() <= 60 && content.len() <= 60;
            if !fits {
                return Err(Error::unsupported("its content is kept in its inode"));
            }
            let mut map = content.to_vec();
            map.resize(60, 0);
            inode.put_i_block(&map);
        } else {
            let map = self.map(inode)?;
            let len = self.block_len();
            let needed = content.len().div_ceil(len.max(1));
            let mut blocks: Vec<u64> = blocks_of(&map).collect();
            for block in blocks.split_off(needed.min(blocks.len())) {
                self.give_back(block)?;
            }
            while blocks.len() < needed {
                let behind = blocks.last().copied().unwrap_or_else(|| {
                    let index = u64::from(inode.number.saturating_sub(1));
                    let group = index.checked_div(self.superblock().inodes_per_group);
                    self.superblock().group_start(group.unwrap_or(0))
                });
                blocks.push(self.take(behind)?);
            }
            self.put_map(inode, &map, &blocks)?;
            for (block, piece) in blocks.iter().zip(content.chunks(len.max(1))) {
                let mut piece = piece.to_vec();
                piece.resize(len, 0);
                self.put_block(*block, &piece)?;
            }
        }
        inode.put_size(u64::try_from(content.len()).unwrap_or(0));
        inode.put_u32(0xc, self.now);
        inode.put_u32(0x10, self.now);
        Ok(())
    }

    /// Has `inode`, whose map was `old`, consist of `blocks`, in this order.
    fn put_map(&mut self, inode: &mut RawInode, old: &Map, blocks: &[u64]) -> Result<()> {
        for node in &old.nodes {
            self.give_back(node.block)?;
        }
        let superblock = self.superblock().clone();
        let had: u64 = old.pieces.iter().map(|piece| piece.len).sum();
        let had = had.saturating_add(u64::try_from(old.nodes.len()).unwrap_or(0));
        let others = inode.blocks(&superblock)?.saturating_sub(had);
        let is_tree = match inode.map_kind(&superblock)? {
            MapKind::Extents => true,
            // A file without a block may start anew.
            _ => blocks.len() > DIRECT && superblock.has_extents(),
        };
        let mut nodes = 0u64;
        let map = if is_tree {
            inode.put_u32(0x20, inode.flags() | EXTENTS_FLAG);
            let pieces = pieces_of(blocks);
            let count = match pieces.len() <= MOST_EXTENTS {
                true => 0,
                false => trees::blocks_of_tree(pieces.len(), superblock.block_len),
            };
            let mut places = Vec::new();
            for _ in 0..count {
                places.push(self.take(blocks.last().copied().unwrap_or(0))?);
            }
            nodes = nodes.saturating_add(u64::try_from(places.len()).unwrap_or(0));
            let seed = inode.seed(&superblock);
            let made = trees::tree(&pieces, &places, inode.i_block(), &superblock, seed)?;
            for (block, content) in &made.blocks {
                self.put_block(*block, content)?;
            }
            made.i_block
        } else {
            let (direct, rest) = blocks.split_at(blocks.len().min(DIRECT));
            let mut numbers: Vec<u64> = direct.to_vec();
            numbers.resize(15, 0);
            if !rest.is_empty() {
                let mut content: Vec<u8> =
                    rest.iter().flat_map(|block| low_u32(*block).to_le_bytes()).collect();
                if content.len() > self.block_len() {
                    return Err(Error::unsupported("it is too long for a volume of this kind"));
                }
                content.resize(self.block_len(), 0);
                let block = self.take(direct.last().copied().unwrap_or(0))?;
                self.put_block(block, &content)?;
                nodes = 1;
                if let Some(place) = numbers.get_mut(DIRECT) {
                    *place = block;
                }
            }
            numbers.iter().flat_map(|block| low_u32(*block).to_le_bytes()).collect()
        };
        inode.put_i_block(&map);
        let all = u64::try_from(blocks.len()).unwrap_or(0).saturating_add(nodes);
        if superblock.has_quota() && all != had {
            return Err(Error::unsupported("its quota files would have to follow"));
        }
        inode.put_blocks(all.saturating_add(others), &superblock);
        Ok(())
    }

    fn put_inode(&mut self, mut inode: RawInode) -> Result<()> {
        inode.seal(&self.opened.superblock);
        let (block, inside) = self
            .opened
            .place_of(inode.number)
            .ok_or_else(|| inode.wrong("it has no place in a table"))?;
        let inside = u64::try_from(inside).unwrap_or(0);
        let at = ByteOffset::new(self.place(block).get().saturating_add(inside));
        self.draft.put(at, &inode.raw)
    }

    /// The bitmap of a group's blocks, counted from the volume's start.
    fn bitmap(&mut self, index: usize) -> Result<Option<&mut Bits>> {
        if !self.block_bitmaps.contains_key(&index) {
            let Some(group) = self.groups.get(index) else { return Ok(None) };
            if group.is_block_uninit {
                // Its content is only implied.
                return Ok(None);
            }
            let number = u64::try_from(index).unwrap_or(0);
            let content = self.block(group.block_bitmap)?;
            let len = self.superblock().group_len(number);
            group.check_block_bitmap(
                self.superblock().covered(&content),
                number,
                self.superblock(),
            )?;
            let mut bits = Bits::new(len);
            for (first, count) in super::super::usage::runs(&content, len) {
                bits.add(Run::new(first, count));
            }
            self.block_bitmaps.insert(index, bits);
        }
        Ok(self.block_bitmaps.get_mut(&index))
    }

    /// The group of a block, and the block's place in it.
    fn group_of(&self, block: u64) -> (usize, u64) {
        let superblock = self.superblock();
        let inside = block.saturating_sub(superblock.first_data_block);
        let group = inside.checked_div(superblock.blocks_per_group).unwrap_or(0);
        let first = superblock.group_start(group);
        (usize::try_from(group).unwrap_or(usize::MAX), block.saturating_sub(first))
    }

    /// Takes a free block, as near behind `near` as there is one.
    fn take(&mut self, near: u64) -> Result<u64> {
        let (home, inside) = self.group_of(near);
        let count = self.groups.len();
        for ahead in 0..=count {
            let index = home.saturating_add(ahead).checked_rem(count.max(1)).unwrap_or(0);
            let from = if ahead == 0 { inside } else { 0 };
            let start = self.superblock().group_start(u64::try_from(index).unwrap_or(0));
            let Some(bits) = self.bitmap(index)? else { continue };
            let within = Run::new(from, bits.len().saturating_sub(from));
            let hole = bits.holes(within).next();
            if let Some(hole) = hole {
                bits.add(Run::new(hole.first, 1));
                if let Some(group) = self.groups.get_mut(index) {
                    group.free_clusters = group.free_clusters.saturating_sub(1);
                }
                self.blocks = self.blocks.saturating_add(1);
                return Ok(start.saturating_add(hole.first));
            }
        }
        Err(Error::no_room("no block is free"))
    }

    fn give_back(&mut self, block: u64) -> Result<()> {
        let (index, inside) = self.group_of(block);
        let bits = self.bitmap(index)?;
        let bits = bits.ok_or_else(|| Error::corrupt("a block in use has no bitmap"))?;
        bits.remove(Run::new(inside, 1));
        if let Some(group) = self.groups.get_mut(index) {
            group.free_clusters = group.free_clusters.saturating_add(1);
        }
        self.blocks = self.blocks.saturating_sub(1);
        Ok(())
    }

    /// Writes bitmaps, descriptors and the superblock.
    fn finish(&mut self) -> Result<()> {
        let superblock = self.superblock().clone();
        let len = self.block_len();
        for (index, bits) in std::mem::take(&mut self.block_bitmaps) {
            let bitmap = bits.bitmap(Run::new(0, bits.len()), len);
            let sum = crc32c(superblock.seed, superblock.covered(&bitmap));
            let Some(group) = self.groups.get_mut(index) else { continue };
            group.block_bitmap_checksum = sum;
            let block = group.block_bitmap;
            self.put_block(block, &bitmap)?;
        }
        let changed = self.groups.iter().zip(&self.opened.groups).enumerate();
        let changed: Vec<(usize, Group)> = changed
            .filter(|(_, (now, was))| now != was)
            .map(|(index, (now, _))| (index, now.clone()))
            .collect();
        for (index, group) in changed {
            let number = u64::try_from(index).unwrap_or(0);
            let (block, inside) = superblock.descriptor_at(number);
            let at = ByteOffset::new(self.place(block).get().saturating_add(inside));
            let len = usize::try_from(superblock.descriptor_len).unwrap_or(0);
            let mut raw = read_vec(&self.draft, at, len)?;
            group.encode(&mut raw, number, &superblock)?;
            self.draft.put(at, &raw)?;
        }
        let at = ByteOffset::new(Superblock::OFFSET);
        let mut raw = read_vec(&self.draft, at, Superblock::LEN)?;
        let wide = if superblock.is_64bit() { bytes::le_u32(&raw, 0x158).unwrap_or(0) } else { 0 };
        let free = u64::from(wide) << 32 | u64::from(bytes::le_u32(&raw, 0xc).unwrap_or(0));
        let free = free.saturating_add_signed(self.blocks.saturating_neg());
        let inodes = u64::from(bytes::le_u32(&raw, 0x10).unwrap_or(0));
        let inodes = inodes.saturating_add_signed(self.inodes.saturating_neg());
        let _ = bytes::put(&mut raw, 0xc, low_u32(free).to_le_bytes());
        if superblock.is_64bit() {
            let _ = bytes::put(&mut raw, 0x158, low_u32(free >> 32).to_le_bytes());
        }
        let _ = bytes::put(&mut raw, 0x10, low_u32(inodes).to_le_bytes());
        seal_superblock(&mut raw, &superblock);
        self.draft.put(at, &raw)
    }
}

/// Makes a superblock's checksum anew: that over all of it but the checksum, from all ones.
pub(super) fn seal_superblock(raw: &mut [u8], superblock: &Superblock) {
    if superblock.has_metadata_csum() {
        let sum = crc32c(!0, raw.get(..0x3fc).unwrap_or_default());
        let _ = bytes::put(raw, 0x3fc, sum.to_le_bytes());
    }
}

/// The blocks of a file's content, in its order.
fn blocks_of(map: &Map) -> impl Iterator<Item = u64> + '_ {
    map.pieces.iter().flat_map(|piece| piece.physical..piece.physical.saturating_add(piece.len))
}

/// A file's pieces, from the list of its blocks.
fn pieces_of(blocks: &[u64]) -> Vec<Piece> {
    let mut pieces: Vec<Piece> = Vec::new();
    for (logical, block) in (0u64..).zip(blocks) {
        let next = Piece { logical, physical: *block, len: 1, is_unwritten: false };
        match pieces.last_mut() {
            Some(last) if last.is_continued_by(&next) => last.len = last.len.saturating_add(1),
            _ => pieces.push(next),
        }
    }
    pieces
}

/// A block of a folder without an entry.
fn empty_folder_block(len: usize, has_tail: bool) -> Vec<u8> {
    let mut block = vec![0; len];
    let end = if has_tail { len.saturating_sub(TAIL) } else { len };
    let _ = bytes::put(&mut block, 4, u16::try_from(end).unwrap_or(0).to_le_bytes());
    if has_tail {
        let _ = bytes::put(&mut block, end.saturating_add(4), 12u16.to_le_bytes());
        let _ = bytes::put(&mut block, end.saturating_add(7), [0xde]);
    }
    block
}

/// Puts an entry behind another one that has room; `None` when none has.
fn insert(
    block: &mut [u8],
    name: &[u8],
    number: u32,
    has_type: bool,
    has_tail: bool,
) -> Option<()> {
    let needed = HEAD.checked_add(name.len())?.next_multiple_of(4);
    let end = if has_tail { block.len().checked_sub(TAIL)? } else { block.len() };
    let mut at = 0usize;
    while at < end {
        let inode = bytes::le_u32(block, at)?;
        let rec_len = usize::from(bytes::le_u16(block, at.checked_add(4)?)?);
        let name_len = usize::from(bytes::u8(block, at.checked_add(6)?)?);
        let own = if inode == 0 { 0 } else { HEAD.checked_add(name_len)?.next_multiple_of(4) };
        if rec_len < HEAD || rec_len < own {
            return None;
        }
        if rec_len.checked_sub(own)? >= needed {
            let place = at.checked_add(own)?;
            let rest = u16::try_from(rec_len.checked_sub(own)?).ok()?;
            if own > 0 {
                bytes::put(block, at.checked_add(4)?, u16::try_from(own).ok()?.to_le_bytes())?;
            }
            let start = place.checked_add(HEAD)?;
            block.get_mut(start..start.checked_add(name.len())?)?.copy_from_slice(name);
            bytes::put(block, place, number.to_le_bytes())?;
            bytes::put(block, place.checked_add(4)?, rest.to_le_bytes())?;
            let kind = u8::from(has_type);
            return bytes::put(
                block,
                place.checked_add(6)?,
                [u8::try_from(name.len()).ok()?, kind],
            );
        }
        at = at.checked_add(rec_len)?;
    }
    None
}
