//! Group descriptors: the location of a group's bitmaps and inode table, and its used space.
//!
//! ```text
//!  0 block bitmap   4 inode bitmap   8 inode table   12 free blocks   14 free inodes
//! 16 directories   18 flags   24 bitmap checksums (2 × 2)   28 unused inodes   30 checksum
//! 32 … the high halves of all these, with 64-byte descriptors
//! ```

use super::{
    checksum::{crc16, crc32c},
    superblock::Superblock,
};
use imbrik_store::{
    Edited, ReadAt, bytes,
    error::{Error, Result},
    exact::Exact as _,
    read_up_to,
    units::{ByteLen, Span},
};

/// The group's inode bitmap and table were never used.
pub(super) const INODE_UNINIT: u16 = 0x1;
/// The group's block bitmap was never written, so that its content is implied.
pub(super) const BLOCK_UNINIT: u16 = 0x2;
/// The never-used part of the group's inode table is zeros.
pub(super) const INODE_ZEROED: u16 = 0x4;
const CHECKSUM_AT: usize = 0x1e;

/// A descriptor with a valid checksum.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Group {
    pub(super) block_bitmap: u64,
    pub(super) inode_bitmap: u64,
    pub(super) inode_table: u64,
    /// In clusters.
    pub(super) free_clusters: u64,
    pub(super) free_inodes: u64,
    pub(super) used_directories: u64,
    /// As found; they mean something only with group checksums.
    pub(super) flags: u16,
    /// True if the block bitmap was never written, so that its content is implied.
    pub(super) is_block_uninit: bool,
    /// How many inodes at the end of the table were never used; `None` when the descriptors don't
    /// tell.
    pub(super) unused_inodes: Option<u64>,
    pub(super) block_bitmap_checksum: u32,
    pub(super) inode_bitmap_checksum: u32,
}

impl Group {
    /// A descriptor of zeros.
    pub(super) fn empty() -> Self {
        Self {
            block_bitmap: 0,
            inode_bitmap: 0,
            inode_table: 0,
            free_clusters: 0,
            free_inodes: 0,
            used_directories: 0,
            flags: 0,
            is_block_uninit: false,
            unused_inodes: None,
            block_bitmap_checksum: 0,
            inode_bitmap_checksum: 0,
        }
    }

    /// Reads the descriptor of group `number`.
    ///
    /// # Errors
    /// Those of [`Group::decode`], and when it is outside of the volume.
    pub(super) fn read(store: &dyn ReadAt, superblock: &Superblock, number: u64) -> Result<Self> {
        let (block, inside) = superblock.descriptor_at(number);
        let span = superblock.span(block, 1).filter(|_| number < superblock.groups());
        let span = span.ok_or_else(|| Error::corrupt("a group descriptor lies outside"))?;
        let at = span.start().saturating_add(ByteLen::new(inside));
        let len = usize::try_from(superblock.descriptor_len).unwrap_or(0);
        Self::decode(&read_up_to(store, at, len)?, number, superblock)
    }

    /// Calls `work` for every group of a volume, in order; descriptors are read a block at a time.
    ///
    /// # Errors
    /// Those of [`Group::read`] and of `work`.
    pub(super) fn for_each(
        store: &dyn ReadAt,
        superblock: &Superblock,
        mut work: impl FnMut(u64, &Self) -> Result<()>,
    ) -> Result<()> {
        let outside = || Error::corrupt("a group descriptor lies outside");
        let mut descriptors = (u64::MAX, Vec::new());
        for number in 0..superblock.groups() {
            let (block, inside) = superblock.descriptor_at(number);
            if descriptors.0 != block {
                let span = superblock.span(block, 1).ok_or_else(outside)?;
                let len = span.len().to_usize().unwrap_or(0);
                descriptors = (block, read_up_to(store, span.start(), len)?);
            }
            let from = usize::try_from(inside).unwrap_or(usize::MAX);
            let len = usize::try_from(superblock.descriptor_len).unwrap_or(0);
            let raw = descriptors.1.get(from..from.saturating_add(len)).unwrap_or_default();
            work(number, &Self::decode(raw, number, superblock)?)?;
        }
        Ok(())
    }

    /// The groups of a volume, in order.
    ///
    /// # Errors
    /// As [`Group::read`].
    pub(super) fn all(store: &dyn ReadAt, superblock: &Superblock) -> Result<Vec<Self>> {
        let mut groups = Vec::new();
        Self::for_each(store, superblock, |_, group| {
            groups.push(group.clone());
            Ok(())
        })?;
        Ok(groups)
    }

