//! `imbrik clone`: card to cards, in one pass.

use super::{
    save::make_still,
    write::{From, Source, Writing},
};
use crate::{
    args::CloneArgs,
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    resolve,
    session::Session,
};
use imbrik_core::{
    card::Card,
    layout::{Occupancy, Survey, references},
    store::{Counted, ReadAt, Remembered, Tally},
    units::ByteLen,
};
use std::sync::Arc;

const UNTOUCHED: &str = "Nothing was written.";
/// How much of a card's metadata is kept between the survey and the copy.
const MOST_REMEMBERED: ByteLen = ByteLen::mib(24);

pub(crate) fn run(session: &Session, args: &CloneArgs) -> Outcome<Exit> {
    let writing = Writing { session, command: "clone", args: &args.write };
    let source = resolve::card(&session.fleet, &args.source)?;
    let cards = writing.cards(&args.cards)?;
    if let Some(card) = cards.iter().find(|card| session.fleet.is_same_medium(&source, card)) {
        let what = match card.path == source.path {
            true => format!("{} is both the source and a target", card.path.display()),
            false => {
                format!("{} and {} are the same medium", source.path.display(), card.path.display())
            }
        };
        return Err(Failure::usage(what).state(UNTOUCHED).next("Name another card to write."));
    }
    make_still(session, &source, args.write.unmount)?;
    let tally = Tally::default();
    let from = opened(session, &source, tally)?;
    writing.go(from, cards, None)
}

/// The source, with what is on it.
fn opened<'a>(session: &Session, card: &'a Card, tally: Tally) -> Outcome<Source<'a>> {
    let store = session.fleet.host_of(card).open_source(card).state(UNTOUCHED)?;
    let content: Arc<dyn ReadAt> =
        Arc::new(Remembered::new(Counted::new(store, &tally), MOST_REMEMBERED));
    let survey = Survey::of(&*content).state(UNTOUCHED)?;
    if survey.is_unknown() {
        let what = if survey.is_blank { "blank" } else { "nothing that is known" };
        return Err(Failure::refused(format!(
            "the card to read, {}, is {what}",
            card.path.display()
        ))
        .state(UNTOUCHED)
        .next("The source comes first, the targets last; `imbrik cards` tells which is which."));
    }
    let references = references(&*content, &survey).state(UNTOUCHED)?;
    let occupancy = Occupancy::of(&content, &survey).state(UNTOUCHED)?;
    for why in &occupancy.read_whole {
        session.out.warn(&format!("{why}."));
    }
    Ok(Source {
        from: From::Card(card),
        fills: survey.reaches_end(),
        is_plain: true,
        has_digests: false,
        tally: Some(tally),
        content,
        survey,
        occupancy: Some(occupancy),
        references,
    })
}
