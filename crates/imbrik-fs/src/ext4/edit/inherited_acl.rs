//! Inheritance of access control lists from a folder (POSIX 1003.1e draft 17, section 23.1.2, "default ACL").

use super::Editor;
use crate::{
    ext4::structure::{attributes, inode::RawInode, values::in_inode},
    files::FileAttribute,
};
use imbrik_store::{
    bytes,
    error::{Error, Result},
};

const OF_NEW: &[u8] = b"system.posix_acl_default";
const OF_ACCESS: &[u8] = b"system.posix_acl_access";

/// The kinds of entries: the owner, a named user, the group, a named group, the mask, others.
const OWNER: u16 = 1;
const USER: u16 = 2;
const GROUP: u16 = 4;
const ONE_GROUP: u16 = 8;
const MASK: u16 = 16;
const OTHERS: u16 = 32;

/// The inherited attributes and permissions of a new file or folder.
pub(super) struct InheritedAcl {
    pub(super) attributes: Vec<FileAttribute>,
    pub(super) permissions: u16,
}

impl Editor<'_> {
    /// The attributes that a new item with `permissions` inherits from `folder`; `None` if there are none.
    ///
    /// # Errors
    /// When its attributes are invalid.
    pub(super) fn inherited_acl(
        &self,
        folder: &RawInode,
        permissions: u16,
        is_folder: bool,
    ) -> Result<Option<InheritedAcl>> {
        let wrong = || folder.wrong("its attributes are invalid");
        let number = folder.file_acl(self.superblock());
        let block = match number {
            0 => Vec::new(),
            number => self.space.block(number)?,
        };
        let mut all = in_inode(folder).ok_or_else(wrong)?;
        if number != 0 {
            all.extend(attributes::list(&block, attributes::IN_BLOCK, 0).ok_or_else(wrong)?);
        }
        let found = all.iter().find(|one| one.full_name().is_some_and(|name| name == OF_NEW));
        let Some(found) = found else { return Ok(None) };
        if found.inode != 0 {
            return Err(Error::unsupported("its folder's default ACL is in a separate inode"));
        }
        let list = attributes::told_acl(found.value);
        let list = list.ok_or_else(|| folder.wrong("an access control list is invalid"))?;
        let (own, permissions) = for_new(&list, permissions)
            .ok_or_else(|| folder.wrong("an access control list is invalid"))?;
        let attribute = |name: &[u8], value| FileAttribute { name: name.to_vec(), value };
        let mut attributes = Vec::new();
        attributes.extend(own.map(|own| attribute(OF_ACCESS, own)));
        if is_folder {
            attributes.push(attribute(OF_NEW, list));
        }
        Ok(Some(InheritedAcl { attributes, permissions }))
    }
}

/// The list of a new item with `permissions` that inherits `list`, and its resulting permissions. Without a list if the
/// permissions are equivalent.
fn for_new(list: &[u8], permissions: u16) -> Option<(Option<Vec<u8>>, u16)> {
    let mut own = list.to_vec();
    let (entries, _) = own.get_mut(4..)?.as_chunks_mut::<8>();
    let tag = |entry: &[u8; 8]| bytes::le_u16(entry, 0).unwrap_or(0);
    let has_mask = entries.iter().any(|entry| tag(entry) == MASK);
    let mut is_needed = false;
    let mut mode = permissions;
    for entry in entries {
        let shift = match tag(entry) {
            OWNER => 6,
            GROUP if !has_mask => 3,
            MASK => 3,
            OTHERS => 0,
            USER | ONE_GROUP | GROUP => {
                is_needed = true;
                continue;
            }
            _ => return None,
        };
        is_needed |= tag(entry) == MASK;
        let may = bytes::le_u16(entry, 2)? & (permissions >> shift) & 7;
        bytes::put(entry, 2, may.to_le_bytes())?;
        mode = mode & !(7 << shift) | may << shift;
    }
    Some((is_needed.then_some(own), mode))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn list(entries: &[(u16, u16, u32)]) -> Vec<u8> {
        let mut list = 2u32.to_le_bytes().to_vec();
        for (tag, may, number) in entries {
            list.extend(tag.to_le_bytes());
            list.extend(may.to_le_bytes());
            list.extend(number.to_le_bytes());
        }
        list
    }

    #[test]
    fn inherited_acl_grants_no_more_than_mode_and_folder() {
        let none = u32::MAX;
        let plain = list(&[(OWNER, 7, none), (GROUP, 5, none), (OTHERS, 0, none)]);
        assert_eq!(for_new(&plain, 0o644), Some((None, 0o640)));
        let more = list(&[
            (OWNER, 7, none),
            (USER, 6, 1000),
            (GROUP, 5, none),
            (MASK, 7, none),
            (OTHERS, 5, none),
        ]);
        let due = list(&[
            (OWNER, 6, none),
            (USER, 6, 1000),
            (GROUP, 5, none),
            (MASK, 4, none),
            (OTHERS, 4, none),
        ]);
        assert_eq!(for_new(&more, 0o4644), Some((Some(due), 0o4644)));
        assert_eq!(for_new(&list(&[(99, 7, none)]), 0o644), None);
    }
}
