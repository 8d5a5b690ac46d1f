//! Small files and folders that are looked into, and the inodes on the way to them.

use super::{
    extents::{self, Extent},
    group::Group,
    superblock::Superblock,
};
use crate::filesystem::Files;
use imbrik_store::{
    ReadAt, bytes,
    error::{Class, Result},
    read_up_to,
    units::ByteOffset,
};

const ROOT: u32 = 2;
const TYPE_MASK: u16 = 0xf000;
const FOLDER: u16 = 0x4000;
const FILE: u16 = 0x8000;
const INLINE_DATA_FLAG: u32 = 0x1000_0000;
/// The longest folder that is searched, in blocks.
const MOST_FOLDER_BLOCKS: u64 = 4096;

/// What of an inode is needed to read its content.
pub(super) struct Inode {
    mode: u16,
    size: u64,
    flags: u32,
    i_block: Vec<u8>,
}

/// A volume, to be looked into. Everything here is for information only, so that what makes no
/// sense is simply not found.
pub(super) struct Reader<'a> {
    pub(super) store: &'a dyn ReadAt,
    pub(super) superblock: Superblock,
}

impl Reader<'_> {
    /// The inode `number`; `None` when there can be no such one.
    pub(super) fn inode(&self, number: u32) -> Result<Option<Inode>> {
        let superblock = &self.superblock;
        let Some(index) = u64::from(number).checked_sub(1) else { return Ok(None) };
        let group = index.checked_div(superblock.inodes_per_group).unwrap_or(0);
        let index = index.checked_rem(superblock.inodes_per_group).unwrap_or(0);
        let group = match Group::read(self.store, superblock, group) {
            Err(error) if error.class() == Class::Corrupt => return Ok(None),
            group => group?,
        };
        let at = group.inode_table.checked_mul(superblock.block_len);
        let at = at.and_then(|at| at.checked_add(index.checked_mul(superblock.inode_len)?));
        let Some(at) = at else { return Ok(None) };
        let raw = read_up_to(self.store, ByteOffset::new(at), 128)?;
        Ok(decode(&raw))
    }
}

impl Files for Reader<'_> {
    fn small_file(&self, path: &[&[u8]], most: usize) -> Result<Option<Vec<u8>>> {
        let mut number = ROOT;
        for name in path {
            let Some(folder) = self.inode(number)? else { return Ok(None) };
            match self.look_up(&folder, name)? {
                Some(found) => number = found,
                None => return Ok(None),
            }
        }
        match self.inode(number)? {
            Some(inode) if inode.mode & TYPE_MASK == FILE => self.content(&inode, most),
            _ => Ok(None),
        }
    }

    fn has_entry(&self, path: &[&[u8]]) -> Result<Option<bool>> {
        let mut number = ROOT;
        for name in path {
            let Some(folder) = self.inode(number)? else { return Ok(None) };
            let is_plain = folder.mode & TYPE_MASK == FOLDER
                && folder.flags & INLINE_DATA_FLAG == 0
                && self.extents(&folder)?.is_some();
            if !is_plain {
                return Ok(None);
            }
            match self.look_up(&folder, name)? {
                Some(found) => number = found,
                None => return Ok(Some(false)),
            }
        }
        Ok(Some(true))
    }

    fn names(&self, path: &[&[u8]]) -> Result<Option<Vec<Vec<u8>>>> {
        let mut number = ROOT;
        for name in path {
            let Some(folder) = self.inode(number)? else { return Ok(None) };
            let Some(found) = self.look_up(&folder, name)? else { return Ok(None) };
            number = found;
        }
        let Some(folder) = self.inode(number)? else { return Ok(None) };
        if folder.mode & TYPE_MASK != FOLDER || folder.flags & INLINE_DATA_FLAG != 0 {
            return Ok(None);
        }
        let Some(extents) = self.extents(&folder)? else { return Ok(None) };
        let blocks = extents
            .iter()
            .flat_map(|extent| extent.physical..extent.physical.saturating_add(extent.len));
        let mut names = Vec::new();
        for number in blocks.take(usize::try_from(MOST_FOLDER_BLOCKS).unwrap_or(usize::MAX)) {
            let Some(span) = self.superblock.span(number, 1) else { return Ok(None) };
            let block = read_up_to(self.store, span.start(), span.len().to_usize().unwrap_or(0))?;
            let mut at = 0usize;
            while let Some(inode) = bytes::le_u32(&block, at) {
                let field = |from: usize| at.checked_add(from);
                let rec_len = field(4).and_then(|at| bytes::le_u16(&block, at)).unwrap_or(0);
                let name_len = field(6).and_then(|at| bytes::u8(&block, at)).unwrap_or(0);
                let start = at.saturating_add(8);
                let name = block.get(start..start.saturating_add(name_len.into()));
                names.extend(name.filter(|_| inode != 0).map(<[u8]>::to_vec));
                if rec_len < 8 {
                    break;
                }
                at = at.saturating_add(rec_len.into());
            }
        }
        Ok(Some(names))
    }
}

