//! `imbrik mend`: reads missing data of an image again from its card, and adds them.

use crate::{
    args::{DamageArgs, MendArgs},
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    packing::{self, Destination},
    pipe,
    render::{count, json, lost, quoted, size, time},
    resolve,
    session::Session,
    source_guard,
};
use imbrik_core::{
    card::Card,
    image::{Image, ListedLoss},
    operation::{MendPlan, MendRefusal},
    progress::Watch,
    store::Tally,
    transfer::{Mended, OnDamage},
    units::ByteLen,
};
use std::{
    path::Path,
    time::{Duration, Instant},
};

const UNTOUCHED: &str = "The image is unchanged.";

pub(crate) fn run(session: &Session, args: &MendArgs) -> Outcome<Exit> {
    let started = Instant::now();
    if pipe::is_pipe(&args.image) {
        return Err(Failure::usage("an image in a pipe cannot be mended: it is not a file")
            .next("Name a file."));
    }
    let image = session
        .open_image(&args.image)
        .state(UNTOUCHED)
        .next("Run `imbrik check` for details, or try another copy of the image.")?;
    let card = resolve::card(&session.fleet, &args.card).state(UNTOUCHED)?;
    let options = packing::in_place(session, &args.image, &image, args.no_check)?;
    if card.mounts().is_empty() {
        source_guard::may_be_read(&card)?;
    } else {
        source_guard::unmounted(session, &card, args.unmount)?;
    }
    let tally = Tally::default();
    let source = session.fleet.source(&card, &tally, true).state(UNTOUCHED)?;
    let plan = match MendPlan::new(&image, source) {
        Err(MendRefusal::LacksNothing) => return Ok(nothing_to_do(session, &args.image)),
        plan => plan.map_err(|refusal| refused(&card, &refusal))?,
    };
    let shortfall: ByteLen = plan.shortfall.iter().map(|span| span.len()).sum();
    session.out.note(&format!(
        "{} is the card of the image, by its ids, its used space, and {} of samples. {} are missing \
         in {}.",
        card.path.display(),
        size::short(plan.compared),
        size::both(shortfall),
        count(plan.shortfall.len() as u64, "place")
    ));
    let damage = DamageArgs { patience: args.patience, strict: false };
    let OnDamage::TryFor(patience) = damage.on_damage() else { return Ok(Exit::Done) };
    let progress = session.progress(1);
    let cancel = &session.environment.interrupt.cancel;
    let watch = Watch { observer: &progress, cancel };
    let mended = plan.run(&args.image, patience, &options, watch);
    let mended = mended
        .state(UNTOUCHED)
        .next("Check that the card is connected and the disk has space, and try again.")?;
    drop(progress);
    let done =
        Done { image: &image, card: &card, shortfall, mended: &mended, took: started.elapsed() };
    let path = std::path::absolute(&args.image).unwrap_or_else(|_| args.image.clone());
    done.show(session, &Destination::File(path, None, None), &tally);
    Ok(match mended.left.is_empty() {
        true => Exit::Done,
        false if cancel.check().is_err() => Exit::Interrupted,
        false => Exit::Unreadable,
    })
}

/// Reports that the image has no gaps, which is what was wanted.
fn nothing_to_do(session: &Session, image: &Path) -> Exit {
    let out = &session.out;
    if out.is_json() {
        let more = json::NothingToMend { image: json::path(image) };
        out.line(&json::object("mend", "complete", more).to_string());
    } else {
        out.line(&format!("Nothing is missing in {}: all of its card was read.", quoted(image)));
    }
    Exit::Done
}

fn refused(card: &Card, refusal: &MendRefusal) -> Failure {
    let name = card.path.display();
    let (failure, next) = match refusal {
        MendRefusal::Failed(error) => (
            Failure::new(Exit::Failed, error.to_string()),
            "Check that the card is still connected.",
        ),
        MendRefusal::SaysNothing => (
            Failure::usage(refusal.to_string()),
            "Only images saved with Imbrik record it; keep the manifest file next to a raw image.",
        ),
        MendRefusal::Fitted => (
            Failure::usage(refusal.to_string()),
            "Save the card without --fit, mend that, and make a fitted image of it.",
        ),
        _ => (
            Failure::refused(format!("{name} can't mend this image: {refusal}")),
            "See what is on the card with `imbrik show`; if it was used since, save it again.",
        ),
    };
    failure.state(UNTOUCHED).next(next)
}

/// The result.
struct Done<'a> {
    image: &'a Image,
    card: &'a Card,
    shortfall: ByteLen,
    mended: &'a Mended,
    took: Duration,
}

impl Done<'_> {
    fn show(&self, session: &Session, to: &Destination, tally: &Tally) {
        let Self { card, shortfall, mended, took, .. } = self;
        let out = &session.out;
        let left: ByteLen = mended.left.iter().map(|span| span.len()).sum();
        let next = match mended.left.is_empty() {
            true => to.next(out, "imbrik check", ""),
            false => to.next(out, "imbrik mend", &quoted(&card.path)),
        };
        let saved = mended.image.as_ref();
        // If the names can't be determined again, the earlier ones are kept.
        let before = || self.image.manifest().map_or(Vec::new(), |known| known.lost.clone());
        let of = match saved {
            Some(saved) => saved.lost.clone(),
            None => before().iter().map(ListedLoss::lost).collect(),
        };
        if out.is_json() {
            let more = json::Mended {
                card: card.path.to_string_lossy().into_owned(),
                card_bytes_read: tally.read().get(),
                lacked_bytes: shortfall.get(),
                image: saved.map(|saved| to.made(saved, *took, next.clone())),
                unreadable: json::spans(&mended.left),
                lost: lost::for_programs(&of),
                was_cut_short: mended.was_cut_short,
            };
            out.line(&json::object("mend", "done", more).to_string());
            return;
        }
        out.line("");
        out.line(&format!("Image     {}", to.title()));
        let read = shortfall.saturating_sub(left);
        match saved {
            Some(saved) => {
                packing::tell_of(session, saved);
                out.line(&format!(
                    "Mended    {} of {} missing",
                    size::both(read),
                    size::short(*shortfall)
                ));
                for sum in &saved.sums {
                    out.line(&format!("{:<9} {}", sum.kind.to_string(), sum.hex));
                }
            }
            None => out.line(
                "Mended    nothing: no missing data could be read, and the image is unchanged",
            ),
        }
        out.line(&format!("Time      {}", time::span(*took)));
        if !left.is_zero() {
            out.line(&format!(
                "Lost      {} in {} are still zeros in the image",
                size::both(left),
                count(mended.left.len() as u64, "place")
            ));
            for line in lost::lines(&of) {
                out.line(&format!("          {line}"));
            }
            if mended.was_cut_short {
                out.line(
                    "          Not every sector was fully retried: a longer --patience may recover more.",
                );
            }
        }
        out.next(&next);
    }
}
