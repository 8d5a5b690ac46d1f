//! An ext volume at a larger size, as a view: groups are added at its end.
//!
//! Nothing that is there moves. What changes is made anew: the descriptors and their copies, the
//! bitmap of the group that was the last one, the bitmaps of the new groups, the superblock and its
//! copies, and the map of the reserved descriptor blocks (the resize inode), from which the room for
//! more descriptors comes.
//!
//! ```text
//! before │ group 0 │ group 1 │ last, short │
//! after  │ group 0 │ group 1 │ last, full  │ new: [copies] bitmaps, table, free … │ … │ last │
//! ```

use super::{checksum::crc32c, group::Group, replay::Replayed, superblock::Superblock};
use crate::{
    bytes,
    error::{Error, Result},
    fs::Settled,
    store::{ReadAt, check_range, read_vec},
    units::{ByteLen, ByteOffset, SectorSize, Span},
};
use std::sync::Arc;

const RESIZE_INODE: u32 = 7;
/// A last group with less room than this beside its own metadata is not worth having, in blocks.
const LEAST_ROOM: u64 = 64;

/// The volume in `store`, which is clean, at `new_len` bytes or a little less: only whole blocks
/// count, and a last group that would have no room to speak of is left out.
///
/// # Errors
/// - When the store cannot be read.
/// - [`crate::Class::Unsupported`] with the feature or the limit that is in the way.
/// - [`crate::Class::Corrupt`] when the volume contradicts itself.
pub(in crate::fs) fn grow(store: Arc<dyn ReadAt>, new_len: ByteLen) -> Result<Settled> {
    let old = Superblock::read(&*store)?;
    let old = old.ok_or_else(|| Error::corrupt("its superblock is gone"))?;
    old.can_be_trusted(store.size())?;
    old.can_grow()?;
    let blocks = new_len.get().checked_div(old.block_len).unwrap_or(0);
    let mut new = old.with_blocks(blocks, LEAST_ROOM);
    if new.blocks <= old.blocks {
        return Err(Error::unsupported("there is no room to speak of to grow into"));
    }
    let more = new.descriptor_blocks().saturating_sub(old.descriptor_blocks());
    let Some(reserved) = old.reserved_gdt_blocks.checked_sub(more) else {
        return Err(Error::unsupported(format!(
            "its descriptors would need {more} more blocks, {} are reserved for them",
            old.reserved_gdt_blocks
        )));
    };
    new.reserved_gdt_blocks = reserved;
    if new.inodes() > u64::from(u32::MAX) {
        return Err(Error::unsupported("it would have more inodes than can be counted"));
    }
    let old_end = store.size();
    let padded =
        Padded { inner: store, size: ByteLen::new(new.blocks.saturating_mul(new.block_len)) };
    let mut growth = Growth {
        table: read_table(&padded, &old)?,
        out: Replayed::plain(padded, new.block_len),
        old,
        new,
        free_blocks: 0,
        free_inodes: 0,
        overhead: 0,
    };
    growth.lengthen_last_group()?;
    growth.add_groups()?;
    growth.follow_resize_inode()?;
    growth.write_descriptors_and_superblocks()?;
    let mut rewritten: Vec<Span> = growth.out.changed_spans();
    let end = ByteOffset::new(growth.out.size().get());
    // What stands behind the old end is made here, whatever the medium holds there.
    rewritten.push(Span::between(ByteOffset::new(old_end.get().min(end.get())), end));
    Ok(Settled { store: Arc::new(growth.out), rewritten: crate::units::joined(rewritten) })
}

/// A store with zeros behind its end.
struct Padded {
    inner: Arc<dyn ReadAt>,
    size: ByteLen,
}