impl Reader<'_> {
    fn content(&self, inode: &Inode, most: usize) -> Result<Option<Vec<u8>>> {
        let len = usize::try_from(inode.size).unwrap_or(usize::MAX).min(most);
        if inode.flags & INLINE_DATA_FLAG != 0 {
            // The first 60 bytes of the data; what is longer goes on in an attribute.
            return Ok(inode.i_block.get(..len).map(<[u8]>::to_vec));
        }
        let Some(extents) = self.extents(inode)? else { return Ok(None) };
        let mut content = vec![0; len];
        for extent in extents {
            let from = extent.logical.saturating_mul(self.superblock.block_len);
            let from = usize::try_from(from).unwrap_or(usize::MAX);
            let Some(part) = content.get_mut(from..) else { continue };
            let room = extent.len.saturating_mul(self.superblock.block_len);
            let room = part.len().min(usize::try_from(room).unwrap_or(usize::MAX));
            let Some(span) = self.superblock.span(extent.physical, extent.len) else {
                return Ok(None);
            };
            let found = read_up_to(self.store, span.start(), room)?;
            if let Some(part) = part.get_mut(..found.len()) {
                part.copy_from_slice(&found);
            }
        }
        Ok(Some(content))
    }

    pub(super) fn extents(&self, inode: &Inode) -> Result<Option<Vec<Extent>>> {
        extents::extents(self.store, &self.superblock, &inode.i_block, inode.flags)
    }

    /// The inode that `folder` calls `name`.
    fn look_up(&self, folder: &Inode, name: &[u8]) -> Result<Option<u32>> {
        if folder.mode & TYPE_MASK != FOLDER || folder.flags & INLINE_DATA_FLAG != 0 {
            return Ok(None);
        }
        let Some(extents) = self.extents(folder)? else { return Ok(None) };
        let blocks = extents
            .iter()
            .flat_map(|extent| extent.physical..extent.physical.saturating_add(extent.len));
        for number in blocks.take(usize::try_from(MOST_FOLDER_BLOCKS).unwrap_or(usize::MAX)) {
            let Some(span) = self.superblock.span(number, 1) else { return Ok(None) };
            let len = span.len().to_usize().unwrap_or(0);
            if let Some(found) = find_entry(&read_up_to(self.store, span.start(), len)?, name) {
                return Ok(Some(found));
            }
        }
        Ok(None)
    }
}

fn decode(raw: &[u8]) -> Option<Inode> {
    let high = u64::from(bytes::le_u32(raw, 0x6c)?) << 32;
    Some(Inode {
        mode: bytes::le_u16(raw, 0)?,
        size: u64::from(bytes::le_u32(raw, 4)?) | high,
        flags: bytes::le_u32(raw, 0x20)?,
        i_block: raw.get(0x28..0x64)?.to_vec(),
    })
}

/// The inode number of the entry `name` in a block of a folder. The nodes of a hashed folder look
/// like blocks with an empty entry, so they need no care.
fn find_entry(block: &[u8], name: &[u8]) -> Option<u32> {
    let mut at = 0usize;
    loop {
        let inode = bytes::le_u32(block, at)?;
        let rec_len = usize::from(bytes::le_u16(block, at.checked_add(4)?)?);
        let name_len = usize::from(bytes::u8(block, at.checked_add(6)?)?);
        let start = at.checked_add(8)?;
        if inode != 0 && block.get(start..start.checked_add(name_len)?)? == name {
            return Some(inode);
        }
        if rec_len < 8 {
            return None;
        }
        at = at.checked_add(rec_len)?;
    }
}
