//! Comparison of a card with an image, and of two images.

use crate::{
    image::Image,
    layout::{Fit, Occupancy, Part, Plan, Survey, TargetSize, View},
    transfer::{Differences, compare},
};
use imbrik_fs::ResizeOptions;
use imbrik_store::{
    ReadAt,
    error::Result,
    progress::Watch,
    read_vec,
    units::{ByteLen, Span},
};
use std::sync::Arc;

/// The differences of two contents.
pub struct Comparison {
    /// The ranges, by position in the first one.
    pub differing: Differences,
    /// Differing bytes in each volume and gap.
    pub places: Vec<(String, ByteLen)>,
    /// True if the card has exactly the bytes of the image, with a table for the size of the image: a plain copy.
    pub is_plain_copy: bool,
}

impl Comparison {
    fn of(differing: Differences, survey: &Survey) -> Self {
        let places = survey.places_of(&differing.spans);
        Self { differing, places, is_plain_copy: false }
    }

    /// The partition of the card in `source` for an image of one partition: the one with the same volume, or else with
    /// the same number; `None` if it does not exist, or the image is of a whole card.
    ///
    /// # Errors
    /// When one of them can't be read.
    pub fn partition_for(image: &Image, source: &dyn ReadAt) -> Result<Option<Part>> {
        let Some(only) = image.manifest().and_then(|manifest| manifest.only.as_ref()) else {
            return Ok(None);
        };
        let inside = Survey::of(&**image.content())?;
        let id = |part: &Part| part.volume.as_ref().and_then(|volume| volume.uuid.clone());
        let wanted = inside.parts.first().and_then(id);
        let card = Survey::of(source)?;
        let by_volume = card.parts.iter().find(|part| wanted.is_some() && id(part) == wanted);
        let by_number = || card.parts.iter().find(|part| part.number == only.number);
        Ok(by_volume.or_else(by_number).cloned())
    }

    /// Compares two images byte by byte.
    ///
    /// # Errors
    /// When either can't be read, or stopping was requested.
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

    /// Compares the card in `source`, with the size `target`, with a restore of `image`. A card with resized volumes is
    /// compared with a restore that resizes them.
    ///
    /// # Errors
    /// When either can't be read, stopping was requested, or a restore of the image to that card is not possible:
    /// errors of [`Plan::restore`].
    pub fn of_card(
        image: &Image,
        source: Arc<dyn ReadAt>,
        target: TargetSize,
        options: ResizeOptions<'_>,
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
        // The card as it would be saved: differences in cleared space, such as an old journal, don't count.
        let card = Arc::clone(&source);
        let source: Arc<dyn ReadAt> = match is_exact {
            true => source,
            false => {
                let occupancy = Occupancy::of(&source, &on_card)?;
                Arc::new(Plan::save(source, &occupancy)?.view)
            }
        };
        let differing = compare(&plan.view, source, watch)?;
        if is_plain_copy(&differing, &**content, &*card)? {
            return Ok(Self { is_plain_copy: true, ..Self::of(Differences::default(), &survey) });
        }
        Ok(Self::of(differing, &survey))
    }
}

/// The maximum length of differences that are compared with the image, in bytes: tables are short.
const MOST_TABLES: ByteLen = ByteLen::mib(4);

/// Returns whether `card` equals `image` wherever it differs from the plan of a restore, with at least one such byte: a
/// plan moves the backup GPT to the end of the card, a plain copy does not.
fn is_plain_copy(differing: &Differences, image: &dyn ReadAt, card: &dyn ReadAt) -> Result<bool> {
    let whole = Span::whole(image.size());
    let inside: Vec<Span> =
        differing.spans.iter().filter_map(|span| span.intersect(whole)).collect();
    let len: ByteLen = differing.spans.iter().map(|span| span.len()).sum();
    if inside.is_empty() || !differing.unreadable.is_empty() || len > MOST_TABLES {
        return Ok(false);
    }
    for span in inside {
        let len = span.len().to_usize().unwrap_or(0);
        if read_vec(image, span.start(), len)? != read_vec(card, span.start(), len)? {
            return Ok(false);
        }
    }
    Ok(true)
}

/// The partitions of a card with volumes that were resized by a restore; `None` if there are none.
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
        image.span != on_card.span || (image.is_resizable() && len(image) != len(on_card))
    };
    if !is_alike || !pairs().any(differs) {
        return None;
    }
    let places = pairs().map(|(image, on_card)| {
        let other = len(on_card).filter(|now| image.is_resizable() && len(image) != Some(*now));
        (on_card.span, other)
    });
    Some(Fit::Like { size, places: places.collect() })
}
