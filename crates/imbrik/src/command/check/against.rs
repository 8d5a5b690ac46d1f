//! Comparing a card with the result of restoring an image to it.

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
    layout::TargetSize,
    operation::Comparison,
    progress::Watch,
    store::{Tally, Window},
};
use std::{path::Path, sync::Arc};

/// The other side of the comparison.
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
    let nothing = "The image was checked, but not compared with the other one.";
    let compared = Comparison::of_images(image, other, watch).state(nothing)?;
    Ok(OnCard { compared, is_image: true, part: None })
}

/// Compares a card with the result of restoring `image` to it.
///
/// # Errors
/// When either cannot be read, or the image can't be restored to the card.
pub(super) fn against_card(
    session: &Session,
    image: &Image,
    card: &Card,
    tally: &Tally,
    watch: Watch<'_>,
) -> Outcome<OnCard> {
    let nothing = "The image was checked, but not compared with the card.";
    let target = TargetSize { size: card.size, sector: card.sector };
    let mut source = session.fleet.source(card, tally, false).state(nothing)?;
    let mut target = target;
    let part = Comparison::partition_for(image, &*source).state(nothing)?;
    if let Some(part) = &part {
        source = Arc::new(Window::new(source, part.span).map_err(Failure::from).state(nothing)?);
        target.size = part.span.len();
    } else if image.manifest().is_some_and(|manifest| manifest.only.is_some()) {
        let what = format!("{} has no such partition as the image", card.path.display());
        return Err(Failure::new(Exit::Mismatch, what).state(nothing));
    }
    let options = session.resize_options(true);
    let compared = Comparison::of_card(image, source, target, options, watch).map_err(|error| {
        let exit =
            if error.class() == Class::NoRoom { Exit::Mismatch } else { error.class().into() };
        Failure { exit, ..Failure::from(error) }.state(nothing)
    })?;
    Ok(OnCard { compared, is_image: false, part: part.map(|part| part.title()) })
}

/// The differences of a card or another image.
pub(super) struct OnCard {
    pub(super) is_image: bool,
    pub(super) compared: Comparison,
    /// The partition of the card, when the image is of one.
    pub(super) part: Option<String>,
}
