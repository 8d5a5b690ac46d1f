//! `imbrik cards`: which card is which.

use crate::{
    args::CardsArgs,
    exit::Exit,
    failure::Outcome,
    fleet::Fleet,
    recognised::{Recognised, Shelved},
    render::{cards, cards::Seen, json},
    session::Session,
};
use imbrik_core::card::{Card, Listing};
use std::{path::PathBuf, thread, time::Duration};

/// The interval of checks for a new card.
const LOOK_EVERY: Duration = Duration::from_millis(400);

pub(crate) fn run(session: &Session, args: &CardsArgs) -> Outcome<Exit> {
    if args.watch {
        return watch(session);
    }
    let Listing { cards, empty_slots } = session.fleet.list()?;
    if session.out.is_json() {
        let seen = recognised(session, session.fleet.look_at_all(cards));
        let cards = seen.iter().map(told).collect();
        let more = json::Cards { cards, empty_slots: Some(empty_slots) };
        session.out.line(&json::object("cards", "done", more).to_string());
    } else {
        // The content of a disk is not shown, so that a sleeping one is not woken up.
        let (cards, disks): (Vec<_>, Vec<_>) = cards.into_iter().partition(cards::is_card);
        let seen = recognised(session, session.fleet.look_at_all(cards));
        cards::show(&session.out, &seen, &disks, empty_slots);
    }
    Ok(Exit::Done)
}

/// The same cards, with their images on the shelf.
fn recognised(session: &Session, mut cards: Vec<Seen>) -> Vec<Seen> {
    let shelf = Shelved::of(session);
    for seen in &mut cards {
        seen.shelved = seen.survey.as_ref().ok().and_then(|survey| shelf.recognise(survey));
    }
    cards
}

fn told(seen: &Seen) -> json::Card {
    let shelf = seen.shelved.as_ref().map(Recognised::json);
    json::Card { shelf, ..json::card(&seen.card, Some(seen.survey.as_ref().ok())) }
}

fn watch(session: &Session) -> Outcome<Exit> {
    let key = |card: &Card| -> (PathBuf, Option<u64>) { (card.path.clone(), card.sequence) };
    let mut known: Vec<_> = session.fleet.list()?.cards.iter().map(key).collect();
    session.out.note("Put the card in now. (Ctrl-C ends the wait.)");
    loop {
        session.environment.interrupt.cancel.check()?;
        thread::sleep(LOOK_EVERY);
        let fleet = &session.fleet;
        let listing = fleet.list()?;
        // A new loop device or an attached disk is not an inserted card.
        let new =
            listing.cards.iter().find(|card| cards::is_card(card) && !known.contains(&key(card)));
        if let Some(card) = new {
            let survey = survey_with_retry(fleet, card);
            let seen =
                recognised(session, vec![Seen { card: card.clone(), survey, shelved: None }]);
            let Some(seen) = seen.into_iter().next() else { continue };
            if session.out.is_json() {
                let more = json::Cards { cards: vec![told(&seen)], empty_slots: None };
                session.out.line(&json::object("cards", "done", more).to_string());
            } else {
                cards::card(&session.out, &seen);
            }
            return Ok(Exit::Done);
        }
        // A removed card counts as new when it returns.
        let there: Vec<_> = listing.cards.iter().map(key).collect();
        known.retain(|known| there.contains(known));
    }
}

/// A card that was just inserted may need some time before it answers.
fn survey_with_retry(
    fleet: &Fleet,
    card: &Card,
) -> imbrik_core::Result<imbrik_core::layout::Survey> {
    fleet.look(card).or_else(|_| {
        thread::sleep(LOOK_EVERY);
        fleet.look(card)
    })
}
