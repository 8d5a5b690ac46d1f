//! `imbrik check`: is an image whole, and is it what a card holds?

use crate::{
    args::CheckArgs,
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    render::{Out, Tone, count, json, quoted, size, time},
    resolve,
    session::Session,
};
use imbrik_core::{
    Class,
    image::{Image, Sum, SumFile, SumKind, TILE, tile_count},
    layout::{Occupancy, Plan, Survey, Target},
    store::{Counted, ReadAt, Tally},
    transfer::{Differences, Watch, check_sums, check_tiles, compare},
    units::{ByteLen, Span},
};
use serde_json::json;
use std::{fs, path::Path, sync::Arc, time::Instant};

/// How many differing places are told one by one.
const TOLD: usize = 4;

pub(crate) fn run(session: &Session, args: &CheckArgs) -> Outcome<Exit> {
    let started = Instant::now();
    resolve::must_be_an_image(&session.fleet, &args.image)?;
    let image = Image::open(&args.image).map_err(|error| {
        let class = error.class();
        let failure = Failure::from(error);
        match class {
            // For this command, damage is the answer, not an accident.
            Class::Corrupt => Failure { exit: Exit::Mismatch, ..failure }
                .state("The image is not whole.")
                .next("If there is another copy of it, check that one."),
            _ => failure,
        }
    })?;
    let sums = listed_sums(&args.image)?;
    let against = args.against.as_deref().map(|name| resolve::card(&session.fleet, name));
    let against = against.transpose()?;
    let digests = match image.manifest() {
        Some(manifest) => Some(manifest.tiles.digests()?),
        None => None,
    };
    let steps = 1 + usize::from(!sums.is_empty()) + usize::from(against.is_some());
    let progress = session.progress(steps);
    let cancel = &session.environment.interrupt.cancel;
    let watch = Watch { observer: &progress, cancel };
    let unfinished = "The image was only read; nothing is known of the rest.";
    let wrong_sum = match &sums[..] {
        [] => None,
        sums => check_sums(&image, sums, watch).state(unfinished)?,
    };
    let tiles = check_tiles(&image, digests.as_deref().unwrap_or_default(), watch);
    let tiles = tiles.state(unfinished)?;
    let tally = Tally::default();
    let card = match &against {
        Some(card) if tiles.spans.is_empty() => {
            Some(against_card(session, &image, card, &tally, watch)?)
        }
        _ => None,
    };
    drop(progress);
    let report =
        Report { image: &image, sums: &sums, wrong_sum, tiles: &tiles, card: card.as_ref() };
    let exit = report.exit();
    if session.out.is_json() {
        let more = json!({
            "exit": exit.code(),
            "image": image.path().to_string_lossy(),
            "container": image.container().to_string(),
            "card_size": image.content().size().get(),
            "checksums": sums.iter().map(|sum| sum.kind.name()).collect::<Vec<_>>(),
            "checksum_differs": wrong_sum.map(SumKind::name),
            "has_digests": digests.is_some(),
            "differing": json::spans(&tiles.spans),
            "findings": image.findings(),
            "against": args.against.as_ref().map(|path| path.to_string_lossy()),
            "card_differing": card.as_ref().map(|found| json::spans(&found.spans)),
            "card_bytes_read": tally.read().get(),
            "seconds": started.elapsed().as_secs_f64(),
        });
        let result = if exit == Exit::Done { "done" } else { "differs" };
        session.out.line(&json::object("check", result, more).to_string());
    } else {
        report.show(&session.out, args.against.as_deref(), &time::span(started.elapsed()));
    }
    Ok(exit)
}

/// The hashes in the checksum files beside `image`.
fn listed_sums(image: &Path) -> Outcome<Vec<Sum>> {
    let mut sums = Vec::new();
    for kind in SumKind::ALL {
        let path = kind.path_beside(image);
        let Ok(bytes) = fs::read(&path) else { continue };
        let hex = SumFile::decode(&bytes);
        let hex = hex.hash_of(image.file_name().unwrap_or_default()).ok_or_else(|| {
            Failure::new(Exit::Mismatch, format!("{} has no line for this image", quoted(&path)))
                .state("The image itself was not looked at.")
                .next("Remove that file, or put the right one in its place.")
        })?;
        sums.push(Sum { kind, hex: hex.to_owned() });
    }
    Ok(sums)
}

