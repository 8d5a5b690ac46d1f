//! An inode of an inode table: `struct ext4_inode`, with the fields that a resize reads and changes.
//!
//! ```text
//!  0x00 mode     0x08 atime   0x0c ctime   0x10 mtime   0x14 dtime     0x1a links
//!  0x1c blocks   0x20 flags   0x28 i_block (60 bytes)   0x64 generation
//!  0x68 file_acl 0x6c size, high half      0x74 blocks, high half      0x76 file_acl, high half
//!  0x7c checksum 0x80 extra_isize          0x82 checksum, high half    … attributes
//! ```

use super::attributes;
use crate::{
    ext4::{checksum::crc32c, superblock::Superblock},
    files::{FileFlags, FileKind, FileTime, Ownership},
};
use imbrik_store::{
    bytes,
    error::{Error, Result},
};
use std::ops::Range;

/// The inode of the root directory.
pub(in crate::ext4) const ROOT: u32 = 2;
pub(in crate::ext4) const TYPE_MASK: u16 = 0xf000;
pub(in crate::ext4) const PIPE: u16 = 0x1000;
pub(in crate::ext4) const CHARACTERS: u16 = 0x2000;
pub(in crate::ext4) const FOLDER: u16 = 0x4000;
pub(in crate::ext4) const BLOCKS: u16 = 0x6000;
pub(in crate::ext4) const FILE: u16 = 0x8000;
pub(in crate::ext4) const LINK: u16 = 0xa000;
pub(in crate::ext4) const SOCKET: u16 = 0xc000;
const INDEX_FLAG: u32 = 0x1000;
const IMMUTABLE_FLAG: u32 = 0x10;
const PROJECT_INHERIT_FLAG: u32 = 0x2000_0000;
pub(in crate::ext4) const VERITY_FLAG: u32 = 0x10_0000;
pub(in crate::ext4) const CASEFOLD_FLAG: u32 = 0x4000_0000;
const HUGE_FILE_FLAG: u32 = 0x4_0000;
pub(in crate::ext4) const EXTENTS_FLAG: u32 = 0x8_0000;
pub(in crate::ext4) const ENCRYPTED_FLAG: u32 = 0x800;
const EA_INODE_FLAG: u32 = 0x20_0000;
pub(in crate::ext4) const INLINE_DATA_FLAG: u32 = 0x1000_0000;
const USER_FLAGS: [(FileFlags, u32); 8] = [
    (FileFlags::SYNC, 0x8),
    (FileFlags::IMMUTABLE, 0x10),
    (FileFlags::APPEND_ONLY, 0x20),
    (FileFlags::NO_DUMP, 0x40),
    (FileFlags::NO_ATIME, 0x80),
    (FileFlags::DATA_JOURNAL, 0x4000),
    (FileFlags::DIR_SYNC, 0x1_0000),
    (FileFlags::TOP_DIR, 0x2_0000),
];

/// The offsets of the map's 60 bytes.
pub(in crate::ext4) const I_BLOCK: Range<usize> = 0x28..0x64;

/// How an inode records the location of its content.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::ext4) enum MapKind {
    /// It has no blocks: a device, a short link, or content within the inode.
    None,
    /// A tree of extents.
    Extents,
    /// Direct and indirect block numbers.
    Indirect,
}

/// An inode with a copy of its bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(in crate::ext4) struct RawInode {
    pub(in crate::ext4) number: u32,
    pub(in crate::ext4) raw: Vec<u8>,
}

impl RawInode {
    fn u16(&self, at: usize) -> u16 {
        bytes::le_u16(&self.raw, at).unwrap_or(0)
    }

    fn u32(&self, at: usize) -> u32 {
        bytes::le_u32(&self.raw, at).unwrap_or(0)
    }

    pub(in crate::ext4) fn put_u32(&mut self, at: usize, value: u32) {
        let _ = bytes::put(&mut self.raw, at, value.to_le_bytes());
    }

    fn put_u16(&mut self, at: usize, value: u64) {
        let _ = bytes::put(&mut self.raw, at, low_u16(value).to_le_bytes());
    }

    pub(in crate::ext4) fn mode(&self) -> u16 {
        self.u16(0)
    }

