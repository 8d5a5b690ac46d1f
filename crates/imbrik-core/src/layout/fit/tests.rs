//! Plans for random cards: under every kind of table, onto cards of every size.

use super::*;
use crate::{
    error::Class,
    layout::Content,
    progress::Cancel,
    store::{SparseStore, WriteAt, read_vec},
};
use proptest::prelude::*;

const SECTOR: u64 = 512;
/// Sectors that a GUID table takes at the end of a card.
const BACKUP: u64 = 33;

/// What a random card's partitions are listed in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Scheme {
    /// Nothing: one volume from the first sector on.
    Bare,
    /// The four entries of a master boot record.
    Primary,
    /// A record with so many entries of its own, then a container, and one entry behind it if so.
    Chain {
        in_front: usize,
        behind: bool,
        /// Whether the chain begins with a record that tells of no partition.
        hollow: bool,
        /// Whether the container takes all room up to what follows it.
        roomy: bool,
    },
    Gpt,
}

/// A partition of a random card. What is not a swap holds what nobody knows, and keeps its length.
#[derive(Clone, Debug)]
struct Piece {
    /// Sectors.
    start: u64,
    len: u64,
    is_swap: bool,
    /// As the table numbers it.
    number: u32,
    /// Sectors between it and its record in the chain.
    ahead: Option<u64>,
    /// Whether the byte in front of it is free for a mark.
    has_front: bool,
}

/// A random card.
struct Card {
    store: Arc<dyn ReadAt>,
    pieces: Vec<Piece>,
}

fn bytes_of(sectors: u64) -> ByteOffset {
    ByteOffset::new(sectors * SECTOR)
}

fn le32(bytes: &[u8], at: usize) -> u64 {
    u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap()).into()
}

fn le64(bytes: &[u8], at: usize) -> u64 {
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
    fn most(self) -> usize {
        match self {
            Self::Bare => 1,
            Self::Primary => 4,
            Self::Chain { .. } | Self::Gpt => 6,
        }
    }
}

