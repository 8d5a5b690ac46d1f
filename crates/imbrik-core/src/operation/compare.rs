//! Whether a card holds what an image would have made of it, and whether two images hold the same.

use crate::{
    image::Image,
    layout::{Fit, Occupancy, Part, Plan, Survey, TargetSize, View},
    transfer::{Differences, compare},
};
use imbrik_fs::ReshapeOptions;
use imbrik_store::{
    ReadAt,
    error::Result,
    progress::Watch,
    units::{ByteLen, Span},
};
use std::sync::Arc;

/// Where two contents differ.
pub struct Comparison {
    /// The spans, by their place in the first one.
    pub differing: Differences,
    /// How many bytes differ in each volume and gap of it.
    pub places: Vec<(String, ByteLen)>,
}

impl Comparison {
    fn of(differing: Differences, survey: &Survey) -> Self {
        let places = survey.places_of(&differing.spans);
        Self { differing, places }
    }

    /// Compares the content of two images, byte by byte.
    ///
    /// # Errors
    /// When either cannot be read, or stopping was requested.
    pub fn of_images(image: &Image, other: &Image, watch: Watch<'_>) -> Result<Self> {
        let survey = Survey::of(&**image.content())?;
        let (size, other_size) = (image.content().size(), other.content().size());
        let common = View::on_card_of(size.min(other_size), Arc::clone(image.content()));
        let mut differing = compare(&common, Arc::clone(other.content()), watch)?;
        let longer = Span::whole(size.max(other_size));
        let rest = Span::between(Span::whole(size.min(other_size)).end(), longer.end());
        if !rest.is_empty() {
            differing.spans.push(rest);
        }
        Ok(Self::of(differing, &survey))
    }

    /// Compares the card in `source`, whose sizes are `target`, with what `image` would have made of
    /// it. One on which a volume got another size when it was restored is compared with that.
    ///
    /// # Errors
    /// When either cannot be read, stopping was requested, or the card cannot be what the image
    /// makes: those of [`Plan::restore`].
    pub fn of_card(
        image: &Image,
        source: Arc<dyn ReadAt>,
        target: TargetSize,
        options: ReshapeOptions<'_>,
        watch: Watch<'_>,
    ) -> Result<Self> {
        let content = image.content();
        let survey = Survey::of(&**content)?;
        let is_exact = image.manifest().is_some_and(|manifest| manifest.exact);
        let occupancy = if is_exact { None } else { Some(Occupancy::of(content, &survey)?) };
        let on_card = Survey::of(&*source)?;
        let plain = || Plan::restore(Arc::clone(content), &survey, occupancy.as_ref(), target);
        let plan = match (&occupancy, resized(&survey, &on_card, target.size)) {
            (Some(occupancy), Some(fit)) => {
                Plan::fit(Arc::clone(content), &survey, occupancy, &fit, options)
                    .or_else(|_| plain())
            }
            _ => plain(),
        }?;
        // The card as it would be saved: what is void there, such as an old journal, is no difference.
        let source: Arc<dyn ReadAt> = match is_exact {
            true => source,
            false => {
                let occupancy = Occupancy::of(&source, &on_card)?;
                Arc::new(Plan::save(source, &occupancy)?.view)
            }
        };
        Ok(Self::of(compare(&plan.view, source, watch)?, &survey))
    }
}

/// How the partitions of a card stand when volumes got another size when it was restored; `None` when
/// none did.
fn resized(image: &Survey, card: &Survey, size: ByteLen) -> Option<Fit> {
    let len = |part: &Part| part.volume.as_ref().map(|volume| volume.size);
    let same = |(image, on_card): &(&Part, &Part)| {
        image.number == on_card.number
            && image.volume.is_some() == on_card.volume.is_some()
            && image.span.is_empty() == on_card.span.is_empty()
    };
    let pairs = || image.parts.iter().zip(&card.parts);
    let is_alike = image.parts.len() == card.parts.len() && pairs().all(|pair| same(&pair));
    let differs = |(image, on_card): (&Part, &Part)| {
        image.span != on_card.span || (image.can_be_reshaped() && len(image) != len(on_card))
    };
    if !is_alike || !pairs().any(differs) {
        return None;
    }
    let places = pairs().map(|(image, on_card)| {
        let other = len(on_card).filter(|now| image.can_be_reshaped() && len(image) != Some(*now));
        (on_card.span, other)
    });
    Some(Fit::Like { size, places: places.collect() })
}
