//! An image in another container format.

use crate::{
    image::{Image, Manifest, Output},
    layout::{Survey, View},
    transfer::{SaveOptions, Saved, repack},
};
use imbrik_store::{error::Result, progress::Watch};
use jiff::Timestamp;
use std::sync::Arc;

/// An image to be repacked.
pub struct RepackPlan<'a> {
    image: &'a Image,
    /// The manifest of the new image.
    pub manifest: Manifest,
    /// Its content: the card, as in the old image.
    pub view: View,
}

impl<'a> RepackPlan<'a> {
    /// Plans to repack `image`. Its manifest is kept; without one, the survey provides a new one with `made_by` and
    /// `now`.
    ///
    /// # Errors
    /// When metadata of the card in it can't be read.
    pub fn new(image: &'a Image, made_by: &str, now: Timestamp) -> Result<Self> {
        let manifest = match image.manifest() {
            Some(manifest) => manifest.clone(),
            None => {
                let survey = Survey::of(&**image.content())?;
                // Nothing more is left out than in the original.
                Manifest { exact: true, ..Manifest::new(&survey, made_by, now) }
            }
        };
        Ok(Self { image, manifest, view: View::whole(Arc::clone(image.content())) })
    }

    /// Repacks it into `output`. Suitable frames are copied unchanged, unless `pack_all`.
    ///
    /// # Errors
    /// When the image can't be read or is damaged, the output can't be written, or stopping was requested; no file with
    /// the new name exists then.
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
