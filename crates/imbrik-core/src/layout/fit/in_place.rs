//! A card put onto another one with every partition in its place.

use super::arrange::{as_it_was, parts_of_tail};
use crate::{
    layout::{Change, Content, Occupancy, Plan, Segment, Survey, TargetSize},
    table::Table,
};
use imbrik_store::{
    ReadAt,
    error::{Error, Result},
    units::{ByteLen, ByteOffset, Span},
};
use std::sync::Arc;

impl Plan {
    /// `image`, with its `survey`, on `target`: every partition keeps its offset and its size. With an `occupancy`,
    /// unused space is not written.
    ///
    /// # Errors
    /// - [`crate::Class::Refused`] when a partition reaches past the image's own end: the image is
    ///   cut short.
    /// - [`crate::Class::NoRoom`] when the card is too small, with the missing bytes.
    /// - [`crate::Class::Unsupported`] when the table counts in other sectors than the card.
    pub fn restore(
        image: Arc<dyn ReadAt>,
        survey: &Survey,
        occupancy: Option<&Occupancy>,
        target: TargetSize,
    ) -> Result<Self> {
        let held = image.size();
        let shortfall = survey.missing();
        if !shortfall.is_zero() {
            let whose = if survey.table.is_some() { "table" } else { "volume" };
            return Err(Error::refused(format!(
                "the image is truncated: its {whose} needs {}, it holds {held}, {shortfall} are \
                 missing",
                held.saturating_add(shortfall)
            )));
        }
        if let Some(table) = &survey.table
            && table.sector_size() != target.sector
        {
            return Err(Error::unsupported(format!(
                "the image's table uses sectors of {}, the card sectors of {}",
                table.sector_size(),
                target.sector
            )));
        }
        let needed = if survey.table.is_some() { survey.needed() } else { held };
        let missing = needed.saturating_sub(target.size);
        if !missing.is_zero() {
            return Err(Error::no_room(format!(
                "the card is {missing} too small: it holds {}, the image needs {needed}",
                target.size
            ))
            .with_shortfall(missing));
        }
        let changes = tail_changes(survey, held, target.size);
        let whole = [Segment {
            span: Span::whole(held),
            content: Content::Copied { from: ByteOffset::ZERO },
        }];
        let found = occupancy.map_or(&whole[..], |occupancy| &occupancy.segments);
        as_it_was(&image, survey, found, target.size, changes)
    }
}

/// The changes to report for the end of a card of `size` that gets an image of `held`.
fn tail_changes(survey: &Survey, held: ByteLen, size: ByteLen) -> Vec<Change> {
    let gpt_copy = match &survey.table {
        Some(Table::Gpt(gpt)) => gpt.backup_span().map_or(ByteLen::ZERO, Span::len),
        _ => ByteLen::ZERO,
    };
    let cut = held.saturating_sub(size);
    let behind = Span::between(ByteOffset::new(held.min(size).get()), ByteOffset::new(size.get()));
    let (unused, cleared) = parts_of_tail(behind);
    let told = [
        Some(Change::TailCut(cut)).filter(|_| cut > gpt_copy),
        Some(Change::TailUnused(unused.len())).filter(|_| !unused.is_empty()),
        Some(Change::TailCleared(cleared.len())).filter(|_| !cleared.is_empty()),
    ];
    told.into_iter().flatten().collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_store::{SparseStore, WriteAt, error::Class, read_vec, units::SectorSize};
    use proptest::prelude::*;

    /// An image of `sectors` with one partition from sector 64 of `len` sectors, full of sevens.
    fn image(sectors: u64, len: u32) -> Arc<SparseStore> {
        let store = SparseStore::new(ByteLen::new(sectors * 512));
        let mut record = vec![0; 512];
        record[450] = 0x83;
        record[454..458].copy_from_slice(&64u32.to_le_bytes());
        record[458..462].copy_from_slice(&len.to_le_bytes());
        record[510..].copy_from_slice(&[0x55, 0xaa]);
        store.write_at(ByteOffset::ZERO, &record).unwrap();
        let inside = sectors.saturating_sub(64).min(len.into()) * 512;
        store.write_at(ByteOffset::new(64 * 512), &vec![7; inside as usize]).unwrap();
        Arc::new(store)
    }

    fn plan(image: &Arc<SparseStore>, sectors: u64) -> Result<Plan> {
        let survey = Survey::of(&**image).unwrap();
        let target = TargetSize { size: ByteLen::new(sectors * 512), sector: SectorSize::B512 };
        Plan::restore(Arc::<SparseStore>::clone(image), &survey, None, target)
    }

    proptest! {
        #[test]
        fn plan_keeps_every_partition_and_refuses_exactly_below_the_minimum(
            sectors in 200u64..9000,
            len in 1u32..9000,
            card in 1u64..20_000,
        ) {
            let image = image(sectors, len);
            let needed = 64 + u64::from(len);
            match plan(&image, card) {
                Err(error) if error.class() == Class::Refused => {
                    prop_assert!(needed > sectors);
                    let missing = ByteLen::new((needed - sectors) * 512);
                    let words = format!("{missing} are missing");
                    prop_assert!(error.to_string().contains(&words));
                }
                Err(error) => {
                    prop_assert_eq!(error.class(), Class::NoRoom);
                    prop_assert!(card < needed);
                    let missing = ByteLen::new((needed - card) * 512);
                    let words = format!("{missing} too small");
                    prop_assert!(error.to_string().contains(&words));
                    prop_assert!(plan(&image, needed).is_ok());
                }
                Ok(plan) => {
                    prop_assert!(needed <= card && needed <= sectors);
                    let size = ByteLen::new(card * 512);
                    prop_assert_eq!(plan.view.size(), size);
                    let covered: ByteLen = plan.view.segments().iter().map(|s| s.span.len()).sum();
                    prop_assert_eq!(covered, size);
                    let len = needed as usize * 512;
                    let read = |store: &dyn ReadAt| read_vec(store, ByteOffset::ZERO, len).unwrap();
                    prop_assert!(read(&plan.view) == read(&*image));
                    let cut = plan.changes.iter().any(|c| matches!(c, Change::TailCut(_)));
                    prop_assert_eq!(cut, card < sectors);
                    // Whatever was at the end of a bigger card is overwritten.
                    let last = Span::between(ByteOffset::new(size.get() - 1), ByteOffset::new(size.get()));
                    prop_assert_eq!(plan.view.written_in(last).count(), 1);
                }
            }
        }
    }

    #[test]
    fn other_sectors_are_refused_before_anything_is_placed() {
        let image = image(1000, 100);
        let survey = Survey::of(&*image).unwrap();
        let target = TargetSize { size: ByteLen::mib(1), sector: SectorSize::B4096 };
        let error = Plan::restore(image, &survey, None, target).err().unwrap();
        assert_eq!(error.class(), Class::Unsupported);
    }
}