impl ReadAt for Padded {
    fn size(&self) -> ByteLen {
        self.size
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        check_range(at, ByteLen::of(buf), self.size)?;
        let end = ByteOffset::new(self.inner.size().get());
        let room = end.saturating_since(at).to_usize().unwrap_or(usize::MAX).min(buf.len());
        let (there, behind) = buf.split_at_mut(room);
        behind.fill(0);
        if there.is_empty() { Ok(()) } else { self.inner.read_at(at, there) }
    }

    fn sector_size(&self) -> SectorSize {
        self.inner.sector_size()
    }
}

/// The raw descriptors of all groups.
fn read_table(store: &dyn ReadAt, superblock: &Superblock) -> Result<Vec<Vec<u8>>> {
    let mut table = Vec::new();
    for number in 0..superblock.groups() {
        // Decoding proves its checksum.
        Group::read(store, superblock, number)?;
        let (block, inside) = superblock.descriptor_at(number);
        let at = block.saturating_mul(superblock.block_len).saturating_add(inside);
        let len = usize::try_from(superblock.descriptor_len).unwrap_or(0);
        table.push(read_vec(store, ByteOffset::new(at), len)?);
    }
    Ok(table)
}

/// A volume on its way to its new size.
struct Growth {
    old: Superblock,
    new: Superblock,
    out: Replayed<Padded>,
    table: Vec<Vec<u8>>,
    /// What the new room adds to the totals.
    free_blocks: u64,
    free_inodes: u64,
    overhead: u64,
}

fn broken() -> Error {
    Error::corrupt("its numbers contradict each other")
}

impl Growth {
    fn block_len(&self) -> usize {
        usize::try_from(self.new.block_len).unwrap_or(0)
    }

    fn read_block(&self, block: u64) -> Result<Vec<u8>> {
        let at = ByteOffset::new(block.saturating_mul(self.new.block_len));
        read_vec(&self.out, at, self.block_len())
    }

    fn descriptor(&mut self, group: u64) -> Result<&mut Vec<u8>> {
        let index = usize::try_from(group).unwrap_or(usize::MAX);
        self.table.get_mut(index).ok_or_else(broken)
    }

    /// The group that was the last one gets the blocks that it lacked.
    fn lengthen_last_group(&mut self) -> Result<()> {
        let number = self.old.groups().saturating_sub(1);
        let (had, has) = (self.old.group_len(number), self.new.group_len(number));
        if had == has {
            return Ok(());
        }
        let group = Group::read(&self.out, &self.old, number)?;
        let mut bitmap = self.read_block(group.block_bitmap)?;
        group.check_block_bitmap(self.new.covered(&bitmap), number, &self.old)?;
        set_bits(&mut bitmap, had, has, false);
        let more = has.saturating_sub(had);
        self.free_blocks = self.free_blocks.saturating_add(more);
        let free = group.free_clusters.saturating_add(more);
        let new = self.new.clone();
        let sum = crc32c(new.seed, new.covered(&bitmap));
        let raw = self.descriptor(number)?;
        put_halves(raw, 0xc, 0x2c, free)?;
        put_halves(raw, 0x18, 0x38, sum.into())?;
        self.out.put(group.block_bitmap, bitmap);
        Ok(())
    }

