//! The plan for an image: of a card, or of another image at another size.

use crate::{
    image::{Image, ListedFit, Manifest},
    layout::{Fit, Identity, Occupancy, Plan, Survey},
};
use imbrik_fs::ResizeOptions;
use imbrik_store::{
    ReadAt,
    error::Result,
    units::{ByteLen, Span},
};
use jiff::Timestamp;
use std::sync::Arc;

/// The content of an image.
#[derive(Clone, Debug)]
pub enum ImageContent {
    /// Used space; the rest is zeros.
    InUse,
    /// Every sector, unchanged.
    Exact,
    /// Used space, with resized volumes.
    Fitted(Fit),
}

/// The planned content of an image, verified and not written yet.
pub struct ImagePlan {
    /// The card of the image, and its differences from the source.
    pub plan: Plan,
    /// The survey of the source.
    pub before: Survey,
    /// The survey of the card of the image.
    pub after: Survey,
    /// The used space of the source; `None` if every byte is copied.
    pub occupancy: Option<Occupancy>,
    content: ImageContent,
}

impl ImagePlan {
    /// Plans an image of `source` with the survey `survey`.
    ///
    /// # Errors
    /// When metadata of the source can't be read; those of [`Plan::fit`] for another size.
    pub fn new(
        source: &Arc<dyn ReadAt>,
        survey: &Survey,
        content: ImageContent,
        options: ResizeOptions<'_>,
    ) -> Result<Self> {
        let of = |source: &Arc<dyn ReadAt>| Occupancy::of(source, survey);
        let (plan, occupancy) = match &content {
            ImageContent::Exact => (Plan::save_exact(Arc::clone(source)), None),
            ImageContent::InUse => {
                let occupancy = of(source)?;
                (Plan::save(Arc::clone(source), &occupancy)?, Some(occupancy))
            }
            ImageContent::Fitted(fit) => {
                let occupancy = of(source)?;
                let plan = Plan::fit(Arc::clone(source), survey, &occupancy, fit, options)?;
                (plan, Some(occupancy))
            }
        };
        let after = match &content {
            ImageContent::Fitted(_) => Survey::of(&plan.view)?,
            ImageContent::Exact | ImageContent::InUse => survey.clone(),
        };
        Ok(Self { plan, before: survey.clone(), after, occupancy, content })
    }

    /// The same with another identity.
    ///
    /// # Errors
    /// As for [`Plan::with_identity`].
    pub fn with_identity(
        mut self,
        identity: &Identity,
        options: ResizeOptions<'_>,
    ) -> Result<Self> {
        self.plan = self.plan.with_identity(identity, options)?;
        self.after = Survey::of(&self.plan.view)?;
        Ok(self)
    }

    /// The free space of the volume with this index in [`Survey::parts`]; `None` if it is unknown.
    ///
    /// # Errors
    /// When its metadata can't be read.
    pub fn free_in(&self, index: usize) -> Result<Option<ByteLen>> {
        let store: Arc<dyn ReadAt> = Arc::new(self.plan.view.clone());
        let Some(part) = self.after.parts.get(index) else { return Ok(None) };
        let Some(open) = part.open(&store)? else { return Ok(None) };
        let usage = open.examine()?.usage;
        let volume = Span::whole(open.volume().size);
        Ok(usage.whole_because.is_none().then(|| usage.free_in(volume)))
    }

    /// Returns whether the card of the image has another size than the source.
    #[must_use]
    pub fn is_fitted(&self) -> bool {
        matches!(self.content, ImageContent::Fitted(_))
    }

    /// The manifest of the image, created by the program version `made_by` at the time `now`.
    #[must_use]
    pub fn manifest(&self, made_by: &str, now: Timestamp) -> Manifest {
        let mut manifest = Manifest::new(&self.after, made_by, now);
        manifest.exact = matches!(self.content, ImageContent::Exact);
        manifest.holes_are_zeros = matches!(self.content, ImageContent::InUse);
        manifest.fitted = self.is_fitted().then(|| fitted(&self.before, &self.after));
        manifest
    }

    /// The manifest of an image based on `image`, with the data about its card.
    #[must_use]
    pub fn manifest_after(&self, image: &Image, made_by: &str, now: Timestamp) -> Manifest {
        let mut manifest = self.manifest(made_by, now);
        if let Some(known) = image.manifest() {
            manifest.made_at = known.made_at;
            manifest.card_model.clone_from(&known.card_model);
            manifest.note.clone_from(&known.note);
            manifest.only.clone_from(&known.only);
            manifest.left_out.clone_from(&known.left_out);
            // The sizes differ, the names are the same.
            manifest.lost.clone_from(&known.lost);
            manifest.host = manifest.host.or_else(|| known.host.clone());
        }
        manifest
    }
}

/// Records that a card was fitted, and how: by the last volume that was resized.
fn fitted(before: &Survey, after: &Survey) -> ListedFit {
    let pairs = before.parts.iter().zip(&after.parts);
    let changed = pairs.filter(|(was, is)| was.span.len() != is.span.len());
    let part = changed.map(|(was, _)| was).max_by_key(|part| part.span.end());
    ListedFit {
        card_size: before.size.get(),
        partition: part.and_then(|part| part.number),
        partition_size: part.map_or(0, |part| part.span.len().get()),
    }
}
