//! A hash that was pasted, and what it turned out to be of.

use crate::render::json;
use imbrik_core::{
    Class,
    image::{Image, Sum, SumKind},
    progress::Watch,
    transfer::sums_of,
};

/// What a hash that was pasted turned out to be.
pub(super) enum Expected {
    /// None was.
    Nothing,
    /// Of the file as it is.
    File(SumKind),
    /// Of what is in it.
    Content(SumKind),
    /// Of something else.
    Other,
}

impl Expected {
    /// Compares `sums`, of which one is meant, with what was `found` of the file and, only then,
    /// with the content of `unpacked`: publishers hash the one or the other.
    pub(super) fn of(
        sums: &[Sum],
        found: &[Sum],
        unpacked: Option<&Image>,
        watch: Watch<'_>,
    ) -> imbrik_core::Result<Self> {
        if let Some(sum) = sums.iter().find(|sum| found.contains(sum)) {
            return Ok(Self::File(sum.kind));
        }
        let Some(image) = unpacked else { return Ok(Self::Other) };
        let kinds: Vec<_> = sums.iter().map(|sum| sum.kind).collect();
        let found = match sums_of(&**image.content(), &kinds, watch) {
            // The tiles tell where.
            Err(error) if error.class() == Class::Mismatch => return Ok(Self::Other),
            found => found?,
        };
        let same = sums.iter().find(|sum| found.contains(sum));
        Ok(same.map_or(Self::Other, |sum| Self::Content(sum.kind)))
    }

    /// For programs.
    pub(super) fn for_programs(&self) -> Option<json::ExpectedOf> {
        match self {
            Self::Nothing => None,
            Self::File(_) => Some(json::ExpectedOf::File),
            Self::Content(_) => Some(json::ExpectedOf::Content),
            Self::Other => Some(json::ExpectedOf::Differs),
        }
    }
}
