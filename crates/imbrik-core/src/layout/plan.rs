//! The plan: the target card, decided before one byte is written.

use super::{Content, Occupancy, Segment, Survey, View};
use crate::table::Table;
use imbrik_store::{
    ReadAt,
    error::{Error, Result},
    units::{ByteLen, ByteOffset, SectorSize, Span},
};
use std::sync::Arc;

/// How much of a card's end is cleared when nothing of the image reaches it: old backup tables and
/// other headers that are looked for from the end live there.
const TAIL: ByteLen = ByteLen::mib(1);

/// What is known of the card that a plan is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct TargetSize {
    /// How long it is.
    pub size: ByteLen,
    /// The unit in which it reads and writes.
    pub sector: SectorSize,
}

/// Something that will differ between the image and the card, for whoever shows the plan.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// The GPT's backup goes to the card's end, and both copies are made anew.
    GptMoved,
    /// So many bytes behind the image's end keep what they hold; nothing refers to them.
    TailUnused(ByteLen),
    /// So many bytes at the card's end are cleared.
    TailCleared(ByteLen),
    /// So many bytes behind the last partition don't fit and are left out.
    TailCut(ByteLen),
    /// A partition and its volume get another size.
    Resized {
        /// Which: "partition 2 (ext4, hive-07)".
        title: String,
        /// Bytes before.
        from: ByteLen,
        /// Bytes afterwards.
        to: ByteLen,
        /// How many bytes of it get a new place.
        moved: ByteLen,
        /// How many of its inodes get another number.
        inodes: u64,
        /// Why, in a few words.
        why: &'static str,
    },
    /// So many bytes of metadata stand in a temporary file until the work is done.
    PutAside(ByteLen),
    /// What the owner of a volume should know, in words.
    Warning(String),
    /// A volume that gets another size has faults in folders, attributes or links, which are kept.
    FaultsKept {
        /// Which: "partition 2 (ext4, hive-07)".
        title: String,
        /// A sentence each.
        faults: Vec<String>,
    },
    /// Something gets an id of its own.
    NewId {
        /// What: "partition 2 (ext4, hive-07)", "the MBR".
        title: String,
        /// The id it had, and the one it gets, as systems write them.
        from: String,
        /// The one it gets.
        to: String,
    },
    /// A file is replaced or added.
    Put {
        /// The partition.
        title: String,
        /// The file, from the root.
        path: String,
        /// What for, in a few words.
        why: String,
    },
    /// A partition moves as it is.
    Shifted {
        /// Which.
        title: String,
        /// Where it starts afterwards.
        to: ByteOffset,
    },
}

/// What shall be on the target.
#[derive(Clone)]
pub struct Plan {
    /// The finished card, readable.
    pub view: View,
    /// What differs from the image.
    pub changes: Vec<Change>,
}

impl Plan {
    /// An image of every sector of `source`, as it is.
    #[must_use]
    pub fn save_exact(source: Arc<dyn ReadAt>) -> Self {
        Self { view: View::whole(source), changes: Vec::new() }
    }

    /// An image of what is in use on `source`: the unused is not read, and zeros in the image.
    ///
    /// # Errors
    /// [`crate::Class::Corrupt`] when `occupancy` is that of another card.
    pub fn save(source: Arc<dyn ReadAt>, occupancy: &Occupancy) -> Result<Self> {
        let view = View::of_segments(source.size(), source, &occupancy.segments)?;
        Ok(Self { view, changes: Vec::new() })
    }

    /// `image`, of which `survey` tells what it holds, on `target`: every partition keeps its
    /// place and its size. With an `occupancy`, the unused is not written.
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
        let lacking = survey.missing();
        if !lacking.is_zero() {
            let whose = if survey.table.is_some() { "table" } else { "volume" };
            return Err(Error::refused(format!(
                "the image is cut short: its {whose} needs {}, it holds {held}, {lacking} are \
                 missing",
                held.saturating_add(lacking)
            )));
        }
        if let Some(table) = &survey.table
            && table.sector_size() != target.sector
        {
            return Err(Error::unsupported(format!(
                "the image's table counts in sectors of {}, the card in sectors of {}",
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
            )));
        }
        let mut changes = Vec::new();
        let mut view = View::on_card_of(target.size, Arc::clone(&image));
        if let Some(occupancy) = occupancy {
            let mut segments = occupancy.segments.clone();
            let behind =
                Span::between(ByteOffset::new(held.get()), ByteOffset::new(target.size.get()));
            segments.push(Segment { span: behind, content: Content::Unused });
            view = View::of_segments(target.size, Arc::clone(&image), &segments)?;
        }
        let cut = held.saturating_sub(target.size);
        let gpt_copy = match &survey.table {
            Some(Table::Gpt(gpt)) => gpt.backup_span().map_or(ByteLen::ZERO, Span::len),
            _ => ByteLen::ZERO,
        };
        if cut > gpt_copy {
            changes.push(Change::TailCut(cut));
        }
        if let Some(table @ Table::Mbr(_)) = &survey.table
            && !cut.is_zero()
        {
            // A container of logical partitions may reach further than they do.
            let relaid = table.with_spans(&[], target.size)?;
            for (at, bytes) in relaid.edits {
                view = view.with_bytes(at, &bytes);
            }
            changes.extend(relaid.notes.into_iter().map(Change::Warning));
        }
        let end = ByteOffset::new(target.size.get());
        let tail = Span::between(ByteOffset::new(held.get()), end);
        if !tail.is_empty() {
            let cleared = tail.len().min(TAIL);
            let from = ByteOffset::new(target.size.saturating_sub(cleared).get());
            view = view.with(Span::between(from, end), Content::Cleared);
            let unused = tail.len().saturating_sub(cleared);
            if !unused.is_zero() {
                changes.push(Change::TailUnused(unused));
            }
            changes.push(Change::TailCleared(cleared));
        }
        if let Some(Table::Gpt(gpt)) = &survey.table
            && gpt.card_end() != end
        {
            let in_the_way =
                |old: &Span| survey.parts.iter().any(|part| part.span.intersect(*old).is_some());
            if let Some(old) = gpt.backup_span().filter(|old| !in_the_way(old)) {
                view = view.with(old, Content::Cleared);
            }
            for (at, bytes) in gpt.on_card_of(target.size)? {
                view = view.with_bytes(at, &bytes);
            }
            changes.push(Change::GptMoved);
        }
        Ok(Self { view, changes })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_store::{SparseStore, WriteAt, error::Class, read_vec};
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
        fn a_plan_keeps_every_partition_and_every_refusal_is_right_to_the_byte(
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