    /// Groups behind the old last one, each with its own bitmaps and table.
    fn add_groups(&mut self) -> Result<()> {
        let new = self.new.clone();
        for number in self.old.groups()..new.groups() {
            let start = new.group_start(number);
            let leading = new.leading_blocks(number);
            let block_bitmap_at = start.saturating_add(leading);
            let inode_bitmap_at = block_bitmap_at.saturating_add(1);
            let table_at = inode_bitmap_at.saturating_add(1);
            let used = leading.saturating_add(new.metadata_blocks_a_group());
            let len = new.group_len(number);
            let free = len.checked_sub(used).ok_or_else(broken)?;
            let all = u64::try_from(self.block_len()).unwrap_or(0).saturating_mul(8);
            let mut block_bitmap = vec![0; self.block_len()];
            set_bits(&mut block_bitmap, 0, used, true);
            set_bits(&mut block_bitmap, len, all, true);
            let mut inode_bitmap = vec![0; self.block_len()];
            set_bits(&mut inode_bitmap, new.inodes_per_group, all, true);
            let mut raw = vec![0; usize::try_from(new.descriptor_len).unwrap_or(0)];
            put_u32_halves(&mut raw, 0x0, 0x20, block_bitmap_at)?;
            put_u32_halves(&mut raw, 0x4, 0x24, inode_bitmap_at)?;
            put_u32_halves(&mut raw, 0x8, 0x28, table_at)?;
            put_halves(&mut raw, 0xc, 0x2c, free)?;
            put_halves(&mut raw, 0xe, 0x2e, new.inodes_per_group)?;
            if new.has_group_checksums() {
                // The table was never used, and is zeros: both flags say so.
                bytes::put(&mut raw, 0x12, 0x5u16.to_le_bytes()).ok_or_else(broken)?;
                put_halves(&mut raw, 0x1c, 0x32, new.inodes_per_group)?;
            }
            if new.has_metadata_csum() {
                let sum = crc32c(new.seed, new.covered(&block_bitmap));
                put_halves(&mut raw, 0x18, 0x38, sum.into())?;
                let inodes = usize::try_from(new.inodes_per_group / 8).unwrap_or(0);
                let sum = crc32c(new.seed, inode_bitmap.get(..inodes).unwrap_or_default());
                put_halves(&mut raw, 0x1a, 0x3a, sum.into())?;
            }
            self.table.push(raw);
            self.out.put(block_bitmap_at, block_bitmap);
            self.out.put(inode_bitmap_at, inode_bitmap);
            self.free_blocks = self.free_blocks.saturating_add(free);
            self.free_inodes = self.free_inodes.saturating_add(new.inodes_per_group);
            self.overhead = self.overhead.saturating_add(used);
        }
        Ok(())
    }

    /// The resize inode holds the reserved descriptor blocks: the primary ones through its double
    /// indirect block, the copies of each through the primary one.
    fn follow_resize_inode(&mut self) -> Result<()> {
        let new = self.new.clone();
        if !new.has_resize_inode() {
            return match self.old.reserved_gdt_blocks {
                0 => Ok(()),
                _ => Err(Error::unsupported("it reserves descriptor blocks without an inode")),
            };
        }
        let group = Group::read(&self.out, &self.old, 0)?;
        let index = u64::from(RESIZE_INODE.saturating_sub(1));
        let at = group.inode_table.saturating_mul(new.block_len);
        let at = at.saturating_add(index.saturating_mul(new.inode_len));
        let (block, inside) = (
            at.checked_div(new.block_len).unwrap_or(0),
            usize::try_from(at.checked_rem(new.block_len).unwrap_or(0)).unwrap_or(0),
        );
        let mut table = self.read_block(block)?;
        let len = usize::try_from(new.inode_len).unwrap_or(0);
        let inode = table.get_mut(inside..inside.saturating_add(len)).ok_or_else(broken)?;
        // i_block[13], the double indirect block.
        let double = u64::from(bytes::le_u32(inode, 0x28 + 13 * 4).ok_or_else(broken)?);
        if double == 0 || double >= self.old.blocks {
            return Err(Error::corrupt("its resize inode makes no sense"));
        }
        let copies: Vec<u64> =
            (1..new.groups()).filter(|group| new.has_superblock(*group)).collect();
        let a_block = new.block_len / 4;
        let mut map = vec![0; self.block_len()];
        let mut lists = Vec::new();
        for index in 0..new.reserved_gdt_blocks {
            let slot = new.descriptor_blocks().saturating_add(index);
            let primary = new.group_start(0).saturating_add(1).saturating_add(slot);
            let place = slot.checked_rem(a_block).unwrap_or(0).saturating_mul(4);
            let place = usize::try_from(place).unwrap_or(usize::MAX);
            put_number(&mut map, place, primary)?;
            let mut list = vec![0; self.block_len()];
            for (entry, group) in copies.iter().enumerate() {
                let copy = group.saturating_mul(new.blocks_per_group).saturating_add(primary);
                put_number(&mut list, entry.saturating_mul(4), copy)?;
            }
            lists.push((primary, list));
        }
        let count = u64::try_from(copies.len()).unwrap_or(0).saturating_add(1);
        let held = new.reserved_gdt_blocks.saturating_mul(count).saturating_add(1);
        let sectors = held.saturating_mul(new.block_len / 512);
        bytes::put(inode, 0x1c, u32::try_from(sectors).map_err(|_| broken())?.to_le_bytes())
            .ok_or_else(broken)?;
        if new.has_metadata_csum() {
            seal_inode(inode, RESIZE_INODE, new.seed).ok_or_else(broken)?;
        }
        self.out.put(block, table);
        self.out.put(double, map);
        for (primary, list) in lists {
            self.out.put(primary, list);
        }
        Ok(())
    }

