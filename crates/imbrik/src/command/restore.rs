//! `imbrik restore`: image to cards.

use super::write::{From, Source, Writing};
use crate::{
    args::RestoreArgs,
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    render::quoted,
    session::Session,
};
use imbrik_core::{
    image::Image,
    layout::{Occupancy, Survey, references, table_behind_a_preface},
    store::{ReadAt, Window},
    units::{ByteOffset, Span},
};
use std::sync::Arc;

const UNTOUCHED: &str = "Nothing was written to the card.";

pub(crate) fn run(session: &Session, args: &RestoreArgs) -> Outcome<Exit> {
    let image = session
        .open_image(&args.image)
        .state(UNTOUCHED)
        .next("`imbrik check` tells more; try another copy of the image.")?;
    let writing = Writing { session, command: "restore", args: &args.write, made: None };
    let (content, survey) = content(&image, args)?;
    let cards = writing.cards(&args.cards)?;
    writing.go(source(&image, content, survey, args)?, cards, args.into.as_deref())
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
        from: From::Image(image),
        fills: manifest.is_some_and(|known| known.reaches_end || known.fitted.is_some()),
        has_digests: args.starts_at.is_none(),
        tally: None,
        content,
        survey,
        occupancy,
        references,
        is_plain,
    })
}

/// The card's bytes in the image, behind a preface when one was told, and what is on it.
fn content(image: &Image, args: &RestoreArgs) -> Outcome<(Arc<dyn ReadAt>, Survey)> {
    let content = Arc::clone(image.content());
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
    Err(Failure::refused(format!(
        "nothing in {} is known: no partition table and no volume",
        quoted(image.path())
    ))
    .state(UNTOUCHED)
    .next("If it is the right file all the same, add --as-is."))
}
