//! `imbrik clone`: card to cards, in one pass.

mod live;

use crate::{
    args::{CloneArgs, WriteArgs},
    confirm::{self, Policy},
    exit::Exit,
    failure::{self, Explain, Failure, Outcome},
    fleet,
    packing::{self, Destination},
    render::{quoted, size},
    resolve,
    session::Session,
    source_guard,
    writing::{Source, SourceKind, Writing},
};
use imbrik_core::{
    card::Card,
    image::{Image, Manifest, Pack},
    layout::{Occupancy, Plan, Survey},
    operation::{self, SourceOptions},
    progress::Watch,
    store::Tally,
    transfer::{OnUnfinished, SaveOptions, save},
    units::Span,
};
use jiff::Timestamp;
use std::sync::Arc;

const UNTOUCHED: &str = "Nothing was written.";

pub(crate) fn run(session: &Session, args: &CloneArgs) -> Outcome<Exit> {
    if args.live {
        return live::run(session, args);
    }
    let write = WriteArgs { damage: args.damage.on_damage(), ..args.write.clone() };
    let writing = Writing::new(session, "clone", &write);
    let source = resolve::card(&session.fleet, &args.source)?;
    if args.swap {
        return swap(&writing, &source);
    }
    let cards = writing.cards(&args.cards)?;
    cards.iter().try_for_each(|chosen| is_another(session, &source, &chosen.card))?;
    if !source.mounts().is_empty() {
        // Invalid requests are refused before anything is unmounted.
        let from = opened(session, &source, Tally::default())?;
        writing.try_plan(&from, &cards)?;
    }
    source_guard::unmounted(session, &source, args.write.unmount)?;
    let tally = Tally::default();
    let from = opened(session, &source, tally)?;
    let before = from.known.survey.clone();
    let exit = writing.go(from, cards, None)?;
    if !args.write.plan && session.fleet.has_changed(&source, &before) {
        session.out.warn(&fleet::mixed("what was written", "clone it once more"));
        return Ok(Exit::Mismatch);
    }
    Ok(exit)
}

/// Refuses a target that is the source.
fn is_another(session: &Session, source: &Card, card: &Card) -> Outcome<()> {
    if !session.fleet.is_same_medium(source, card) {
        return Ok(());
    }
    let what = match card.path == source.path {
        true => format!("{} is both the source and a target", card.path.display()),
        false => {
            format!("{} and {} are the same medium", source.path.display(), card.path.display())
        }
    };
    Err(Failure::usage(what).state(UNTOUCHED).next("Name another card to write."))
}

/// Opens and surveys the source.
fn opened<'a>(session: &Session, card: &'a Card, tally: Tally) -> Outcome<Source<'a>> {
    let content = session.fleet.source(card, &tally, true).state(UNTOUCHED)?;
    let survey = Survey::of(&*content).state(UNTOUCHED)?;
    if survey.is_unknown() {
        let what = if survey.is_blank { "blank" } else { "no known content" };
        return Err(Failure::refused(format!(
            "the card to read, {}, is {what}",
            card.path.display()
        ))
        .state(UNTOUCHED)
        .next("The source comes first, the targets last; `imbrik cards` lists them."));
    }
    let source = session.waiting("examining the volumes of the card", || {
        Source::of_card(card, content, survey, Some(tally))
    })?;
    for why in source.known.occupancy.iter().flat_map(Occupancy::notes) {
        session.out.warn(&format!("{why}."));
    }
    Ok(source)
}

/// With a single reader: the used bytes are kept in a temporary image while the cards are exchanged.
fn swap(writing: &Writing<'_>, card: &Card) -> Outcome<Exit> {
    let session = writing.session;
    if session.policy(false) != Policy::Ask {
        return Err(Failure::refused("--swap needs a terminal, where it asks for the other card")
            .state(UNTOUCHED)
            .next("With a second reader: imbrik clone CARD CARD. Otherwise `imbrik save`, then `imbrik restore`."));
    }
    source_guard::unmounted(session, card, writing.args.unmount)?;
    let tally = Tally::default();
    let read = opened(session, card, tally)?;
    let Some(occupancy) = &read.known.occupancy else { return Ok(Exit::Done) };
    let plan = Plan::save(Arc::clone(&read.known.content), occupancy).state(UNTOUCHED)?;
    let (image, read_exit) = temporary_image(writing, card, &read, &plan)?;
    let cancel = &session.environment.interrupt.cancel;
    let mut exit = read_exit;
    let (mut written, mut made) = (0usize, Vec::new());
    let mut question = format!(
        "Remove the card from {}, insert the new one, and press Enter; or type q to quit: ",
        card.path.display()
    );
    let mut state = "No card was written, and the temporary image was removed.".to_owned();
    loop {
        let answer = session.ask(&question, &state);
        if cancel.check().is_err() {
            return Ok(Exit::Interrupted);
        }
        if answer.trim().eq_ignore_ascii_case("q") || !answer.ends_with('\n') {
            return Ok(exit);
        }
        let next = writing.after(written);
        match write_swapped(&next, &read, &image, card, &made) {
            // An earlier problem, such as a card that was not exchanged yet, is solved.
            Ok(done) => {
                made.extend(session.fleet.look(card).ok());
                exit = if read_exit == Exit::Done { done } else { read_exit };
                question = "Another one? Insert it and press Enter, or type q to quit: ".to_owned();
                written = written.saturating_add(1);
                state = format!(
                    "{} written; the temporary image was removed.",
                    match written {
                        1 => "One card was".to_owned(),
                        all => format!("{all} cards were"),
                    }
                );
            }
            Err(failure) => {
                exit = failure.exit;
                // The following question is the next step.
                let failure = match failure.next.as_str() {
                    confirm::AGAIN => Failure { next: String::new(), ..failure },
                    _ => failure,
                };
                session.out.failure("clone", &failure);
                question = "Insert another card and press Enter, or type q to quit: ".to_owned();
            }
        }
    }
}

