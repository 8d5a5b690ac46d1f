//! An image in another container.

use crate::{
    image::{Image, Manifest, Output},
    layout::{Survey, View},
    transfer::{SaveOptions, Saved, repack},
};
use imbrik_store::{error::Result, progress::Watch};
use jiff::Timestamp;
use std::sync::Arc;

/// An image that is to be packed anew.
pub struct RepackPlan<'a> {
    image: &'a Image,
    /// What the new image will know of itself.
    pub manifest: Manifest,
    /// What it will hold: the card as the image has it.
    pub view: View,
}

impl<'a> RepackPlan<'a> {
    /// The plan for `image`. What it knows of itself stays; of one that knows nothing, what can be told
    /// now is told, with `made_by` and `now`.
    ///
    /// # Errors
    /// When its content cannot be read where a card's metadata stand.
    pub fn new(image: &'a Image, made_by: &str, now: Timestamp) -> Result<Self> {
        let manifest = match image.manifest() {
            Some(manifest) => manifest.clone(),
            None => {
                let survey = Survey::of(&**image.content())?;
                // Whatever was left out by whoever made it, nothing more is.
                Manifest { exact: true, ..Manifest::new(&survey, made_by, now) }
            }
        };
        Ok(Self { image, manifest, view: View::whole(Arc::clone(image.content())) })
    }

    /// Packs it into `output`. Frames that can stand there as they are are taken over unless
    /// `pack_all`.
    ///
    /// # Errors
    /// When the image cannot be read or is damaged, the output cannot be written, or stopping was
    /// requested; under the new name stands nothing then.
    pub fn run(
        self,
        output: Output<'_>,
        options: &SaveOptions,
        pack_all: bool,
        watch: Watch<'_>,
    ) -> Result<Saved> {
        repack(self.image, self.manifest, output, options, !pack_all, watch)
    }
}