    fn write_descriptors_and_superblocks(&mut self) -> Result<()> {
        let new = self.new.clone();
        for (number, raw) in (0u64..).zip(&mut self.table) {
            if let Some(sum) = Group::checksum(raw, number, &new) {
                bytes::put(raw, 0x1e, sum.to_le_bytes()).ok_or_else(broken)?;
            }
        }
        let mut table = self.table.concat();
        let blocks = usize::try_from(new.descriptor_blocks()).unwrap_or(0);
        table.resize(blocks.saturating_mul(self.block_len()), 0);
        let primary = read_vec(&self.out, ByteOffset::new(Superblock::OFFSET), Superblock::LEN)?;
        let grown = self.superblock(&primary).ok_or_else(broken)?;
        for group in (0..new.groups()).filter(|group| new.has_superblock(*group)) {
            let start = new.group_start(group);
            let mut raw = grown.clone();
            let own = u16::try_from(group & 0xffff).unwrap_or(0);
            bytes::put(&mut raw, 0x5a, own.to_le_bytes()).ok_or_else(broken)?;
            if new.has_metadata_csum() {
                let sum = crc32c(!0, raw.get(..0x3fc).unwrap_or_default());
                bytes::put(&mut raw, 0x3fc, sum.to_le_bytes()).ok_or_else(broken)?;
            }
            let mut block = self.read_block(start)?;
            let inside =
                if group == 0 { Superblock::OFFSET.checked_rem(new.block_len) } else { Some(0) };
            let inside = usize::try_from(inside.unwrap_or(0)).unwrap_or(0);
            let place = block.get_mut(inside..inside.saturating_add(Superblock::LEN));
            place.ok_or_else(broken)?.copy_from_slice(&raw);
            self.out.put(start, block);
            for (index, piece) in (1u64..).zip(table.chunks(self.block_len())) {
                self.out.put(start.saturating_add(index), piece.to_vec());
            }
        }
        Ok(())
    }

