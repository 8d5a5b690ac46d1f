//! Which card an image is of.

use crate::{image::Manifest, layout::Survey};
use imbrik_store::units::ByteLen;
use jiff::Timestamp;

/// The identity of a card. Images are of the same card when all fields are equal.
///
/// A name alone does not identify a card: boards are often set up under one host name. Ids alone do not either:
/// cards that were written from one image share them. So an image is counted for another card as soon as anything
/// differs, which can only keep more images than necessary, never fewer.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct CardIdentity {
    /// The host name, or else the label of the card; followed by the partition, for an image of one partition.
    pub name: String,
    /// Size of the card.
    pub size: ByteLen,
    /// The ids of its partition table and its volumes, in order.
    pub ids: Vec<String>,
}

/// Length of [`CardIdentity::code`].
const CODE: usize = 6;

impl CardIdentity {
    /// The identity of the card that `manifest` describes.
    #[must_use]
    pub fn from_manifest(manifest: &Manifest) -> Self {
        let table = manifest.table.iter().map(|table| table.id.clone());
        let volumes = manifest.partitions.iter().filter_map(|part| part.volume.as_ref());
        let size = manifest.fitted.as_ref().map_or(manifest.card_size, |fit| fit.card_size);
        Self {
            name: card_name(manifest),
            size: ByteLen::new(size),
            ids: table.chain(volumes.filter_map(|volume| volume.uuid.clone())).collect(),
        }
    }

    /// The identity of the card with this survey.
    #[must_use]
    pub fn from_survey(survey: &Survey) -> Self {
        Self::from_manifest(&Manifest::new(survey, "", Timestamp::UNIX_EPOCH))
    }

    /// Six hexadecimal digits that distinguish cards with the same name.
    #[must_use]
    pub fn code(&self) -> String {
        let mut hasher = blake3::Hasher::new();
        for part in std::iter::once(&self.size.get().to_string()).chain(&self.ids) {
            hasher.update(part.as_bytes());
            hasher.update(&[0]);
        }
        hasher.finalize().to_hex().as_str().chars().take(CODE).collect()
    }

    /// The name, followed by the code: `hive-07#3fa2c1`.
    #[must_use]
    pub fn full_name(&self) -> String {
        format!("{}#{}", self.name, self.code())
    }

    /// Returns whether both have the same name and at least one id in common, so that one may be the other after it was
    /// partitioned or formatted again.
    #[must_use]
    pub fn resembles(&self, other: &Self) -> bool {
        self.name == other.name && self.ids.iter().any(|id| other.ids.contains(id))
    }
}

/// The name of the card that a manifest describes, and of its partition, for an image of one.
#[must_use]
pub fn card_name(manifest: &Manifest) -> String {
    let name = manifest.name().unwrap_or("unnamed");
    match manifest.only.as_ref().map(|only| only.number) {
        None => name.to_owned(),
        Some(Some(number)) => format!("{name}, partition {number}"),
        Some(None) => format!("{name}, a partition"),
    }
}
