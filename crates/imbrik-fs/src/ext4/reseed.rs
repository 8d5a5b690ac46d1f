//! A volume under another UUID.
//!
//! With `metadata_csum` and without a separate seed, every checksum of the volume starts from its UUID. Checksums that
//! were valid under the old one are valid under the new one, including those of deleted inodes. Wrong ones stay wrong.

use crate::{
    ResizeOptions,
    bits::{Bits, Run},
    ext4::{
        checksum::crc32c,
        fixed::Fixed,
        group::INODE_UNINIT,
        journal::{JournalPlace, put_journal_uuid},
        structure::{
            Opened, attributes, folder,
            inode::{ENCRYPTED_FLAG, MapKind, RawInode},
            map::{map_of, tail_of},
            orphan_file, trees, values,
        },
        superblock::{RawSuperblock, Superblock},
    },
};
use imbrik_store::{
    Edited, ReadAt, bytes,
    error::{Error, Result},
    exact::Exact as _,
    progress::Cancel,
    read_vec,
    units::ByteOffset,
};
use std::sync::Arc;

const UUID_AT: usize = 0x68;

/// The volume in `store` under the UUID `uuid`.
///
/// # Errors
/// When the store cannot be read or stopping was requested; [`imbrik_store::Class::Unsupported`] when a structure depends
/// on the UUID and can't be rewritten.
pub(crate) fn with_uuid(
    store: &Arc<dyn ReadAt>,
    uuid: [u8; 16],
    work: ResizeOptions<'_>,
) -> Result<Edited> {
    let opened = Opened::to_look_at(Arc::clone(store))?;
    let old = &opened.superblock;
    if old.has_stable_inodes() {
        return Err(Error::unsupported("its encryption hangs on its UUID"));
    }
    let new = old.with_uuid(uuid);
    let draft = Edited::bounded(Arc::clone(store), work.memory, work.temporary);
    let mut reseed = Reseed { opened: &opened, new, draft };
    // Hashes of attributes' values start from the seed, too, with or without other checksums.
    let is_seeded = old.has_metadata_csum() || old.has_ea_inodes();
    if is_seeded && old.seed != reseed.new.seed {
        reseed.inodes(work.cancel)?;
    }
    reseed.groups()?;
    reseed.journal(uuid)?;
    reseed.superblocks(uuid)?;
    Ok(reseed.draft)
}

struct Reseed<'a> {
    opened: &'a Opened,
    new: Superblock,
    draft: Edited,
}

