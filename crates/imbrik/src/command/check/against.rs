//! Whether a card holds what an image would have made of it.

use crate::{
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    resolve,
    session::Session,
};
use imbrik_core::{
    Class,
    card::Card,
    image::Image,
    layout::{Fit, Occupancy, Part, Plan, Survey, Target, View},
    progress::Watch,
    store::{ReadAt, Tally},
    transfer::{Differences, compare},
    units::{ByteLen, Span},
};
use std::{path::Path, sync::Arc};

/// What an image is compared with.
pub(super) enum Against {
    Card(Box<Card>),
    Image(Box<Image>),
}

impl Against {
    pub(super) fn of(session: &Session, name: &Path) -> Outcome<Self> {
        let is_image = resolve::not_a_card(&session.fleet, name).is_ok() && name.is_file();
        match is_image {
            true => {
                let image = session.open_image(name).state("The image was only read.")?;
                Ok(Self::Image(Box::new(image)))
            }
            false => Ok(Self::Card(Box::new(resolve::card(&session.fleet, name)?))),
        }
    }
}

/// Compares the content of two images, byte by byte.
///
/// # Errors
/// When either cannot be read.
pub(super) fn against_image(image: &Image, other: &Image, watch: Watch<'_>) -> Outcome<OnCard> {
    let nothing = "The image itself was checked; the other one was not compared with it.";
    let survey = Survey::of(&**image.content()).state(nothing)?;
    let (size, other_size) = (image.content().size(), other.content().size());
    let common = View::on_card_of(size.min(other_size), Arc::clone(image.content()));
    let mut differing = compare(&common, Arc::clone(other.content()), watch).state(nothing)?;
    let longer = Span::whole(size.max(other_size));
    let rest = Span::between(Span::whole(size.min(other_size)).end(), longer.end());
    if !rest.is_empty() {
        differing.spans.push(rest);
    }
    let places = survey.places_of(&differing.spans);
    let places = places.iter().map(|(place, len)| (place.clone(), len.get())).collect();
    Ok(OnCard { differing, places, is_image: true })
}

/// Compares a card with what `image` would have made of it.
///
/// # Errors
/// When either cannot be read, or the card cannot be what the image makes.
pub(super) fn against_card(
    session: &Session,
    image: &Image,
    card: &Card,
    tally: &Tally,
    watch: Watch<'_>,
) -> Outcome<OnCard> {
    let nothing = "The image itself was checked; the card was not compared.";
    let survey = Survey::of(&**image.content()).state(nothing)?;
    let target = Target { size: card.size, sector: card.sector };
    let exact = image.manifest().is_some_and(|manifest| manifest.exact);
    let occupancy = match exact {
        true => None,
        false => Some(Occupancy::of(image.content(), &survey).state(nothing)?),
    };
    let source = session.fleet.source(card, tally, false).state(nothing)?;
    let on_card = Survey::of(&*source).state(nothing)?;
    let content = Arc::clone(image.content());
    // A card on which a volume got another size when it was restored is compared with that.
    let plan = match (&occupancy, resized(&survey, &on_card, card.size)) {
        (Some(occupancy), Some(fit)) => {
            Plan::fit(Arc::clone(&content), &survey, occupancy, &fit, session.reshape_options(true))
                .or_else(|_| Plan::restore(content, &survey, Some(occupancy), target))
        }
        _ => Plan::restore(content, &survey, occupancy.as_ref(), target),
    };
    let plan = plan.map_err(|error| {
        let exit =
            if error.class() == Class::NoRoom { Exit::Mismatch } else { error.class().into() };
        Failure { exit, ..Failure::from(error) }.state(nothing)
    })?;
    // The card as `save` would see it: what is void there, such as an old journal, is no difference.
    let source: Arc<dyn ReadAt> = match exact {
        true => source,
        false => {
            let occupancy = Occupancy::of(&source, &on_card).state(nothing)?;
            Arc::new(Plan::save(source, &occupancy)?.view)
        }
    };
    let differing = compare(&plan.view, source, watch).state(nothing)?;
    let places = survey.places_of(&differing.spans);
    let places = places.iter().map(|(place, len)| (place.clone(), len.get())).collect();
    Ok(OnCard { differing, places, is_image: false })
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

/// Where a card, or another image, differs.
pub(super) struct OnCard {
    pub(super) is_image: bool,
    pub(super) differing: Differences,
    /// How many bytes differ in each volume and gap.
    pub(super) places: Vec<(String, u64)>,
}