    /// Decodes the descriptor of group `number`.
    ///
    /// # Errors
    /// [`imbrik_store::Class::Corrupt`] when its checksum is wrong.
    pub(super) fn decode(raw: &[u8], number: u64, superblock: &Superblock) -> Result<Self> {
        let decoded = Self::fields(raw, superblock);
        let group = decoded.ok_or_else(|| Error::corrupt("a group descriptor is truncated"))?;
        let found = bytes::le_u16(raw, CHECKSUM_AT).unwrap_or(0);
        match Self::checksum(raw, number, superblock) {
            Some(computed) if computed != found => Err(Error::corrupt(format!(
                "group {number}: descriptor checksum is {found:#06x}, computed {computed:#06x}"
            ))),
            _ => Ok(group),
        }
    }

    /// The checksum that the descriptor of group `number` must have; `None` when it has none.
    pub(super) fn checksum(raw: &[u8], number: u64, superblock: &Superblock) -> Option<u16> {
        let number = u32::try_from(number).unwrap_or(u32::MAX).to_le_bytes();
        let before = raw.get(..CHECKSUM_AT).unwrap_or_default();
        let behind = raw.get(0x20..).unwrap_or_default();
        if superblock.has_metadata_csum() {
            let crc = crc32c(crc32c(superblock.seed, &number), before);
            let crc = crc32c(crc32c(crc, &[0, 0]), behind);
            u16::try_from(crc & 0xffff).ok()
        } else if superblock.has_group_checksums() {
            let crc = crc16(crc16(crc16(!0, &superblock.uuid), &number), before);
            Some(crc16(crc, behind))
        } else {
            None
        }
    }

    fn fields(raw: &[u8], superblock: &Superblock) -> Option<Self> {
        let is_wide = superblock.descriptor_len >= 64;
        let wide_u32 = |low: usize, high: usize| {
            let high = if is_wide { u64::from(bytes::le_u32(raw, high)?) << 32 } else { 0 };
            Some(u64::from(bytes::le_u32(raw, low)?) | high)
        };
        let wide_u16 = |low: usize, high: usize| {
            let high = if is_wide { u32::from(bytes::le_u16(raw, high)?) << 16 } else { 0 };
            Some(u32::from(bytes::le_u16(raw, low)?) | high)
        };
        let flags = bytes::le_u16(raw, 0x12)?;
        let tells = superblock.has_group_checksums();
        let never_used = match flags & INODE_UNINIT {
            0 => u64::from(wide_u16(0x1c, 0x32)?).min(superblock.inodes_per_group),
            _ => superblock.inodes_per_group,
        };
        Some(Self {
            block_bitmap: wide_u32(0x0, 0x20)?,
            inode_bitmap: wide_u32(0x4, 0x24)?,
            inode_table: wide_u32(0x8, 0x28)?,
            free_clusters: wide_u16(0xc, 0x2c)?.into(),
            free_inodes: wide_u16(0xe, 0x2e)?.into(),
            used_directories: wide_u16(0x10, 0x30)?.into(),
            flags,
            is_block_uninit: tells && flags & BLOCK_UNINIT != 0,
            unused_inodes: tells.then_some(never_used),
            block_bitmap_checksum: wide_u16(0x18, 0x38)?,
            inode_bitmap_checksum: wide_u16(0x1a, 0x3a)?,
        })
    }

    /// Writes this into `raw`, the descriptor of group `number`, and updates its checksum. Unknown fields are
    /// unchanged.
    ///
    /// # Errors
    /// When a number has no room in a descriptor of this length.
    pub(super) fn encode(&self, raw: &mut [u8], number: u64, of: &Superblock) -> Result<()> {
        let is_wide = of.descriptor_len >= 64;
        let mut put_u32 = |low: usize, high: usize, value: u64| {
            let half = |value: u64| u32::try_from(value).ok().map(u32::to_le_bytes);
            bytes::put(raw, low, half(value & u64::from(u32::MAX))?)?;
            match (is_wide, value >> 32) {
                (true, value) => bytes::put(raw, high, half(value)?),
                (false, 0) => Some(()),
                _ => None,
            }
        };
        let mut done = put_u32(0x0, 0x20, self.block_bitmap)
            .and_then(|()| put_u32(0x4, 0x24, self.inode_bitmap))
            .and_then(|()| put_u32(0x8, 0x28, self.inode_table));
        let mut put_u16 = |low: usize, high: usize, value: u64| {
            let half = |value: u64| u16::try_from(value & 0xffff).ok().map(u16::to_le_bytes);
            done = done.and_then(|()| bytes::put(raw, low, half(value)?));
            if is_wide {
                done = done.and_then(|()| bytes::put(raw, high, half(value >> 16)?));
            }
        };
        put_u16(0xc, 0x2c, self.free_clusters);
        put_u16(0xe, 0x2e, self.free_inodes);
        put_u16(0x10, 0x30, self.used_directories);
        if let Some(unused) = self.unused_inodes {
            put_u16(0x1c, 0x32, unused);
        }
        if of.has_metadata_csum() {
            put_u16(0x18, 0x38, self.block_bitmap_checksum.into());
            put_u16(0x1a, 0x3a, self.inode_bitmap_checksum.into());
        }
        done = done.and_then(|()| bytes::put(raw, 0x12, self.flags.to_le_bytes()));
        if let Some(sum) = Self::checksum(raw, number, of) {
            done = done.and_then(|()| bytes::put(raw, CHECKSUM_AT, sum.to_le_bytes()));
        }
        done.ok_or_else(|| Error::corrupt(format!("group {number}: its descriptor is too small")))
    }