impl Reseed<'_> {
    fn place(&self, block: u64) -> ByteOffset {
        ByteOffset::new(block.saturating_mul(self.new.block_len))
    }

    fn put_block(&mut self, block: u64, content: &[u8]) -> Result<()> {
        let at = self.place(block);
        self.draft.put(at, content)
    }

    fn inodes(&mut self, cancel: &Cancel) -> Result<()> {
        let (opened, old) = (self.opened, &self.opened.superblock);
        let mut shared = Bits::new(old.blocks);
        opened.each_inode(|inode, is_used| {
            cancel.check()?;
            self.inode(inode, is_used, &mut shared)
        })
    }

    fn inode(&mut self, mut inode: RawInode, is_used: bool, shared: &mut Bits) -> Result<()> {
        let (opened, old) = (self.opened, &self.opened.superblock);
        if inode.check(old).is_err() {
            return Ok(());
        }
        if is_used && inode.flags() & ENCRYPTED_FLAG != 0 {
            return Err(Error::unsupported(
                "files in it are encrypted, which may hang on its UUID",
            ));
        }
        let (was, is) = (inode.seed(old), inode.seed(&self.new));
        let found = inode.raw.clone();
        if is_used && old.has_ea_inodes() {
            self.values(&mut inode)?;
        }
        if is_used && old.has_metadata_csum() {
            let map = map_of(&opened.meta, old, &inode, &mut |_| Ok(()))?;
            if inode.map_kind(old)? == MapKind::Extents {
                for node in &map.nodes {
                    let mut block = opened.meta.block(node.block)?.to_vec();
                    if sum_of_node(&block, was).is_some_and(|(found, right)| found == right) {
                        trees::seal(&mut block, is);
                        self.put_block(node.block, &block)?;
                    }
                }
            }
            let is_orphans = inode.number == old.orphan_file && inode.number != 0;
            if inode.is_folder() || is_orphans {
                for piece in map.pieces.iter().filter(|piece| !piece.is_unwritten) {
                    for number in piece.physical..piece.physical.plus(piece.len)? {
                        let mut block = opened.meta.block(number)?.to_vec();
                        let sealed = match is_orphans {
                            true if orphan_file::is_sound(&block, number, Some(was)) => {
                                orphan_file::seal(&mut block, number, is)
                            }
                            false if folder::is_sound(&block, was) => folder::seal(&mut block, is),
                            _ => None,
                        };
                        if sealed.is_some() {
                            self.put_block(number, &block)?;
                        }
                    }
                }
            }
        }
        let acl = inode.file_acl(old);
        if is_used && acl != 0 && shared.add(Run::new(acl, 1)) {
            self.attribute_block(acl)?;
        }
        inode.seal(&self.new);
        if inode.raw == found {
            return Ok(());
        }
        let Some((block, inside)) = opened.place_of(inode.number) else { return Ok(()) };
        let inside = inside.exact_as::<u64>()?;
        let at = ByteOffset::new(self.place(block).get().plus(inside)?);
        self.draft.put(at, &inode.raw)
    }

    /// Updates what depends on the seed in the attributes of an inode: the hash of its value, and those of entries
    /// whose values are in other inodes.
    fn values(&self, inode: &mut RawInode) -> Result<()> {
        let (opened, old) = (self.opened, &self.opened.superblock);
        if let Some(value) = values::value_in(opened, inode)?
            && inode.value_hash() == values::hash_of(&value, old)
        {
            inode.put_value_hash(values::hash_of(&value, &self.new));
        }
        let found = values::in_inode(inode).unwrap_or_default();
        for (at, hash) in self.new_hashes(&found)? {
            inode.put_u32(at, hash);
        }
        Ok(())
    }

    /// The attributes in block `number`.
    fn attribute_block(&mut self, number: u64) -> Result<()> {
        let (opened, old) = (self.opened, &self.opened.superblock);
        let mut block = opened.meta.block(number)?.to_vec();
        if attributes::sharers(&block, number, old).is_none() {
            return Ok(());
        }
        let found = attributes::list(&block, attributes::IN_BLOCK, 0).unwrap_or_default();
        let hashes = self.new_hashes(&found)?;
        if !hashes.is_empty() {
            for (at, hash) in hashes {
                let _ = bytes::put(&mut block, at, hash.to_le_bytes());
            }
            let _ = attributes::rehash(&mut block);
        }
        attributes::seal(&mut block, number, &self.new);
        self.put_block(number, &block)
    }

    /// The hashes of entries whose values are in separate inodes, and their offsets. Wrong ones are unchanged.
    fn new_hashes(&self, found: &[attributes::Attribute<'_>]) -> Result<Vec<(usize, u32)>> {
        let (opened, old) = (self.opened, &self.opened.superblock);
        let mut hashes = Vec::new();
        for attribute in found.iter().filter(|attribute| attribute.inode != 0) {
            let Some(value) = values::value_in(opened, &opened.inode(attribute.inode)?)? else {
                continue;
            };
            let (was, is) = (values::hash_of(&value, old), values::hash_of(&value, &self.new));
            if attribute.has_hash_of(&values::words_of_hash(was)) {
                let hash = attribute.hash_of(&values::words_of_hash(is));
                hashes.push((attribute.hash_at, hash));
            }
        }
        Ok(hashes)
    }

    /// The checksums of bitmaps and descriptors, in every copy of the descriptors.
    fn groups(&mut self) -> Result<()> {
        if !self.new.has_group_checksums() {
            return Ok(());
        }
        let new = self.new.clone();
        let raw_len = new.descriptor_len.exact_as::<usize>()?;
        for (number, group) in (0u64..).zip(&self.opened.groups) {
            let mut group = group.clone();
            if new.has_metadata_csum() {
                let old = &self.opened.superblock;
                let blocks = self.opened.meta.block(group.block_bitmap)?;
                if group.check_block_bitmap(old.covered(&blocks), number, old).is_ok() {
                    group.block_bitmap_checksum = crc32c(new.seed, new.covered(&blocks));
                }
                let inodes = self.opened.meta.block(group.inode_bitmap)?;
                let is_there = group.flags & INODE_UNINIT == 0;
                if is_there || group.check_inode_bitmap(&inodes, number, old).is_ok() {
                    group.inode_bitmap_checksum = crc32c(new.seed, new.covered_inodes(&inodes));
                }
            }
            let (block, inside) = new.descriptor_at(number);
            let at = ByteOffset::new(self.place(block).get().plus(inside)?);
            let mut raw = read_vec(&self.draft, at, raw_len)?;
            group.encode(&mut raw, number, &new)?;
            self.draft.put(at, &raw)?;
        }
        Ok(())
    }

    /// A journal contains the UUID, too. If its location is not confirmed, it is unchanged.
    fn journal(&mut self, uuid: [u8; 16]) -> Result<()> {
        let (opened, old) = (self.opened, &self.opened.superblock);
        let fixed = Fixed::of(old, &opened.groups)?;
        let Ok(Some(place)) = JournalPlace::of(&opened.meta, old, &opened.groups, &fixed) else {
            return Ok(());
        };
        let first = place.map.pieces.first().map(|piece| piece.physical);
        let Some(first) = first.filter(|_| place.is_confirmed) else { return Ok(()) };
        let mut head = place.head;
        match put_journal_uuid(&mut head, &old.uuid, &uuid) {
            Some(true) => self.put_block(first, &head),
            Some(false) | None => Ok(()),
        }
    }

    /// Every copy of the superblock, and of the descriptors after it.
    fn superblocks(&mut self, uuid: [u8; 16]) -> Result<()> {
        let new = self.new.clone();
        for group in (0..new.groups()).filter(|group| new.has_superblock(*group)) {
            let start = new.group_start(group);
            let at = match group {
                0 => ByteOffset::new(Superblock::OFFSET),
                _ => self.place(start),
            };
            let mut raw = read_vec(&self.draft, at, Superblock::LEN)?;
            // Invalid copies are unchanged.
            let own = self.opened.superblock.uuid;
            if RawSuperblock::decode(&raw).is_none_or(|copy| copy.uuid() != own) {
                continue;
            }
            let _ = bytes::put(&mut raw, UUID_AT, uuid);
            new.seal(&mut raw);
            self.draft.put(at, &raw)?;
            if group > 0 && new.has_group_checksums() {
                self.descriptor_copies(group, start)?;
            }
        }
        Ok(())
    }

    /// The copy of the descriptors in `group`: the same bytes as those in front.
    fn descriptor_copies(&mut self, group: u64, start: u64) -> Result<()> {
        let len = self.new.block_len.exact_as::<usize>()?;
        let per_block = self.new.descriptors_a_block();
        let indices = self.new.descriptors_in(group);
        let first = indices.start;
        for index in indices {
            let (from, _) = self.new.descriptor_at(index.times(per_block)?);
            let to = start.plus(1)?.plus(index.saturating_sub(first))?;
            let content = read_vec(&self.draft, self.place(from), len)?;
            if from != to {
                self.put_block(to, &content)?;
            }
        }
        Ok(())
    }
}

/// The checksum that a block of an extent tree has, and the one it must have.
fn sum_of_node(block: &[u8], seed: u32) -> Option<(u32, u32)> {
    let at = tail_of(block)?;
    Some((bytes::le_u32(block, at)?, crc32c(seed, block.get(..at)?)))
}
