//! `imbrik clone --live`: a card that is in use, onto another one.
//!
//! The card is copied while it runs; then, during a freeze, changes since then are read, and the target gets all
//! differences to that snapshot. Unchanged data are read from the copy.

use super::UNTOUCHED;
use crate::{
    args::{CloneArgs, IdentityArgs, Shares, SizeArgs, WriteArgs},
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    render::change,
    running_card::{InUse, MOST_PASSES, card_in_use},
    session::Session,
    writing::{Source, Writing},
};
use imbrik_core::{
    Class,
    card::Card,
    layout::Occupancy,
    operation::with_first_tile,
    store::{ReadAt, Recorded},
    transfer::{OnDamage, Placed, Snapshot},
    units::ByteLen,
};
use std::{sync::Arc, time::Instant};

pub(super) fn run(session: &Session, args: &CloneArgs) -> Outcome<Exit> {
    let source = card_in_use(session, &args.source)?;
    let write = WriteArgs { damage: OnDamage::Stop, ..args.write.clone() };
    // Until the freeze.
    let first = WriteArgs {
        shape: SizeArgs { fill: false, keep_size: true, shares: Shares::default() },
        identity: IdentityArgs::default(),
        ..write.clone()
    };
    let next = WriteArgs { differing: true, wipe: false, ..first.clone() };
    let last = WriteArgs { differing: true, wipe: false, ..write };
    let first = Writing::new(session, "clone", &first).unasked();
    let next = Writing::new(session, "clone", &next).unasked();
    let last = Writing::new(session, "clone", &last).unasked();
    let mut cards = first.cards(&args.cards)?;
    let (Some(chosen), true) = (cards.first(), cards.len() == 1) else {
        return Err(Failure::usage("a card in use can be cloned to one card only")
            .state(UNTOUCHED)
            .next("Name one, then clone that one with `imbrik clone`."));
    };
    super::is_another(session, &source, &chosen.card)?;
    if chosen.card.size < source.size {
        return Err(Failure::refused(
            "a card in use can only be cloned to one of the same size or larger",
        )
        .state(UNTOUCHED)
        .next("For a smaller one: `imbrik save --live CARD IMAGE`, then `imbrik restore`."));
    }
    let mut card = InUse::of(session, &source, args.freeze_limit, None)?;
    let mut before = card.snapshot(None, ByteLen::ZERO)?;
    let from = of_snapshot(&card, &source, Arc::<Recorded>::clone(&before.store), &before)?;
    for why in from.known.occupancy.iter().flat_map(Occupancy::notes) {
        session.out.warn(&format!("{why}."));
    }
    let shape = &args.write.shape;
    let is_kept = shape.keep_size || chosen.card.size == source.size;
    if !is_kept || !args.write.identity.is_empty() {
        session
            .out
            .note("It is copied while it runs; sizes and identity are changed after the freeze.");
    }
    let begun = Instant::now();
    let Some(mut planned) = first.prepare(&from, std::mem::take(&mut cards), None)? else {
        return Ok(Exit::Done);
    };
    let Some(mut target) = planned.pop() else { return Ok(Exit::Done) };
    // Until the last pass, the card has no partition table: its content is from different times.
    let mut first_tile = first.copy(&from, &target)?;
    let took = begun.elapsed();
    let name = target.name();
    let mixed = |failure: Failure| match failure.exit {
        Exit::Done => failure,
        _ => failure.state(format!(
            "{name} has no partition table: the data copied to it are from different times."
        )),
    };
    for _ in 0..MOST_PASSES {
        let copy = || {
            let onto = last.store(&target).and_then(|onto| with_first_tile(onto, &first_tile));
            onto.map_err(Failure::from).map_err(mixed)
        };
        let placed = Placed::of(target.view(), source.size, copy()?);
        let had = placed.spans();
        // Without another disk, the data read during a freeze must fit in memory.
        let most = card.most_at_once(took, &before).min(MOST_AT_ONCE);
        let snapshot = card.snapshot(Some((&before, &had)), most).map_err(mixed)?;
        let torn = of_snapshot(&card, &source, snapshot.over(Arc::new(placed)), &snapshot);
        let torn = torn.map_err(mixed)?;
        let writing = if snapshot.is_whole { &last } else { &next };
        let again = writing.again(&torn, &target).map_err(mixed)?;
        let placed = Placed::of(target.view(), source.size, copy()?);
        let kept = placed.kept_for(again.view(), &snapshot.known);
        let kept = kept.map_err(|error| {
            let next = match error.class() {
                Class::NoRoom => {
                    "Clone it onto a card of the same size, or save it and restore the image."
                }
                _ => "",
            };
            mixed(Failure::from(error).next(next))
        })?;
        let mut from =
            of_snapshot(&card, &source, snapshot.over(kept), &snapshot).map_err(mixed)?;
        let again = writing.again(&from, &target).map_err(mixed)?;
        if snapshot.is_whole {
            from.frozen = Some(card.frozen(&snapshot));
            for change in again.changes() {
                session.out.note(&format!("{}.", change::words(change)));
            }
            return last.write(&from, &[again], None).map_err(mixed);
        }
        first_tile = next.copy(&from, &again).map_err(mixed)?;
        target = again;
        before = snapshot;
    }
    Err(mixed(card.never_still()))
}

/// The maximum number of bytes to read during a freeze.
const MOST_AT_ONCE: ByteLen = ByteLen::mib(192);

/// A view of `content`, to be written to another card.
fn of_snapshot<'a>(
    in_use: &InUse<'_>,
    card: &'a Card,
    content: Arc<dyn ReadAt>,
    snapshot: &Snapshot,
) -> Outcome<Source<'a>> {
    let tally = Some(in_use.tally.clone());
    Source::of_card(card, content, snapshot.survey.clone(), tally).state(UNTOUCHED)
}
