//! Removal of images from a shelf.

use super::{Fate, Listing, Lock, Shelf, Shelved, Unfinished};
use imbrik_store::{error::Result, units::ByteLen};
use jiff::{Timestamp, tz::TimeZone};
use std::path::PathBuf;

/// Images and incomplete images that may be removed. Never contains the newest image of a card that is not damaged,
/// the one that was checked last, or a pinned one.
#[derive(Clone, Debug, Default)]
pub struct Removal {
    /// Images that no rule keeps.
    pub images: Vec<Shelved>,
    /// Incomplete images that are unlikely to be resumed.
    pub unfinished: Vec<Unfinished>,
    /// The number of images to keep.
    pub kept: usize,
}

impl Shelf {
    /// Lists the files that may be removed `now`, with days in time zone `zone`. Incomplete images that are not in `known`, the
    /// paths of those that were there before, are removed however new they are.
    #[must_use]
    pub fn removal(
        &self,
        listing: &Listing,
        now: Timestamp,
        zone: &TimeZone,
        known: Option<&[PathBuf]>,
    ) -> Removal {
        let fates = self.fates(listing, now, zone);
        let going = listing.images.iter().zip(fates).filter(|(_, fate)| *fate == Fate::Goes);
        let images: Vec<Shelved> = going.map(|(image, _)| image.clone()).collect();
        let is_given_up = |left: &&Unfinished| {
            left.is_given_up(now) || known.is_some_and(|known| !known.contains(&left.path))
        };
        Removal {
            kept: listing.images.len().saturating_sub(images.len()),
            unfinished: listing.unfinished.iter().filter(is_given_up).cloned().collect(),
            images,
        }
    }
}

impl Removal {
    /// Returns whether there is nothing to remove.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.images.is_empty() && self.unfinished.is_empty()
    }

    /// The minimum space that becomes free: space that these images share with each other is additional.
    #[must_use]
    pub fn least_freed(&self) -> ByteLen {
        let images = self.images.iter().map(|image| image.own);
        images.chain(self.unfinished.iter().map(|left| left.len)).sum()
    }

    /// Removes all of it. Calls `done` after each file.
    ///
    /// # Errors
    /// When a file cannot be removed; the earlier ones have been removed then.
    pub fn apply(&self, shelf: &Shelf, lock: &Lock, mut done: impl FnMut()) -> Result<()> {
        for image in &self.images {
            shelf.remove(image, lock)?;
            done();
        }
        for left in &self.unfinished {
            shelf.remove_unfinished(left, lock)?;
            done();
        }
        Ok(())
    }
}
