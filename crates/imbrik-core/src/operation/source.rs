//! The source of a write: its content and what is known about it.

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

/// The content of an image or a card that is written to cards.
pub struct Source {
    /// The content.
    pub content: Arc<dyn ReadAt>,
    /// Its survey.
    pub survey: Survey,
    /// Its used space; `None` if every byte is copied.
    pub occupancy: Option<Occupancy>,
    /// The references of its boot files.
    pub references: Vec<Reference>,
    /// True if its last volume filled its card, or was fitted: it may grow to fill another card.
    pub fills: bool,
    /// True if its volumes may be resized.
    pub may_resize: bool,
    /// Damaged ranges, which are zeros in `content` as requested.
    pub damaged: Vec<Span>,
    /// The partition that it is an image of; `None` for a whole card.
    pub only: Option<ListedPart>,
    /// True if it is a card, not an image.
    pub is_card: bool,
    /// The digests of its tiles, if the image has them and they match `content`.
    pub digests: Option<Vec<TileDigest>>,
}

/// Options for reading an image.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SourceOptions {
    /// Offset of the card's content, in bytes, after a prefix.
    pub starts_at: Option<u64>,
    /// True if it is written byte by byte, whatever it contains.
    pub as_is: bool,
    /// Damaged ranges, which become zeros.
    pub damaged: Vec<Span>,
}

/// Why an image is not accepted.
#[derive(Debug)]
#[non_exhaustive]
pub enum SourceRefusal {
    /// The offset of the content is past the end.
    StartsBehindTheEnd {
        /// The offset, in bytes.
        at: u64,
        /// The size of the image.
        len: ByteLen,
    },
    /// A partition table was found, but not at the start.
    Preface(ByteOffset),
    /// The file is of another type, named in common terms.
    Stranger(&'static str),
    /// Its content is not recognised.
    Unknown,
    /// It can't be read.
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
                write!(f, "byte {at} is past the end of the image at {len}")
            }
            Self::Preface(at) => write!(
                f,
                "the image has no partition table at its start, but one at byte {}: there seems to be \
                 a prefix",
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
    /// Opens the content of `image`.
    ///
    /// # Errors
    /// When it is not an image of a card, unless it is to be written byte by byte; when it can't be read.
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

    /// A card with the survey `survey`, read through `content`.
    ///
    /// # Errors
    /// When it can't be read.
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

    /// Only the partition with this index in [`Survey::parts`], as an image of it alone would be.
    ///
    /// # Errors
    /// [`imbrik_store::error::Class::Usage`] when there is no such partition; when it can't be read.
    pub fn only(self, index: usize) -> Result<Self> {
        let part = self.survey.parts.get(index);
        let part = part.ok_or_else(|| Error::usage("the image has no such partition"))?;
        let content: Arc<dyn ReadAt> = Arc::new(Window::new(self.content, part.span)?);
        let survey = Survey::of(&*content)?;
        let inside = self.damaged.iter().filter_map(|span| span.intersect(part.span));
        let base = part.span.start().get();
        let place = |at: ByteOffset| ByteOffset::new(at.get().saturating_sub(base));
        let damaged = inside.map(|span| Span::between(place(span.start()), place(span.end())));
        Ok(Self {
            references: references(&*content, &survey)?,
            occupancy: match self.occupancy {
                Some(_) => Some(Occupancy::of(&content, &survey)?),
                None => None,
            },
            fills: false,
            may_resize: self.may_resize,
            damaged: damaged.collect(),
            only: Some(ListedPart::of(part)),
            is_card: self.is_card,
            // They are of tiles of the whole card.
            digests: None,
            content,
            survey,
        })
    }

    /// The content for a write; of a card, with a policy for unreadable ranges.
    #[must_use]
    pub fn origin(&self, damage: OnDamage) -> Origin<'_> {
        match self.is_card {
            true => Origin::Card(damage),
            false => Origin::Image(self.digests.as_deref()),
        }
    }
}

/// The content of the card in the image, after a prefix if one is given, and its survey.
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
