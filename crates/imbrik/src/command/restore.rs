//! `imbrik restore`: image to cards.

use crate::{
    args::RestoreArgs,
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    pipe,
    render::{listed, quoted},
    resolve,
    session::Session,
    writing::{Chosen, Source, SourceKind, Writing},
};
use imbrik_core::{
    image::Image,
    layout::{Part, WORTH_GROWING},
    operation::{self, SourceOptions, SourceRefusal},
    progress::Watch,
    units::Span,
};

const UNTOUCHED: &str = "Nothing was written to the card.";

pub(crate) fn run(session: &Session, args: &RestoreArgs) -> Outcome<Exit> {
    let writing = Writing::new(session, "restore", &args.write);
    // Before an archive is unpacked, which can take long.
    let cards = writing.cards(&args.cards)?;
    let image = session
        .open_image(&args.image)
        .state(UNTOUCHED)
        .next("Run `imbrik check` for details, or try another copy of the image.")?;
    let damaged = if args.damaged { damaged_in(session, &image)? } else { Vec::new() };
    let options = SourceOptions { starts_at: args.starts_at, as_is: args.as_is, damaged };
    let known = session.waiting("examining the volumes of the image", || {
        operation::Source::of_image(&image, &options)
    });
    let known = known.map_err(|refusal| refused(&image, refusal))?;
    let mut source = Source { from: SourceKind::Image(&image), known, tally: None, frozen: None };
    if asks_to_fill(session, args, &image, &source.known, &cards) {
        source.known.fills = true;
    }
    let mut into = args.into.clone();
    if let Some(name) = &args.only {
        let index = resolve::part_index(&source.known.survey, name, &args.image);
        let index = index.state(UNTOUCHED)?;
        let number = source.known.survey.parts.get(index).and_then(|part| part.number);
        into = into.or(number.map(|number| number.to_string()));
        // Never to the whole card: it would lose its table.
        if into.is_none() {
            return Err(Failure::usage("the volume in the image has no partition number")
                .state(UNTOUCHED)
                .next("Name the partition of the card with --into."));
        }
        source.known = source.known.only(index).state(UNTOUCHED)?;
    }
    writing.go(source, cards, into.as_deref())
}

/// Asks if the last volume of an image by another program is to fill a bigger card: whether it filled its own card is not
/// recorded.
fn asks_to_fill(
    session: &Session,
    args: &RestoreArgs,
    image: &Image,
    known: &operation::Source,
    cards: &[Chosen],
) -> bool {
    let shape = &args.write.shape;
    let is_settled = shape.fill || shape.keep_size || shape.shares.give_to.is_some();
    let is_part = args.only.is_some() || args.into.is_some();
    if is_settled || is_part || args.write.plan || args.write.yes || image.manifest().is_some() {
        return false;
    }
    let larger =
        |chosen: &&Chosen| chosen.card.size.saturating_sub(known.survey.size) >= WORTH_GROWING;
    let names: Vec<_> =
        cards.iter().filter(larger).map(|chosen| quoted(&chosen.card.path)).collect();
    let last = known.survey.last_resizable().and_then(|last| known.survey.parts.get(last));
    let survey = &known.survey;
    let is_last = |part: &&Part| {
        let ends_last = survey.parts.iter().all(|other| other.span.end() <= part.span.end());
        known.may_resize && survey.reaches_end() && ends_last
    };
    match last.filter(is_last) {
        Some(part) if !names.is_empty() => session.agrees(&format!(
            "The last volume, {}, ends where the image ends. Grow it to fill {}?",
            part.full_title(),
            listed(&names)
        )),
        _ => false,
    }
}

/// Which tiles of the image are damaged. They become zeros.
fn damaged_in(session: &Session, image: &Image) -> Outcome<Vec<Span>> {
    let progress = session.progress(1);
    let watch = Watch { observer: &progress, cancel: &session.environment.interrupt.cancel };
    operation::damage_in(image, watch).state(UNTOUCHED)
}

fn refused(image: &Image, refusal: SourceRefusal) -> Failure {
    let title = pipe::title(image.path());
    let damage = "Run `imbrik check` for details; --damaged writes the intact part.";
    let (failure, next) = match refusal {
        SourceRefusal::StartsBehindTheEnd { .. } => {
            (Failure::usage(format!("--starts-at: {refusal}")), damage.to_owned())
        }
        SourceRefusal::Preface(at) => (
            Failure::refused(refusal.to_string()),
            format!(
                "Add --starts-at {} to skip it, or --as-is to write the file unchanged.",
                at.get()
            ),
        ),
        SourceRefusal::Stranger(kind) => (
            Failure::refused(format!("{title} is {kind}, not the image of a card")),
            match kind.contains("archive") {
                true => "Unpack it, and restore the image that is in it.".to_owned(),
                false => "Check if the download is complete.".to_owned(),
            },
        ),
        SourceRefusal::Failed(error) => (Failure::from(error), damage.to_owned()),
        _ => (
            Failure::refused(format!(
                "{title} has no known content: no partition table and no volume"
            )),
            "If it is the right file anyway, add --as-is.".to_owned(),
        ),
    };
    failure.state(UNTOUCHED).next(next)
}
