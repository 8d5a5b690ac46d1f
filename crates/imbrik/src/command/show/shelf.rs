//! Whose card is this? What the shelf of the configuration has of it.

use crate::{
    render::{count, json, quoted, size, time},
    session::Session,
};
use imbrik_core::{
    image::Image,
    layout::{Occupancy, Survey},
    shelf::Shelf,
    store::ReadAt,
    transfer::Reuse,
    units::{ByteLen, Span},
};
use jiff::Timestamp;
use std::{path::PathBuf, sync::Arc};

/// What of a card stands on the shelf.
pub(super) struct OnShelf {
    newest: PathBuf,
    made_at: Timestamp,
    images: u64,
    /// At most so much of what is in use is otherwise now; `None` when that cannot be told without reading all.
    changed: Option<ByteLen>,
}

impl OnShelf {
    /// Looks for the card; `None` when there is no shelf, or it has none of this very card.
    pub(super) fn of(
        session: &Session,
        card: &Arc<dyn ReadAt>,
        survey: &Survey,
        occupancy: &Occupancy,
    ) -> Option<Self> {
        let shelf = Shelf::open(session.config.images.as_deref()?).ok()?;
        let listing = shelf.list().ok()?;
        let images = listing.of_card(survey);
        let newest = images.iter().find(|image| image.remarks.is_sound())?;
        let changed = Image::open(&newest.path, None).and_then(|image| {
            let cancel = &session.environment.interrupt.cancel;
            Reuse::of(Arc::new(image), card, survey, occupancy, cancel)
        });
        let changed = changed.ok().filter(|reuse| reuse.read_afresh.is_empty()).map(|reuse| {
            let known: ByteLen = reuse.known.iter().map(|span| span.len()).sum();
            let same = known.saturating_add(reuse.compared);
            occupancy.used_in(Span::whole(survey.size)).saturating_sub(same)
        });
        let (path, made_at) = (newest.path.clone(), newest.made_at);
        Some(Self { newest: path, made_at, images: images.len() as u64, changed })
    }

    pub(super) fn line(&self) -> String {
        let name = self.newest.file_name().unwrap_or_default();
        let changed = self.changed.map_or(String::new(), |changed| {
            format!("; by its files' times, at most {} of it changed since", size::short(changed))
        });
        format!(
            "on the shelf: saved {} as {}{changed}; {} of it there",
            time::moment(self.made_at),
            quoted(name.as_ref()),
            count(self.images, "image")
        )
    }

    pub(super) fn json(&self) -> json::ShownOnShelf {
        json::ShownOnShelf {
            newest: json::path(&self.newest),
            made_at: self.made_at.to_string(),
            images: self.images,
            changed_at_most: self.changed.map(ByteLen::get),
        }
    }
}
