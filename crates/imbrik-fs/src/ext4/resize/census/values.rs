//! Extended attributes: entries and values are valid and have the right hashes, and those of `ea_inode` volumes match
//! the inodes of their values.

use super::Faults;
use crate::ext4::structure::{
    Opened,
    attributes::{self, Attribute},
    inode::RawInode,
    values,
};
use imbrik_store::error::Result;
use std::collections::BTreeMap;

/// The references to an inode with a value.
#[derive(Default)]
pub(super) struct Uses {
    /// How many entries name it: those of a shared block count once.
    all: u64,
    /// True if it is of the style of old, which has no count.
    is_old_style: bool,
}

/// The inodes with values, and the references to them.
#[derive(Default)]
pub(super) struct Values {
    uses: BTreeMap<u32, Uses>,
    /// The inodes with the flag of a value.
    holders: Vec<u32>,
}

impl Values {
    /// Notes an inode that holds a value.
    pub(super) fn note_holder(&mut self, inode: &RawInode) {
        self.holders.push(inode.number);
    }

    /// Checks the attributes in `inode`.
    ///
    /// # Errors
    /// When the volume cannot be read, and those of `faults`.
    pub(super) fn look_at_inode(
        &mut self,
        opened: &Opened,
        inode: &RawInode,
        faults: &mut Faults,
    ) -> Result<()> {
        let title = format!("inode {}", inode.number);
        match values::in_inode(inode) {
            None => faults.push(format!("{title}: its attributes are invalid")),
            Some(found) => self.look(opened, &title, &found, Some(inode), faults),
        }
    }

    /// Checks the attributes in `block`.
    ///
    /// # Errors
    /// As [`Values::look_at_inode`].
    pub(super) fn look_at_block(
        &mut self,
        opened: &Opened,
        block: u64,
        faults: &mut Faults,
    ) -> Result<()> {
        let title = format!("the attributes in block {block}");
        let content = opened.meta.block(block)?;
        match attributes::list(&content, attributes::IN_BLOCK, 0) {
            None => faults.push(format!("{title} are invalid")),
            Some(found) => self.look(opened, &title, &found, None, faults),
        }
    }

    fn look(
        &mut self,
        opened: &Opened,
        title: &str,
        found: &[Attribute<'_>],
        of: Option<&RawInode>,
        faults: &mut Faults,
    ) -> Result<()> {
        if !attributes::have_right_hashes(found, of.is_some()) {
            faults.push(format!("{title}: the hash of an attribute is wrong"))?;
        }
        for attribute in found.iter().filter(|attribute| attribute.inode != 0) {
            let superblock = &opened.superblock;
            if !superblock.has_ea_inodes() {
                faults.push(format!(
                    "{title}: an attribute has a value in an inode, and the feature for that is off"
                ))?;
                continue;
            }
            let Ok(holder) = opened.inode(attribute.inode) else {
                faults.push(format!("{title}: the inode of an attribute's value is damaged"))?;
                continue;
            };
            let value = values::value_in(opened, &holder)?;
            let is_hashed = value.as_ref().is_some_and(|value| {
                let hash = values::hash_of(value, superblock);
                holder.value_hash() == hash && attribute.has_hash_of(&values::words_of_hash(hash))
            });
            let is_old = !is_hashed && of.is_some_and(|of| is_old_style(&holder, of));
            let uses = self.uses.entry(attribute.inode).or_default();
            uses.all = uses.all.saturating_add(1);
            uses.is_old_style |= is_old;
            let is_as_long = u64::from(attribute.len) == holder.size();
            if value.is_none() || !is_as_long || !(is_hashed || is_old) {
                faults.push(format!(
                    "{title}: the value of an attribute, in inode {}, is not the one it names",
                    attribute.inode
                ))?;
            }
        }
        Ok(())
    }

    /// Compares the references to each value with the count in its inode.
    ///
    /// # Errors
    /// As [`Values::look_at_inode`].
    pub(super) fn compare(&self, opened: &Opened, faults: &mut Faults) -> Result<()> {
        for number in &self.holders {
            let inode = opened.inode(*number)?;
            match self.uses.get(number) {
                None => faults.push(format!(
                    "inode {number}: it holds the value of an attribute, and none names it"
                ))?,
                Some(uses) => {
                    let counted = inode.value_references();
                    if counted != uses.all && !uses.is_old_style {
                        faults.push(format!(
                            "inode {number}: it counts {counted} attributes with its value, but there \
                             are {}",
                            uses.all
                        ))?;
                    }
                }
            }
        }
        Ok(())
    }
}

/// Returns whether a value inode is of the old style, which contains the inode of its attribute instead of a hash.
fn is_old_style(holder: &RawInode, of: &RawInode) -> bool {
    holder.value_parent() == of.number && holder.generation() == of.generation()
}