    pub(in crate::ext4) fn links(&self) -> u16 {
        self.u16(0x1a)
    }

    /// When it was deleted; the next orphan of the list while it is one.
    pub(in crate::ext4) fn dtime(&self) -> u32 {
        self.u32(0x14)
    }

    pub(in crate::ext4) fn flags(&self) -> u32 {
        self.u32(0x20)
    }

    pub(in crate::ext4) fn generation(&self) -> u32 {
        self.u32(0x64)
    }

    pub(in crate::ext4) fn size(&self) -> u64 {
        u64::from(self.u32(0x4)) | (u64::from(self.u32(0x6c)) << 32)
    }

    pub(in crate::ext4) fn put_size(&mut self, size: u64) {
        self.put_u32(0x4, low_u32(size));
        self.put_u32(0x6c, low_u32(size >> 32));
    }

    /// Its type; `None` if the mode is invalid.
    pub(in crate::ext4) fn kind(&self) -> Option<FileKind> {
        let kind = match self.mode() & TYPE_MASK {
            FILE => FileKind::File,
            FOLDER => FileKind::Folder,
            LINK => FileKind::Link,
            PIPE => FileKind::Pipe,
            SOCKET => FileKind::Socket,
            CHARACTERS => FileKind::CharacterDevice(self.device().0, self.device().1),
            BLOCKS => FileKind::BlockDevice(self.device().0, self.device().1),
            _ => return None,
        };
        Some(kind)
    }

    /// The major and minor number of a device: the first word of the map has those below 256, the
    /// second one all.
    fn device(&self) -> (u32, u32) {
        let old = bytes::le_u32(self.i_block(), 0).unwrap_or(0);
        if old != 0 {
            return (old >> 8 & 0xff, old & 0xff);
        }
        let new = bytes::le_u32(self.i_block(), 4).unwrap_or(0);
        (new >> 8 & 0xfff, new & 0xff | new >> 12 & 0xf_ff00)
    }

    /// The permissions, owner and group.
    pub(in crate::ext4) fn ownership(&self) -> Ownership {
        let both =
            |low: usize, high: usize| u32::from(self.u16(low)) | u32::from(self.u16(high)) << 16;
        Ownership {
            permissions: self.mode() & !TYPE_MASK,
            owner: both(0x2, 0x78),
            group: both(0x18, 0x7a),
        }
    }

    /// The time with the seconds at `at` and the rest at `extra`, if there is space for that: nanoseconds above two
    /// bits that extend the seconds.
    fn time(&self, at: usize, extra: usize) -> Option<FileTime> {
        let seconds = i64::from(i32::from_le_bytes(bytes::array(&self.raw, at)?));
        let end = 128usize.checked_add(self.extra_len()?.into())?;
        let extra = match extra.checked_add(4)? <= end {
            true => self.u32(extra),
            false => 0,
        };
        Some(FileTime {
            seconds: seconds.checked_add(i64::from(extra & 3) << 32)?,
            nanoseconds: extra >> 2,
        })
    }

    pub(in crate::ext4) fn accessed(&self) -> Option<FileTime> {
        self.time(0x8, 0x8c)
    }

    pub(in crate::ext4) fn changed(&self) -> Option<FileTime> {
        self.time(0xc, 0x84)
    }

    pub(in crate::ext4) fn modified(&self) -> Option<FileTime> {
        self.time(0x10, 0x88)
    }

    /// The creation time; `None` if it has no field for it.
    pub(in crate::ext4) fn created(&self) -> Option<FileTime> {
        let end = 128usize.checked_add(self.extra_len()?.into())?;
        (end >= 0x94).then(|| self.time(0x90, 0x94)).flatten()
    }

    pub(in crate::ext4) fn is_folder(&self) -> bool {
        self.mode() & TYPE_MASK == FOLDER
    }

    pub(in crate::ext4) fn is_file(&self) -> bool {
        self.mode() & TYPE_MASK == FILE
    }

    pub(in crate::ext4) fn user_flags(&self) -> FileFlags {
        FileFlags::from_bits(self.flags(), &USER_FLAGS)
    }

