//! The superblock, 64 KiB from the start; its copies are at 64 MiB and at 256 GiB.

use imbrik_store::{
    ReadAt, bytes,
    error::{Error, Result},
    read_up_to,
    units::ByteOffset,
};

pub(super) const PLACES: [ByteOffset; 3] =
    [ByteOffset::new(64 << 10), ByteOffset::new(64 << 20), ByteOffset::new(256 << 30)];
pub(super) const LEN: usize = 4096;
/// Offsets of the volume's id, and of the superblock's own position on the device.
const FS_ID: std::ops::Range<usize> = 0x20..0x30;
const BYTE_NUMBER: usize = 0x30;
/// The fields that superblocks of one generation share: the generation, the roots and their levels, and the system
/// chunks. Only the first superblock is written when a log is synced.
const ROOTS: [std::ops::Range<usize>; 3] =
    [72..96, 198..200, SYSTEM_CHUNKS..SYSTEM_CHUNKS + MOST_SYSTEM_CHUNKS];
pub(super) const MAGIC: &[u8] = b"_BHRfS_M";
/// The maximum length of the list of system chunks, and its offset.
const SYSTEM_CHUNKS: usize = 811;
const MOST_SYSTEM_CHUNKS: usize = 2048;
/// Supported `incompat_flags`: all up to the one for a metadata id, except those for parity stripes and for three
/// copies, and the one for simple quotas.
const KNOWN: u64 = 0x7ff & !0x80 | 0x1_0000;
const METADATA_UUID: u64 = 0x400;
/// `compat_ro_flags`: the list of block groups is a separate tree.
const BLOCK_GROUP_TREE: u64 = 0x8;
const CRC32C: u16 = 0;

/// A superblock with the right checksum.
pub(super) struct Superblock {
    pub(super) generation: u64,
    /// The logical addresses of the root tree and the chunk tree, with their levels.
    pub(super) root: (u64, u8),
    pub(super) chunk_root: (u64, u8),
    pub(super) chunk_root_generation: u64,
    pub(super) log_root: u64,
    pub(super) bytes_used: u64,
    pub(super) sector: u64,
    /// The size of a tree block in bytes.
    pub(super) node: usize,
    pub(super) device: u64,
    pub(super) device_len: u64,
    /// The bytes of the device that are allocated to chunks, as recorded.
    pub(super) device_used: u64,
    /// The id in the head of every tree block.
    pub(super) owner: [u8; 16],
    pub(super) system_chunks: Vec<u8>,
    pub(super) has_block_group_tree: bool,
}

impl Superblock {
    /// # Errors
    /// - When the store cannot be read.
    /// - [`imbrik_store::Class::Corrupt`] when it is invalid, and [`imbrik_store::Class::Unsupported`] for unsupported
    ///   features.
    pub(super) fn read(store: &dyn ReadAt) -> Result<Self> {
        let raw = read_up_to(store, PLACES[0], LEN)?;
        if raw.len() != LEN || raw.get(0x40..0x48) != Some(MAGIC) {
            return Err(Error::corrupt("its superblock is gone"));
        }
        if bytes::le_u16(&raw, 196) != Some(CRC32C) {
            return Err(Error::unsupported("its checksums are of a kind that is not read"));
        }
        if !is_sealed(&raw) {
            return Err(Error::corrupt("its superblock's checksum is wrong"));
        }
        let incompat = bytes::le_u64(&raw, 188).unwrap_or(u64::MAX);
        if incompat & !KNOWN != 0 {
            let unknown = incompat & !KNOWN;
            return Err(Error::unsupported(format!("it has the features {unknown:#x}")));
        }
        if bytes::le_u64(&raw, 136) != Some(1) {
            return Err(Error::unsupported("it spans several devices"));
        }
        let this = Self::decode(&raw, incompat);
        let this = this.ok_or_else(|| Error::corrupt("its superblock is invalid"))?;
        if this.device_len > store.size().get() {
            return Err(Error::corrupt("it is longer than its place"));
        }
        this.compare_copies(store, &raw)?;
        Ok(this)
    }

    /// Compares the first superblock, `raw`, with its copies: every commit writes all of them, so a newer copy means
    /// that the first one is stale.
    fn compare_copies(&self, store: &dyn ReadAt, raw: &[u8]) -> Result<()> {
        let inside = |at: &&ByteOffset| at.get().saturating_add(4096) <= self.device_len;
        for at in PLACES.iter().skip(1).filter(inside) {
            let copy = read_up_to(store, *at, LEN)?;
            let is_copy = copy.get(0x40..0x48) == Some(MAGIC)
                && copy.get(FS_ID) == raw.get(FS_ID)
                && bytes::le_u64(&copy, BYTE_NUMBER) == Some(at.get())
                && is_sealed(&copy);
            let generation = bytes::le_u64(&copy, 72).filter(|_| is_copy);
            let differs =
                || ROOTS.into_iter().any(|range| copy.get(range.clone()) != raw.get(range));
            match generation {
                Some(newer) if newer > self.generation => {
                    return Err(Error::corrupt(format!(
                        "its superblock is of generation {}, and a copy of {newer}",
                        self.generation
                    )));
                }
                Some(same) if same == self.generation && differs() => {
                    return Err(Error::corrupt("its superblock and a copy of it differ"));
                }
                _ => {}
            }
        }
        Ok(())
    }

    fn decode(raw: &[u8], incompat: u64) -> Option<Self> {
        let node = bytes::le_u32(raw, 148)?;
        let sector = bytes::le_u32(raw, 144)?;
        let is_sound = |len: u32| len.is_power_of_two() && (4096..=65536).contains(&len);
        let list_len = usize::try_from(bytes::le_u32(raw, 160)?).ok()?;
        let owner = if incompat & METADATA_UUID == 0 { 32 } else { 571 };
        if !is_sound(node) || !is_sound(sector) || list_len > MOST_SYSTEM_CHUNKS {
            return None;
        }
        Some(Self {
            generation: bytes::le_u64(raw, 72)?,
            root: (bytes::le_u64(raw, 80)?, bytes::u8(raw, 198)?),
            chunk_root: (bytes::le_u64(raw, 88)?, bytes::u8(raw, 199)?),
            chunk_root_generation: bytes::le_u64(raw, 164)?,
            log_root: bytes::le_u64(raw, 96)?,
            bytes_used: bytes::le_u64(raw, 120)?,
            sector: sector.into(),
            node: usize::try_from(node).ok()?,
            device: bytes::le_u64(raw, 201)?,
            device_len: bytes::le_u64(raw, 209)?,
            device_used: bytes::le_u64(raw, 217)?,
            owner: bytes::array(raw, owner)?,
            system_chunks: raw.get(SYSTEM_CHUNKS..SYSTEM_CHUNKS.checked_add(list_len)?)?.to_vec(),
            has_block_group_tree: bytes::le_u64(raw, 180)? & BLOCK_GROUP_TREE != 0,
        })
    }
}

/// Returns whether the checksum in the first bytes of a superblock or tree block is right.
pub(super) fn is_sealed(block: &[u8]) -> bool {
    let covered = block.get(32..).unwrap_or_default();
    bytes::le_u32(block, 0) == Some(crc32c::crc32c(covered))
}
