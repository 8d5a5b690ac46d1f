//! Fills in missing ranges of an image from its card or a copy of it.

use super::image::{ImageContent, ImagePlan};
use crate::{
    image::{Image, Manifest, TileDigest, tile_span},
    layout::{Content, Occupancy, Survey, View},
    transfer::{Mended, SaveOptions, mend},
};
use imbrik_fs::ResizeOptions;
use imbrik_store::{
    ReadAt, Window,
    error::{Error, Result},
    progress::{Cancel, Watch},
    read_vec,
    units::{ByteLen, ByteOffset, Span, joined},
};
use std::{fmt, path::Path, sync::Arc, time::Duration};

/// The number of samples that are compared, and their maximum length.
const SAMPLES: usize = 64;
const SAMPLE: ByteLen = ByteLen::kib(64);

/// Why an image can't be completed from a card.
#[derive(Debug)]
#[non_exhaustive]
pub enum MendRefusal {
    /// It has no manifest, so that missing ranges are unknown.
    SaysNothing,
    /// The image has no missing data.
    LacksNothing,
    /// It was fitted to another size: its offsets differ from those of the card.
    Fitted,
    /// The card is smaller than the image.
    Shorter {
        /// Size of the card in the image, in bytes.
        image: ByteLen,
        /// Size of the card, in bytes.
        card: ByteLen,
    },
    /// The card has no partition at the offset of the image's.
    NoPartition,
    /// It is another card.
    OtherCard {
        /// The difference, in a few words.
        what: String,
    },
    /// The card was used since.
    UsedSince,
    /// The card and the image differ in a range that both have.
    Differs {
        /// The offset, on the card of the image.
        span: Span,
    },
    /// There were no properties to compare.
    NothingToCompare,
    /// The comparison failed.
    Failed(Error),
}

impl fmt::Display for MendRefusal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::SaysNothing => f.write_str("the image does not record what is missing"),
            Self::LacksNothing => f.write_str("nothing is missing in the image"),
            Self::Fitted => f.write_str(
                "the image was fitted to another size: its missing data is at other offsets on the card",
            ),
            Self::Shorter { image, card } => {
                write!(f, "the card holds {card}, and the one in the image {image}")
            }
            Self::NoPartition => {
                f.write_str("the card has no partition in the place of the one in the image")
            }
            Self::OtherCard { what } => write!(f, "it is another card: {what}"),
            Self::UsedSince => f.write_str("the card was used since the image was made"),
            Self::Differs { span } => write!(f, "the card holds something else in {span}"),
            Self::NothingToCompare => f.write_str(
                "no data that is readable in both shows that the image is of this card",
            ),
            Self::Failed(error) => error.fmt(f),
        }
    }
}

impl std::error::Error for MendRefusal {}

impl From<Error> for MendRefusal {
    fn from(error: Error) -> Self {
        Self::Failed(error)
    }
}

/// An image, and a card that was verified to be its source, or a copy of that.
pub struct MendPlan<'a> {
    image: &'a Image,
    card: Arc<dyn ReadAt>,
    /// The missing ranges, in order and joined.
    pub shortfall: Vec<Span>,
    /// Bytes that were compared.
    pub compared: ByteLen,
}

impl<'a> MendPlan<'a> {
    /// Verifies that `image` was saved from `card`, by ids, mount times, used space, and samples of the content.
    ///
    /// # Errors
    /// When it was not, or nothing is missing.
    pub fn new(image: &'a Image, card: Arc<dyn ReadAt>) -> std::result::Result<Self, MendRefusal> {
        let manifest = image.manifest().ok_or(MendRefusal::SaysNothing)?;
        let shortfall = joined(manifest.unreadable_spans());
        if shortfall.is_empty() {
            return Err(MendRefusal::LacksNothing);
        }
        if manifest.fitted.is_some() {
            return Err(MendRefusal::Fitted);
        }
        let card = part_of(card, image, manifest)?;
        let survey = Survey::of(&*card)?;
        let content = if manifest.exact { ImageContent::Exact } else { ImageContent::InUse };
        let cancel = Cancel::new();
        let plan = ImagePlan::new(&card, &survey, content, ResizeOptions::in_memory(&cancel))?;
        // Missing ranges of the image are read from the card: they are no evidence.
        let patched: Arc<dyn ReadAt> =
            Arc::new(View::whole(Arc::clone(image.content())).with_store(
                &shortfall,
                &card,
                ByteOffset::ZERO,
            ));
        let ours = Survey::of(&patched)?;
        let theirs = Survey::of(&plan.plan.view)?;
        let ids = same_ids(&ours, &theirs)?;
        if ours.has_changed(&theirs) {
            return Err(MendRefusal::UsedSince);
        }
        if !same_use(&patched, &ours, &plan.plan.view, &theirs)? {
            return Err(MendRefusal::UsedSince);
        }
        let compared = compare(image, manifest, &plan.plan.view, &shortfall)?;
        if ids == 0 || compared.is_zero() {
            return Err(MendRefusal::NothingToCompare);
        }
        Ok(Self { image, card, shortfall, compared })
    }

