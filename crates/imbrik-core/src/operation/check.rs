//! Verification of an image.

use crate::{
    image::{Image, ImageFinding, Sum, SumKind},
    layout::{Occupancy, Reference, Survey, references},
    transfer::{Differences, check_tiles, sums_of},
};
use imbrik_fs::Examined;
use imbrik_store::{
    error::{Class, Result},
    progress::{Event, Watch},
    units::{ByteLen, Span},
};

/// The damaged tiles of `image`, in order and joined: those that don't match their digests, and those that can't be
/// decoded. An image without digests is only decoded.
///
/// # Errors
/// When the image file can't be read, its digests are invalid, or stopping was requested.
pub fn damage_in(image: &Image, watch: Watch<'_>) -> Result<Vec<Span>> {
    Ok(tiles_of(image, watch)?.spans)
}

fn tiles_of(image: &Image, watch: Watch<'_>) -> Result<Differences> {
    let digests = match image.manifest() {
        Some(manifest) => {
            let digests = manifest.tiles.digests()?;
            // The next image that reuses this one would rely on them.
            manifest.tiles.pieces(&digests)?;
            digests
        }
        None => Vec::new(),
    };
    check_tiles(image, &digests, watch)
}

/// The criteria of a check.
pub struct ImageCheck<'a> {
    /// The image.
    pub image: &'a Image,
    /// Hashes from checksum files next to it: each must match the file.
    pub listed: &'a [Sum],
    /// Expected hashes, by kind, of which one must match: the file or its decoded content.
    pub expected: &'a [Sum],
    /// A hash to compute.
    pub make: Option<SumKind>,
}

/// The data that an expected hash matches.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ExpectedSum {
    /// No hash was expected.
    Nothing,
    /// The file.
    File(SumKind),
    /// The decoded content.
    Content(SumKind),
    /// Neither the file nor its content has this checksum.
    Other,
}

/// The result of a check.
pub struct CheckedImage {
    /// The requested hashes of the file.
    pub sums: Vec<Sum>,
    /// The kind of the first listed hash that doesn't match.
    pub wrong_sum: Option<SumKind>,
    /// The data that the expected hash matches.
    pub expected: ExpectedSum,
    /// The damaged tiles.
    pub tiles: Differences,
    /// Errors of the file other than damaged tiles.
    pub findings: Vec<ImageFinding>,
    /// The content, and the state of its volumes with their indexes in the survey; `None` for a damaged image.
    pub content: Option<CheckedContent>,
    /// The verdict.
    pub verdict: Verdict,
}

/// The content of an undamaged image.
pub struct CheckedContent {
    /// The survey of the card.
    pub survey: Survey,
    /// The references of its boot files.
    pub references: Vec<Reference>,
    /// The state of its volumes, with their indexes in the survey.
    pub volumes: Vec<(usize, Examined)>,
}

/// The verdict on an image.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// Its content matches digests or a hash.
    Whole,
    /// It is readable, and has nothing to compare the content with.
    Readable,
    /// This many bytes are missing at its end, according to its table or volume.
    CutShort(ByteLen),
    /// It is readable, and its content is not recognised.
    Unknown,
    /// The image is damaged.
    Damaged,
}

impl ImageCheck<'_> {
    /// The kinds of hashes of the file to compute.
    fn kinds(&self) -> Vec<SumKind> {
        let all = self.listed.iter().chain(self.expected).map(|sum| sum.kind);
        let mut kinds: Vec<_> = all.chain(self.make).collect();
        kinds.sort_by_key(|kind| kind.name());
        kinds.dedup();
        kinds
    }

    /// The number of steps, if known in advance.
    #[must_use]
    pub fn steps(&self) -> usize {
        if self.kinds().is_empty() { 1 } else { 2 }
    }

    /// Reads the whole image and checks all criteria.
    ///
    /// # Errors
    /// When the image file can't be read, or stopping was requested. Damage is not an error.
    pub fn run(&self, watch: Watch<'_>) -> Result<CheckedImage> {
        let image = self.image;
        let sums = match &self.kinds()[..] {
            [] => Vec::new(),
            kinds => sums_of(&**image.file(), kinds, watch)?,
        };
        let wrong_sum = self.listed.iter().find(|sum| !sums.contains(sum)).map(|sum| sum.kind);
        let expected = self.expected_of(&sums, watch)?;
        let tiles = tiles_of(image, watch)?;
        let content = match &tiles.spans[..] {
            [] => {
                let survey = Survey::of(&**image.content())?;
                let references = references(&**image.content(), &survey)?;
                let volumes = Occupancy::of(image.content(), &survey)?.volumes;
                Some(CheckedContent { survey, references, volumes })
            }
            _ => None,
        };
        let mut findings = image.findings().to_vec();
        findings.extend(image.verify_container()?);
        let verdict = self.verdict(wrong_sum, expected, content.as_ref(), &findings);
        Ok(CheckedImage { sums, wrong_sum, expected, tiles, findings, content, verdict })
    }

    /// Compares the expected hashes, of which one must match, with those `found` of the file and, if none matches, with
    /// the decoded content: publishers hash either.
    fn expected_of(&self, found: &[Sum], watch: Watch<'_>) -> Result<ExpectedSum> {
        if self.expected.is_empty() {
            return Ok(ExpectedSum::Nothing);
        }
        if let Some(sum) = self.expected.iter().find(|sum| found.contains(sum)) {
            return Ok(ExpectedSum::File(sum.kind));
        }
        if self.image.container().is_raw() {
            return Ok(ExpectedSum::Other);
        }
        watch.observer.on(&Event::StepAdded);
        let kinds: Vec<_> = self.expected.iter().map(|sum| sum.kind).collect();
        let found = match sums_of(&**self.image.content(), &kinds, watch) {
            // The tiles show where.
            Err(error) if error.class() == Class::Mismatch => return Ok(ExpectedSum::Other),
            found => found?,
        };
        let same = self.expected.iter().find(|sum| found.contains(sum));
        Ok(same.map_or(ExpectedSum::Other, |sum| ExpectedSum::Content(sum.kind)))
    }

    fn verdict(
        &self,
        wrong_sum: Option<SumKind>,
        expected: ExpectedSum,
        content: Option<&CheckedContent>,
        findings: &[ImageFinding],
    ) -> Verdict {
        let has_digests = self.image.manifest().is_some();
        let is_sound = (wrong_sum.is_none() || has_digests) && findings.is_empty();
        let Some(content) = content.filter(|_| is_sound) else { return Verdict::Damaged };
        let missing = content.survey.missing();
        // With matching digests the image is complete, whatever its table says.
        if !missing.is_zero() && !has_digests {
            return Verdict::CutShort(missing);
        }
        let is_meant = matches!(expected, ExpectedSum::File(_) | ExpectedSum::Content(_));
        match has_digests || !self.listed.is_empty() || is_meant {
            true => Verdict::Whole,
            false if content.survey.is_unknown() => Verdict::Unknown,
            false => Verdict::Readable,
        }
    }
}
