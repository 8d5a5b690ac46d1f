//! A card at another size: volumes are reshaped, and what stands behind them moves along.
//!
//! ```text
//! before  │ table │ boot │ root …………………………………… │ data │
//! after   │ table │ boot │ root …… │ data │
//!           kept    kept   reshaped  shifted, a multiple of what it is aligned to
//! ```
//!
//! [`Plan::fit`] decides which volumes get which length (`choose`), and puts them together
//! (`arrange`). Partitions keep their order, and their places where they can. What lies in front of
//! one that moves, such as the record of a logical partition, moves with it.

mod arrange;
mod choose;

use super::{Occupancy, Part, Plan, Survey};
use crate::{
    error::{Error, Result},
    fs::{Examined, Reshaped, VolumeKind, Work},
    store::ReadAt,
    table::Table,
    units::{ByteLen, ByteOffset, Span},
};
use arrange::arrange;
use choose::Chooser;
use std::sync::Arc;

/// To which size a card is fitted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Fit {
    /// One volume as small as it can be.
    Smallest {
        /// Which: its place in [`Survey::parts`].
        part: usize,
        /// Bytes of room that it keeps beyond that.
        room: ByteLen,
    },
    /// A card of a given size.
    Card {
        /// Bytes.
        size: ByteLen,
        /// The volumes that give room when there is too little, by their places in
        /// [`Survey::parts`] and in this order. None named: all that can, the last first.
        take_from: Vec<usize>,
        /// The volume that takes what is left over; `None` leaves it unused.
        give_to: Option<usize>,
    },
    /// As another card holds the same partitions.
    Like {
        /// Bytes of that card.
        size: ByteLen,
        /// For each of [`Survey::parts`] its place there, and the length of its volume when that is
        /// another one.
        places: Vec<(Span, Option<ByteLen>)>,
    },
}

/// A partition in its place.
struct Placed {
    /// Its place in [`Survey::parts`].
    index: usize,
    from: Span,
    to: Span,
    reshaped: Option<(Reshaped, Examined)>,
    /// Why it gets another size, in a few words.
    why: &'static str,
}

impl Survey {
    /// The place in [`Survey::parts`] of the last partition whose volume can be reshaped, swap not
    /// counted; `None` when there is none.
    #[must_use]
    pub fn last_reshapable(&self) -> Option<usize> {
        let parts = self.parts.iter().enumerate();
        let can = parts.filter(|(_, part)| part.can_be_reshaped() && !part.is_swap());
        can.max_by_key(|(_, part)| part.span.end()).map(|(index, _)| index)
    }

    /// How long a card must be when some partitions, by their places in [`Survey::parts`], have
    /// these lengths.
    #[must_use]
    pub fn needed_with(&self, lens: impl IntoIterator<Item = (usize, ByteLen)>) -> ByteLen {
        choose::needed(self, &choose::lay(self, &lens.into_iter().collect()))
    }

    /// How much of a card's end the table takes.
    fn backup_len(&self) -> ByteLen {
        self.table.as_ref().map_or(ByteLen::ZERO, Table::backup_len)
    }
}

impl Part {
    /// Whether its volume is of a kind that can be reshaped.
    #[must_use]
    pub fn can_be_reshaped(&self) -> bool {
        self.volume.as_ref().is_some_and(|volume| volume.kind.can_be_reshaped().is_ok())
    }

    fn is_swap(&self) -> bool {
        self.volume.as_ref().is_some_and(|volume| volume.kind == VolumeKind::Swap)
    }
}

