//! Comparison of a card with an image, and of two images.

use crate::{
    image::{Image, ListedPart},
    layout::{Fit, Occupancy, Part, Plan, Survey, TargetSize, View},
    transfer::{Differences, compare},
};
use imbrik_fs::ResizeOptions;
use imbrik_store::{
    ReadAt, Window,
    error::{Error, Result},
    progress::Watch,
    read_vec,
    units::{ByteLen, Span},
};
use std::sync::Arc;

/// An image, or one partition of it, that a card is compared with.
pub struct Compared {
    content: Arc<dyn ReadAt>,
    survey: Survey,
    only: Option<ListedPart>,
    is_exact: bool,
}

impl Compared {
    /// All of `image`.
    ///
    /// # Errors
    /// When it can't be read.
    pub fn new(image: &Image) -> Result<Self> {
        let manifest = image.manifest();
        Ok(Self {
            content: Arc::clone(image.content()),
            survey: Survey::of(&**image.content())?,
            only: manifest.and_then(|manifest| manifest.only.clone()),
            is_exact: manifest.is_some_and(|manifest| manifest.exact),
        })
    }

    /// The partitions to choose from.
    #[must_use]
    pub fn survey(&self) -> &Survey {
        &self.survey
    }

    /// Only the partition with this index in [`Survey::parts`].
    ///
    /// # Errors
    /// When it does not exist or can't be read.
    pub fn only(self, index: usize) -> Result<Self> {
        let part = self.survey.parts.get(index);
        let part = part.ok_or_else(|| Error::usage("the image has no such partition"))?;
        let content: Arc<dyn ReadAt> = Arc::new(Window::new(self.content, part.span)?);
        let survey = Survey::of(&*content)?;
        let only = Some(ListedPart::of(part));
        Ok(Self { content, survey, only, is_exact: self.is_exact })
    }

    /// Returns whether it is a single partition.
    #[must_use]
    pub fn is_partition(&self) -> bool {
        self.only.is_some()
    }

    /// The partition of the card in `source` to compare a single partition with: the one with the same volume, or else
    /// with the same number; `None` if it does not exist, or a whole card is compared.
    ///
    /// # Errors
    /// When the card can't be read.
    pub fn partition_on(&self, source: &dyn ReadAt) -> Result<Option<Part>> {
        let Some(only) = &self.only else { return Ok(None) };
        let id = |part: &Part| part.volume.as_ref().and_then(|volume| volume.uuid.clone());
        let wanted = self.survey.parts.first().and_then(id);
        let card = Survey::of(source)?;
        let by_volume = card.parts.iter().find(|part| wanted.is_some() && id(part) == wanted);
        let by_number = || card.parts.iter().find(|part| part.number == only.number);
        Ok(by_volume.or_else(by_number).cloned())
    }
}

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
        image: &Compared,
        source: Arc<dyn ReadAt>,
        target: TargetSize,
        options: ResizeOptions<'_>,
        watch: Watch<'_>,
    ) -> Result<Self> {
        let Compared { content, survey, is_exact, .. } = image;
        let occupancy = if *is_exact { None } else { Some(Occupancy::of(content, survey)?) };
        let on_card = Survey::of(&*source)?;
        let plain = || Plan::restore(Arc::clone(content), survey, occupancy.as_ref(), target);
        let plan = match (&occupancy, resized(survey, &on_card, target.size)) {
            (Some(occupancy), Some(fit)) => {
                Plan::fit(Arc::clone(content), survey, occupancy, &fit, options)
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
            return Ok(Self { is_plain_copy: true, ..Self::of(Differences::default(), survey) });
        }
        Ok(Self::of(differing, survey))
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
