//! What shall be on a card, and what is known of it.

use crate::{
    image::{Image, ListedPart, TileDigest},
    layout::{Occupancy, Reference, Survey, references, table_behind_a_preface},
    transfer::{OnDamage, Origin},
};
use imbrik_store::{
    Concatenated, ReadAt, Window,
    error::{Error, Result},
    units::{ByteLen, ByteOffset, Span},
};
use std::{fmt, sync::Arc};

/// The content of an image or of a card, to be written to cards.
pub struct Source {
    /// The card's bytes.
    pub content: Arc<dyn ReadAt>,
    /// What is on it.
    pub survey: Survey,
    /// What of it is in use; `None` when every byte counts.
    pub occupancy: Option<Occupancy>,
    /// What its files need to start.
    pub references: Vec<Reference>,
    /// Whether its last volume took what its card had, or was fitted: so it may take what another
    /// card has.
    pub fills: bool,
    /// Whether it may be on a card of another size than it is now.
    pub may_resize: bool,
    /// What of it is damaged, and zeros in `content`, as was asked for.
    pub damaged: Vec<Span>,
    /// The partition of which it is the image, when it is no card's.
    pub only: Option<ListedPart>,
    /// Whether it is read from a card, and not from an image.
    pub is_card: bool,
    /// The digests of its tiles, when the image has them and they are those of `content`.
    pub digests: Option<Vec<TileDigest>>,
}

/// How an image is taken.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SourceOptions {
    /// Where in it the card's content starts, in bytes: behind a preface.
    pub starts_at: Option<u64>,
    /// Whether it is written byte by byte, whatever it holds.
    pub as_is: bool,
    /// What of its content is damaged, and is to be zeros.
    pub damaged: Vec<Span>,
}

/// Why an image is not taken.
#[derive(Debug)]
#[non_exhaustive]
pub enum SourceRefusal {
    /// Its content is to start behind its own end.
    StartsBehindTheEnd {
        /// Where it was to start, in bytes.
        at: u64,
        /// How long it is.
        len: ByteLen,
    },
    /// There is no table at its start, but one behind something else.
    Preface(ByteOffset),
    /// It is plainly something else, in common words.
    Stranger(&'static str),
    /// Nothing in it is known.
    Unknown,
    /// It cannot be read.
    Failed(Error),
}

impl From<Error> for SourceRefusal {
    fn from(error: Error) -> Self {
        Self::Failed(error)
    }
}

impl fmt::Display for SourceRefusal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::StartsBehindTheEnd { at, len } => {
                write!(f, "byte {at} lies behind the end of the image at {len}")
            }
            Self::Preface(at) => write!(
                f,
                "the image has no table at its start, but one at byte {}: something seems to stand \
                 in front of it",
                at.get()
            ),
            Self::Stranger(kind) => write!(f, "it is {kind}, not the image of a card"),
            Self::Unknown => {
                f.write_str("nothing in it is known: no partition table and no volume")
            }
            Self::Failed(error) => error.fmt(f),
        }
    }
}

impl std::error::Error for SourceRefusal {}

impl Source {
    /// The content of `image`.
    ///
    /// # Errors
    /// When it is none of a card, and is not to be taken as it is; when it cannot be read.
    pub fn of_image(
        image: &Image,
        options: &SourceOptions,
    ) -> std::result::Result<Self, SourceRefusal> {
        let whole: Arc<dyn ReadAt> = match &options.damaged[..] {
            [] => Arc::clone(image.content()),
            spans => Arc::new(Concatenated::with_zeros(image.content(), spans)),
        };
        let (content, survey) = content(image, whole, options)?;
        let is_at_its_start = options.starts_at.is_none();
        let manifest = image.manifest();
        let is_exact = manifest.is_some_and(|manifest| manifest.exact) && is_at_its_start;
        let occupancy = match is_exact || options.as_is {
            true => None,
            false => Some(Occupancy::of(&content, &survey)?),
        };
        let digests = match manifest.filter(|_| is_at_its_start && options.damaged.is_empty()) {
            Some(manifest) => Some(manifest.tiles.digests()?),
            None => None,
        };
        Ok(Self {
            references: references(&*content, &survey)?,
            fills: manifest.is_some_and(|known| known.reaches_end || known.fitted.is_some()),
            may_resize: !options.as_is && is_at_its_start,
            damaged: options.damaged.clone(),
            only: manifest.and_then(|manifest| manifest.only.clone()),
            is_card: false,
            digests,
            content,
            survey,
            occupancy,
        })
    }

    /// A card, of which `survey` tells what is on it, read through `content`.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn of_card(content: Arc<dyn ReadAt>, survey: Survey) -> Result<Self> {
        Ok(Self {
            references: references(&*content, &survey)?,
            occupancy: Some(Occupancy::of(&content, &survey)?),
            fills: survey.reaches_end(),
            may_resize: true,
            damaged: Vec::new(),
            only: None,
            is_card: true,
            digests: None,
            content,
            survey,
        })
    }

    /// The same for whoever writes it; of a card, with what is done about places that cannot be read.
    #[must_use]
    pub fn origin(&self, damage: OnDamage) -> Origin<'_> {
        match self.is_card {
            true => Origin::Card(damage),
            false => Origin::Image(self.digests.as_deref()),
        }
    }
}

/// The card's bytes in the image, behind a preface when one was told, and what is on it.
fn content(
    image: &Image,
    whole: Arc<dyn ReadAt>,
    options: &SourceOptions,
) -> std::result::Result<(Arc<dyn ReadAt>, Survey), SourceRefusal> {
    if let Some(at) = options.starts_at {
        let (start, len) = (ByteOffset::new(at), whole.size());
        let end = ByteOffset::new(len.get());
        if start >= end {
            return Err(SourceRefusal::StartsBehindTheEnd { at, len });
        }
        let content: Arc<dyn ReadAt> = Arc::new(Window::new(whole, Span::between(start, end))?);
        let survey = Survey::of(&*content)?;
        return Ok((content, survey));
    }
    let survey = Survey::of(&*whole)?;
    if !survey.is_unknown() || options.as_is {
        return Ok((whole, survey));
    }
    Err(match (table_behind_a_preface(&*whole)?, image.is_rather()) {
        (Some(at), _) => SourceRefusal::Preface(at),
        (None, Some(kind)) => SourceRefusal::Stranger(kind),
        (None, None) => SourceRefusal::Unknown,
    })
}
