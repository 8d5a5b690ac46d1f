//! `imbrik wipe`: overwrites a card with zeros.

use crate::{
    args::WipeArgs,
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    render::{json, listed, size, survey, time},
    resolve,
    session::Session,
    writing::may_be_written,
};
use imbrik_core::{
    card::Card,
    operation::{LeftOnCard, WipePlan, WriteFailure, WriteOptions, WrittenToCard},
    progress::Watch,
    units::{ByteLen, Span},
};

const UNTOUCHED: &str = "Nothing was written to the card.";

pub(crate) fn run(session: &Session, args: &WipeArgs) -> Outcome<Exit> {
    let card = resolve::card(&session.fleet, &args.card)?;
    may_be_written(&card, args.allow_fixed)?;
    session.refuse_mounted(&card, args.unmount || args.plan)?;
    let host = session.fleet.host_of(&card);
    let plan = WipePlan::new(host, card.clone()).state(UNTOUCHED)?;
    show_plan(session, args, &card, &plan);
    if args.plan {
        session.out.only_planned();
        return Ok(Exit::Done);
    }
    let word = survey::name(Some(plan.survey()), &card);
    let question = format!(
        "Everything on {} will be lost. Type its present name, {word}, to continue: ",
        card.path.display()
    );
    session.confirm_by_typing(&word, &question, args.yes)?;
    session.make_writable(&card, args.allow_fixed, args.unmount).state(UNTOUCHED)?;
    let options = WriteOptions {
        allow_fixed: args.allow_fixed,
        read_back: !args.no_check,
        ..WriteOptions::default()
    };
    let progress = session.progress(if args.no_check { 1 } else { 2 });
    let cancel = &session.environment.interrupt.cancel;
    let watch = Watch { observer: &progress, cancel };
    let done = plan.run(host, options, watch).map_err(|failure| failed(failure, &card))?;
    drop(progress);
    show(session, args, &card, &done);
    match done.held {
        None => Ok(Exit::Done),
        Some(error) => Err(Failure::from(error)
            .state("The card was wiped, but is still in use.")
            .next("Unmount it before you remove it.")),
    }
}

fn show_plan(session: &Session, args: &WipeArgs, card: &Card, plan: &WipePlan) {
    let out = &session.out;
    if out.is_json() {
        let more = json::WipePlan {
            card: card.path.to_string_lossy().into_owned(),
            card_size: card.size.get(),
            content: json::content(plan.survey()),
            read_back: !args.no_check,
        };
        out.line(&json::object("wipe", "plan", more).to_string());
        return;
    }
    let mounts = card.mounts();
    let model = card.model.as_ref().map_or(String::new(), |model| format!(" · {model}"));
    out.line(&format!("Card      {} · {}{model}", card.path.display(), size::both(card.size)));
    let mut now = survey::parts(plan.survey(), None);
    if now.is_empty() {
        now.push(if plan.survey().is_blank { "  blank" } else { "  unknown data" }.to_owned());
    }
    for (index, line) in now.iter().enumerate() {
        out.line(&format!("{}{line}", if index == 0 { "Now     " } else { "        " }));
    }
    if !mounts.is_empty() {
        let at: Vec<_> = mounts.iter().map(|at| at.display().to_string()).collect();
        let remedy = if args.unmount { "" } else { ": unmount it, or add --unmount" };
        out.line(&format!("Mounted   at {}{remedy}", listed(&at)));
    }
    let check = if args.no_check { "" } else { "; then, all of it is read back" };
    out.line(&format!("Wipe      every sector becomes zeros{check}"));
}

fn show(session: &Session, args: &WipeArgs, card: &Card, done: &WrittenToCard) {
    let out = &session.out;
    if out.is_json() {
        let more = json::Wiped {
            card: card.path.to_string_lossy().into_owned(),
            card_size: card.size.get(),
            zero_already: done.zero_already.get(),
            read_back: !args.no_check,
            card_bytes_read: done.tally.read().get(),
            card_bytes_written: done.tally.written().get(),
            seconds: done.took.as_secs_f64(),
        };
        out.line(&json::object("wipe", "done", more).to_string());
        return;
    }
    let already = match done.zero_already {
        ByteLen::ZERO => String::new(),
        already => format!("; {} were zero already", size::short(already)),
    };
    out.line("");
    out.line(&format!("Wiped     {}{already}", size::both(card.size)));
    out.line(match args.no_check {
        true => "Verified  no (--no-check)",
        false => "Verified  all of the card reads as zeros",
    });
    out.line(&format!("Time      {}", time::span(done.took)));
    if done.held.is_none() {
        out.line("Safe to remove.");
    }
}

fn failed(failure: WriteFailure, card: &Card) -> Failure {
    let name = card.path.display();
    match failure {
        WriteFailure::NotClaimed(error) => Failure::from(error)
            .state(UNTOUCHED)
            .next("List the cards again with `imbrik cards`, and try again."),
        WriteFailure::CutShort { error, left, .. } => Failure::from(error)
            .state(match left {
                LeftOnCard::WhatItHad => UNTOUCHED.to_owned(),
                LeftOnCard::Uncertain => format!(
                    "The first write failed: {name} is unchanged, or its first sector is lost."
                ),
                LeftOnCard::NoStart => format!(
                    "{name} has no partition table any more, but other data may still be on it."
                ),
            })
            .next("Wipe it again."),
        WriteFailure::NotReadBack(error) => Failure::from(error)
            .state(format!("Zeros were written to all of {name}, but not verified."))
            .next("Wipe it again; what is zero already is not written again."),
        WriteFailure::NotKept { found, .. } => {
            let total = |spans: &[Span]| size::both(spans.iter().map(|span| span.len()).sum());
            let what = match found.unreadable.is_empty() {
                true => format!("{} did not become zeros", total(&found.spans)),
                false => format!("{} could not be read back", total(&found.spans)),
            };
            Failure::new(Exit::Mismatch, what)
                .state(format!("{name} may contain old data there; all other sectors are zeros."))
                .next("If they can be private, destroy the card.")
        }
        other => Failure::new(Exit::Failed, other.to_string()),
    }
}