    /// Sets exactly these of the flags that users set.
    pub(in crate::ext4) fn put_user_flags(&mut self, flags: FileFlags) {
        self.put_flags(flags.to_bits(self.flags(), &USER_FLAGS));
    }

    pub(in crate::ext4) fn put_flags(&mut self, flags: u32) {
        self.put_u32(0x20, flags);
    }

    /// Has a folder have no index.
    pub(in crate::ext4) fn clear_index(&mut self) {
        self.put_flags(self.flags() & !INDEX_FLAG);
    }

    /// Has a folder have an index.
    pub(in crate::ext4) fn set_index(&mut self) {
        self.put_flags(self.flags() | INDEX_FLAG);
    }

    /// Sets the number of its names.
    pub(in crate::ext4) fn put_links(&mut self, links: u16) {
        let _ = bytes::put(&mut self.raw, 0x1a, links.to_le_bytes());
    }

    /// Gives it a kind and permissions.
    pub(in crate::ext4) fn put_mode(&mut self, mode: u16) {
        let _ = bytes::put(&mut self.raw, 0, mode.to_le_bytes());
    }

    /// Gives it an owner and a group.
    pub(in crate::ext4) fn put_owner(&mut self, owner: u32, group: u32) {
        for (value, low, high) in [(owner, 0x2, 0x78), (group, 0x18, 0x7a)] {
            self.put_u16(low, value.into());
            self.put_u16(high, u64::from(value) >> 16);
        }
    }

    /// Writes a time in the format that `time` reads. A time out of range becomes the first or the last one that fits,
    /// as the kernel does it: 2038 without the extra word, 2446 with it.
    fn put_time(&mut self, at: usize, extra_at: usize, time: FileTime) {
        let end = self.extra_len().map_or(128, |len| 128usize.saturating_add(len.into()));
        let has_extra = extra_at.saturating_add(4) <= end;
        let last = if has_extra { 0x3_7fff_ffff } else { i64::from(i32::MAX) };
        let clamped = time.seconds.clamp(i32::MIN.into(), last);
        let seconds = u64::from_le_bytes(clamped.to_le_bytes());
        self.put_u32(at, low_u32(seconds));
        if has_extra {
            // The low word has a sign; the extra word has the two bits above it.
            let low = i64::from(low_u32(seconds).cast_signed());
            let epoch = u64::from_le_bytes(clamped.saturating_sub(low).to_le_bytes()) >> 32;
            self.put_u32(extra_at, low_u32(epoch & 3) | time.nanoseconds << 2);
        }
    }

    pub(in crate::ext4) fn put_accessed(&mut self, time: FileTime) {
        self.put_time(0x8, 0x8c, time);
    }

    pub(in crate::ext4) fn put_changed(&mut self, time: FileTime) {
        self.put_time(0xc, 0x84, time);
    }

    pub(in crate::ext4) fn put_modified(&mut self, time: FileTime) {
        self.put_time(0x10, 0x88, time);
    }

    pub(in crate::ext4) fn put_created(&mut self, time: FileTime) {
        if self.created().is_some() {
            self.put_time(0x90, 0x94, time);
        }
    }

    /// Returns whether what is made in a folder belongs to the folder's project.
    pub(in crate::ext4) fn project_of_new(&self) -> Option<u32> {
        let has_room = self.extra_len().is_some_and(|len| len >= 0x20);
        (self.flags() & PROJECT_INHERIT_FLAG != 0 && has_room).then(|| self.u32(0x9c))
    }

    /// Says which project it belongs to, and a folder hands that on.
    pub(in crate::ext4) fn put_project(&mut self, project: u32) {
        self.put_u32(0x9c, project);
        if self.is_folder() {
            self.put_flags(self.flags() | PROJECT_INHERIT_FLAG);
        }
    }

    /// Returns whether it is a folder with an index.
    pub(in crate::ext4) fn is_indexed(&self) -> bool {
        self.flags() & INDEX_FLAG != 0
    }

    /// Returns whether names or content in it are encrypted.
    pub(in crate::ext4) fn is_encrypted(&self) -> bool {
        self.flags() & ENCRYPTED_FLAG != 0
    }

