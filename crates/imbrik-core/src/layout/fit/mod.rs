//! A plan for another size: volumes are resized, and the partitions after them move.
//!
//! ```text
//! before  │ table │ boot │ root …………………………………… │ data │
//! after   │ table │ boot │ root …… │ data │
//!           kept    kept   resized  shifted, a multiple of what it is aligned to
//! ```
//!
//! [`Plan::fit`] chooses the length of each volume (`choose`), and arranges them (`arrange`); [`Plan::restore`] is the
//! same without any resize. Partitions keep their order, and their offset if possible. The gap before a partition, such
//! as the record of a logical partition, moves with it.

mod arrange;
mod choose;
mod in_place;

use super::{Occupancy, Part, Plan, Survey};
use crate::table::Table;
use arrange::arrange;
use choose::Chooser;
pub use choose::WORTH_GROWING;
use imbrik_fs::{Examined, ResizeOptions, ResizedVolume};
use imbrik_store::{
    ReadAt,
    error::{Error, Result},
    units::{ByteLen, ByteOffset, Span},
};
use std::sync::Arc;

/// To which size a card is fitted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Fit {
    /// One volume as small as it can be.
    Smallest {
        /// Its index in [`Survey::parts`].
        part: usize,
        /// Free space that it keeps, or gets. `None`: as much as a running system needs (128 MB, or 5 % of the used
        /// space if that is more), but not more than half of its present free space.
        room: Option<ByteLen>,
    },
    /// A card of a given size.
    Card {
        /// Bytes.
        size: ByteLen,
        /// The volumes that give room when there is too little, by their places in
        /// [`Survey::parts`] and in this order. None named: all that can, the last first.
        take_from: Vec<usize>,
        /// The volume that grows into the remaining space; `None` leaves it unused.
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
    resized: Option<(ResizedVolume, Examined)>,
    /// The reason for its new size, in a few words.
    why: &'static str,
}

impl Placed {
    fn moves(&self) -> bool {
        self.from.start() != self.to.start()
    }
}

impl Survey {
    /// The index in [`Survey::parts`] of the last partition with a resizable volume, except swap; `None` if there is
    /// none.
    #[must_use]
    pub fn last_resizable(&self) -> Option<usize> {
        let parts = self.parts.iter().enumerate();
        let can = parts.filter(|(_, part)| part.is_resizable() && !part.is_swap());
        can.max_by_key(|(_, part)| part.span.end()).map(|(index, _)| index)
    }

    /// How long a card must be when some partitions, by their places in [`Survey::parts`], have
    /// these lengths.
    #[must_use]
    pub fn needed_with(&self, lens: impl IntoIterator<Item = (usize, ByteLen)>) -> ByteLen {
        choose::needed(self, &choose::lay(self, &lens.into_iter().collect()))
    }

    /// The length of the backup table at the end of the card.
    fn backup_len(&self) -> ByteLen {
        self.table.as_ref().map_or(ByteLen::ZERO, Table::backup_len)
    }
}

impl Part {
    /// Returns whether its volume is of a kind that can be resized.
    #[must_use]
    pub fn is_resizable(&self) -> bool {
        self.volume.as_ref().is_some_and(|volume| volume.kind.is_resizable())
    }

    fn is_swap(&self) -> bool {
        self.volume.as_ref().is_some_and(|volume| volume.kind.is_scratch())
    }
}

impl Plan {
    /// `source`, with its `survey`, fitted to another size.
    ///
    /// # Errors
    /// - When the metadata of the source cannot be read, or the operation was cancelled.
    /// - [`crate::Class::NoRoom`] when the data don't fit, with the missing bytes and the volumes that need them.
    /// - [`crate::Class::Unsupported`] and [`crate::Class::Corrupt`] when a volume or the table cannot be resized, with
    ///   the reason.
    pub fn fit(
        source: Arc<dyn ReadAt>,
        survey: &Survey,
        occupancy: &Occupancy,
        fit: &Fit,
        options: ResizeOptions<'_>,
    ) -> Result<Self> {
        if let Some(why) = survey.whole_because {
            return Err(Error::unsupported(why));
        }
        if !survey.missing().is_zero() {
            return Err(Error::refused("the image is truncated"));
        }
        let chooser = Chooser { source: &source, survey, options };
        let (size, placed) = match fit {
            Fit::Smallest { part, room } => chooser.smallest(*part, *room, occupancy)?,
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
mod tests;
