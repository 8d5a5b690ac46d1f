//! `imbrik check`: is an image whole, and is it what a card holds?

mod against;
mod expected;
mod report;

use crate::{
    args::CheckArgs,
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    pipe,
    render::quoted,
    resolve,
    session::Session,
};
use against::against_card;
use expected::Expected;
use imbrik_core::{
    image::{Container, Sum, SumFile, SumKind, pasted, publish_beside},
    layout::{Occupancy, Survey, references},
    progress::Watch,
    store::Tally,
    transfer::{check_tiles, sums_of},
};
use report::Report;
use std::{fs, path::Path, time::Instant};

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
    let content = image.content();
    // Of a damaged image, what it says of itself is not worth much.
    let survey = match &tiles.spans[..] {
        [] => Some(Survey::of(&**content).state(unfinished)?),
        _ => None,
    };
    let (references, volumes) = match &survey {
        Some(survey) => (
            references(&**content, survey).state(unfinished)?,
            Occupancy::of(content, survey).state(unfinished)?.volumes,
        ),
        None => Default::default(),
    };
    let mut report = Report {
        image: &image,
        sums: &listed,
        wrong_sum,
        expected,
        tiles: &tiles,
        card: card.as_ref(),
        references: &references,
        survey: survey.as_ref(),
        volumes: &volumes,
        made: None,
        against: args.against.as_deref(),
        tally: &tally,
        took: started.elapsed(),
    };
    if let Some(kind) = to_make
        && report.exit() == Exit::Done
        && let Some(sum) = found.iter().find(|sum| sum.kind == kind)
    {
        let made = publish_beside(&args.image, sum, session.environment.owner);
        report.made = Some(made.state("The image is whole; its checksum file was not made.")?);
    }
    report.show(&session.out);
    Ok(report.exit())
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