    /// Returns whether it may have data after its end: a verified file has its hashes there.
    pub(in crate::ext4) fn has_hashes_behind(&self) -> bool {
        self.flags() & VERITY_FLAG != 0
    }

    pub(in crate::ext4) fn is_immutable(&self) -> bool {
        self.flags() & IMMUTABLE_FLAG != 0
    }

    /// The type for directory entries; 0 if the mode is invalid.
    pub(in crate::ext4) fn entry_kind(&self) -> u8 {
        match self.mode() & TYPE_MASK {
            FILE => 1,
            FOLDER => 2,
            CHARACTERS => 3,
            BLOCKS => 4,
            PIPE => 5,
            SOCKET => 6,
            LINK => 7,
            _ => 0,
        }
    }

    /// The recorded number of bytes after its first 128; `None` if that is invalid.
    pub(in crate::ext4) fn extra_len(&self) -> Option<u16> {
        let room = self.raw.len().checked_sub(128)?;
        let len = if room == 0 { 0 } else { self.u16(0x80) };
        let is_sound = len == 0 || (len >= 4 && len.is_multiple_of(4) && usize::from(len) <= room);
        is_sound.then_some(len)
    }

    pub(in crate::ext4) fn is_inline(&self) -> bool {
        self.flags() & INLINE_DATA_FLAG != 0
    }

    /// Returns whether it holds the value of another inode's attribute.
    pub(in crate::ext4) fn is_attribute_value(&self) -> bool {
        self.flags() & EA_INODE_FLAG != 0
    }

    /// Of an inode that holds the value of an attribute: the hash of the value.
    pub(in crate::ext4) fn value_hash(&self) -> u32 {
        self.u32(0x8)
    }

    pub(in crate::ext4) fn put_value_hash(&mut self, hash: u32) {
        self.put_u32(0x8, hash);
    }

    /// In a value inode: the number of attributes with that value.
    pub(in crate::ext4) fn value_references(&self) -> u64 {
        u64::from(self.u32(0xc)) << 32 | u64::from(self.u32(0x24))
    }

    pub(in crate::ext4) fn put_value_references(&mut self, count: u64) {
        self.put_u32(0xc, low_u32(count >> 32));
        self.put_u32(0x24, low_u32(count));
    }

    /// The inode that an old-style value inode belongs to.
    pub(in crate::ext4) fn value_parent(&self) -> u32 {
        self.u32(0x10)
    }

    /// The 60 bytes of its map.
    pub(in crate::ext4) fn i_block(&self) -> &[u8] {
        self.raw.get(I_BLOCK).unwrap_or_default()
    }

    pub(in crate::ext4) fn put_i_block(&mut self, map: &[u8]) {
        if let Some(place) = self.raw.get_mut(I_BLOCK)
            && place.len() == map.len()
        {
            place.copy_from_slice(map);
        }
    }

    /// The block with its attributes; 0 for none.
    pub(in crate::ext4) fn file_acl(&self, superblock: &Superblock) -> u64 {
        let high = if superblock.is_64bit() { u64::from(self.u16(0x76)) << 32 } else { 0 };
        u64::from(self.u32(0x68)) | high
    }

    pub(in crate::ext4) fn put_file_acl(&mut self, block: u64, superblock: &Superblock) {
        self.put_u32(0x68, low_u32(block));
        if superblock.is_64bit() {
            self.put_u16(0x76, block >> 32);
        }
    }

    /// The recorded number of its blocks.
    ///
    /// # Errors
    /// When that is not a multiple of the block size.
    pub(in crate::ext4) fn blocks(&self, superblock: &Superblock) -> Result<u64> {
        let high = if superblock.has_huge_file() { u64::from(self.u16(0x74)) << 32 } else { 0 };
        let count = u64::from(self.u32(0x1c)) | high;
        if superblock.has_huge_file() && self.flags() & HUGE_FILE_FLAG != 0 {
            return Ok(count);
        }
        let sectors = (superblock.block_len / 512).max(1);
        match count.is_multiple_of(sectors) {
            true => Ok(count.checked_div(sectors).unwrap_or(0)),
            false => Err(self.wrong("its block count is not a multiple of the block size")),
        }
    }

