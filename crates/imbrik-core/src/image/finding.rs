//! Oddities of an image file, each with its text.

use imbrik_store::units::ByteLen;
use std::fmt;

/// An oddity of an image whose content is readable nevertheless.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum ImageFinding {
    /// The seek table at its end is missing: it was cut there.
    NoSeekTable,
    /// Its manifest is that of a card of another length, and nothing of it counts.
    OtherCard {
        /// Bytes, by the manifest.
        said: ByteLen,
        /// Bytes in the image.
        holds: ByteLen,
    },
    /// Other programs refuse to decode the file, though its content can be read here.
    OthersRefuse {
        /// The damage, as the end of a sentence.
        what: String,
    },
    /// Its manifest cannot be read.
    ManifestDamaged {
        /// The reason.
        why: String,
    },
}

impl fmt::Display for ImageFinding {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::NoSeekTable => f.write_str("the seek table at its end is missing"),
            Self::OtherCard { said, holds } => write!(
                f,
                "the manifest describes a card of {} bytes, the image has {holds}",
                said.get()
            ),
            Self::OthersRefuse { what } => write!(f, "other programs reject this file: {what}"),
            Self::ManifestDamaged { why } => f.write_str(why),
        }
    }
}