impl Plan {
    /// `source`, of which `survey` tells what it holds, fitted to another size.
    ///
    /// # Errors
    /// - When the source cannot be read where its metadata stand, or stopping was requested.
    /// - [`crate::Class::NoRoom`] when the data don't fit, with the missing bytes and the volumes
    ///   that lack them.
    /// - [`crate::Class::Unsupported`] and [`crate::Class::Corrupt`] when a volume or the table
    ///   cannot be reshaped, with the reason.
    pub fn fit(
        source: Arc<dyn ReadAt>,
        survey: &Survey,
        occupancy: &Occupancy,
        fit: &Fit,
        work: Work<'_>,
    ) -> Result<Self> {
        if let Some(why) = survey.whole_because {
            return Err(Error::unsupported(why));
        }
        let card = Span::whole(source.size());
        if survey.parts.iter().any(|part| !card.contains(part.span)) {
            return Err(Error::refused("the image is cut short"));
        }
        let chooser = Chooser { source: &source, survey, occupancy, work };
        let (size, placed) = match fit {
            Fit::Smallest { part, room } => chooser.smallest(*part, *room)?,
            Fit::Card { size, take_from, give_to } => {
                (*size, chooser.for_card(*size, take_from, *give_to)?)
            }
            Fit::Like { size, places } => (*size, chooser.like(*size, places)?),
        };
        arrange(&source, survey, occupancy, placed, size)
    }
}

fn up_to(len: ByteLen, unit: u64) -> ByteLen {
    ByteLen::new(len.get().next_multiple_of(unit.max(1)))
}