impl Card {
    /// A card with pieces of these gaps, lengths and kinds, `behind` sectors behind the last one,
    /// marks at the first and the last byte of each that nobody knows, and one in front of each.
    fn of(scheme: Scheme, pieces: &[(u64, u64, bool)], behind: u64) -> Self {
        let mut at = if scheme == Scheme::Bare { 0 } else { 64 };
        let mut placed = Vec::new();
        for (index, (gap, len, is_swap)) in pieces.iter().enumerate() {
            let gap = if scheme == Scheme::Bare { 0 } else { *gap };
            let (number, is_logical) = scheme.number(index, pieces.len());
            // Somewhere in the gap, as different tools put it.
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
    fn mark(&self) -> u8 {
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
        // In front of the first partition's own record, where there is room.
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

fn byte(store: &dyn ReadAt, at: u64) -> u8 {
    read_vec(store, ByteOffset::new(at), 1).unwrap()[0]
}

/// The logical partitions, as a reader of its own finds them: where each record stands, and the
/// partition that it tells of. Each lies in its container, and nothing lies on a record.
fn chain(card: &dyn ReadAt) -> Vec<(u64, u64, u64)> {
    let head = read_vec(card, ByteOffset::ZERO, 512).unwrap();
    let entry = |index: usize| (le32(&head, 454 + 16 * index), le32(&head, 458 + 16 * index));
    let container = (0..4).find(|index| head[450 + 16 * index] == 0x0f).map(entry);
    let Some((base, len)) = container else { return Vec::new() };
    assert!((base + len) * SECTOR <= card.size().get(), "the container ends behind the card");
    let mut found = Vec::new();
    let mut at = base;
    loop {
        let record = read_vec(card, bytes_of(at), 512).unwrap();
        assert_eq!(record[510..], [0x55, 0xaa]);
        let (first, count) = (at + le32(&record, 454), le32(&record, 458));
        assert!(base <= at && first + count <= base + len, "{found:?} {at}");
        if count > 0 {
            assert!(at < first, "{found:?} {at}");
            found.push((at, first, count));
        }
        match le32(&record, 470) {
            0 => break,
            next => {
                let reach = base + next + le32(&record, 474);
                at = base + next;
                assert!(at >= first + count && reach <= base + len, "{found:?} {at}");
            }
        }
    }
    for (first, count) in (0..4).filter(|index| head[450 + 16 * index] == 0xda).map(entry) {
        assert!(first + count <= base || first >= base + len, "the container lies on another");
    }
    found
}

/// Both copies of a GUID table agree with each other, with their checksums and with the card.
fn gpt_is_sound(card: &dyn ReadAt) -> Vec<u8> {
    let last = card.size().get() / SECTOR - 1;
    let copies = [(1, last), (last, 1)].map(|(own, other)| {
        let mut header = read_vec(card, bytes_of(own), 92).unwrap();
        assert_eq!((le64(&header, 24), le64(&header, 32)), (own, other));
        assert_eq!(le64(&header, 48), last - BACKUP);
        let crc = le32(&header, 16);
        header[16..20].fill(0);
        assert_eq!(u64::from(crc32fast::hash(&header)), crc);
        let entries = read_vec(card, bytes_of(le64(&header, 72)), 128 * 128).unwrap();
        assert_eq!(u64::from(crc32fast::hash(&entries)), le32(&header, 88));
        entries
    });
    assert!(copies[0] == copies[1]);
    let head = read_vec(card, ByteOffset::ZERO, 512).unwrap();
    assert_eq!((head[450], le32(&head, 454), le32(&head, 458)), (0xee, 1, last));
    copies[0].clone()
}

fn scheme() -> impl Strategy<Value = Scheme> {
    prop_oneof![
        1 => Just(Scheme::Bare),
        2 => Just(Scheme::Primary),
        4 => (0usize..3, any::<bool>(), any::<bool>(), any::<bool>())
            .prop_map(|(in_front, behind, hollow, roomy)| Scheme::Chain { in_front, behind, hollow, roomy }),
        3 => Just(Scheme::Gpt),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(4000))]
    #[test]
    fn every_plan_keeps_what_there_is_and_every_refusal_is_justified(
        scheme in scheme(),
        pieces in proptest::collection::vec(
            (0u64..40_000, 16u64..80_000, any::<bool>(), 0u32..14), 1..7),
        behind in 0u64..9_000,
        // Of a card that holds all of it, in thousandths, and some sectors more.
        size in (0u64..1_400, 1u64..9),
        give in 0usize..9,
    ) {
        // Some stand at round places, as real ones do.
        let pieces: Vec<_> = pieces
            .into_iter()
            .map(|(gap, len, is_swap, round)| {
                let unit = 1u64 << round;
                // What is not listed must be told by its content.
                let is_swap = is_swap || scheme == Scheme::Bare;
                ((gap / unit + 1) * unit, len.next_multiple_of(8).max(16), is_swap)
            })
            .take(scheme.most())
            .collect();
        let is_bare = scheme == Scheme::Bare;
        let behind = if is_bare { 0 } else { behind };
        let Card { store: source, pieces } = Card::of(scheme, &pieces, behind);
        let survey = Survey::of(&*source).unwrap();
        prop_assert!(survey.findings.is_empty(), "{:?}", survey.findings);
        prop_assert_eq!(survey.parts.len(), pieces.len());
        let piece_of = |part: &Part| {
            let piece = pieces.iter().find(|piece| part.number.is_none_or(|it| it == piece.number));
            piece.unwrap()
        };
        let occupancy = Occupancy::of(&source, &survey).unwrap();
        let cancel = Cancel::new();
        let size = survey.needed().get() / SECTOR * size.0 / 1000 + size.1;
        let size = ByteLen::new(size * SECTOR);
        let give_to = survey.parts.get(give).filter(|part| piece_of(part).is_swap).map(|_| give);
        let plan = |size| {
            let fit = Fit::Card { size, take_from: Vec::new(), give_to };
            Plan::fit(Arc::clone(&source), &survey, &occupancy, &fit, Work::in_memory(&cancel))
        };
        // All swaps as small as they go: that is what a card must hold.
        let least = survey.needed_with(survey.parts.iter().enumerate().filter_map(|(index, part)| {
            let found = occupancy.volume(index)?.least.as_ref()?;
            part.can_be_reshaped().then(|| (index, found.size.min(part.span.len())))
        }));
        let (size, plan) = match plan(size) {
            Err(error) => {
                prop_assert_eq!(error.class(), Class::NoRoom, "{}", error);
                prop_assert!(size < least, "{}: {} would be enough", error, least);
                let words = format!("{} too small", least.saturating_sub(size));
                prop_assert!(error.to_string().contains(&words), "{} {}", error, words);
                // As much more is enough, and a sector less is not.
                prop_assert!(plan(least.saturating_sub(ByteLen::new(SECTOR))).is_err());
                (least, plan(least).map_err(|error| TestCaseError::fail(error.to_string()))?)
            }
            Ok(plan) => (size, plan),
        };
        prop_assert!(size >= least);
        prop_assert_eq!(plan.view.size(), size);
        let after = Survey::of(&plan.view).unwrap();
        prop_assert!(after.findings.is_empty(), "{:?}", after.findings);
        prop_assert_eq!(after.parts.len(), survey.parts.len());
        let end = Span::whole(size).end().get() - survey.backup_len().get();
        let mut in_order: Vec<_> = after.parts.iter().zip(&survey.parts).collect();
        in_order.sort_by_key(|(_, was)| was.span);
        let mut at = ByteOffset::ZERO;
        for (is, was) in in_order {
            let piece = piece_of(was);
            prop_assert_eq!(is.number, was.number);
            // In the same order, inside the card, at a place as round as it was.
            prop_assert!(is.span.start() >= at && is.span.end().get() <= end);
            at = is.span.end();
            let unit = 1u64 << was.span.start().get().trailing_zeros().min(22);
            prop_assert!(is_bare || is.span.start().get() % unit == 0);
            if piece.has_front {
                let front = is.span.start().get() - 1;
                prop_assert_eq!(byte(&plan.view, front), 0x70 + piece.mark());
            }
            if piece.is_swap {
                let label = |part: &Part| part.volume.as_ref().unwrap().label.clone();
                prop_assert_eq!(label(was), label(is));
                let volume = is.volume.as_ref().unwrap().size;
                prop_assert!(volume <= is.span.len());
            } else {
                prop_assert_eq!(was.span.len(), is.span.len());
                let start = is.span.start().get();
                prop_assert_eq!(byte(&plan.view, start), 0xa0 + piece.mark());
                prop_assert_eq!(byte(&plan.view, is.span.end().get() - 1), 0xb0 + piece.mark());
            }
            if scheme == Scheme::Gpt {
                prop_assert_eq!((&is.uuid, &is.name, &is.kind), (&was.uuid, &was.name, &was.kind));
            }
        }
        if !is_bare {
            prop_assert_eq!(read_vec(&plan.view, ByteOffset::new(20_000), 4).unwrap(), b"boot");
        }
        if let Scheme::Chain { .. } = scheme {
            let logicals = pieces.iter().filter(|piece| piece.ahead.is_some());
            let chain = chain(&plan.view);
            prop_assert_eq!(chain.len(), logicals.clone().count());
            for ((record, first, count), piece) in chain.into_iter().zip(logicals) {
                // Every record as far in front of its partition as it was.
                prop_assert_eq!(Some(first - record), piece.ahead);
                let part = after.parts.iter().find(|part| part.number == Some(piece.number));
                let span = Span::between(bytes_of(first), bytes_of(first + count));
                prop_assert_eq!(part.map(|part| part.span), Some(span));
                let record = Span::between(bytes_of(record), bytes_of(record + 1));
                let is_free = |part: &Part| part.span.intersect(record).is_none();
                prop_assert!(after.parts.iter().all(is_free));
            }
        }
        if scheme == Scheme::Gpt {
            gpt_is_sound(&*source);
            gpt_is_sound(&plan.view);
        }
        // Nothing grows or moves on a card that holds all of it, unless it was asked to.
        if size >= survey.needed() && give_to.is_none() && !is_bare {
            let spans = |survey: &Survey| -> Vec<Span> {
                survey.parts.iter().map(|part| part.span).collect()
            };
            prop_assert_eq!(spans(&survey), spans(&after));
        }
        // What is written to a card has no hole, and old headers at its end go.
        let last = Span::between(ByteOffset::new(size.get() - 1), ByteOffset::new(size.get()));
        let is_behind = at.get() < size.get();
        let end: Vec<_> = plan.view.segments_in(last).filter(|_| is_behind).collect();
        let is_unused = |one: &crate::layout::Segment| matches!(one.content, Content::Unused);
        prop_assert!(!end.iter().any(is_unused), "{:?}", end);
    }
}
