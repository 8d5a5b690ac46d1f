//! An image whose files are changed.

use super::repack::RepackPlan;
use crate::{
    image::{Image, Manifest, Output},
    layout::{Change, Content, Identity, PartEdit, Plan, View},
    transfer::{SaveOptions, Saved, edited},
};
use imbrik_fs::ReshapeOptions;
use imbrik_store::{
    error::Result,
    progress::Watch,
    units::{Span, joined},
};
use jiff::Timestamp;
use std::{path::Path, sync::Arc};

/// An image that is to be edited: proved, and not written yet.
pub struct EditPlan<'a> {
    image: &'a Image,
    /// What the new image will know of itself.
    pub manifest: Manifest,
    /// What it will hold.
    pub view: View,
    /// What changes, in the order in which it is done.
    pub changes: Vec<Change>,
    changed: Vec<Span>,
}

impl<'a> EditPlan<'a> {
    /// The plan to do `edits` to the files in `image`. Every volume that is changed is looked at, every file of it,
    /// before and afterwards.
    ///
    /// # Errors
    /// Those of [`Plan::with_identity`], and as [`RepackPlan::new`], which `made_by` and `now` are for.
    pub fn new(
        image: &'a Image,
        edits: Vec<PartEdit>,
        means: ReshapeOptions<'_>,
        made_by: &str,
        now: Timestamp,
    ) -> Result<Self> {
        let manifest = RepackPlan::new(image, made_by, now)?.manifest;
        let identity =
            Identity { edits, now: now.as_second().unsigned_abs(), ..Identity::default() };
        let plan = Plan::save_exact(Arc::clone(image.content())).with_identity(&identity, means)?;
        let Plan { view, changes } = plan;
        let changed = view.segments().iter().filter(|segment| match segment.content {
            Content::Copied { from } => from != segment.span.start(),
            _ => true,
        });
        let changed = joined(changed.map(|segment| segment.span).collect());
        Ok(Self { image, manifest, view, changes, changed })
    }

    /// Writes the image again, in its place: what is under `name` stays there until the new one is whole,
    /// and proved unless `options` waive that.
    ///
    /// # Errors
    /// When the image cannot be read or is damaged, the new one cannot be written, or stopping was
    /// requested: what is under `name` is as it was then.
    pub fn run(self, name: &Path, options: &SaveOptions, watch: Watch<'_>) -> Result<Saved> {
        let Self { image, manifest, view, changed, .. } = self;
        edited(image, &view, &changed, manifest, Output::File(name), options, watch)
    }
}
