//! The result of a check, as text or JSON.

use super::{Listed, against::OnCard};
use crate::{
    exit::Exit,
    pipe,
    render::{Out, Tone, count, json, listed, lost, quoted, size, start::start_lines, time},
};
use imbrik_core::{
    fs::{Examined, State},
    image::{Image, ImageFinding, ListedLoss, Manifest, TILE, tile_count},
    layout::{Part, Reference, Survey},
    operation::{CheckedImage, ExpectedSum, Verdict},
    store::Tally,
    units::{ByteLen, Span},
};
use std::{
    path::{Path, PathBuf},
    time::Duration,
};

/// The maximum number of listed differences.
const TOLD: usize = 4;

/// The result.
pub(super) struct Report<'a> {
    pub(super) image: &'a Image,
    pub(super) listed: &'a [Listed],
    /// A checksum list next to it without a line for it.
    pub(super) unlisted_in: Option<PathBuf>,
    pub(super) found: &'a CheckedImage,
    pub(super) card: Option<&'a OnCard>,
    /// The checksum file that was made.
    pub(super) made: Option<PathBuf>,
    /// The connected cards with the same ids.
    pub(super) cards: Vec<String>,
    /// The card that it was compared with, as on the command line.
    pub(super) against: Option<&'a Path>,
    /// The number of bytes read from the card.
    pub(super) tally: &'a Tally,
    pub(super) took: Duration,
}

fn word(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Whole => "intact",
        Verdict::Readable => "readable",
        Verdict::CutShort(_) => "truncated",
        Verdict::Unknown => "unknown",
        Verdict::Damaged => "damaged",
    }
}

fn for_programs(verdict: Verdict) -> json::Verdict {
    match verdict {
        Verdict::Whole => json::Verdict::Intact,
        Verdict::Readable => json::Verdict::Readable,
        Verdict::CutShort(_) => json::Verdict::Truncated,
        Verdict::Unknown => json::Verdict::Unknown,
        Verdict::Damaged => json::Verdict::Damaged,
    }
}

fn expected_for_programs(expected: ExpectedSum) -> Option<json::ExpectedOf> {
    match expected {
        ExpectedSum::Nothing => None,
        ExpectedSum::File(_) => Some(json::ExpectedOf::File),
        ExpectedSum::Content(_) => Some(json::ExpectedOf::Content),
        ExpectedSum::Other => Some(json::ExpectedOf::Differs),
    }
}

