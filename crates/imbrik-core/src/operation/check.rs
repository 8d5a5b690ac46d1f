//! Whether an image is whole.

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

/// Which tiles of `image` are damaged, in order and joined: those that are not what their digests say,
/// and those that cannot be decoded. One without digests is only decoded.
///
/// # Errors
/// When the image file cannot be read, its digests make no sense, or stopping was requested.
pub fn damage_in(image: &Image, watch: Watch<'_>) -> Result<Vec<Span>> {
    Ok(tiles_of(image, watch)?.spans)
}

fn tiles_of(image: &Image, watch: Watch<'_>) -> Result<Differences> {
    let digests = match image.manifest() {
        Some(manifest) => {
            let digests = manifest.tiles.digests()?;
            // The next image that is made of it would go by them.
            manifest.tiles.pieces(&digests)?;
            digests
        }
        None => Vec::new(),
    };
    check_tiles(image, &digests, watch)
}

/// What an image is held against.
pub struct ImageCheck<'a> {
    /// The image.
    pub image: &'a Image,
    /// The hashes that checksum files beside it have for it: each must be that of the file.
    pub listed: &'a [Sum],
    /// Hashes one of which is meant, by kind: that of the file, or of what is in it.
    pub expected: &'a [Sum],
    /// A hash that is wanted of it.
    pub make: Option<SumKind>,
}

/// What a hash that was expected turned out to be of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ExpectedSum {
    /// None was expected.
    Nothing,
    /// The file as it is.
    File(SumKind),
    /// What is in it.
    Content(SumKind),
    /// Something else.
    Other,
}

/// What was found of an image.
pub struct CheckedImage {
    /// The hashes of the file that somebody asked for.
    pub sums: Vec<Sum>,
    /// The kind of the first listed hash that is another one.
    pub wrong_sum: Option<SumKind>,
    /// What the expected hash is of.
    pub expected: ExpectedSum,
    /// Which of its tiles are damaged.
    pub tiles: Differences,
    /// What is wrong with the file besides its tiles.
    pub findings: Vec<ImageFinding>,
    /// What is in it, and what its volumes say of themselves, each with its place in the survey;
    /// nothing of a damaged one, which is not worth much.
    pub content: Option<CheckedContent>,
    /// What is to be thought of it.
    pub verdict: Verdict,
}

/// What is in an image that is not damaged.
pub struct CheckedContent {
    /// What is on the card.
    pub survey: Survey,
    /// What its files need to start.
    pub references: Vec<Reference>,
    /// What its volumes say of themselves, each with its place in the survey.
    pub volumes: Vec<(usize, Examined)>,
}

/// What is to be thought of an image.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// It is what was saved, or hashed.
    Whole,
    /// It can be read, and nothing tells what it should be.
    Readable,
    /// By its own table or volume, so much is missing at its end.
    CutShort(ByteLen),
    /// It can be read, and holds nothing that is known.
    Unknown,
    /// It is not what was saved.
    Damaged,
}

impl ImageCheck<'_> {
    /// The kinds of hashes of the file that are made.
    fn kinds(&self) -> Vec<SumKind> {
        let all = self.listed.iter().chain(self.expected).map(|sum| sum.kind);
        let mut kinds: Vec<_> = all.chain(self.make).collect();
        kinds.sort_by_key(|kind| kind.name());
        kinds.dedup();
        kinds
    }

    /// How many steps it has, as far as that is known beforehand.
    #[must_use]
    pub fn steps(&self) -> usize {
        if self.kinds().is_empty() { 1 } else { 2 }
    }

    /// Reads the whole image, and holds it against all that.
    ///
    /// # Errors
    /// When the image file cannot be read, or stopping was requested. Damage is no error.
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

    /// Compares the hashes that are expected, of which one is meant, with those `found` of the file
    /// and, only then, with what is in it: publishers hash the one or the other.
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
            // The tiles tell where.
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
        // Digests tell that all is there that was saved, whatever its table says.
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
