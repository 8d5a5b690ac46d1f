//! Raw images: the card's bytes themselves, with holes where they are zeros.

use super::format::{Format, Packed, Packer, UseContent, Writing};
use imbrik_store::{error::Result, units::ByteLen};
use std::ops::RangeInclusive;

/// Raw images.
pub(super) struct Raw;

impl Format for Raw {
    fn name(&self) -> &'static str {
        "raw"
    }

    /// Whatever is nothing else.
    fn is_at(&self, _head: &[u8]) -> bool {
        false
    }

    fn endings(&self) -> &'static [&'static str] {
        &["img", "raw", "bin", "iso"]
    }

    fn writing(&self) -> Option<&'static dyn Writing> {
        Some(&Self)
    }

    fn decode(&self, mut file: Packed, _entry: Option<&str>, work: UseContent<'_>) -> Result<()> {
        work(&mut file)
    }
}

impl Writing for Raw {
    fn word(&self) -> &'static str {
        "raw"
    }

    fn about(&self) -> &'static str {
        "The raw card, with holes for zeros"
    }

    fn levels(&self) -> Option<RangeInclusive<i32>> {
        None
    }

    fn usual_level(&self) -> i32 {
        0
    }

    fn packer(&self, _level: i32, _card: ByteLen) -> Result<Option<Box<dyn Packer>>> {
        Ok(None)
    }
}
