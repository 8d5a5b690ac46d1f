//! A small file put into a volume: what stands there is replaced, or a new one is added to its
//! folder. Its length may change, and blocks come and go.
//!
//! An existing file keeps its inode, and with it its owner, mode and attributes. A folder that is
//! hashed becomes a plain one when an entry is added to it: every kernel reads both alike.

mod content;
mod folders;
mod inline;
mod open;

use crate::{
    FilePut,
    ext4::{
        checksum::crc32c,
        quota,
        space::Space,
        structure::{
            Opened,
            inode::{
                CASEFOLD_FLAG, ENCRYPTED_FLAG, FILE, LINK, ROOT, RawInode, TYPE_MASK, VERITY_FLAG,
                low_u32,
            },
        },
        superblock::Superblock,
    },
};
use imbrik_store::{
    Edited, ReadAt, bytes,
    error::{Error, Result},
};
pub(super) use inline::with_a_map;
pub(super) use open::{OpenInode, joined};
use std::{collections::BTreeMap, sync::Arc};

/// The volume in `store` with a file put into it.
///
/// # Errors
/// - When the store cannot be read.
/// - [`imbrik_store::Class::Unsupported`] for what is not edited, [`imbrik_store::Class::Corrupt`] for what makes
///   no sense, [`imbrik_store::Class::NoRoom`] when no block or inode is free.
pub(crate) fn put_file(store: &Arc<dyn ReadAt>, put: &FilePut) -> Result<Edited> {
    let opened = Opened::of(Arc::clone(store))?;
    let mut editor = Editor::of(&opened, store, low_u32(put.now));
    editor.put(put)?;
    editor.finish()
}

/// A volume whose inodes are changed.
pub(super) struct Editor<'a> {
    pub(super) space: Space<'a>,
    /// The time that what is changed gets, in seconds.
    now: u32,
    /// By how much what an owner has changes.
    pub(super) usage: BTreeMap<quota::Owner, quota::Change>,
}

impl<'a> Editor<'a> {
    /// Nothing changed so far.
    pub(super) fn of(opened: &'a Opened, store: &Arc<dyn ReadAt>, now: u32) -> Self {
        Self { space: Space::of(opened, store), now, usage: BTreeMap::new() }
    }

    /// The volume with all that was changed.
    ///
    /// # Errors
    /// When the store cannot be read, or what counts for owners makes no sense.
    pub(super) fn finish(mut self) -> Result<Edited> {
        quota::follow(self.space.opened, &mut self.space, &self.usage)?;
        self.space.finish()
    }

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
        let mut folder = self.folder(number)?;
        let mut file = match self.look_up(&folder, name)? {
            Some(found) => self.open(self.space.opened.inode(found)?)?,
            None => {
                let number = self.space.take_inode(folder.inode.number)?;
                let inode = self.empty_inode(number, put, &folder.inode)?;
                let change = quota::Change { blocks: 0, inodes: 1 };
                quota::count(&mut self.usage, &inode, self.space.superblock(), change);
                self.add_entry(&mut folder, name, &inode)?;
                self.touch(&mut folder.inode);
                self.close(folder)?;
                OpenInode::empty(inode)
            }
        };
        let inode = &mut file.inode;
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
        self.put_content(&mut file, &put.content)?;
        self.close(file)
    }

    /// Has an inode say that it was changed now.
    fn touch(&self, inode: &mut RawInode) {
        inode.put_u32(0xc, self.now);
        inode.put_u32(0x10, self.now);
    }

    /// An inode that is a folder whose blocks can be read.
    fn folder(&self, number: u32) -> Result<OpenInode> {
        let inode = self.space.opened.inode(number)?;
        if !inode.is_folder() {
            return Err(Error::unsupported("a link or a file stands where a folder is meant"));
        }
        if inode.flags() & (ENCRYPTED_FLAG | CASEFOLD_FLAG) != 0 {
            return Err(Error::unsupported("a folder on its way is encrypted or folds case"));
        }
        self.open(inode)
    }

    /// The inode of a new file, which belongs to whom its folder belongs.
    fn empty_inode(&self, number: u32, put: &FilePut, folder: &RawInode) -> Result<RawInode> {
        let len = usize::try_from(self.superblock().inode_len).unwrap_or(128);
        let mut inode = RawInode { number, raw: vec![0; len] };
        let mode = FILE | put.mode.unwrap_or(0o644) & 0o7777;
        let _ = bytes::put(&mut inode.raw, 0, mode.to_le_bytes());
        for at in [0x8, 0xc, 0x10] {
            inode.put_u32(at, self.now);
        }
        // i_uid, i_gid, and the high halves of both.
        for at in [0x2, 0x18, 0x78, 0x7a] {
            let half = bytes::le_u16(&folder.raw, at).unwrap_or(0);
            let _ = bytes::put(&mut inode.raw, at, half.to_le_bytes());
        }
        // One link; a generation of its own; with room for them, the times' second halves.
        let _ = bytes::put(&mut inode.raw, 0x1a, 1u16.to_le_bytes());
        inode.put_u32(0x64, crc32c(self.now, &number.to_le_bytes()));
        if len > 128 {
            let _ = bytes::put(&mut inode.raw, 0x80, 32u16.to_le_bytes());
            inode.put_u32(0x90, self.now);
        }
        inline::with_a_map(&mut inode, self.superblock())?;
        Ok(inode)
    }

    /// The block that the content of an inode would best stand behind: the first of its group.
    fn home_of(&self, number: u32) -> u64 {
        let index = u64::from(number.saturating_sub(1));
        let group = index.checked_div(self.superblock().inodes_per_group);
        self.superblock().group_start(group.unwrap_or(0))
    }
}
