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
    operation::{Compared, Comparison},
    progress::Watch,
    store::{Tally, Window},
};
use std::{path::Path, sync::Arc};

const NOTHING: &str = "The image was checked, but not compared with the card.";

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

/// Compares a card with the result of restoring `image` to it, or of the partition `only` of it.
///
/// # Errors
/// When either cannot be read, or the image can't be restored to the card.
pub(super) fn against_card(
    session: &Session,
    image: &Image,
    only: Option<&str>,
    card: &Card,
    tally: &Tally,
    watch: Watch<'_>,
) -> Outcome<OnCard> {
    let mut compared = Compared::new(image).state(NOTHING)?;
    if let Some(name) = only {
        let index = resolve::part_index(compared.survey(), name, image.path()).state(NOTHING)?;
        compared = compared.only(index).state(NOTHING)?;
    }
    let mut target = TargetSize { size: card.size, sector: card.sector };
    let mut source = session.fleet.source(card, tally, false).state(NOTHING)?;
    let part = compared.partition_on(&*source).state(NOTHING)?;
    if let Some(part) = &part {
        source = Arc::new(Window::new(source, part.span).map_err(Failure::from).state(NOTHING)?);
        target.size = part.span.len();
    } else if compared.is_partition() {
        let what = format!("{} has no such partition as the image", card.path.display());
        return Err(Failure::new(Exit::Mismatch, what).state(NOTHING));
    }
    let options = session.resize_options(true);
    let found =
        Comparison::of_card(&compared, source, target, options, watch).map_err(|error| {
            let exit =
                if error.class() == Class::NoRoom { Exit::Mismatch } else { error.class().into() };
            Failure { exit, ..Failure::from(error) }.state(NOTHING)
        })?;
    Ok(OnCard { compared: found, is_image: false, part: part.map(|part| part.title()) })
}

/// The differences of a card or another image.
pub(super) struct OnCard {
    pub(super) is_image: bool,
    pub(super) compared: Comparison,
    /// The partition of the card, when the image is of one.
    pub(super) part: Option<String>,
}
