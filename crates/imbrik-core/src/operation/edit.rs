//! Changing the files of an image.

use super::{
    image::{ImageContent, ImagePlan},
    repack::RepackPlan,
};
use crate::{
    image::{Image, Manifest, Output},
    layout::{Change, Content, Fit, Identity, PartEdit, Plan, Survey, View},
    transfer::{SaveOptions, Saved, edited, fit},
};
use imbrik_fs::ResizeOptions;
use imbrik_store::{
    error::{Class, Result},
    progress::Watch,
    units::{ByteLen, Span, joined},
};
use jiff::Timestamp;
use std::{path::Path, sync::Arc};

/// How much a volume grows in addition to the missing space, and in each step.
const ROOM: ByteLen = ByteLen::mib(16);
const MOST_TRIES: u32 = 4;

/// An edit of an image: verified, and not written yet.
pub struct EditPlan<'a> {
    image: &'a Image,
    /// The manifest of the new image.
    pub manifest: Manifest,
    /// Its content.
    pub view: View,
    /// The changes, in the order in which they are made.
    pub changes: Vec<Change>,
    changed: Changed,
}

/// The changed ranges of an image.
enum Changed {
    /// These ranges are read from the edited volume.
    Spans(Vec<Span>),
    /// The volume is resized.
    Size,
}

impl<'a> EditPlan<'a> {
    /// As [`EditPlan::new`], with the missing space added to the volume: the image is then of a larger card.
    ///
    /// # Errors
    /// As [`EditPlan::new`], and those of [`Plan::fit`].
    pub fn with_room(
        image: &'a Image,
        edits: Vec<PartEdit>,
        shortfall: ByteLen,
        means: ResizeOptions<'_>,
        made_by: &str,
        now: Timestamp,
    ) -> Result<Self> {
        let content = image.content();
        let survey = Survey::of(&**content)?;
        let give_to = edits.first().map(|edit| edit.part);
        let identity = Identity { edits, now: seconds(now), ..Identity::default() };
        let mut more = shortfall.saturating_add(ROOM);
        let mut tries = 0u32;
        let plan = loop {
            let size = content.size().saturating_add(more).get().next_multiple_of(ROOM.get());
            let fit = Fit::Card { size: ByteLen::new(size), take_from: Vec::new(), give_to };
            let plan = ImagePlan::new(content, &survey, ImageContent::Fitted(fit), means)?
                .with_identity(&identity, means);
            tries = tries.saturating_add(1);
            match plan {
                // Tables and maps need space, too: the amount is only known then.
                Err(error) if error.class() == Class::NoRoom && tries < MOST_TRIES => {
                    let shortfall = error.shortfall().unwrap_or(ROOM);
                    more = more.saturating_add(shortfall).saturating_add(ROOM);
                }
                plan => break plan?,
            }
        };
        let manifest = plan.manifest_after(image, made_by, now);
        let Plan { view, changes } = plan.plan;
        Ok(Self { image, manifest, view, changes, changed: Changed::Size })
    }

    /// Plans `edits` of the files in `image`. Every changed volume is verified in full before and afterwards.
    ///
    /// # Errors
    /// Those of [`Plan::with_identity`], and as [`RepackPlan::new`], which `made_by` and `now` are for.
    pub fn new(
        image: &'a Image,
        edits: Vec<PartEdit>,
        means: ResizeOptions<'_>,
        made_by: &str,
        now: Timestamp,
    ) -> Result<Self> {
        let manifest = RepackPlan::new(image, made_by, now)?.manifest;
        let identity = Identity { edits, now: seconds(now), ..Identity::default() };
        let plan = Plan::save_exact(Arc::clone(image.content())).with_identity(&identity, means)?;
        let Plan { view, changes } = plan;
        let changed = view.segments().iter().filter(|segment| match segment.content {
            Content::Copied { from } => from != segment.span.start(),
            _ => true,
        });
        let changed = Changed::Spans(joined(changed.map(|segment| segment.span).collect()));
        Ok(Self { image, manifest, view, changes, changed })
    }

    /// Replaces the image: the file `name` stays until the new one is complete and verified, unless `options` waive
    /// that.
    ///
    /// # Errors
    /// When the image cannot be read or is damaged, the new one cannot be written, or the operation was cancelled: the
    /// file `name` is unchanged then.
    pub fn run(self, name: &Path, options: &SaveOptions, watch: Watch<'_>) -> Result<Saved> {
        let Self { image, manifest, view, changed, .. } = self;
        let to = Output::File(name);
        match changed {
            Changed::Spans(spans) => edited(image, &view, &spans, manifest, to, options, watch),
            Changed::Size => fit(&view, manifest, to, options, watch),
        }
    }
}

/// The time of an edit, in seconds since 1970.
fn seconds(now: Timestamp) -> u64 {
    now.as_second().unsigned_abs()
}