impl Report<'_> {
    fn verdict(&self) -> Verdict {
        self.found.verdict
    }

    /// The survey of its content, unless it is damaged.
    fn survey(&self) -> Option<&Survey> {
        self.found.content.as_ref().map(|content| &content.survey)
    }

    fn references(&self) -> &[Reference] {
        self.found.content.as_ref().map_or(&[], |content| &content.references)
    }

    fn volumes(&self) -> &[(usize, Examined)] {
        self.found.content.as_ref().map_or(&[], |content| &content.volumes)
    }

    pub(super) fn exit(&self) -> Exit {
        let card_differs =
            self.card.is_some_and(|found| !found.compared.differing.spans.is_empty());
        let is_other = matches!(self.found.expected, ExpectedSum::Other);
        let is_good = matches!(self.verdict(), Verdict::Whole | Verdict::Readable);
        let is_as_hashed = self.found.wrong_sum.is_none();
        if is_good && is_as_hashed && !card_differs && !is_other {
            Exit::Done
        } else {
            Exit::Mismatch
        }
    }

    /// Prints the result.
    pub(super) fn show(&self, out: &Out) {
        if out.is_json() {
            let result = json::result(self.exit());
            return out.line(&json::object("check", result, self.json()).to_string());
        }
        out.line("");
        let size = size::both(self.image.content().size());
        out.line(&format!("Container       {}, a card of {size}", self.image.container()));
        self.show_checksum(out);
        self.show_expected(out);
        self.show_tiles(out);
        self.show_manifest(out);
        self.show_volumes(out);
        for line in start_lines(out, "Boot references ", self.references()) {
            out.line(&line);
        }
        if let (Some(found), Some(card)) = (self.card, self.against) {
            show_card(out, found, card);
        }
        if !self.cards.is_empty() {
            let have = if self.cards.len() == 1 { "has" } else { "have" };
            out.line(&format!("Cards           {} {have} the same ids", listed(&self.cards)));
        }
        self.show_verdict(out);
    }

    fn json(&self) -> json::Checked {
        let volumes = self.volumes().iter().map(|(index, found)| json::VolumeState {
            partition: self.survey().and_then(|survey| survey.parts.get(*index)?.number),
            state: found.state.to_string(),
        });
        json::Checked {
            exit: self.exit().code(),
            verdict: for_programs(self.verdict()),
            missing_bytes: self.survey().map(|survey| survey.missing().get()),
            volumes: volumes.collect(),
            image: json::path(self.image.path()),
            container: self.image.container().to_string(),
            card_size: self.image.content().size().get(),
            checksums: self.listed.iter().map(|listed| listed.sum.kind.name().to_owned()).collect(),
            checksum_differs: self.found.wrong_sum.map(|kind| kind.name().to_owned()),
            checksum_made: self.made.as_deref().map(json::path),
            expected: expected_for_programs(self.found.expected),
            has_digests: self.image.manifest().is_some(),
            differing: json::spans(&self.found.tiles.spans),
            findings: json::told(&self.found.findings),
            references: self.references().len(),
            references_missing: self.references().iter().filter(|r| !r.is_found).count(),
            against: self.against.map(|other| match self.card {
                Some(found) if found.is_image => json::path(other),
                _ => other.to_string_lossy().into_owned(),
            }),
            card_differing: self.card.map(|found| json::spans(&found.compared.differing.spans)),
            card_differing_places: self.card.map(|found| json::places(&found.compared.places)),
            card_bytes_read: self.tally.read().get(),
            cards: self.cards.clone(),
            seconds: self.took.as_secs_f64(),
        }
    }

    fn show_checksum(&self, out: &Out) {
        let good = |text: &str| out.paint(Tone::Good, text);
        let bad = |text: &str| out.paint(Tone::Alarm, text);
        let name = |file: &Path| quoted(file.file_name().unwrap_or_default().as_ref());
        let wrong = self.wrong();
        if let Some(path) = &self.made {
            out.line(&format!("Checksum        written to {}", quoted(path)));
        } else if self.listed.is_empty() && self.unlisted_in.is_none() {
            out.line("Checksum        no checksum file next to it");
        }
        for listed in self.listed {
            let is_wrong = wrong.is_some_and(|wrong| wrong.file == listed.file);
            let kind = listed.sum.kind;
            let verdict = match (is_wrong, self.verdict()) {
                (false, _) if self.found.sums.contains(&listed.sum) => good("matches"),
                (_, Verdict::Whole) => bad("does not match, but the image is intact"),
                _ => bad("does not match: the file is not the one that was hashed"),
            };
            let list = match kind.path_beside(self.image.path()) == listed.file {
                true => String::new(),
                false => format!(" in {}", name(&listed.file)),
            };
            out.line(&format!("Checksum        {kind}{list} {verdict}"));
        }
        if let Some(list) = &self.unlisted_in {
            out.line(&format!("Checksum        {} has no line for this image", name(list)));
        }
    }

    /// The first checksum next to it that does not match.
    fn wrong(&self) -> Option<&Listed> {
        self.listed.iter().find(|listed| !self.found.sums.contains(&listed.sum))
    }

    fn show_expected(&self, out: &Out) {
        let good = |text: &str| out.paint(Tone::Good, text);
        let bad = |text: &str| out.paint(Tone::Alarm, text);
        match self.found.expected {
            ExpectedSum::Nothing => {}
            ExpectedSum::File(kind) => {
                out.line(&format!("Expected        {} the given {kind}", good("matches")));
            }
            ExpectedSum::Content(kind) => out.line(&format!(
                "Expected        its content, unpacked, {} the given {kind}",
                good("matches")
            )),
            ExpectedSum::Other => out.line(&format!(
                "Expected        {}, neither compressed nor decompressed",
                bad("does not match the given hash")
            )),
        }
    }

    fn show_tiles(&self, out: &Out) {
        let good = |text: &str| out.paint(Tone::Good, text);
        let bad = |text: &str| out.paint(Tone::Alarm, text);
        let tiles = tile_count(self.image.content().size());
        match (self.image.manifest().is_some(), &self.found.tiles.spans[..]) {
            (true, []) => out.line(&format!(
                "Tiles           {} of 4 MiB {}",
                count(tiles, "tile"),
                good("match their digests")
            )),
            (false, []) => out.line(&format!(
                "Tiles           {} can be read; the image has no digests to compare them with",
                count(tiles, "tile")
            )),
            (_, spans) => {
                let number: u64 =
                    spans.iter().map(|span| span.len().get().div_ceil(TILE.get())).sum();
                out.line(&format!(
                    "Tiles           {} of {} {}",
                    number,
                    count(tiles, "tile"),
                    bad("do not match their digests")
                ));
                places(out, spans, "of the card's content");
            }
        }
    }

    fn show_manifest(&self, out: &Out) {
        let bad = |text: &str| out.paint(Tone::Alarm, text);
        for finding in &self.found.findings {
            out.line(&format!("File            {}", bad(&finding.to_string())));
        }
        if let (Some(manifest), []) = (self.image.manifest(), &self.found.findings[..]) {
            out.line(&format!("Manifest        {}", time::saved(manifest)));
            let unreadable: ByteLen =
                manifest.unreadable_spans().iter().map(|span| span.len()).sum();
            if !unreadable.is_zero() {
                out.line(&format!(
                    "                {} could not be read when it was saved, and are zeros",
                    size::both(unreadable)
                ));
            }
            let named: Vec<_> = manifest.lost.iter().map(ListedLoss::lost).collect();
            for line in lost::lines(&named) {
                out.line(&format!("                {line}"));
            }
        }
    }

    /// The states of its volumes: an image can be intact and its volumes not.
    fn show_volumes(&self, out: &Out) {
        let all = self.volumes().len() as u64;
        let Some(survey) = self.survey().filter(|_| all > 0) else { return };
        if self.volumes().iter().all(|(_, found)| found.state == State::Clean) {
            let in_use = self.image.manifest().is_some_and(|manifest| manifest.in_use);
            let words = match (in_use, all) {
                (true, _) => "clean: frozen while the card was in use",
                (false, 1) => "it was unmounted",
                (false, 2) => "both were unmounted",
                (false, _) => "all were unmounted",
            };
            return out.line(&format!("Volumes         {}, {words}", count(all, "volume")));
        }
        for (index, found) in self.volumes() {
            let title = survey.parts.get(*index).map(Part::full_title).unwrap_or_default();
            let state = match found.state {
                State::Clean => "was unmounted".to_owned(),
                State::ToReplay => "was not unmounted: its journal is to be replayed".to_owned(),
                State::Unclean => out.paint(Tone::Alarm, "was not unmounted"),
                State::Errors => out.paint(Tone::Alarm, "is marked as having errors"),
                State::Unknown => "was not checked".to_owned(),
            };
            out.line(&format!("Volumes         {title} {state}"));
        }
    }

    /// Returns whether nothing else is wrong than what other programs need to read the file.
    fn is_only_refused(&self) -> bool {
        let is_refusal =
            |finding: &ImageFinding| matches!(finding, ImageFinding::OthersRefuse { .. });
        self.found.tiles.spans.is_empty()
            && self.found.wrong_sum.is_none()
            && self.found.findings.iter().all(is_refusal)
    }

    fn show_verdict(&self, out: &Out) {
        let path = pipe::title(self.image.path());
        let is_other = matches!(self.found.expected, ExpectedSum::Other);
        let verdict = self.verdict();
        if let (Verdict::Whole, Some(wrong)) = (verdict, self.wrong()) {
            let beside = quoted(wrong.file.file_name().unwrap_or_default().as_ref());
            out.line(&format!("{path} is intact by its own digests; {beside} is wrong."));
            if wrong.sum.kind.path_beside(self.image.path()) == wrong.file {
                out.line(&format!(
                    "It was changed, or belongs to another file. Remove it; `imbrik check {path} \
                     --sum {}` writes a new one.",
                    wrong.sum.kind.name()
                ));
            }
            return;
        }
        match (verdict, self.exit()) {
            (Verdict::Damaged, _) if self.is_only_refused() => {
                out.line(&format!(
                    "{path}: the content is readable here, but other programs reject the file. To \
                     write it again: imbrik repack {path} NEW"
                ));
            }
            (Verdict::Damaged, _) => {
                out.line(&format!("{path} is damaged: do not rely on it."));
                out.line("If you have another copy, check that one.");
            }
            (Verdict::CutShort(missing), _) => {
                let missing = size::both(missing);
                out.line(&format!("{path} is truncated: {missing} are missing at its end."));
                out.line("If you have another copy, check that one.");
            }
            (Verdict::Unknown, _) => match self.image.is_rather() {
                Some(kind) => {
                    out.line(&format!("{path} is {kind}, not the image of a card."));
                    if kind.contains("archive") {
                        out.line("Unpack it, and check what is in it.");
                    }
                }
                None => out.line(&format!(
                    "{path} is readable, but has no known content: neither a partition table nor a \
                     volume."
                )),
            },
            (_, Exit::Mismatch) if is_other => {
                out.line(&format!("{path} is readable, but it is not the expected image."));
            }
            (Verdict::Whole, Exit::Done) => {
                let took = time::span(self.took);
                let shortfall = self.image.manifest().map_or(Vec::new(), Manifest::unreadable_spans);
                let shortfall: ByteLen = shortfall.iter().map(|span| span.len()).sum();
                match shortfall.is_zero() {
                    true => out.line(&format!("{path} is intact; checked in {took}.")),
                    false => out.line(&format!(
                        "{path} is what was saved, without {} of its card; checked in {took}.",
                        size::short(shortfall)
                    )),
                }
            }
            (Verdict::Readable, Exit::Done) => out.line(&format!(
                "{path} is readable; it has no digests that could show whether it is what was saved."
            )),
            (verdict, _) => {
                let other = match self.card {
                    Some(found) if found.is_image => "the other image",
                    _ => "the card",
                };
                out.line(&format!(
                    "{path} is {}, but {other} holds something else.",
                    word(verdict)
                ));
            }
        }
    }
}

