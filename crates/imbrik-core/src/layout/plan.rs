//! The plan: the target card, decided before one byte is written.

use super::{Content, Survey, View};
use crate::{
    error::{Error, Result},
    store::ReadAt,
    table::Table,
    units::{ByteLen, ByteOffset, SectorSize, Span},
};
use std::sync::Arc;

/// How much of a card's end is cleared when nothing of the image reaches it: old backup tables and
/// other headers that are looked for from the end live there.
const TAIL: ByteLen = ByteLen::mib(1);

/// What is known of the card that a plan is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Target {
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
    /// An image of the whole of `source`, as it is.
    #[must_use]
    pub fn save(source: Arc<dyn ReadAt>) -> Self {
        Self { view: View::whole(source), changes: Vec::new() }
    }

    /// `image`, of which `survey` tells what it holds, on `target`: every partition keeps its
    /// place and its size.
    ///
    /// # Errors
    /// - [`crate::Class::Refused`] when a partition reaches past the image's own end: the image is
    ///   cut short.
    /// - [`crate::Class::NoRoom`] when the card is too small, with the missing bytes.
    /// - [`crate::Class::Unsupported`] when the table counts in other sectors than the card.
    pub fn restore(image: Arc<dyn ReadAt>, survey: &Survey, target: Target) -> Result<Self> {
        let held = image.size();
        let last = survey.parts.iter().map(|part| part.span.end()).max().unwrap_or_default();
        let lacking = last.saturating_since(ByteOffset::new(held.get()));
        if !lacking.is_zero() {
            return Err(Error::refused(format!(
                "the image is cut short: its table needs {}, it holds {held}, {lacking} are \
                 missing",
                ByteLen::new(last.get())
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
        let cut = held.saturating_sub(target.size);
        let gpt_copy = match &survey.table {
            Some(Table::Gpt(gpt)) => gpt.backup_span().map_or(ByteLen::ZERO, Span::len),
            _ => ByteLen::ZERO,
        };
        if cut > gpt_copy {
            changes.push(Change::TailCut(cut));
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
