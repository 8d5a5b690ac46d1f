//! The images of a card on the configured shelf, and how much of it has changed since.

use crate::{
    recognised::{Recognised, Shelved},
    render::{json, size},
    session::Session,
};
use imbrik_core::{
    image::Image,
    layout::{Occupancy, Survey},
    store::ReadAt,
    transfer::Reuse,
    units::{ByteLen, Span},
};
use std::sync::Arc;

/// The images of a card on the shelf.
pub(super) struct OnShelf {
    known: Recognised,
    /// The maximum number of used bytes that have changed; `None` if that requires reading everything.
    changed: Option<ByteLen>,
}

impl OnShelf {
    /// Searches for the card; `None` without a shelf, or if it has no image of this card.
    pub(super) fn of(
        session: &Session,
        card: &Arc<dyn ReadAt>,
        survey: &Survey,
        occupancy: &Occupancy,
    ) -> Option<Self> {
        let known = Shelved::of(session).recognise(survey)?;
        let changed = Image::open(&known.newest, None).and_then(|image| {
            let cancel = &session.environment.interrupt.cancel;
            Reuse::of(Arc::new(image), card, survey, occupancy, cancel)
        });
        let changed = changed.ok().filter(|reuse| reuse.read_in_full.is_empty()).map(|reuse| {
            let known: ByteLen = reuse.known.iter().map(|span| span.len()).sum();
            let same = known.saturating_add(reuse.compared);
            occupancy.used_in(Span::whole(survey.size)).saturating_sub(same)
        });
        Some(Self { known, changed })
    }

    pub(super) fn line(&self) -> String {
        let changed = self.changed.map_or(String::new(), |changed| {
            format!("; by file times, at most {} of it changed since", size::short(changed))
        });
        format!("on the shelf: {}", self.known.words(&changed))
    }

    pub(super) fn json(&self) -> json::ShownOnShelf {
        json::ShownOnShelf {
            on_shelf: self.known.json(),
            changed_at_most: self.changed.map(ByteLen::get),
        }
    }
}
