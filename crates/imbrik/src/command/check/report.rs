//! What a check found, told in lines or as JSON.

use super::{against::OnCard, expected::Expected};
use crate::{
    command::show::start_lines,
    exit::Exit,
    render::{Out, Tone, count, json, listed, quoted, size, time},
};
use imbrik_core::{
    image::{Image, Sum, SumKind, TILE, tile_count},
    layout::Reference,
    store::Tally,
    transfer::Differences,
    units::{ByteLen, Span},
};
use serde_json::{Value, json};
use std::{
    path::{Path, PathBuf},
    time::Duration,
};

/// How many differing places are told one by one.
const TOLD: usize = 4;

/// What was found.
pub(super) struct Report<'a> {
    pub(super) image: &'a Image,
    pub(super) sums: &'a [Sum],
    pub(super) wrong_sum: Option<SumKind>,
    pub(super) expected: Expected,
    pub(super) tiles: &'a Differences,
    pub(super) card: Option<&'a OnCard>,
    pub(super) references: &'a [Reference],
    /// The checksum file that was made.
    pub(super) made: Option<PathBuf>,
    /// The card that it was compared with, as it was typed.
    pub(super) against: Option<&'a Path>,
    /// What was read of the card.
    pub(super) tally: &'a Tally,
    pub(super) took: Duration,
}

