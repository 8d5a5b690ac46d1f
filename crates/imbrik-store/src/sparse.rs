//! A store in memory that holds only written data: cards of any size for tests, and small parts of a plan.

use super::{ReadAt, WriteAt, check_range, for_pieces};
use crate::{
    bytes::is_zero,
    error::Result,
    units::{ByteLen, ByteOffset, SectorSize, Span},
};
use std::{
    collections::BTreeMap,
    sync::{PoisonError, RwLock},
};

/// The chunk size in bytes: small, so that scattered writes use little memory.
const CHUNK: u64 = 4096;

/// A store of any size in memory, all zeros at first.
#[derive(Debug)]
pub struct SparseStore {
    size: ByteLen,
    sector: SectorSize,
    chunks: RwLock<BTreeMap<u64, Box<[u8]>>>,
}

impl SparseStore {
    /// A store of `size` zeros.
    #[must_use]
    pub fn new(size: ByteLen) -> Self {
        Self { size, sector: SectorSize::B512, chunks: RwLock::default() }
    }

    /// The same, saying that it works in sectors of `sector`.
    #[must_use]
    pub fn with_sector_size(mut self, sector: SectorSize) -> Self {
        self.sector = sector;
        self
    }

    /// A store that holds `bytes`.
    #[must_use]
    pub fn of(bytes: &[u8]) -> Self {
        let store = Self::new(ByteLen::of(bytes));
        store.fill(ByteOffset::ZERO, bytes);
        store
    }

    /// Memory held, in bytes.
    #[must_use]
    pub fn held(&self) -> ByteLen {
        let chunks = self.chunks.read().unwrap_or_else(PoisonError::into_inner);
        ByteLen::from_usize(chunks.len()).checked_mul(CHUNK).unwrap_or_default()
    }

    fn fill(&self, at: ByteOffset, bytes: &[u8]) {
        let mut chunks = self.chunks.write().unwrap_or_else(PoisonError::into_inner);
        let mut rest = bytes;
        let mut at = at.get();
        while !rest.is_empty() {
            let (number, inside) = place(at);
            let room = chunk_len().saturating_sub(inside).min(rest.len());
            let (now, later) = rest.split_at(room);
            if !is_zero(now) || chunks.contains_key(&number) {
                let chunk =
                    chunks.entry(number).or_insert_with(|| vec![0; chunk_len()].into_boxed_slice());
                if let Some(part) = chunk.get_mut(inside..inside.saturating_add(room)) {
                    part.copy_from_slice(now);
                }
            }
            at = at.saturating_add(ByteLen::of(now).get());
            rest = later;
        }
    }
}

fn chunk_len() -> usize {
    usize::try_from(CHUNK).unwrap_or(usize::MAX)
}

/// The chunk that holds byte `at`, and where in it.
fn place(at: u64) -> (u64, usize) {
    (at / CHUNK, usize::try_from(at % CHUNK).unwrap_or(0))
}

impl ReadAt for SparseStore {
    fn size(&self) -> ByteLen {
        self.size
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        check_range(at, ByteLen::of(buf), self.size)?;
        let chunks = self.chunks.read().unwrap_or_else(PoisonError::into_inner);
        let mut at = at.get();
        let mut rest = buf;
        while !rest.is_empty() {
            let (number, inside) = place(at);
            let room = chunk_len().saturating_sub(inside).min(rest.len());
            let (now, later) = rest.split_at_mut(room);
            match chunks.get(&number).and_then(|c| c.get(inside..inside.saturating_add(room))) {
                Some(found) => now.copy_from_slice(found),
                None => now.fill(0),
            }
            at = at.saturating_add(ByteLen::of(now).get());
            rest = later;
        }
        Ok(())
    }

    fn next_data(&self, from: ByteOffset) -> Result<Option<Span>> {
        let chunks = self.chunks.read().unwrap_or_else(PoisonError::into_inner);
        let found = chunks.range(from.get() / CHUNK..).next().map(|(number, _)| {
            let start = ByteOffset::new(number.saturating_mul(CHUNK));
            let end = start.saturating_add(ByteLen::new(CHUNK)).get().min(self.size.get());
            Span::between(start.max(from), ByteOffset::new(end))
        });
        Ok(found.filter(|span| !span.is_empty()))
    }

    fn sector_size(&self) -> SectorSize {
        self.sector
    }
}

impl WriteAt for SparseStore {
    fn write_at(&self, at: ByteOffset, bytes: &[u8]) -> Result<()> {
        check_range(at, ByteLen::of(bytes), self.size)?;
        self.fill(at, bytes);
        Ok(())
    }

    fn zero_at(&self, span: Span) -> Result<()> {
        check_range(span.start(), span.len(), self.size)?;
        for_pieces(span, ByteLen::mib(1), |piece| {
            self.fill(piece.start(), &vec![0; piece.len().to_usize().unwrap_or(0)]);
            Ok(())
        })
    }

    fn flush(&self) -> Result<()> {
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sparse_store_uses_memory_only_for_written_data() {
        let store = SparseStore::new(ByteLen::mib(1 << 16));
        let at = ByteOffset::new((1 << 35) + 4094);
        store.write_at(at, b"swarm").unwrap();
        let mut buf = [0; 7];
        store.read_at(ByteOffset::new(at.get() - 1), &mut buf).unwrap();
        assert_eq!(&buf, b"\0swarm\0");
        assert_eq!(store.held(), ByteLen::new(8192), "the five bytes straddle two chunks");
        let data = store.next_data(ByteOffset::ZERO).unwrap().unwrap();
        assert_eq!(data.start(), ByteOffset::new(1 << 35));
    }

    #[test]
    fn zeros_written_over_data_are_zeros() {
        let store = SparseStore::of(&[7; 10_000]);
        store.zero_at(Span::between(ByteOffset::new(10), ByteOffset::new(9_990))).unwrap();
        let all = super::super::read_vec(&store, ByteOffset::ZERO, 10_000).unwrap();
        assert_eq!(all.iter().filter(|byte| **byte == 7).count(), 20);
    }
}