    /// The superblock at the new size, without its checksum.
    fn superblock(&self, old: &[u8]) -> Option<Vec<u8>> {
        let mut raw = old.to_vec();
        let new = &self.new;
        let wide = |low: usize, high: usize| {
            let high = if new.is_64bit() { u64::from(bytes::le_u32(old, high)?) << 32 } else { 0 };
            Some(u64::from(bytes::le_u32(old, low)?) | high)
        };
        let split = |raw: &mut Vec<u8>, low: usize, high: usize, value: u64| {
            bytes::put(raw, low, u32::try_from(value & 0xffff_ffff).ok()?.to_le_bytes())?;
            match new.is_64bit() {
                true => bytes::put(raw, high, u32::try_from(value >> 32).ok()?.to_le_bytes()),
                false => Some(()),
            }
        };
        let kept_back = wide(0x8, 0x154)?;
        let part = u128::from(kept_back).checked_mul(new.blocks.into())?;
        let kept_back = u64::try_from(part.checked_div(self.old.blocks.into())?).ok()?;
        let free = wide(0xc, 0x158)?.checked_add(self.free_blocks)?;
        let free_inodes = u64::from(bytes::le_u32(old, 0x10)?).checked_add(self.free_inodes)?;
        bytes::put(&mut raw, 0x0, u32::try_from(new.inodes()).ok()?.to_le_bytes())?;
        split(&mut raw, 0x4, 0x150, new.blocks)?;
        split(&mut raw, 0x8, 0x154, kept_back)?;
        split(&mut raw, 0xc, 0x158, free)?;
        bytes::put(&mut raw, 0x10, u32::try_from(free_inodes).ok()?.to_le_bytes())?;
        let reserved = u16::try_from(new.reserved_gdt_blocks).ok()?;
        bytes::put(&mut raw, 0xce, reserved.to_le_bytes())?;
        let overhead = u64::from(bytes::le_u32(old, 0x248)?);
        if overhead > 0 {
            let overhead = u32::try_from(overhead.checked_add(self.overhead)?).ok()?;
            bytes::put(&mut raw, 0x248, overhead.to_le_bytes())?;
        }
        Some(raw)
    }
}

/// Sets or clears the bits from `from` up to `to`.
fn set_bits(bitmap: &mut [u8], from: u64, to: u64, value: bool) {
    for bit in from..to {
        let Ok(at) = usize::try_from(bit / 8) else { return };
        let Some(byte) = bitmap.get_mut(at) else { return };
        let mask = 1u8 << (bit % 8);
        *byte = if value { *byte | mask } else { *byte & !mask };
    }
}

fn put_number(block: &mut [u8], at: usize, number: u64) -> Result<()> {
    let number = u32::try_from(number).map_err(|_| broken())?;
    bytes::put(block, at, number.to_le_bytes()).ok_or_else(broken)
}

/// A value of 16 bits in the first half of a descriptor, its high half in the second if there is
/// one.
fn put_halves(raw: &mut [u8], low: usize, high: usize, value: u64) -> Result<()> {
    let part = |value: u64| u16::try_from(value & 0xffff).unwrap_or(0).to_le_bytes();
    bytes::put(raw, low, part(value)).ok_or_else(broken)?;
    match raw.len() {
        64.. => bytes::put(raw, high, part(value >> 16)).ok_or_else(broken),
        _ => Ok(()),
    }
}

/// The same for a value of 32 bits.
fn put_u32_halves(raw: &mut [u8], low: usize, high: usize, value: u64) -> Result<()> {
    let part = |value: u64| u32::try_from(value & 0xffff_ffff).unwrap_or(0).to_le_bytes();
    bytes::put(raw, low, part(value)).ok_or_else(broken)?;
    match (raw.len(), value >> 32) {
        (64.., high_half) => bytes::put(raw, high, part(high_half)).ok_or_else(broken),
        (_, 0) => Ok(()),
        _ => Err(broken()),
    }
}

/// Makes an inode's checksum anew.
fn seal_inode(inode: &mut [u8], number: u32, seed: u32) -> Option<()> {
    let has_high = inode.len() > 128 && bytes::le_u16(inode, 0x80)? >= 4;
    bytes::put(inode, 0x7c, [0; 2])?;
    if has_high {
        bytes::put(inode, 0x82, [0; 2])?;
    }
    let generation: [u8; 4] = bytes::array(inode, 0x64)?;
    let sum = crc32c(crc32c(crc32c(seed, &number.to_le_bytes()), &generation), inode);
    let half = |value: u32| u16::try_from(value & 0xffff).unwrap_or(0).to_le_bytes();
    bytes::put(inode, 0x7c, half(sum))?;
    if has_high {
        bytes::put(inode, 0x82, half(sum >> 16))?;
    }
    Some(())
}