/// Saves the used space of `card` to an image without a name, which disappears in any case. Also returns whether all of
/// the card was readable.
fn temporary_image(
    writing: &Writing<'_>,
    card: &Card,
    read: &Source<'_>,
    plan: &Plan,
) -> Outcome<(Image, Exit)> {
    let session = writing.session;
    let temporary = &session.environment.temporary;
    let failed = |error: std::io::Error| {
        let what = format!("making a temporary folder in {}", quoted(temporary));
        failure::system(what, error).state(UNTOUCHED).next("Set TMPDIR to another folder.")
    };
    let folder =
        tempfile::Builder::new().prefix("imbrik-").tempdir_in(temporary).map_err(failed)?;
    let to = Destination::File(folder.path().join("card.img.zst"), None, None);
    let options = SaveOptions {
        pack: Pack::usual(),
        level: Pack::usual().usual_level(),
        sums: Vec::new(),
        replace: false,
        in_pieces: false,
        check: !writing.args.no_check,
        owner: None,
        damage: writing.args.damage,
        unfinished: OnUnfinished::Remove,
    };
    let used = plan.view.copied_in(Span::whole(read.known.survey.size));
    session.out.note(&format!(
        "{} are used on {}: they are saved to a temporary image in {} first.",
        size::both(used),
        card.path.display(),
        quoted(temporary)
    ));
    to.judge_room(session, &plan.view, &options)?;
    let mut manifest = Manifest::new(&read.known.survey, packing::MADE_BY, Timestamp::now());
    manifest.card_model.clone_from(&card.model);
    let progress = session.progress(if options.check { 2 } else { 1 });
    let cancel = &session.environment.interrupt.cancel;
    let watch = Watch { observer: &progress, cancel };
    let saved = save(&plan.view, manifest, to.output()?, &options, watch)
        .state("The card is unchanged, and the temporary image was removed.")?;
    drop(progress);
    if session.fleet.has_changed(card, &read.known.survey) {
        let what = "the card was changed or exchanged while it was read";
        return Err(Failure::new(Exit::Mismatch, what)
            .state("No other card was written, and the temporary image was removed.")
            .next("Unmount it everywhere, then clone it again."));
    }
    // It stays open without a name.
    let image = Image::open(to.path(), None).state(UNTOUCHED)?;
    drop(folder);
    let all = saved.unreadable.is_empty();
    Ok((image, if all { Exit::Done } else { Exit::Unreadable }))
}

/// Writes the temporary image to the card in the reader.
fn write_swapped(
    writing: &Writing<'_>,
    read: &Source<'_>,
    image: &Image,
    card: &Card,
    made: &[Survey],
) -> Outcome<Exit> {
    let session = writing.session;
    let cards = writing.cards(std::slice::from_ref(&card.path))?;
    let now = &cards.first().ok_or_else(|| Failure::usage("no card is there"))?.card;
    let on_card = session.fleet.look(now).state(UNTOUCHED)?;
    // A copy for the same board that is written again has the same ids, and another write time.
    let known = &read.known.survey;
    if on_card.fingerprint() == known.fingerprint() && on_card.written == known.written {
        return Err(Failure::refused(format!(
            "the card in {} is the source, or identical to it",
            card.path.display()
        ))
        .state(UNTOUCHED)
        .next("Insert the new card."));
    }
    if made.iter().any(|made| !made.has_changed(&on_card)) {
        return Err(Failure::refused(format!(
            "the card in {} was written just now",
            card.path.display()
        ))
        .state(UNTOUCHED)
        .next("Insert the new card."));
    }
    let options = SourceOptions::default();
    let source = operation::Source::of_image(image, &options)
        .map_err(|refusal| Failure::refused(refusal.to_string()).state(UNTOUCHED))?;
    let known = operation::Source { fills: read.known.fills, ..source };
    let whose = read.whose();
    let source = Source { from: SourceKind::Kept(image, &whose), known, tally: None, frozen: None };
    writing.go(source, cards, None)
}
