//! `imbrik check`: is an image whole, and is it what a card holds?

use crate::{
    args::CheckArgs,
    command::show::start_lines,
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    pipe,
    render::{Out, Tone, count, json, listed, quoted, size, time},
    resolve,
    session::Session,
};
use imbrik_core::{
    Class,
    image::{Container, Image, Sum, SumFile, SumKind, TILE, pasted, publish_beside, tile_count},
    layout::{Fit, Occupancy, Part, Plan, Reference, Survey, Target, references},
    progress::Watch,
    store::{Counted, ReadAt, Tally},
    transfer::{Differences, check_tiles, compare, sums_of},
    units::{ByteLen, Span},
};
use serde_json::json;
use std::{
    fs,
    path::{Path, PathBuf},
    sync::Arc,
    time::Instant,
};

/// How many differing places are told one by one.
const TOLD: usize = 4;

pub(crate) fn run(session: &Session, args: &CheckArgs) -> Outcome<Exit> {
    let started = Instant::now();
    let expected = args.expect.as_deref().map(pasted).transpose()?.unwrap_or_default();
    let image = session
        .open_image(&args.image)
        .state("The image was only read.")
        .next("If there is another copy of it, check that one.")?;
    let is_pipe = pipe::is_pipe(&args.image);
    let listed = if is_pipe { Vec::new() } else { listed_sums(&args.image)? };
    let to_make = to_make(args, &listed, is_pipe)?;
    let against = args.against.as_deref().map(|name| resolve::card(&session.fleet, name));
    let against = against.transpose()?;
    let digests = match image.manifest() {
        Some(manifest) => Some(manifest.tiles.digests()?),
        None => None,
    };
    let mut kinds: Vec<_> = listed.iter().chain(&expected).map(|sum| sum.kind).collect();
    kinds.extend(to_make);
    kinds.sort_by_key(|kind| kind.name());
    kinds.dedup();
    let steps = 1 + usize::from(!kinds.is_empty()) + usize::from(against.is_some());
    let progress = session.progress(steps);
    let cancel = &session.environment.interrupt.cancel;
    let watch = Watch { observer: &progress, cancel };
    let unfinished = "The image was only read; nothing is known of the rest.";
    let found = match &kinds[..] {
        [] => Vec::new(),
        kinds => sums_of(&**image.file(), kinds, watch).state(unfinished)?,
    };
    let wrong_sum = listed.iter().find(|sum| !found.contains(sum)).map(|sum| sum.kind);
    let expected = match &expected[..] {
        [] => Expected::Nothing,
        sums => {
            let unpacked = (image.container() != Container::Raw).then_some(&image);
            Expected::of(sums, &found, unpacked, watch).state(unfinished)?
        }
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
    let references = match &tiles.spans[..] {
        [] => {
            let survey = Survey::of(&**image.content()).state(unfinished)?;
            references(&**image.content(), &survey).state(unfinished)?
        }
        _ => Vec::new(),
    };
    let mut report = Report {
        image: &image,
        sums: &listed,
        wrong_sum,
        expected,
        tiles: &tiles,
        card: card.as_ref(),
        references: &references,
        made: None,
    };
    if let Some(kind) = to_make
        && report.exit() == Exit::Done
        && let Some(sum) = found.iter().find(|sum| sum.kind == kind)
    {
        let made = publish_beside(&args.image, sum, session.environment.owner);
        report.made = Some(made.state("The image is whole; its checksum file was not made.")?);
    }
    let exit = report.exit();
    if session.out.is_json() {
        let more = json!({
            "exit": exit.code(),
            "image": image.path().to_string_lossy(),
            "container": image.container().to_string(),
            "card_size": image.content().size().get(),
            "checksums": listed.iter().map(|sum| sum.kind.name()).collect::<Vec<_>>(),
            "checksum_differs": wrong_sum.map(SumKind::name),
            "checksum_made": report.made.as_ref().map(|path| path.to_string_lossy()),
            "expected": report.expected.word(),
            "has_digests": digests.is_some(),
            "differing": json::spans(&tiles.spans),
            "findings": image.findings(),
            "references": references.len(),
            "references_missing": references.iter().filter(|r| !r.is_found).count(),
            "against": args.against.as_ref().map(|path| path.to_string_lossy()),
            "card_differing": card.as_ref().map(|found| json::spans(&found.differing.spans)),
            "card_differing_places": card.as_ref().map(|found| found.places.clone()),
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

/// The checksum file that is to be made, when there is none of its kind.
fn to_make(args: &CheckArgs, listed: &[Sum], is_pipe: bool) -> Outcome<Option<SumKind>> {
    let Some(name) = &args.sum else { return Ok(None) };
    let kind: SumKind = name.parse()?;
    if is_pipe {
        return Err(Failure::usage("a checksum file stands beside an image, and - has no place"));
    }
    Ok(Some(kind).filter(|kind| !listed.iter().any(|sum| sum.kind == *kind)))
}

/// What a hash that was pasted turned out to be.
enum Expected {
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
    fn of(
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
    fn word(&self) -> Option<&'static str> {
        match self {
            Self::Nothing => None,
            Self::File(_) => Some("file"),
            Self::Content(_) => Some("content"),
            Self::Other => Some("differs"),
        }
    }
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
) -> Outcome<OnCard> {
    let nothing = "The image itself was checked; the card was not compared.";
    let survey = Survey::of(&**image.content()).state(nothing)?;
    let target = Target { size: card.size, sector: card.sector };
    let exact = image.manifest().is_some_and(|manifest| manifest.exact);
    let occupancy = match exact {
        true => None,
        false => Some(Occupancy::of(image.content(), &survey).state(nothing)?),
    };
    let source = session.fleet.host_of(card).open_source(card).state(nothing)?;
    let source: Arc<dyn ReadAt> = Arc::new(Counted::new(source, tally));
    let on_card = Survey::of(&*source).state(nothing)?;
    let content = Arc::clone(image.content());
    // A card on which a volume got another size when it was restored is compared with that.
    let plan = match (&occupancy, resized(&survey, &on_card, card.size)) {
        (Some(occupancy), Some(fit)) => {
            Plan::fit(Arc::clone(&content), &survey, occupancy, &fit, session.work())
                .or_else(|_| Plan::restore(content, &survey, Some(occupancy), target))
        }
        _ => Plan::restore(content, &survey, occupancy.as_ref(), target),
    };
    let plan = plan.map_err(|error| {
        let exit =
            if error.class() == Class::NoRoom { Exit::Mismatch } else { error.class().into() };
        Failure { exit, ..Failure::from(error) }.state(nothing)
    })?;
    // The card as `save` would see it: what is void there, such as an old journal, is no difference.
    let source: Arc<dyn ReadAt> = match exact {
        true => source,
        false => {
            let occupancy = Occupancy::of(&source, &on_card).state(nothing)?;
            Arc::new(Plan::save(source, &occupancy)?.view)
        }
    };
    let differing = compare(&plan.view, source, watch).state(nothing)?;
    let places = survey.places_of(&differing.spans);
    let places = places.iter().map(|(place, len)| (place.clone(), len.get())).collect();
    Ok(OnCard { differing, places })
}

/// How the partitions of a card stand when volumes got another size when it was restored; `None` when
/// none did.
fn resized(image: &Survey, card: &Survey, size: ByteLen) -> Option<Fit> {
    let len = |part: &Part| part.volume.as_ref().map(|volume| volume.size);
    let same = |(image, on_card): &(&Part, &Part)| {
        image.number == on_card.number
            && image.volume.is_some() == on_card.volume.is_some()
            && image.span.is_empty() == on_card.span.is_empty()
    };
    let pairs = || image.parts.iter().zip(&card.parts);
    let is_alike = image.parts.len() == card.parts.len() && pairs().all(|pair| same(&pair));
    let differs = |(image, on_card): (&Part, &Part)| {
        image.span != on_card.span || (image.can_be_reshaped() && len(image) != len(on_card))
    };
    if !is_alike || !pairs().any(differs) {
        return None;
    }
    let places = pairs().map(|(image, on_card)| {
        let other = len(on_card).filter(|now| image.can_be_reshaped() && len(image) != Some(*now));
        (on_card.span, other)
    });
    Some(Fit::Like { size, places: places.collect() })
}

/// Where a card differs.
struct OnCard {
    differing: Differences,
    /// How many bytes differ in each volume and gap.
    places: Vec<(String, u64)>,
}

struct Report<'a> {
    image: &'a Image,
    sums: &'a [Sum],
    wrong_sum: Option<SumKind>,
    expected: Expected,
    tiles: &'a Differences,
    card: Option<&'a OnCard>,
    references: &'a [Reference],
    /// The checksum file that was made.
    made: Option<PathBuf>,
}

impl Report<'_> {
    fn is_whole(&self) -> bool {
        self.wrong_sum.is_none() && self.tiles.spans.is_empty() && self.image.findings().is_empty()
    }

    fn exit(&self) -> Exit {
        let card_differs = self.card.is_some_and(|found| !found.differing.spans.is_empty());
        let is_other = matches!(self.expected, Expected::Other);
        let good = self.is_whole() && !card_differs && !is_other;
        if good { Exit::Done } else { Exit::Mismatch }
    }

    fn show(&self, out: &Out, against: Option<&Path>, took: &str) {
        let good = |text: &str| out.paint(Tone::Good, text);
        let bad = |text: &str| out.paint(Tone::Alarm, text);
        let size = self.image.content().size();
        out.line("");
        out.line(&format!("Container  {}, a card of {}", self.image.container(), size::both(size)));
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
        for line in start_lines(out, "Start      ", self.references) {
            out.line(&line);
        }
        if let (Some(found), Some(card)) = (self.card, against) {
            match &found.differing.spans[..] {
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
                    for (place, len) in &found.places {
                        let len = size::short(ByteLen::new(*len));
                        out.line(&format!("           {len} in {place}"));
                    }
                    places(out, spans, "of the card");
                }
            }
        }
        let path = quoted(self.image.path());
        let is_other = matches!(self.expected, Expected::Other);
        match (self.is_whole(), self.exit()) {
            (true, Exit::Mismatch) if is_other => {
                out.line(&format!("{path} can be read, and is not the image that was meant."));
            }
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