fn against_card(
    session: &Session,
    image: &Image,
    card: &imbrik_core::card::Card,
    tally: &Tally,
    watch: Watch<'_>,
) -> Outcome<Differences> {
    let nothing = "The image itself was checked; the card was not compared.";
    let survey = Survey::of(&**image.content()).state(nothing)?;
    let target = Target { size: card.size, sector: card.sector };
    let exact = image.manifest().is_some_and(|manifest| manifest.exact);
    let occupancy = match exact {
        true => None,
        false => Some(Occupancy::of(&**image.content(), &survey).state(nothing)?),
    };
    let plan = Plan::restore(Arc::clone(image.content()), &survey, occupancy.as_ref(), target);
    let plan = plan.map_err(|error| {
        let exit =
            if error.class() == Class::NoRoom { Exit::Mismatch } else { error.class().into() };
        Failure { exit, ..Failure::from(error) }.state(nothing)
    })?;
    let source = session.fleet.host_of(card).open_source(card).state(nothing)?;
    let source: Arc<dyn ReadAt> = Arc::new(Counted::new(source, tally));
    // The card as `save` would see it: what is void there, such as an old journal, is no difference.
    let source: Arc<dyn ReadAt> = match exact {
        true => source,
        false => {
            let survey = Survey::of(&*source).state(nothing)?;
            let occupancy = Occupancy::of(&*source, &survey).state(nothing)?;
            Arc::new(Plan::save(source, &occupancy)?.view)
        }
    };
    compare(&plan.view, source, watch).state(nothing)
}

struct Report<'a> {
    image: &'a Image,
    sums: &'a [Sum],
    wrong_sum: Option<SumKind>,
    tiles: &'a Differences,
    card: Option<&'a Differences>,
}

impl Report<'_> {
    fn is_whole(&self) -> bool {
        self.wrong_sum.is_none() && self.tiles.spans.is_empty() && self.image.findings().is_empty()
    }

    fn exit(&self) -> Exit {
        let card_differs = self.card.is_some_and(|found| !found.spans.is_empty());
        if self.is_whole() && !card_differs { Exit::Done } else { Exit::Mismatch }
    }

    fn show(&self, out: &Out, against: Option<&Path>, took: &str) {
        let good = |text: &str| out.paint(Tone::Good, text);
        let bad = |text: &str| out.paint(Tone::Alarm, text);
        let size = self.image.content().size();
        out.line("");
        out.line(&format!("Container  {}, a card of {}", self.image.container(), size::both(size)));
        let kinds: Vec<_> = self.sums.iter().map(|sum| sum.kind.to_string()).collect();
        match (self.wrong_sum, &kinds[..]) {
            (None, []) => out.line("Checksum   no checksum file beside it"),
            (None, kinds) => {
                out.line(&format!("Checksum   {} {}", kinds.join(" and "), good("matches")));
            }
            (Some(kind), _) => out.line(&format!(
                "Checksum   {kind} {}",
                bad("does not match: the file is not the one that was hashed")
            )),
        }
        let tiles = tile_count(size);
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
        if let (Some(found), Some(card)) = (self.card, against) {
            match &found.spans[..] {
                [] => {
                    out.line(&format!("Card       {} {}", card.display(), good("holds the same")))
                }
                spans => {
                    let bytes: ByteLen = spans.iter().map(|span| span.len()).sum();
                    out.line(&format!(
                        "Card       {} {} in {}, {}",
                        card.display(),
                        bad("differs"),
                        count(spans.len() as u64, "place"),
                        size::both(bytes)
                    ));
                    places(out, spans, "of the card");
                }
            }
        }
        let path = quoted(self.image.path());
        match (self.is_whole(), self.exit()) {
            (true, Exit::Done) => out.line(&format!("{path} is whole; checked in {took}.")),
            (true, _) => out.line(&format!("{path} is whole, and not what the card holds.")),
            (false, _) => {
                out.line(&format!("{path} is damaged: do not rely on it."));
                out.line("If there is another copy of it, check that one.");
            }
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