    /// Compares the inode bitmap with its checksum.
    pub(super) fn check_inode_bitmap(
        &self,
        bitmap: &[u8],
        number: u64,
        superblock: &Superblock,
    ) -> Result<()> {
        let covered = superblock.covered_inodes(bitmap);
        check_bitmap("inode", covered, self.inode_bitmap_checksum, number, superblock)
    }

    /// Compares the block bitmap with its checksum; `bitmap` holds one bit a cluster of a group.
    pub(super) fn check_block_bitmap(
        &self,
        bitmap: &[u8],
        number: u64,
        superblock: &Superblock,
    ) -> Result<()> {
        check_bitmap("block", bitmap, self.block_bitmap_checksum, number, superblock)
    }
}

/// Verifies a bitmap's checksum; short descriptors store half of it.
fn check_bitmap(
    what: &str,
    covered: &[u8],
    found: u32,
    number: u64,
    superblock: &Superblock,
) -> Result<()> {
    let mask = if superblock.descriptor_len >= 64 { u32::MAX } else { 0xffff };
    let computed = crc32c(superblock.seed, covered) & mask;
    match superblock.has_metadata_csum() && computed != found & mask {
        false => Ok(()),
        true => Err(Error::corrupt(format!(
            "group {number}: {what} bitmap checksum is {found:#x}, computed {computed:#x}"
        ))),
    }
}
/// Replaces the descriptor blocks in `lost` in `draft` by the first backup with valid checksums. Its counts of free
/// space and unused inodes may be outdated; the location of bitmaps and tables is not.
///
/// # Errors
/// When the draft cannot be read.
pub(super) fn take_from_copies(
    draft: &mut Edited,
    superblock: &Superblock,
    lost: &[Span],
) -> Result<()> {
    let a_block = superblock.descriptors_a_block();
    let len = superblock.block_len.exact_as::<usize>()?;
    for index in 0..superblock.descriptor_blocks() {
        let (block, _) = superblock.descriptor_at(index.times(a_block)?);
        let Some(place) = superblock.span(block, 1) else { return Ok(()) };
        if !lost.iter().any(|lost| lost.intersect(place).is_some()) {
            continue;
        }
        let copy = copies_of(superblock, index).find_map(|copy| {
            let place = superblock.span(copy, 1).filter(|copy| copy.start() != place.start())?;
            let content = read_up_to(&*draft, place.start(), len).ok()?;
            is_of_block(&content, superblock, index).then_some(content)
        });
        if let Some(content) = copy {
            draft.put(place.start(), &content)?;
        }
    }
    Ok(())
}

/// The blocks with backups of block `index` of the descriptors.
fn copies_of(superblock: &Superblock, index: u64) -> impl Iterator<Item = u64> {
    (1..superblock.groups()).filter_map(move |group| {
        let held = superblock.descriptors_in(group);
        if !held.contains(&index) {
            return None;
        }
        let start = superblock.group_start(group);
        let behind = u64::from(superblock.has_superblock(group));
        start.checked_add(behind)?.checked_add(index.checked_sub(held.start)?)
    })
}

/// Returns whether `content` is block `index` of the descriptors: each has its checksum, and where there are
/// none, its tables in the volume.
fn is_of_block(content: &[u8], superblock: &Superblock, index: u64) -> bool {
    let (a_block, len) = (superblock.descriptors_a_block(), superblock.descriptor_len);
    let Some(first) = index.checked_mul(a_block) else { return false };
    let numbers = first..superblock.groups().min(first.saturating_add(a_block));
    let Ok(len) = usize::try_from(len) else { return false };
    numbers.zip(content.chunks(len.max(1))).all(|(number, raw)| {
        Group::decode(raw, number, superblock).is_ok_and(|group| {
            group.inode_table != 0
                && superblock.span(group.inode_table, superblock.table_blocks()).is_some()
        })
    })
}