impl Report<'_> {
    fn is_whole(&self) -> bool {
        self.wrong_sum.is_none() && self.tiles.spans.is_empty() && self.image.findings().is_empty()
    }

    pub(super) fn exit(&self) -> Exit {
        let card_differs = self.card.is_some_and(|found| !found.differing.spans.is_empty());
        let is_other = matches!(self.expected, Expected::Other);
        let good = self.is_whole() && !card_differs && !is_other;
        if good { Exit::Done } else { Exit::Mismatch }
    }

    /// Tells what was found.
    pub(super) fn show(&self, out: &Out) {
        if out.is_json() {
            let exit = self.exit();
            let result = if exit == Exit::Done { "done" } else { "differs" };
            return out.line(&json::object("check", result, self.json()).to_string());
        }
        out.line("");
        let size = size::both(self.image.content().size());
        out.line(&format!("Container  {}, a card of {size}", self.image.container()));
        self.show_checksum(out);
        self.show_expected(out);
        self.show_tiles(out);
        self.show_manifest(out);
        for line in start_lines(out, "Start      ", self.references) {
            out.line(&line);
        }
        if let (Some(found), Some(card)) = (self.card, self.against) {
            show_card(out, found, card);
        }
        self.show_verdict(out);
    }

    fn json(&self) -> Value {
        let on_card = |of: &dyn Fn(&OnCard) -> Value| self.card.map(of);
        json!({
            "exit": self.exit().code(),
            "image": self.image.path().to_string_lossy(),
            "container": self.image.container().to_string(),
            "card_size": self.image.content().size().get(),
            "checksums": self.sums.iter().map(|sum| sum.kind.name()).collect::<Vec<_>>(),
            "checksum_differs": self.wrong_sum.map(SumKind::name),
            "checksum_made": self.made.as_ref().map(|path| path.to_string_lossy()),
            "expected": self.expected.word(),
            "has_digests": self.image.manifest().is_some(),
            "differing": json::spans(&self.tiles.spans),
            "findings": self.image.findings(),
            "references": self.references.len(),
            "references_missing": self.references.iter().filter(|r| !r.is_found).count(),
            "against": self.against.map(|path| path.to_string_lossy()),
            "card_differing": on_card(&|found| json::spans(&found.differing.spans)),
            "card_differing_places": on_card(&|found| json!(found.places)),
            "card_bytes_read": self.tally.read().get(),
            "seconds": self.took.as_secs_f64(),
        })
    }

    fn show_checksum(&self, out: &Out) {
        let good = |text: &str| out.paint(Tone::Good, text);
        let bad = |text: &str| out.paint(Tone::Alarm, text);
        let kinds: Vec<_> = self.sums.iter().map(|sum| sum.kind.to_string()).collect();
        match (self.wrong_sum, &kinds[..]) {
            (None, []) => match &self.made {
                Some(path) => out.line(&format!("Checksum   put into {}", quoted(path))),
                None => out.line("Checksum   no checksum file beside it"),
            },
            (None, kinds) => {
                out.line(&format!("Checksum   {} {}", listed(kinds), good("matches")));
            }
            (Some(kind), _) => out.line(&format!(
                "Checksum   {kind} {}",
                bad("does not match: the file is not the one that was hashed")
            )),
        }
    }

    fn show_expected(&self, out: &Out) {
        let good = |text: &str| out.paint(Tone::Good, text);
        let bad = |text: &str| out.paint(Tone::Alarm, text);
        match self.expected {
            Expected::Nothing => {}
            Expected::File(kind) => {
                out.line(&format!("Expected   {} the {kind} that was given", good("has")));
            }
            Expected::Content(kind) => out.line(&format!(
                "Expected   its content, unpacked, {} the {kind} that was given",
                good("has")
            )),
            Expected::Other => out.line(&format!(
                "Expected   {}, neither packed nor unpacked",
                bad("does not have the hash that was given")
            )),
        }
    }

    fn show_tiles(&self, out: &Out) {
        let good = |text: &str| out.paint(Tone::Good, text);
        let bad = |text: &str| out.paint(Tone::Alarm, text);
        let tiles = tile_count(self.image.content().size());
        match (self.image.manifest().is_some(), &self.tiles.spans[..]) {
            (true, []) => out.line(&format!(
                "Tiles      {} {}",
                count(tiles, "tile"),
                good("match their digests")
            )),
            (false, []) => out.line(&format!(
                "Tiles      {} can be read; the image has no digests to compare them with",
                count(tiles, "tile")
            )),
            (_, spans) => {
                let number: u64 =
                    spans.iter().map(|span| span.len().get().div_ceil(TILE.get())).sum();
                out.line(&format!(
                    "Tiles      {} of {} {}",
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
        for finding in self.image.findings() {
            out.line(&format!("Manifest   {}", bad(finding)));
        }
        if let (Some(manifest), []) = (self.image.manifest(), self.image.findings()) {
            out.line(&format!("Manifest   {}", time::saved(manifest)));
            let lost: ByteLen = manifest.unreadable_spans().iter().map(|span| span.len()).sum();
            if !lost.is_zero() {
                out.line(&format!(
                    "           {} could not be read when it was saved, and are zeros",
                    size::both(lost)
                ));
            }
        }
    }

    fn show_verdict(&self, out: &Out) {
        let path = quoted(self.image.path());
        let is_other = matches!(self.expected, Expected::Other);
        match (self.is_whole(), self.exit()) {
            (true, Exit::Mismatch) if is_other => {
                out.line(&format!("{path} can be read, and is not the image that was meant."));
            }
            (true, Exit::Done) => {
                out.line(&format!("{path} is whole; checked in {}.", time::span(self.took)))
            }
            (true, _) => out.line(&format!("{path} is whole, and not what the card holds.")),
            (false, _) => {
                out.line(&format!("{path} is damaged: do not rely on it."));
                out.line("If there is another copy of it, check that one.");
            }
        }
    }
}

fn show_card(out: &Out, found: &OnCard, card: &Path) {
    let good = |text: &str| out.paint(Tone::Good, text);
    let bad = |text: &str| out.paint(Tone::Alarm, text);
    match &found.differing.spans[..] {
        [] => out.line(&format!("Card       {} {}", card.display(), good("holds the same"))),
        spans => {
            let bytes: ByteLen = spans.iter().map(|span| span.len()).sum();
            out.line(&format!(
                "Card       {} {} in {}, {}",
                card.display(),
                bad("differs"),
                count(spans.len() as u64, "place"),
                size::both(bytes)
            ));
            for (place, len) in &found.places {
                let len = size::short(ByteLen::new(*len));
                out.line(&format!("           {len} in {place}"));
            }
            places(out, spans, "of the card");
        }
    }
}

/// The first differing places, a line each.
fn places(out: &Out, spans: &[Span], of: &str) {
    for span in spans.iter().take(TOLD) {
        out.line(&format!("           {span} {of}"));
    }
    if let Some(more @ 1..) = spans.len().checked_sub(TOLD) {
        out.line(&format!("           and {}", count(more as u64, "more place")));
    }
}
