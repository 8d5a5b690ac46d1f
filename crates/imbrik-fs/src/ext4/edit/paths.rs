//! Applying edits one by one: resolving paths, and changing the items there.

use super::{Editor, OpenInode, make::What};
use crate::{
    edit::{FileEdit, FileMeta, is_there, missing, no_folder, split},
    ext4::structure::inode::{
        CASEFOLD_FLAG, ENCRYPTED_FLAG, FILE, LINK, ROOT, TYPE_MASK, VERITY_FLAG,
    },
};
use imbrik_store::{
    ReadAt,
    error::{Error, Result},
};
use std::{collections::BTreeSet, sync::Arc};

/// More links than a folder counts: it counts none then. No file has more.
const MOST_LINKS: u16 = 65_000;
/// A folder that checkers expect in the root folder.
const LOST_AND_FOUND: &[u8] = b"lost+found";

impl Editor<'_> {
    /// Does one thing.
    ///
    /// # Errors
    /// As [`super::edit`].
    pub(super) fn apply(&mut self, edit: &FileEdit) -> Result<()> {
        match edit {
            FileEdit::Put { path, content, meta } => self.put(path, content, meta),
            FileEdit::Folder { path, meta } => self.make_folder(path, meta),
            FileEdit::Link { path, target, meta } => self.add(path, &What::Link(target), meta),
            FileEdit::Node { path, kind, meta } => self.add(path, &What::Node(*kind), meta),
            FileEdit::Name { path, of } => self.add_name(path, of),
            FileEdit::Remove { path } => self.remove(path),
            FileEdit::Rename { from, to } => self.rename(from, to),
        }
    }

    /// The inode that names from the root down lead to, all of them of folders.
    fn folder_at(&mut self, path: &[Vec<u8>]) -> Result<u32> {
        let Some((name, above)) = path.split_last() else { return Ok(ROOT) };
        if let Some(known) = self.paths.get(path) {
            return Ok(*known);
        }
        let above = self.folder_at(above)?;
        let open = self.take_folder(above)?;
        let found = self.look_up(&open, name);
        self.keep(open);
        let found = found?.ok_or_else(|| no_folder(name))?;
        let open = self.take_folder(found)?;
        self.keep(open);
        self.paths.insert(path.to_vec(), found);
        Ok(found)
    }

    /// Opens an inode that is a folder with readable blocks.
    fn take_folder(&mut self, number: u32) -> Result<OpenInode> {
        let inode = &self.peek(number)?.inode;
        if !inode.is_folder() {
            return Err(Error::unsupported("a link or a file is in the place of a folder"));
        }
        if inode.flags() & (ENCRYPTED_FLAG | CASEFOLD_FLAG) != 0 {
            return Err(Error::unsupported("a folder on its way is encrypted or folds case"));
        }
        self.take(number)
    }

    /// The folder of `path`, the present item at the path, and its name.
    fn place_of<'p>(&mut self, path: &'p [Vec<u8>]) -> Result<(u32, Option<u32>, &'p [u8])> {
        let (name, folders) = split(path)?;
        let folder = self.folder_at(folders)?;
        let open = self.take_folder(folder)?;
        let found = self.look_up(&open, name);
        self.keep(open);
        Ok((folder, found?, name))
    }

    fn put(&mut self, path: &[Vec<u8>], content: &Arc<dyn ReadAt>, meta: &FileMeta) -> Result<()> {
        let (folder, found, name) = self.place_of(path)?;
        let mut file = match found {
            Some(found) => {
                let inode = &self.peek(found)?.inode;
                match inode.mode() & TYPE_MASK {
                    FILE => {}
                    LINK => return Err(Error::unsupported("a link is in its place")),
                    _ => return Err(Error::unsupported("something else is in its place")),
                }
                if inode.flags() & (ENCRYPTED_FLAG | VERITY_FLAG) != 0 {
                    return Err(Error::unsupported("it is encrypted or sealed"));
                }
                if inode.is_immutable() {
                    return Err(Error::unsupported("it must not be changed"));
                }
                let mut file = self.take(found)?;
                if let Some((owner, group)) = meta.owner {
                    self.change_owner(&mut file, owner, group)?;
                }
                if let Some(flags) = meta.flags {
                    file.inode.put_user_flags(flags);
                }
                if let Some(permissions) = meta.permissions {
                    file.inode.put_mode(FILE | permissions & 0o7777);
                }
                file
            }
            None => self.new_entry(folder, name, &What::File, meta)?,
        };
        self.put_content(&mut file, content)?;
        file.modified = meta.modified;
        self.keep(file);
        Ok(())
    }

    fn make_folder(&mut self, path: &[Vec<u8>], meta: &FileMeta) -> Result<()> {
        if path.is_empty() {
            return Ok(());
        }
        let (_, found, name) = self.place_of(path)?;
        match found {
            None => self.add(path, &What::Folder, meta),
            Some(found) if self.peek(found)?.inode.is_folder() => Ok(()),
            Some(_) => Err(is_there(name)),
        }
    }

    /// Adds a new file, folder or link.
    fn add(&mut self, path: &[Vec<u8>], what: &What<'_>, meta: &FileMeta) -> Result<()> {
        let (folder, found, name) = self.place_of(path)?;
        if found.is_some() {
            return Err(is_there(name));
        }
        let made = self.new_entry(folder, name, what, meta)?;
        self.keep(made);
        Ok(())
    }

    /// A new inode with a name in a folder.
    fn new_entry(
        &mut self,
        folder: u32,
        name: &[u8],
        what: &What<'_>,
        meta: &FileMeta,
    ) -> Result<OpenInode> {
        let mut folder = self.take_folder(folder)?;
        let mut made = self.make(what, meta, &folder.inode)?;
        if matches!(what, What::Folder) {
            self.begin_folder(&mut made, folder.inode.number)?;
            self.one_folder_more(&mut folder)?;
        }
        self.add_entry(&mut folder, name, &made.inode)?;
        self.touch(&mut folder.inode);
        self.keep(folder);
        Ok(made)
    }

    fn add_name(&mut self, path: &[Vec<u8>], of: &[Vec<u8>]) -> Result<()> {
        let (_, found, _) = self.place_of(of)?;
        let number = found.ok_or_else(missing)?;
        let (folder, found, name) = self.place_of(path)?;
        if found.is_some() {
            return Err(is_there(name));
        }
        let mut file = self.take(number)?;
        let links = file.inode.links();
        if file.inode.is_folder() || links >= MOST_LINKS {
            return Err(Error::unsupported("it gets no second name"));
        }
        file.inode.put_links(links.saturating_add(1));
        file.inode.put_changed(self.now);
        let inode = file.inode.clone();
        self.keep(file);
        let mut folder = self.take_folder(folder)?;
        self.add_entry(&mut folder, name, &inode)?;
        self.touch(&mut folder.inode);
        self.keep(folder);
        Ok(())
    }

    /// The folder above has one folder more in it.
    fn one_folder_more(&mut self, folder: &mut OpenInode) -> Result<()> {
        let links = match folder.inode.links() {
            1 => 1,
            MOST_LINKS.. if self.superblock().has_dir_nlink() => 1,
            MOST_LINKS.. => return Err(Error::no_room("its folder can have no more folders")),
            links => links.saturating_add(1),
        };
        folder.inode.put_links(links);
        Ok(())
    }

    fn one_folder_less(folder: &mut OpenInode) {
        let links = folder.inode.links();
        if links > 2 {
            folder.inode.put_links(links.saturating_sub(1));
        }
    }

    fn remove(&mut self, path: &[Vec<u8>]) -> Result<()> {
        let (folder, found, name) = self.place_of(path)?;
        let number = found.ok_or_else(missing)?;
        if folder == ROOT && name == LOST_AND_FOUND {
            return Err(Error::unsupported("checkers expect it there"));
        }
        let is_folder = self.peek(number)?.inode.is_folder();
        self.remove_all(number)?;
        let mut folder = self.take_folder(folder)?;
        self.remove_entry(&mut folder, name)?;
        if is_folder {
            Self::one_folder_less(&mut folder);
        }
        self.touch(&mut folder.inode);
        self.keep(folder);
        self.paths.clear();
        Ok(())
    }

    /// Takes a name from an inode, and with the last one all that it has: of a folder, all in it, too.
    fn remove_all(&mut self, number: u32) -> Result<()> {
        // The content of a folder is removed before the folder.
        let mut waiting = vec![(number, false)];
        let mut entered = BTreeSet::new();
        while let Some((number, is_empty)) = waiting.pop() {
            let first = self.superblock().first_inode;
            let inode = &self.peek(number)?.inode;
            if number < first || inode.links() == 0 {
                return Err(inode_is(number, "cannot be removed"));
            }
            if inode.is_immutable() {
                return Err(Error::unsupported("something in it must not be changed"));
            }
            if inode.is_folder() && !is_empty {
                if !entered.insert(number) {
                    return Err(inode_is(
                        number,
                        "is a folder that is in itself, or in several others",
                    ));
                }
                waiting.push((number, true));
                let open = self.take_folder(number)?;
                let found = self.names_in(&open);
                self.keep(open);
                for (name, below) in found? {
                    if name != b"." && name != b".." {
                        waiting.push((below, false));
                    }
                }
                continue;
            }
            let mut open = self.take(number)?;
            let links = open.inode.links();
            if links > 1 && !open.inode.is_folder() {
                open.inode.put_links(links.saturating_sub(1));
                open.inode.put_changed(self.now);
                self.keep(open);
                continue;
            }
            self.delete_open(open)?;
        }
        Ok(())
    }

    fn rename(&mut self, from: &[Vec<u8>], to: &[Vec<u8>]) -> Result<()> {
        let (old_folder, found, old) = self.place_of(from)?;
        let number = found.ok_or_else(missing)?;
        if from == to {
            return Ok(());
        }
        if old_folder == ROOT && old == LOST_AND_FOUND {
            return Err(Error::unsupported("checkers expect it there"));
        }
        if to.starts_with(from) {
            return Err(Error::usage("a folder cannot be moved into itself"));
        }
        let (new_folder, found, new) = self.place_of(to)?;
        if found.is_some() {
            return Err(is_there(new));
        }
        let mut moved = self.take(number)?;
        moved.inode.put_changed(self.now);
        let is_folder = moved.inode.is_folder();
        if is_folder && old_folder != new_folder {
            self.put_parent(&mut moved, new_folder)?;
        }
        let inode = moved.inode.clone();
        self.keep(moved);
        let mut folder = self.take_folder(old_folder)?;
        self.remove_entry(&mut folder, old)?;
        if is_folder && old_folder != new_folder {
            Self::one_folder_less(&mut folder);
        }
        self.touch(&mut folder.inode);
        self.keep(folder);
        let mut folder = self.take_folder(new_folder)?;
        if is_folder && old_folder != new_folder {
            self.one_folder_more(&mut folder)?;
        }
        self.add_entry(&mut folder, new, &inode)?;
        self.touch(&mut folder.inode);
        self.keep(folder);
        self.paths.clear();
        Ok(())
    }
}

fn inode_is(number: u32, what: &str) -> Error {
    Error::corrupt(format!("inode {number} {what}"))
}