fn show_card(out: &Out, found: &OnCard, card: &Path) {
    let good = |text: &str| out.paint(Tone::Good, text);
    let bad = |text: &str| out.paint(Tone::Alarm, text);
    let head = if found.is_image { "Image" } else { "Card" };
    match &found.compared.differing.spans[..] {
        [] => {
            let part = found.part.as_ref().map_or(String::new(), |part| format!("{part} of "));
            let table = match found.compared.is_plain_copy {
                true => "; its table is that of the image and not extended to the end of the card",
                false => "",
            };
            out.line(&format!(
                "{head:<15} {part}{} {}{table}",
                card.display(),
                good("holds the same")
            ));
        }
        spans => {
            let bytes: ByteLen = spans.iter().map(|span| span.len()).sum();
            out.line(&format!(
                "{head:<15} {} {} in {}, {}",
                card.display(),
                bad("differs"),
                count(spans.len() as u64, "place"),
                size::both(bytes)
            ));
            for (place, len) in &found.compared.places {
                let len = size::short(*len);
                out.line(&format!("                {len} in {place}"));
            }
            let unreadable = &found.compared.differing.unreadable;
            let unreadable: ByteLen = unreadable.iter().map(|span| span.len()).sum();
            if !unreadable.is_zero() {
                let unreadable = size::short(unreadable);
                out.line(&format!("                {unreadable} of that could not be read"));
            }
            places(out, spans, if found.is_image { "of its content" } else { "of the card" });
        }
    }
}

/// The first differing places, a line each.
fn places(out: &Out, spans: &[Span], of: &str) {
    for span in spans.iter().take(TOLD) {
        out.line(&format!("                {span} {of}"));
    }
    if let Some(more @ 1..) = spans.len().checked_sub(TOLD) {
        out.line(&format!("                and {}", count(more as u64, "more place")));
    }
}