fn moved_by(at: ByteOffset, from: ByteOffset, to: ByteOffset) -> ByteOffset {
    to.saturating_add(at.saturating_since(from))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{
        error::Class,
        layout::Content,
        progress::Cancel,
        store::{SparseStore, WriteAt, read_vec},
    };
    use proptest::prelude::*;

    /// A partition of a random card: sectors in front of it, its sectors, and whether it is a swap,
    /// which can get another size.
    type Piece = (u64, u64, bool);

    /// A card with these partitions in its record, marks at the first and the last byte of each that
    /// holds what nobody knows, and one right in front of each.
    fn card(pieces: &[Piece], behind: u64, is_bare: bool) -> (Arc<dyn ReadAt>, Vec<u64>) {
        let mut record = vec![0u8; 512];
        let mut marks = Vec::new();
        let mut at = if is_bare { 0 } else { 64 };
        let mut places = Vec::new();
        for (gap, len, is_swap) in pieces {
            at += if is_bare { 0 } else { *gap };
            places.push((at, *len, *is_swap));
            at += len;
        }
        let store = SparseStore::new(ByteLen::new((at + behind) * 512));
        for (index, (start, len, is_swap)) in places.iter().enumerate() {
            let entry = 446 + 16 * index;
            if !is_bare {
                record[entry + 4] = if *is_swap { 0x82 } else { 0xda };
                record[entry + 8..entry + 12].copy_from_slice(&(*start as u32).to_le_bytes());
                record[entry + 12..entry + 16].copy_from_slice(&(*len as u32).to_le_bytes());
                store.write_at(ByteOffset::new(start * 512 - 1), &[0x70 + index as u8]).unwrap();
            }
            let put = |inside: u64, bytes: &[u8]| {
                store.write_at(ByteOffset::new(start * 512 + inside), bytes).unwrap();
            };
            if *is_swap {
                put(4086, b"SWAPSPACE2");
                put(1024, &1u32.to_le_bytes());
                put(1028, &((len * 512 / 4096 - 1) as u32).to_le_bytes());
                put(1052, format!("swap{index}").as_bytes());
            } else {
                put(0, &[0xa0 + index as u8]);
                put(len * 512 - 1, &[0xb0 + index as u8]);
            }
            marks.push(*start);
        }
        if !is_bare {
            record[510..].copy_from_slice(&[0x55, 0xaa]);
            store.write_at(ByteOffset::ZERO, &record).unwrap();
            // Boot code in the first gap.
            store.write_at(ByteOffset::new(20_000), b"boot").unwrap();
        }
        (Arc::new(store), marks)
    }

    fn byte(store: &dyn ReadAt, at: u64) -> u8 {
        read_vec(store, ByteOffset::new(at), 1).unwrap()[0]
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(3000))]
        #[test]
        fn every_plan_keeps_what_there_is_and_every_refusal_is_justified(
            pieces in proptest::collection::vec(
                (0u64..40_000, 16u64..80_000, any::<bool>(), 0u32..14), 1..5),
            behind in 0u64..9_000,
            is_bare in any::<bool>(),
            size in 1u64..400_000,
            give in 0usize..4,
        ) {
            // Some stand at round places, as real ones do.
            let pieces: Vec<Piece> = pieces
                .into_iter()
                .map(|(gap, len, is_swap, round)| {
                    let unit = 1u64 << round;
                    ((gap / unit + 1) * unit, len.next_multiple_of(8).max(16), is_swap)
                })
                .take(if is_bare { 1 } else { 4 })
                .collect();
            prop_assume!(!is_bare || pieces[0].2);
            let behind = if is_bare { 0 } else { behind };
            let (source, _) = card(&pieces, behind, is_bare);
            let survey = Survey::of(&*source).unwrap();
            prop_assert_eq!(survey.parts.len(), pieces.len());
            let occupancy = Occupancy::of(&source, &survey).unwrap();
            let cancel = Cancel::new();
            let size = ByteLen::new(size * 512);
            let give_to = Some(give).filter(|give| pieces.get(*give).is_some_and(|one| one.2));
            let fit = Fit::Card { size, take_from: Vec::new(), give_to };
            let plan =
                Plan::fit(Arc::clone(&source), &survey, &occupancy, &fit, Work::in_memory(&cancel));
            // All swaps as small as they go: that is what a card must hold.
            let least = survey.needed_with(survey.parts.iter().enumerate().filter_map(|(index, part)| {
                let found = occupancy.volume(index)?.least.as_ref()?;
                part.can_be_reshaped().then(|| (index, found.size.min(part.span.len())))
            }));
            let plan = match plan {
                Err(error) => {
                    prop_assert_eq!(error.class(), Class::NoRoom, "{}", error);
                    prop_assert!(size < least, "{}: {} would be enough", error, least);
                    let words = format!("{} too small", least.saturating_sub(size));
                    prop_assert!(error.to_string().contains(&words), "{} {}", error, words);
                    return Ok(());
                }
                Ok(plan) => plan,
            };
            prop_assert!(size >= least);
            prop_assert_eq!(plan.view.size(), size);
            let after = Survey::of(&plan.view).unwrap();
            prop_assert!(after.findings.is_empty(), "{:?}", after.findings);
            prop_assert_eq!(after.parts.len(), survey.parts.len());
            let mut at = ByteOffset::ZERO;
            for (index, (was, is)) in survey.parts.iter().zip(&after.parts).enumerate() {
                // In the same order, inside the card, at a place as round as it was.
                prop_assert!(is.span.start() >= at && is.span.end().get() <= size.get());
                at = is.span.end();
                let unit = 1u64 << was.span.start().get().trailing_zeros().min(22);
                if !is_bare {
                    prop_assert_eq!(is.span.start().get() % unit, 0);
                    let front = is.span.start().get() - 1;
                    prop_assert_eq!(byte(&plan.view, front), 0x70 + index as u8);
                }
                if pieces[index].2 {
                    let label = |part: &Part| part.volume.as_ref().unwrap().label.clone();
                    prop_assert_eq!(label(was), label(is));
                    let volume = is.volume.as_ref().unwrap().size;
                    prop_assert!(volume <= is.span.len());
                } else {
                    prop_assert_eq!(was.span.len(), is.span.len());
                    prop_assert_eq!(byte(&plan.view, is.span.start().get()), 0xa0 + index as u8);
                    prop_assert_eq!(byte(&plan.view, is.span.end().get() - 1), 0xb0 + index as u8);
                }
            }
            if !is_bare {
                prop_assert_eq!(read_vec(&plan.view, ByteOffset::new(20_000), 4).unwrap(), b"boot");
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
}
