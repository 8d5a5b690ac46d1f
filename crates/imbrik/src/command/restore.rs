//! `imbrik restore`: image to cards.

use super::write::{Source, SourceKind, Writing};
use crate::{
    args::RestoreArgs,
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    pipe,
    session::Session,
};
use imbrik_core::{
    image::Image,
    layout::{Occupancy, Survey, references, table_behind_a_preface},
    progress::Watch,
    store::{Blanked, ReadAt, Window},
    transfer::check_tiles,
    units::{ByteOffset, Span},
};
use std::sync::Arc;

const UNTOUCHED: &str = "Nothing was written to the card.";

pub(crate) fn run(session: &Session, args: &RestoreArgs) -> Outcome<Exit> {
    let image = session
        .open_image(&args.image)
        .state(UNTOUCHED)
        .next("`imbrik check` tells more; try another copy of the image.")?;
    let writing = Writing::new(session, "restore", &args.write);
    let cards = writing.cards(&args.cards)?;
    let damaged = if args.damaged { damaged_in(session, &image)? } else { Vec::new() };
    let (content, survey) = content(&image, args, &damaged)
        .next("`imbrik check` tells more; --damaged writes what is sound of it.")?;
    let source = Source { damaged, ..source(&image, content, survey, args)? };
    writing.go(source, cards, args.into.as_deref())
}

fn source<'a>(
    image: &'a Image,
    content: Arc<dyn ReadAt>,
    survey: Survey,
    args: &RestoreArgs,
) -> Outcome<Source<'a>> {
    let references = references(&*content, &survey).state(UNTOUCHED)?;
    let is_plain = !args.as_is && args.starts_at.is_none();
    let manifest = image.manifest();
    let exact = manifest.is_some_and(|manifest| manifest.exact) && args.starts_at.is_none();
    let occupancy = match exact || args.as_is {
        true => None,
        false => Some(Occupancy::of(&content, &survey).state(UNTOUCHED)?),
    };
    Ok(Source {
        from: SourceKind::Image(image),
        fills: manifest.is_some_and(|known| known.reaches_end || known.fitted.is_some()),
        has_digests: args.starts_at.is_none() && !args.damaged,
        tally: None,
        damaged: Vec::new(),
        content,
        survey,
        occupancy,
        references,
        is_plain,
    })
}

/// Which tiles of the image are damaged. They become zeros.
fn damaged_in(session: &Session, image: &Image) -> Outcome<Vec<Span>> {
    let progress = session.progress(1);
    let watch = Watch { observer: &progress, cancel: &session.environment.interrupt.cancel };
    let digests = image.manifest().map(|manifest| manifest.tiles.digests());
    let digests = digests.transpose().state(UNTOUCHED)?.unwrap_or_default();
    Ok(check_tiles(image, &digests, watch).state(UNTOUCHED)?.spans)
}

/// The card's bytes in the image, behind a preface when one was told, and what is on it.
fn content(
    image: &Image,
    args: &RestoreArgs,
    damaged: &[Span],
) -> Outcome<(Arc<dyn ReadAt>, Survey)> {
    let content: Arc<dyn ReadAt> = match damaged {
        [] => Arc::clone(image.content()),
        spans => Arc::new(Blanked::new(Arc::clone(image.content()), spans.to_vec())),
    };
    if let Some(at) = args.starts_at {
        let end = ByteOffset::new(content.size().get());
        let start = ByteOffset::new(at);
        if start >= end {
            return Err(Failure::usage(format!(
                "--starts-at {at} lies behind the end of the image at {}",
                content.size()
            ))
            .state(UNTOUCHED));
        }
        let content: Arc<dyn ReadAt> = Arc::new(Window::new(content, Span::between(start, end))?);
        let survey = Survey::of(&*content).state(UNTOUCHED)?;
        return Ok((content, survey));
    }
    let survey = Survey::of(&*content).state(UNTOUCHED)?;
    if !survey.is_unknown() || args.as_is {
        return Ok((content, survey));
    }
    if let Some(at) = table_behind_a_preface(&*content).state(UNTOUCHED)? {
        return Err(Failure::refused(format!(
            "the image has no table at its start, but one at byte {}: something seems to stand in \
             front of it",
            at.get()
        ))
        .state(UNTOUCHED)
        .next(format!(
            "Add --starts-at {} to leave that out, or --as-is to write the file as it is.",
            at.get()
        )));
    }
    if let Some(kind) = image.is_rather() {
        let what = format!("{} is {kind}, not the image of a card", pipe::title(image.path()));
        return Err(Failure::refused(what).state(UNTOUCHED).next(match kind.contains("archive") {
            true => "Unpack it, and restore the image that is in it.",
            false => "Look whether the download went wrong.",
        }));
    }
    Err(Failure::refused(format!(
        "nothing in {} is known: no partition table and no volume",
        pipe::title(image.path())
    ))
    .state(UNTOUCHED)
    .next("If it is the right file all the same, add --as-is."))
}