    /// Tries for `patience` to read the missing ranges, and adds them to the image `name`, in its place.
    ///
    /// # Errors
    /// When the card is gone, or the new image can't be written: the old one is unchanged then.
    pub fn run(
        &self,
        name: &Path,
        patience: Duration,
        options: &SaveOptions,
        watch: Watch<'_>,
    ) -> Result<Mended> {
        mend(self.image, &*self.card, name, patience, options, watch)
    }
}

/// The part of `card` that the image is of.
fn part_of(
    card: Arc<dyn ReadAt>,
    image: &Image,
    manifest: &Manifest,
) -> std::result::Result<Arc<dyn ReadAt>, MendRefusal> {
    let size = image.content().size();
    let place = match &manifest.only {
        None => Span::whole(size),
        Some(only) => {
            let survey = Survey::of(&*card)?;
            let place = Span::new(ByteOffset::new(only.start), ByteLen::new(only.size));
            let is_there = |place: &Span| survey.parts.iter().any(|part| part.span == *place);
            place.filter(is_there).ok_or(MendRefusal::NoPartition)?
        }
    };
    if card.size() < ByteLen::new(place.end().get()) {
        return Err(MendRefusal::Shorter { image: size, card: card.size() });
    }
    Ok(Arc::new(Window::new(card, place)?))
}

/// Compares the ids of tables and volumes, and the locations of partitions. Returns how many were equal. Unreadable
/// ones are no evidence.
fn same_ids(ours: &Survey, theirs: &Survey) -> std::result::Result<usize, MendRefusal> {
    let other = |what: String| Err(MendRefusal::OtherCard { what });
    let mut same = 0usize;
    if let (Some(a), Some(b)) = (&ours.table, &theirs.table) {
        match (a.id(), b.id()) {
            (a, b) if a == b => same = same.saturating_add(1),
            (a, b) => return other(format!("its table has the id {b}, the image {a}")),
        }
    }
    for part in &ours.parts {
        let Some(there) = theirs.parts.iter().find(|there| there.number == part.number) else {
            match theirs.unreadable.is_empty() {
                true => return other(format!("it has no {}", part.title())),
                false => continue,
            }
        };
        if there.span != part.span {
            return other(format!("{} is at another offset", part.title()));
        }
        let (Some(a), Some(b)) = (&part.volume, &there.volume) else { continue };
        match (&a.uuid, &b.uuid) {
            (Some(a), Some(b)) if a == b => same = same.saturating_add(1),
            (Some(a), Some(b)) => {
                return other(format!("{} has the id {b}, the image {a}", part.title()));
            }
            _ => {}
        }
    }
    Ok(same)
}

/// Returns whether the same bytes are used in each volume that is readable on both sides.
fn same_use(
    patched: &Arc<dyn ReadAt>,
    ours: &Survey,
    view: &View,
    theirs: &Survey,
) -> Result<bool> {
    let card: Arc<dyn ReadAt> = Arc::new(view.clone());
    let in_image = Occupancy::of(patched, ours)?;
    let on_card = Occupancy::of(&card, theirs)?;
    for index in 0..ours.parts.len() {
        let (Some(a), Some(b)) = (in_image.volume(index), on_card.volume(index)) else {
            continue;
        };
        let is_known = a.usage.whole_because.is_none() && b.usage.whole_because.is_none();
        if is_known && (&a.usage.used, &a.usage.cleared) != (&b.usage.used, &b.usage.cleared) {
            return Ok(false);
        }
    }
    Ok(true)
}

/// Compares samples of ranges that both have. Returns the compared bytes. Unreadable ones are no evidence.
fn compare(
    image: &Image,
    manifest: &Manifest,
    view: &View,
    shortfall: &[Span],
) -> std::result::Result<ByteLen, MendRefusal> {
    let size = image.content().size();
    let digests = manifest.tiles.digests()?;
    let tiles: Vec<Span> = (0u64..)
        .zip(&digests)
        .filter(|(_, digest)| **digest != TileDigest::Zero)
        .filter_map(|(index, _)| tile_span(index, size))
        .collect();
    let step = tiles.len().div_ceil(SAMPLES).max(1);
    let mut compared = ByteLen::ZERO;
    for tile in tiles.iter().step_by(step) {
        let copied = view
            .segments_in(*tile)
            .filter(|segment| matches!(segment.content, Content::Copied { .. }))
            .map(|segment| {
                let start = segment.span.start();
                Span::between(start, segment.span.end().min(start.saturating_add(SAMPLE)))
            })
            .find(|span| shortfall.iter().all(|range| range.intersect(*span).is_none()));
        let Some(span) = copied else { continue };
        let len = span.len().to_usize().unwrap_or(0);
        let Some(there) = imbrik_store::if_readable(read_vec(view, span.start(), len))? else {
            continue;
        };
        if read_vec(&**image.content(), span.start(), len)? != there {
            return Err(MendRefusal::Differs { span });
        }
        compared = compared.saturating_add(span.len());
    }
    Ok(compared)
}
