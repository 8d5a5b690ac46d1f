//! A small file put into a volume: what stands there is replaced, or a new one is added to its
//! folder. Its length may change, and blocks come and go.
//!
//! An existing file keeps its inode, and with it its owner, mode and attributes. A folder that is
//! hashed becomes a plain one when an entry is added to it: every kernel reads both alike.

mod content;

use crate::{
    bytes,
    error::{Error, Result},
    fs::{
        FilePut,
        bits::Bits,
        ext4::{
            checksum::crc32c,
            quota,
            space::Space,
            strict::{
                Opened, folder,
                inode::{ENCRYPTED_FLAG, EXTENTS_FLAG, RawInode, TYPE_MASK, low_u32},
                map::{Map, map_of},
                trees,
            },
            superblock::Superblock,
        },
    },
    store::{Edited, ReadAt},
};
use content::blocks_of;
use std::{collections::BTreeMap, sync::Arc};

const ROOT: u32 = 2;
const INDEX_FLAG: u32 = 0x1000;
const IMMUTABLE_FLAG: u32 = 0x10;
const VERITY_FLAG: u32 = 0x10_0000;
const CASEFOLD_FLAG: u32 = 0x4000_0000;
const FILE: u16 = 0x8000;
const LINK: u16 = 0xa000;
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
    let mut editor =
        Editor { space: Space::of(&opened, store), now: low_u32(put.now), usage: BTreeMap::new() };
    editor.put(put)?;
    quota::follow(&opened, &mut editor.space, &editor.usage)?;
    editor.space.finish()
}

struct Editor<'a> {
    space: Space<'a>,
    now: u32,
    /// By how much what an owner has changes.
    usage: BTreeMap<quota::Owner, quota::Change>,
}

impl<'a> Editor<'a> {
    fn superblock(&self) -> &'a Superblock {
        self.space.superblock()
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
            Some(found) => self.space.opened.inode(found)?,
            None => {
                let number = self.space.take_inode(folder.number)?;
                let inode = self.empty_inode(number, put)?;
                let change = quota::Change { blocks: 0, inodes: 1 };
                quota::count(&mut self.usage, &inode, self.space.superblock(), change);
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
        let inode = self.space.opened.inode(number)?;
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
        map_of(&self.space.opened.meta, self.superblock(), inode, &mut |run| match seen.add(run) {
            true => Ok(()),
            false => Err(inode.wrong("its map names a block twice, or one that is none")),
        })
    }

    fn look_up(&self, folder: &RawInode, name: &[u8]) -> Result<Option<u32>> {
        for block in blocks_of(&self.map(folder)?) {
            let content = self.space.block(block)?;
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
            let mut content = self.space.block(block)?;
            if folder::insert(&mut content, name, number, kind, has_tail).is_some() {
                self.put_folder_block(block, content, seed)?;
                return self.put_folder(folder);
            }
        }
        let mut content = folder::empty(self.space.block_len(), has_tail);
        folder::insert(&mut content, name, number, kind, has_tail)
            .ok_or_else(|| Error::unsupported("a block has no room for such a name"))?;
        let mut blocks: Vec<u64> = blocks_of(&map).collect();
        let behind = blocks.last().copied().unwrap_or(0);
        let block = self.space.take(behind)?;
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
        self.space.put_block(block, &content)
    }

    /// Makes a plain folder of a hashed one: its nodes become blocks without entries.
    fn unhash(&mut self, folder: &RawInode, map: &Map) -> Result<()> {
        let seed = folder.seed(self.superblock());
        let has_tail = self.superblock().has_metadata_csum();
        let len = self.space.block_len();
        let wrong = || folder.wrong("its hashed blocks make no sense");
        for (index, block) in blocks_of(map).enumerate() {
            let old = self.space.block(block)?;
            if !folder::is_node(&old) {
                continue;
            }
            let mut content = folder::empty(len, has_tail);
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

    fn put_inode(&mut self, inode: RawInode) -> Result<()> {
        self.space.put_inode(inode)
    }
}