    /// Sets its number of blocks.
    pub(in crate::ext4) fn put_blocks(&mut self, blocks: u64, superblock: &Superblock) {
        let is_huge = superblock.has_huge_file() && self.flags() & HUGE_FILE_FLAG != 0;
        let unit = if is_huge { 1 } else { superblock.block_len / 512 };
        let count = blocks.saturating_mul(unit);
        self.put_u32(0x1c, low_u32(count));
        if superblock.has_huge_file() {
            self.put_u16(0x74, count >> 32);
        }
    }

    /// How it records the location of its blocks.
    ///
    /// # Errors
    /// When the inode cannot be read that way.
    pub(in crate::ext4) fn map_kind(&self, superblock: &Superblock) -> Result<MapKind> {
        let flags = self.flags();
        let kind = self.mode() & TYPE_MASK;
        // The reserved inodes of old have no type: they are files.
        let has_map = matches!(kind, FILE | FOLDER | LINK | 0);
        if !has_map || self.is_inline() {
            return Ok(MapKind::None);
        }
        if flags & EXTENTS_FLAG != 0 {
            return Ok(MapKind::Extents);
        }
        let attributes = u64::from(self.file_acl(superblock) != 0);
        if kind == LINK && self.blocks(superblock)?.saturating_sub(attributes) == 0 {
            return Ok(MapKind::None);
        }
        Ok(MapKind::Indirect)
    }

    /// The initial value for all checksums of this inode.
    pub(in crate::ext4) fn seed(&self, superblock: &Superblock) -> u32 {
        let number = crc32c(superblock.seed, &self.number.to_le_bytes());
        crc32c(number, &self.generation().to_le_bytes())
    }

    /// The inode's own checksum, and whether all 32 bits of it have a place.
    fn checksum(&self, superblock: &Superblock) -> (u32, bool) {
        let mut raw = self.raw.clone();
        let is_wide = raw.len() > 128 && self.u16(0x80) >= 4;
        let _ = bytes::put(&mut raw, 0x7c, [0; 2]);
        if is_wide {
            let _ = bytes::put(&mut raw, 0x82, [0; 2]);
        }
        (crc32c(self.seed(superblock), &raw), is_wide)
    }

    /// Compares the inode with its checksum.
    ///
    /// # Errors
    /// When it is another one.
    pub(in crate::ext4) fn check(&self, superblock: &Superblock) -> Result<()> {
        if !superblock.has_metadata_csum() {
            return Ok(());
        }
        let (sum, is_wide) = self.checksum(superblock);
        let found = u32::from(self.u16(0x7c)) | (u32::from(self.u16(0x82)) << 16);
        let mask = if is_wide { u32::MAX } else { 0xffff };
        match (found ^ sum) & mask {
            0 => Ok(()),
            _ => Err(self.wrong("its checksum is wrong")),
        }
    }

    /// Updates its checksum.
    pub(in crate::ext4) fn seal(&mut self, superblock: &Superblock) {
        if superblock.has_metadata_csum() {
            let (sum, is_wide) = self.checksum(superblock);
            self.put_u16(0x7c, sum.into());
            if is_wide {
                self.put_u16(0x82, u64::from(sum) >> 16);
            }
        }
    }

    /// The range of its attributes in the inode; `None` if it has none.
    pub(in crate::ext4) fn attributes(&self) -> Option<Range<usize>> {
        let start = 128usize.checked_add(self.u16(0x80).into())?;
        if self.raw.len() <= 128 || bytes::le_u32(&self.raw, start)? != attributes::MAGIC {
            return None;
        }
        Some(start.checked_add(4)?..self.raw.len())
    }

    /// An error about this inode.
    pub(in crate::ext4) fn wrong(&self, what: &str) -> Error {
        Error::corrupt(format!("inode {}: {what}", self.number))
    }
}

pub(in crate::ext4) fn low_u32(value: u64) -> u32 {
    u32::try_from(value & u64::from(u32::MAX)).unwrap_or(0)
}

pub(in crate::ext4) fn low_u16(value: u64) -> u16 {
    u16::try_from(value & u64::from(u16::MAX)).unwrap_or(0)
}
