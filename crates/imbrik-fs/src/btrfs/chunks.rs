//! Chunks: which bytes of the device a range of logical addresses has, once or twice.

use super::{
    superblock::Superblock,
    tree::{Key, Tree, Trees},
};
use imbrik_store::{
    ReadAt, bytes,
    error::{Error, Result},
    units::{ByteLen, ByteOffset, Span},
};
use std::collections::BTreeMap;

const CHUNK_TREE: u64 = 3;
const FIRST_CHUNK: u64 = 256;
const CHUNK_ITEM: u8 = 228;
/// The lengths in bytes of a chunk before its stripes, of a stripe, and of a key.
const HEAD: usize = 48;
const STRIPE: usize = 32;
const KEY: usize = 17;
/// The profile of a chunk's stripes: each is a complete copy, or the chunk is not supported.
const PROFILES: u64 = 0x7f8;
const DUP: u64 = 0x20;
/// The stripes that a chunk can have here: one, or two that are the same.
const MOST_STRIPES: usize = 2;

/// A chunk: its length, and the start of each of its copies on the device.
struct Chunk {
    len: u64,
    stripes: Vec<u64>,
}

/// All chunks, by the logical address at which they start.
pub(super) struct Chunks {
    chunks: BTreeMap<u64, Chunk>,
}

impl Chunks {
    /// Reads the chunk tree, by the list of system chunks in the superblock.
    ///
    /// # Errors
    /// - When the store cannot be read.
    /// - [`imbrik_store::Class::Corrupt`] when chunks overlap, reach past the end, or don't add up to the allocated
    ///   space of the device; [`imbrik_store::Class::Unsupported`] for unsupported kinds of stripes.
    pub(super) fn read(store: &dyn ReadAt, superblock: &Superblock) -> Result<Self> {
        let system = Self { chunks: in_list(&superblock.system_chunks, superblock)? };
        let trees = Trees { store, superblock, chunks: &system };
        let (root, level) = superblock.chunk_root;
        let generation = superblock.chunk_root_generation;
        let mut chunks = BTreeMap::new();
        trees.each(Tree { id: CHUNK_TREE, root, level, generation }, |key, data| {
            if (key.object, key.kind) == (FIRST_CHUNK, CHUNK_ITEM) {
                let (chunk, _) = Chunk::decode(data, superblock)?;
                chunks.insert(key.offset, chunk);
            }
            Ok(())
        })?;
        let this = Self { chunks };
        this.check(superblock)?;
        Ok(this)
    }

    fn check(&self, superblock: &Superblock) -> Result<()> {
        let mut logical = 0u64;
        for (start, chunk) in &self.chunks {
            let end = start.checked_add(chunk.len);
            match end.filter(|_| *start >= logical) {
                Some(end) => logical = end,
                None => return Err(Error::corrupt("its chunks overlap")),
            }
        }
        let mut places: Vec<_> = self.stripes().collect();
        places.sort_unstable();
        let mut end = super::FRONT.get();
        let mut given = 0u64;
        for (start, len) in places {
            if start < end {
                return Err(Error::corrupt("its chunks overlap on the device"));
            }
            end = start
                .checked_add(len)
                .filter(|end| *end <= superblock.device_len)
                .ok_or_else(|| Error::corrupt("a chunk reaches past the end of the device"))?;
            given = given.saturating_add(len);
        }
        match given == superblock.device_used {
            true => Ok(()),
            false => Err(Error::corrupt(format!(
                "its chunks take {given} bytes, and its device says {}",
                superblock.device_used
            ))),
        }
    }

