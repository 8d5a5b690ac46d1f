//! Random cards: swap areas and unknown partitions, with every kind of table.

use imbrik_store::{
    ReadAt, SparseStore, WriteAt,
    units::{ByteLen, ByteOffset},
};
use proptest::prelude::*;
use std::sync::Arc;

pub(super) const SECTOR: u64 = 512;
/// Sectors that a GUID table takes at the end of a card.
pub(super) const BACKUP: u64 = 33;

/// The kind of partition table of a random card.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Scheme {
    /// Nothing: one volume from the first sector on.
    Bare,
    /// The four entries of a master boot record.
    Primary,
    /// A record with so many primary entries, then an extended partition, and optionally one entry after it.
    Chain {
        in_front: usize,
        behind: bool,
        /// True if the chain begins with a record without a partition.
        hollow: bool,
        /// True if the container takes all room up to what follows it.
        roomy: bool,
    },
    Gpt,
}

/// A partition of a random card. Unless it is swap, its content is unknown, and it keeps its length.
#[derive(Clone, Debug)]
pub(super) struct Piece {
    /// In sectors.
    pub(super) start: u64,
    pub(super) len: u64,
    pub(super) is_swap: bool,
    /// As the table numbers it.
    pub(super) number: u32,
    /// Sectors between it and its record in the chain.
    pub(super) ahead: Option<u64>,
    /// True if the byte before it is free for a mark.
    pub(super) has_front: bool,
}

/// A random card.
pub(super) struct Card {
    pub(super) store: Arc<dyn ReadAt>,
    pub(super) pieces: Vec<Piece>,
}

pub(super) fn bytes_of(sectors: u64) -> ByteOffset {
    ByteOffset::new(sectors * SECTOR)
}

pub(super) fn le32(bytes: &[u8], at: usize) -> u64 {
    u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap()).into()
}

pub(super) fn le64(bytes: &[u8], at: usize) -> u64 {
    u64::from_le_bytes(bytes[at..at + 8].try_into().unwrap())
}

/// A boot record with these entries: number in it, type, first sector, count.
fn record(entries: &[(usize, u8, u64, u64)]) -> Vec<u8> {
    let mut record = vec![0u8; 512];
    for (index, kind, first, count) in entries {
        let entry = 446 + 16 * index;
        record[entry + 4] = *kind;
        record[entry + 8..entry + 12].copy_from_slice(&(*first as u32).to_le_bytes());
        record[entry + 12..entry + 16].copy_from_slice(&(*count as u32).to_le_bytes());
    }
    record[510..].copy_from_slice(&[0x55, 0xaa]);
    record
}

impl Scheme {
    /// The number of the piece at `index` of `count`, and whether it is a logical partition.
    fn number(self, index: usize, count: usize) -> (u32, bool) {
        let number = |number: usize| u32::try_from(number).unwrap();
        match self {
            Self::Chain { in_front, .. } if index < in_front => (number(index + 1), false),
            Self::Chain { in_front, behind: true, .. } if index + 1 == count => {
                (number(in_front + 2), false)
            }
            Self::Chain { in_front, .. } => (number(5 + index - in_front), true),
            _ => (number(index + 1), false),
        }
    }

    /// How many of `pieces` there can be.
    pub(super) fn most(self) -> usize {
        match self {
            Self::Bare => 1,
            Self::Primary => 4,
            Self::Chain { .. } | Self::Gpt => 6,
        }
    }
}

impl Card {
    /// A card with partitions of these gaps, lengths and types, `behind` sectors after the last one, random marks in
    /// their first and last bytes, and a mark before each.
    pub(super) fn of(scheme: Scheme, pieces: &[(u64, u64, bool)], behind: u64) -> Self {
        let mut at = if scheme == Scheme::Bare { 0 } else { 64 };
        let mut placed = Vec::new();
        for (index, (gap, len, is_swap)) in pieces.iter().enumerate() {
            let gap = if scheme == Scheme::Bare { 0 } else { *gap };
            let (number, is_logical) = scheme.number(index, pieces.len());
            // Somewhere in the gap, depending on the tool.
            let ahead = is_logical.then(|| 1 + (gap - 1) * 3 / 4);
            at += gap;
            placed.push(Piece {
                start: at,
                len: *len,
                is_swap: *is_swap,
                number,
                ahead,
                has_front: scheme != Scheme::Bare && ahead.is_none_or(|ahead| ahead > 1),
            });
            at += len;
        }
        let behind = if scheme == Scheme::Gpt { behind + BACKUP } else { behind };
        let store = SparseStore::new(ByteLen::new((at + behind) * SECTOR));
        for piece in &placed {
            piece.put_into(&store);
        }
        if scheme != Scheme::Bare {
            // Boot code in the first gap.
            store.write_at(ByteOffset::new(20_000), b"boot").unwrap();
        }
        match scheme {
            Scheme::Bare => {}
            Scheme::Gpt => put_gpt(&store, &placed),
            Scheme::Primary => put_mbr(&store, &placed, false, false),
            Scheme::Chain { hollow, roomy, .. } => put_mbr(&store, &placed, hollow, roomy),
        }
        Self { store: Arc::new(store), pieces: placed }
    }
}

impl Piece {
    pub(super) fn mark(&self) -> u8 {
        u8::try_from(self.number).unwrap()
    }

