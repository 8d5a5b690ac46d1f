//! Plans for random cards: under every kind of table, onto cards of every size.

mod card;

use super::*;
use crate::layout::{Content, Segment};
use card::{BACKUP, Card, Piece, SECTOR, Scheme, bytes_of, le32, le64, scheme};
use imbrik_store::{error::Class, progress::Cancel, read_vec};
use proptest::prelude::*;

fn byte(store: &dyn ReadAt, at: u64) -> u8 {
    read_vec(store, ByteOffset::new(at), 1).unwrap()[0]
}

/// The logical partitions, as found by a separate reader: the location of each record, and its partition. Each is in
/// the extended partition, and none overlaps a record.
fn chain(card: &dyn ReadAt) -> Vec<(u64, u64, u64)> {
    let head = read_vec(card, ByteOffset::ZERO, 512).unwrap();
    let entry = |index: usize| (le32(&head, 454 + 16 * index), le32(&head, 458 + 16 * index));
    let container = (0..4).find(|index| head[450 + 16 * index] == 0x0f).map(entry);
    let Some((base, len)) = container else { return Vec::new() };
    assert!(
        (base + len) * SECTOR <= card.size().get(),
        "the extended partition ends past the card"
    );
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
        assert!(
            first + count <= base || first >= base + len,
            "the extended partition overlaps another one"
        );
    }
    found
}

/// Both copies of a GUID table agree with each other, with their checksums and with the card.
fn gpt_is_sound(card: &dyn ReadAt) {
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
}

/// A plan for a random card, and its result.
struct Planned<'a> {
    scheme: Scheme,
    pieces: &'a [Piece],
    before: &'a Survey,
    plan: &'a Plan,
    after: &'a Survey,
}

impl Planned<'_> {
    fn piece_of(&self, part: &Part) -> &Piece {
        piece_of(self.pieces, part)
    }

    fn is_bare(&self) -> bool {
        self.scheme == Scheme::Bare
    }

    /// In the same order, inside the card, with the same alignment and content.
    fn partitions_are_kept(&self) {
        assert_eq!(self.after.parts.len(), self.before.parts.len());
        let size = self.plan.view.size();
        let end = size.get() - self.before.backup_len().get();
        let mut in_order: Vec<_> = self.after.parts.iter().zip(&self.before.parts).collect();
        in_order.sort_by_key(|(_, was)| was.span);
        let mut at = ByteOffset::ZERO;
        for (is, was) in in_order {
            assert_eq!(is.number, was.number);
            assert!(is.span.start() >= at && is.span.end().get() <= end);
            at = is.span.end();
            let unit = 1u64 << was.span.start().get().trailing_zeros().min(22);
            assert!(self.is_bare() || is.span.start().get() % unit == 0);
            self.content_is_kept(was, is);
            if self.scheme == Scheme::Gpt {
                assert_eq!((&is.uuid, &is.name, &is.kind), (&was.uuid, &was.name, &was.kind));
            }
        }
        // The written ranges have no hole, and old headers at the end are cleared.
        let last = Span::between(ByteOffset::new(size.get() - 1), ByteOffset::new(size.get()));
        let is_behind = at.get() < size.get();
        let is_unused = |one: Segment| is_behind && matches!(one.content, Content::Unused);
        assert!(!self.plan.view.segments_in(last).any(is_unused));
    }

    fn content_is_kept(&self, was: &Part, is: &Part) {
        let (piece, view) = (self.piece_of(was), &self.plan.view);
        let (start, end) = (is.span.start().get(), is.span.end().get());
        if piece.has_front {
            assert_eq!(byte(view, start - 1), 0x70 + piece.mark());
        }
        if piece.is_swap {
            let (was, is_now) = (was.volume.as_ref().unwrap(), is.volume.as_ref().unwrap());
            assert_eq!(was.label, is_now.label);
            assert!(is_now.size <= is.span.len());
        } else {
            assert_eq!(was.span.len(), is.span.len());
            assert_eq!(byte(view, start), 0xa0 + piece.mark());
            assert_eq!(byte(view, end - 1), 0xb0 + piece.mark());
        }
    }

    /// Tables are valid, and the boot code in the first gap is unchanged.
    fn tables_are_sound(&self) {
        assert!(self.after.findings.is_empty(), "{:?}", self.after.findings);
        if !self.is_bare() {
            assert_eq!(read_vec(&self.plan.view, ByteOffset::new(20_000), 4).unwrap(), b"boot");
        }
        match self.scheme {
            Scheme::Chain { .. } => self.chain_is_kept(),
            Scheme::Gpt => gpt_is_sound(&self.plan.view),
            Scheme::Bare | Scheme::Primary => {}
        }
    }

    /// Every record is at the same distance before its partition as before, and overlaps none.
    fn chain_is_kept(&self) {
        let logicals = self.pieces.iter().filter(|piece| piece.ahead.is_some());
        let chain = chain(&self.plan.view);
        assert_eq!(chain.len(), logicals.clone().count());
        for ((record, first, count), piece) in chain.into_iter().zip(logicals) {
            assert_eq!(Some(first - record), piece.ahead);
            let part = self.after.parts.iter().find(|part| part.number == Some(piece.number));
            let span = Span::between(bytes_of(first), bytes_of(first + count));
            assert_eq!(part.map(|part| part.span), Some(span));
            let record = Span::between(bytes_of(record), bytes_of(record + 1));
            assert!(self.after.parts.iter().all(|part| part.span.intersect(record).is_none()));
        }
    }

    fn nothing_moved(&self) {
        let spans =
            |survey: &Survey| -> Vec<Span> { survey.parts.iter().map(|part| part.span).collect() };
        assert_eq!(spans(self.before), spans(self.after));
    }
}

