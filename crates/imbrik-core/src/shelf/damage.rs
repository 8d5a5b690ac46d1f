//! Damage that images of a shelf have in common: an image that was made of a damaged one may share its frames.

use super::{Listing, Remarks, Shelved};
use crate::image::{Image, TILE, TileDigest, tile_span};
use imbrik_store::{
    error::{Class, Error, Result},
    read_vec,
    units::Span,
};
use jiff::Timestamp;

/// Images of a shelf in which the same part of a card was compared with its digests.
#[derive(Default)]
pub struct SharedDamage<'a> {
    /// Images with a tile that does not match its digest, or that cannot be decoded.
    pub damaged: Vec<&'a Shelved>,
    /// Images that could not be read, and why: whether these are damaged is unknown.
    pub unread: Vec<(&'a Shelved, Error)>,
}

impl Listing {
    /// Compares the tiles that overlap `spans` with their digests, in every image. Reads only these tiles.
    #[must_use]
    pub fn damaged_in(&self, spans: &[Span]) -> SharedDamage<'_> {
        let mut found = SharedDamage::default();
        for image in &self.images {
            match is_damaged(image, spans) {
                Ok(true) => found.damaged.push(image),
                Ok(false) => {}
                Err(error) => found.unread.push((image, error)),
            }
        }
        found
    }
}

/// The remarks on an image in which damage was found at `now`.
#[must_use]
pub fn found_damaged(image: &Shelved, now: Timestamp) -> Remarks {
    Remarks { checked: Some(now), whole: Some(false), ..image.remarks }
}

fn is_damaged(shelved: &Shelved, spans: &[Span]) -> Result<bool> {
    let image = match Image::open(&shelved.path, None) {
        Err(error) if is_damage(error.class()) => return Ok(true),
        image => image?,
    };
    let Some(manifest) = image.manifest() else { return Ok(false) };
    let digests = match manifest.tiles.digests() {
        Err(error) if is_damage(error.class()) => return Ok(true),
        digests => digests?,
    };
    let tile = TILE.get();
    for span in spans {
        let first = span.start().get().checked_div(tile).unwrap_or(0);
        for index in first..span.end().get().div_ceil(tile) {
            let digest = usize::try_from(index).ok().and_then(|index| digests.get(index));
            let place = tile_span(index, image.content().size());
            let (Some(TileDigest::Hash(hash)), Some(place)) = (digest, place) else { continue };
            let len = place.len().to_usize().unwrap_or(0);
            match read_vec(&**image.content(), place.start(), len) {
                Ok(bytes) if blake3::hash(&bytes) == *hash => {}
                Ok(_) => return Ok(true),
                Err(error) if is_damage(error.class()) => return Ok(true),
                Err(error) => return Err(error),
            }
        }
    }
    Ok(false)
}

fn is_damage(class: Class) -> bool {
    matches!(class, Class::Corrupt | Class::Mismatch)
}
