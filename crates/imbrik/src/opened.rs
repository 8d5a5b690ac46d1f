//! A card or an image that is opened read-only by its name.

use crate::{
    failure::{Explain, Failure, Outcome},
    pipe,
    render::{quoted, size},
    resolve,
    session::Session,
};
use imbrik_core::{
    card::Card,
    image::Image,
    store::{ReadAt, Tally},
};
use std::{path::Path, sync::Arc};

/// A card or an image.
pub(crate) enum Opened {
    Card(Box<Card>, Arc<dyn ReadAt>),
    Image(Box<Image>),
}

impl Opened {
    pub(crate) fn open(session: &Session, name: &Path, tally: &Tally) -> Outcome<Self> {
        let is_image = pipe::is_pipe(name) || resolve::not_a_card(&session.fleet, name).is_ok();
        if is_image {
            let name = &*session.image_path(name)?;
            if !pipe::is_pipe(name) && !name.exists() {
                return Err(Failure::usage(format!("no card or image is called {}", quoted(name)))
                    .state("Nothing was read.")
                    .next("See which card is which with `imbrik cards`."));
            }
            let image = session
                .open_image(name)
                .state("The image was only read.")
                .next("Run `imbrik check` for details, or try another copy of the image.")?;
            return Ok(Self::Image(Box::new(image)));
        }
        let card = resolve::card(&session.fleet, name)?;
        let source = session.fleet.source(&card, tally, false).state("The card was only read.")?;
        Ok(Self::Card(Box::new(card), source))
    }

    pub(crate) fn store(&self) -> Arc<dyn ReadAt> {
        match self {
            Self::Card(_, source) => Arc::clone(source),
            Self::Image(image) => Arc::clone(image.content()),
        }
    }

    pub(crate) fn name(&self) -> String {
        match self {
            Self::Card(card, _) => card.path.display().to_string(),
            Self::Image(image) => quoted(image.path()),
        }
    }

    /// Properties besides its content.
    pub(crate) fn facts(&self) -> Vec<String> {
        match self {
            Self::Card(card, _) => card.model.iter().cloned().collect(),
            Self::Image(image) => {
                let packed = size::short(image.file().size());
                vec![format!("{packed} as {}", image.container())]
            }
        }
    }
}