fn piece_of<'a>(pieces: &'a [Piece], part: &Part) -> &'a Piece {
    let is_it = |piece: &&Piece| part.number.is_none_or(|number| number == piece.number);
    pieces.iter().find(is_it).unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(4000))]
    #[test]
    fn random_plans_keep_all_partitions_and_refusals_are_justified(
        scheme in scheme(),
        pieces in proptest::collection::vec(
            (0u64..40_000, 16u64..80_000, any::<bool>(), 0u32..14), 1..7),
        behind in 0u64..9_000,
        // In thousandths of the required size, plus some sectors.
        size in (0u64..1_400, 1u64..9),
        give in 0usize..9,
    ) {
        // Some are aligned, as real ones are.
        let pieces: Vec<_> = pieces
            .into_iter()
            .map(|(gap, len, is_swap, round)| {
                let unit = 1u64 << round;
                // Without a table, the content has to identify the kind.
                let is_swap = is_swap || scheme == Scheme::Bare;
                ((gap / unit + 1) * unit, len.next_multiple_of(8).max(16), is_swap)
            })
            .take(scheme.most())
            .collect();
        let behind = if scheme == Scheme::Bare { 0 } else { behind };
        let Card { store: source, pieces } = Card::of(scheme, &pieces, behind);
        let survey = Survey::of(&*source).unwrap();
        prop_assert!(survey.findings.is_empty(), "{:?}", survey.findings);
        prop_assert_eq!(survey.parts.len(), pieces.len());
        let occupancy = Occupancy::of(&source, &survey).unwrap();
        let cancel = Cancel::new();
        let size = survey.needed().get() / SECTOR * size.0 / 1000 + size.1;
        let size = ByteLen::new(size * SECTOR);
        let give_to = survey.parts.get(give).filter(|part| piece_of(&pieces, part).is_swap);
        let give_to = give_to.map(|_| give);
        let plan = |size| {
            let fit = Fit::Card { size, take_from: Vec::new(), give_to };
            Plan::fit(Arc::clone(&source), &survey, &occupancy, &fit, ResizeOptions::in_memory(&cancel))
        };
        // With the smallest size of all swap areas: the required card size.
        let least = survey.needed_with(survey.parts.iter().enumerate().filter_map(|(index, part)| {
            let found = occupancy.volume(index)?.least.as_ref()?;
            part.is_resizable().then(|| (index, found.size.min(part.span.len())))
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
        let planned =
            Planned { scheme, pieces: &pieces, before: &survey, plan: &plan, after: &after };
        planned.partitions_are_kept();
        planned.tables_are_sound();
        // Nothing grows or moves on a card that is large enough, unless requested.
        if size >= survey.needed() && give_to.is_none() && scheme != Scheme::Bare {
            planned.nothing_moved();
        }
    }
}
