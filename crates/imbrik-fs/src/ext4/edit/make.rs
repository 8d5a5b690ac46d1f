//! Creation of inodes.

use super::{Editor, OpenInode, inline};
use crate::{
    edit::FileMeta,
    ext4::{
        checksum::crc32c,
        quota,
        structure::inode::{
            BLOCKS, CHARACTERS, FILE, FOLDER, LINK, PIPE, RawInode, SOCKET, low_u32,
        },
    },
    files::FileKind,
};
use imbrik_store::{
    ReadAt, SparseStore, bytes,
    error::{Error, Result},
    exact::Exact as _,
};
use std::sync::Arc;

/// The set-group-id bit: new items in such a folder get its group, and new folders inherit the bit.
const SET_GROUP: u16 = 0o2000;
/// Links that are longer have a block.
const SHORT_LINK: usize = 59;
/// No link leads to more bytes.
const LONGEST_LINK: usize = 4095;
/// The usual number of bytes after the first 128 of an inode.
const EXTRA_LEN: u16 = 32;

/// The kind of a new item.
pub(super) enum What<'w> {
    File,
    Folder,
    /// A symbolic link to this path.
    Link(&'w [u8]),
    Node(FileKind),
}

impl Editor<'_> {
    /// Creates an inode, which has the owner of its folder unless `meta` has another one. A folder has no block yet.
    ///
    /// # Errors
    /// When no inode is free, or its attributes are not supported.
    pub(super) fn make(
        &mut self,
        what: &What<'_>,
        meta: &FileMeta,
        folder: &RawInode,
    ) -> Result<OpenInode> {
        let is_folder = matches!(what, What::Folder);
        let number = self.space.take_inode(folder.number, is_folder)?;
        self.gone.remove(&number);
        let len = usize::try_from(self.superblock().inode_len).unwrap_or(128);
        let mut inode = RawInode { number, raw: vec![0; len] };
        let inherited = folder.mode() & SET_GROUP;
        let (kind, usual) = match what {
            What::File => (FILE, 0o644),
            What::Folder => (FOLDER, 0o755 | inherited),
            What::Link(_) => (LINK, 0o777),
            What::Node(FileKind::Pipe) => (PIPE, 0o644),
            What::Node(FileKind::Socket) => (SOCKET, 0o644),
            What::Node(FileKind::CharacterDevice(..)) => (CHARACTERS, 0o644),
            What::Node(FileKind::BlockDevice(..)) => (BLOCKS, 0o644),
            What::Node(_) => return Err(Error::bug("that is no node")),
        };
        let permissions = meta.permissions.or(meta.if_new).unwrap_or(usual);
        let is_link = matches!(what, What::Link(_));
        let inherited_acl = match meta.as_in_folder && !is_link {
            true => self.inherited_acl(folder, permissions & 0o7777, is_folder)?,
            false => None,
        };
        let permissions =
            inherited_acl.as_ref().map_or(permissions, |inherited_acl| inherited_acl.permissions);
        inode.put_mode(kind | permissions & 0o7777);
        if len > 128 {
            let wanted = bytes::le_u16(&self.space.opened.raw, 0x15e).unwrap_or(0);
            let room = u16::try_from(len.saturating_sub(128)).unwrap_or(EXTRA_LEN);
            let extra = wanted.max(EXTRA_LEN).next_multiple_of(4).min(room);
            let _ = bytes::put(&mut inode.raw, 0x80, extra.to_le_bytes());
        }
        let whose = folder.ownership();
        let (owner, group) = meta.owner.unwrap_or((whose.owner, whose.group));
        inode.put_owner(owner, group);
        if let Some(flags) = meta.flags {
            inode.put_user_flags(flags);
        }
        inode.put_accessed(self.now);
        inode.put_changed(self.now);
        inode.put_modified(self.now);
        inode.put_created(self.now);
        inode.put_links(if is_folder { 2 } else { 1 });
        let seconds = low_u32(self.now.seconds.unsigned_abs());
        inode.put_u32(0x64, crc32c(seconds, &number.to_le_bytes()));
        if let Some(project) = folder.project_of_new() {
            inode.put_project(project);
        }
        let superblock = self.superblock();
        let change = quota::Change { blocks: 0, inodes: 1 };
        quota::count(&mut self.usage, &inode, superblock, change);
        match what {
            What::File | What::Folder => inline::with_a_map(&mut inode, self.superblock())?,
            What::Link(_) => {}
            What::Node(kind) => put_device(&mut inode, *kind),
        }
        let mut open = OpenInode::empty(inode);
        open.modified = meta.modified;
        if let What::Link(target) = what {
            self.put_target(&mut open, target)?;
        }
        let inherited_acl =
            inherited_acl.map_or(Vec::new(), |inherited_acl| inherited_acl.attributes);
        self.give_attributes(&mut open, &[&meta.attributes[..], &inherited_acl].concat())?;
        Ok(open)
    }

    /// Has a link lead somewhere.
    fn put_target(&mut self, open: &mut OpenInode, target: &[u8]) -> Result<()> {
        let most = LONGEST_LINK.min(self.space.block_len().saturating_sub(1));
        if target.is_empty() || target.len() > most || target.contains(&0) {
            return Err(Error::usage("a link cannot lead to such a path"));
        }
        open.inode.put_size(target.len().exact_as::<u64>()?);
        if target.len() <= SHORT_LINK {
            let mut map = target.to_vec();
            map.resize(60, 0);
            open.inode.put_i_block(&map);
            return Ok(());
        }
        inline::with_a_map(&mut open.inode, self.superblock())?;
        let content: Arc<dyn ReadAt> = Arc::new(SparseStore::of(target));
        self.put_pieces(open, &content)
    }
}

/// Says which device it is.
fn put_device(inode: &mut RawInode, kind: FileKind) {
    let (FileKind::CharacterDevice(major, minor) | FileKind::BlockDevice(major, minor)) = kind
    else {
        return;
    };
    let mut map = vec![0; 60];
    match major < 256 && minor < 256 {
        true => {
            let _ = bytes::put(&mut map, 0, (major << 8 | minor).to_le_bytes());
        }
        false => {
            let wide = minor & 0xff | (major & 0xfff) << 8 | (minor & !0xff) << 12;
            let _ = bytes::put(&mut map, 4, wide.to_le_bytes());
        }
    }
    inode.put_i_block(&map);
}