    /// Every copy of every chunk: its start on the device, and its length.
    fn stripes(&self) -> impl Iterator<Item = (u64, u64)> + '_ {
        let chunks = self.chunks.values();
        chunks.flat_map(|chunk| chunk.stripes.iter().map(|stripe| (*stripe, chunk.len)))
    }

    /// The ranges of the device that are allocated to chunks.
    pub(super) fn spans(&self) -> impl Iterator<Item = Span> + '_ {
        self.stripes().filter_map(|(at, len)| Span::new(ByteOffset::new(at), ByteLen::new(len)))
    }

    /// The chunk that contains all of `len` bytes at the logical address `at`, and its start.
    fn holding(&self, at: u64, len: u64) -> Option<(u64, &Chunk)> {
        let (start, chunk) = self.chunks.range(..=at).next_back()?;
        let end = start.checked_add(chunk.len)?;
        (at.checked_add(len)? <= end).then_some((*start, chunk))
    }

    /// The offsets on the device of all copies of `len` bytes at the logical address `at`.
    pub(super) fn places(&self, at: u64, len: usize) -> Vec<ByteOffset> {
        let len = u64::try_from(len).unwrap_or(u64::MAX);
        let Some((start, chunk)) = self.holding(at, len) else { return Vec::new() };
        let ahead = at.saturating_sub(start);
        let stripes = chunk.stripes.iter();
        stripes.map(|stripe| ByteOffset::new(stripe.saturating_add(ahead))).collect()
    }

    /// The ranges on the device of `len` bytes at the logical address `at`, and their chunk; `None` if they are in no
    /// chunk.
    pub(super) fn taken(&self, at: u64, len: u64) -> Option<(u64, Vec<Span>)> {
        let (start, chunk) = self.holding(at, len)?;
        let ahead = at.checked_sub(start)?;
        let span = |stripe: &u64| {
            Span::new(ByteOffset::new(stripe.checked_add(ahead)?), ByteLen::new(len))
        };
        Some((start, chunk.stripes.iter().map(span).collect::<Option<_>>()?))
    }

    /// The starts of all chunks, with their lengths.
    pub(super) fn starts(&self) -> impl Iterator<Item = (u64, u64)> + '_ {
        self.chunks.iter().map(|(start, chunk)| (*start, chunk.len))
    }
}

impl Chunk {
    /// A chunk, and the length of its item.
    fn decode(raw: &[u8], superblock: &Superblock) -> Result<(Self, usize)> {
        let cut = || Error::corrupt("a chunk is invalid");
        let kind = bytes::le_u64(raw, 24).ok_or_else(cut)?;
        let count = usize::from(bytes::le_u16(raw, 44).ok_or_else(cut)?);
        let expected = match kind & PROFILES {
            0 => 1,
            DUP => MOST_STRIPES,
            _ => return Err(Error::unsupported("its chunks are made up of parts")),
        };
        let len = bytes::le_u64(raw, 0).ok_or_else(cut)?;
        let is_aligned = len.checked_rem(superblock.sector) == Some(0);
        if count != expected || len == 0 || !is_aligned {
            return Err(cut());
        }
        let mut stripes = Vec::new();
        let mut at = HEAD;
        for _ in 0..count {
            let device = bytes::le_u64(raw, at).ok_or_else(cut)?;
            let start = at.checked_add(8).and_then(|at| bytes::le_u64(raw, at)).ok_or_else(cut)?;
            if device != superblock.device {
                return Err(Error::unsupported("a chunk lies on another device"));
            }
            stripes.push(start);
            at = at.saturating_add(STRIPE);
        }
        Ok((Self { len, stripes }, at))
    }
}

/// The chunks of a list of keys and chunks.
fn in_list(mut list: &[u8], superblock: &Superblock) -> Result<BTreeMap<u64, Chunk>> {
    let mut chunks = BTreeMap::new();
    while !list.is_empty() {
        let key = Key::decode(list, 0)
            .filter(|key| (key.object, key.kind) == (FIRST_CHUNK, CHUNK_ITEM))
            .ok_or_else(|| Error::corrupt("its list of system chunks is invalid"))?;
        let rest = list.get(KEY..).unwrap_or_default();
        let (chunk, len) = Chunk::decode(rest, superblock)?;
        chunks.insert(key.offset, chunk);
        list = rest.get(len..).unwrap_or_default();
    }
    Ok(chunks)
}