    fn put_into(&self, store: &SparseStore) {
        let put = |inside: u64, bytes: &[u8]| {
            let at = bytes_of(self.start).saturating_add(ByteLen::new(inside));
            store.write_at(at, bytes).unwrap();
        };
        if self.has_front {
            let front = ByteOffset::new(self.start * SECTOR - 1);
            store.write_at(front, &[0x70 + self.mark()]).unwrap();
        }
        if self.is_swap {
            put(4086, b"SWAPSPACE2");
            put(1024, &1u32.to_le_bytes());
            put(1028, &((self.len * SECTOR / 4096 - 1) as u32).to_le_bytes());
            put(1052, format!("swap{}", self.number).as_bytes());
        } else {
            put(0, &[0xa0 + self.mark()]);
            put(self.len * SECTOR - 1, &[0xb0 + self.mark()]);
        }
    }

    fn entry(&self, index: usize, base: u64) -> (usize, u8, u64, u64) {
        (index, if self.is_swap { 0x82 } else { 0xda }, self.start - base, self.len)
    }
}

fn put_mbr(store: &SparseStore, pieces: &[Piece], hollow: bool, roomy: bool) {
    let own = pieces.iter().filter(|piece| piece.ahead.is_none());
    let mut entries: Vec<_> = own.map(|piece| piece.entry(piece.number as usize - 1, 0)).collect();
    let chain: Vec<_> = pieces.iter().filter(|piece| piece.ahead.is_some()).collect();
    let at = |piece: &Piece| piece.start - piece.ahead.unwrap();
    if let (Some(first), Some(last)) = (chain.first(), chain.last()) {
        let own = at(first);
        // Before the record of the first partition, if there is space.
        let free = own
            - pieces
                .iter()
                .map(|one| one.start + one.len)
                .filter(|end| *end <= own)
                .max()
                .unwrap_or(63);
        let base = own - if hollow { free / 2 } else { 0 };
        if base < own {
            let entries = [(1, 0x05, own - base, first.start + first.len - own)];
            store.write_at(bytes_of(base), &record(&entries)).unwrap();
        }
        let index = pieces.iter().position(|piece| piece.number == first.number).unwrap();
        let end = last.start + last.len;
        let next = pieces.iter().map(|piece| piece.start).filter(|start| *start >= end).min();
        let room = next.unwrap_or(store.size().get() / SECTOR);
        entries.push((index, 0x0f, base, if roomy { room } else { end } - base));
        for (index, piece) in chain.iter().enumerate() {
            let mut entries = vec![piece.entry(0, at(piece))];
            if let Some(next) = chain.get(index + 1) {
                let len = next.start + next.len - at(next);
                entries.push((1, 0x05, at(next) - base, len));
            }
            store.write_at(bytes_of(at(piece)), &record(&entries)).unwrap();
        }
    }
    store.write_at(ByteOffset::ZERO, &record(&entries)).unwrap();
}

fn put_gpt(store: &SparseStore, pieces: &[Piece]) {
    let last = store.size().get() / SECTOR - 1;
    let mut entries = vec![0u8; 128 * 128];
    for (index, piece) in pieces.iter().enumerate() {
        let entry = &mut entries[index * 128..][..128];
        entry[..16].fill(if piece.is_swap { 0x82 } else { 0xda });
        entry[16..32].fill(piece.mark());
        entry[32..40].copy_from_slice(&piece.start.to_le_bytes());
        entry[40..48].copy_from_slice(&(piece.start + piece.len - 1).to_le_bytes());
        entry[56] = b'a' + piece.mark();
    }
    for (own, other, array) in [(1, last, 2), (last, 1, last - 32)] {
        let mut header = vec![0u8; 92];
        header[..12].copy_from_slice(b"EFI PART\0\0\x01\0");
        header[12..16].copy_from_slice(&92u32.to_le_bytes());
        for (at, number) in [(24, own), (32, other), (40, 34), (48, last - BACKUP), (72, array)] {
            header[at..at + 8].copy_from_slice(&number.to_le_bytes());
        }
        header[56..72].fill(0x77);
        header[80..84].copy_from_slice(&128u32.to_le_bytes());
        header[84..88].copy_from_slice(&128u32.to_le_bytes());
        header[88..92].copy_from_slice(&crc32fast::hash(&entries).to_le_bytes());
        let crc = crc32fast::hash(&header);
        header[16..20].copy_from_slice(&crc.to_le_bytes());
        store.write_at(bytes_of(own), &header).unwrap();
        store.write_at(bytes_of(array), &entries).unwrap();
    }
    let protective = record(&[(0, 0xee, 1, last.min(u32::MAX.into()))]);
    store.write_at(ByteOffset::ZERO, &protective).unwrap();
}

/// Any scheme.
pub(super) fn scheme() -> impl Strategy<Value = Scheme> {
    prop_oneof![
        1 => Just(Scheme::Bare),
        2 => Just(Scheme::Primary),
        4 => (0usize..3, any::<bool>(), any::<bool>(), any::<bool>())
            .prop_map(|(in_front, behind, hollow, roomy)| Scheme::Chain { in_front, behind, hollow, roomy }),
        3 => Just(Scheme::Gpt),
    ]
}
