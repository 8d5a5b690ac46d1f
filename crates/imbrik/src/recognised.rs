//! The images of a card on the configured shelf, found by its name and all its ids.

use crate::{
    render::{count, json, quoted, time},
    session::Session,
};
use imbrik_core::{
    layout::Survey,
    shelf::{Listing, Shelf},
};
use jiff::Timestamp;
use std::path::PathBuf;

/// The shelf of the configuration.
pub(crate) struct Shelved(Option<Listing>);

impl Shelved {
    /// Lists the images on the shelf; empty without a shelf.
    pub(crate) fn of(session: &Session) -> Self {
        let folder = session.config.images.as_deref();
        Self(folder.and_then(|folder| Shelf::open(folder).ok()?.list(Timestamp::now()).ok()))
    }

    /// The images of the card with this `survey`.
    pub(crate) fn recognise(&self, survey: &Survey) -> Option<Recognised> {
        let images = self.0.as_ref()?.of_card(survey);
        let newest = images.iter().find(|image| image.remarks.is_sound())?;
        let (path, made_at) = (newest.path.clone(), newest.made_at);
        Some(Recognised { newest: path, made_at, images: images.len() as u64 })
    }
}

/// A card that a shelf has images of.
pub(crate) struct Recognised {
    /// The newest intact image.
    pub(crate) newest: PathBuf,
    pub(crate) made_at: Timestamp,
    /// How many there are.
    pub(crate) images: u64,
}

impl Recognised {
    /// "saved 2026-11-23 07:20 (3 days ago) as hive-07.img.zst", and the number of others after `more`.
    pub(crate) fn words(&self, more: &str) -> String {
        let name = self.newest.file_name().unwrap_or_default();
        format!(
            "saved {} ({}) as {}{more}; {} of it there",
            time::date_and_time(self.made_at),
            time::ago(self.made_at, Timestamp::now()),
            quoted(name.as_ref()),
            count(self.images, "image")
        )
    }

    pub(crate) fn json(&self) -> json::CardOnShelf {
        json::CardOnShelf {
            newest: json::path(&self.newest),
            made_at: self.made_at.to_string(),
            images: self.images,
        }
    }
}
