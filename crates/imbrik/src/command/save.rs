//! `imbrik save`: card to image.

use crate::{
    args::{SaveArgs, WriteArgs},
    command::{
        fit, fits,
        write::{self, Source, Writing},
    },
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    fleet,
    packing::{self, Target},
    pipe,
    render::{
        change, count, json,
        progress::{Board, Progress},
        quoted, size, time,
    },
    resolve,
    session::Session,
};
use imbrik_core::{
    Error,
    card::{Card, Standing, standing},
    image::{ListedPart, Manifest, Output, Pack},
    layout::{Occupancy, Part, Plan, Survey},
    progress::Watch,
    store::{Counted, ReadAt, Remembered, Tally, Window},
    transfer::{SaveOptions, Saved, save},
    units::{ByteLen, Span},
};
use jiff::{Timestamp, Zoned};
use serde_json::json;
use std::{
    path::Path,
    sync::Arc,
    thread,
    time::{Duration, Instant},
};

const UNTOUCHED: &str = "Nothing was read or written.";

pub(crate) fn run(session: &Session, args: &SaveArgs) -> Outcome<Exit> {
    let started = Instant::now();
    let (card_name, image_name) = names(session, args);
    let card = match card_name {
        Some(name) => resolve::card(&session.fleet, name)?,
        None => resolve::only_card(&session.fleet)?,
    };
    let options = packing::options(session, &args.packing, image_name)?;
    make_still(session, &card, args.unmount)?;
    let tally = Tally::default();
    let source = session.fleet.host_of(&card).open_source(&card).state(UNTOUCHED)?;
    let mut source: Arc<dyn ReadAt> =
        Arc::new(Remembered::new(Counted::new(source, &tally), fleet::MOST_REMEMBERED));
    if args.also.is_some() {
        source = write::shared(&source);
    }
    let survey = Survey::of(&*source).state("Nothing was written.")?;
    let part = args.only.as_deref().map(|name| resolve::part(&survey, name, &card.path));
    let part = part.transpose().state("Nothing was written.")?;
    let (source, survey, only) = match part {
        None => (source, survey, None),
        // The partition stands for the card.
        Some(part) => {
            let window: Arc<dyn ReadAt> = Arc::new(Window::new(source, part.span)?);
            let mut inside = Survey::of(&*window).state("Nothing was written.")?;
            inside.host = inside.host.or_else(|| survey.host.clone());
            (window, inside, Some(part.clone()))
        }
    };
    let to = match image_name {
        Some(name) if pipe::is_pipe(name) => Target::pipe(session)?,
        name => {
            let stem = proposed_stem(&survey, &card, only.as_ref());
            let target = Target::file(session, name, &stem, &args.packing, options.pack)?;
            off_the_card(session, target.path(), &card)?;
            target
        }
    };
    let write_args =
        WriteArgs { yes: args.yes, no_check: args.packing.no_check, ..WriteArgs::default() };
    let writing = Writing { session, command: "save", args: &write_args };
    let also = match &args.also {
        Some(name) => Some(also(&writing, args, name, &card, &source, &survey, &to)?),
        None => None,
    };
    let mut read_whole = Vec::new();
    let mut survey = survey;
    let mut fitted = None;
    let plan = if args.exact {
        Plan::save_exact(source)
    } else if args.fit {
        let room = args.room.map_or(ByteLen::ZERO, |room| room.0);
        let smallest = fit::smallest(&survey, None, room).map_err(|failure| {
            failure.next("Leave --fit out: what is not in use takes no room in the image.")
        })?;
        let plan = fit::plan(session, &source, &survey, &smallest)?;
        for change in &plan.changes {
            session.out.note(&format!("{}.", change::words(change)));
        }
        let after = Survey::of(&plan.view).state("Nothing was written.")?;
        fitted = Some(std::mem::replace(&mut survey, after));
        plan
    } else {
        let occupancy = Occupancy::of(&source, &survey).state("Nothing was written.")?;
        let plan = Plan::save(source, &occupancy).state("Nothing was written.")?;
        for why in &occupancy.read_whole {
            session.out.warn(&format!("{why}."));
        }
        read_whole = occupancy.read_whole;
        plan
    };
    to.judge_room(session, &plan.view, &options)?;

    let steps = if options.check && !to.is_pipe() { 2 } else { 1 };
    let cancel = &session.environment.interrupt.cancel;
    if !session.out.is_json() {
        session.out.note(&format!(
            "Saving {} ({}) as {}",
            match &only {
                None => card.path.display().to_string(),
                Some(part) => format!("{} of {}", part.full_title(), card.path.display()),
            },
            size::both(fitted.as_ref().map_or(survey.size, |before| before.size)),
            to.title()
        ));
    }
    let mut manifest = Manifest::new(&survey, packing::MADE_BY, Timestamp::now());
    if let Some(before) = &fitted {
        fit::fitted(&mut manifest, before, &survey);
    }
    manifest.card_model.clone_from(&card.model);
    manifest.exact = args.exact;
    manifest.note.clone_from(&args.note);
    manifest.left_out.clone_from(&card.boot_areas);
    manifest.only = only.as_ref().map(ListedPart::of);
    if !card.boot_areas.is_empty() {
        session.out.warn(&format!(
            "the card's separate boot areas ({}) are not in the image; a board that starts from \
             them needs them, too.",
            card.boot_areas.join(", ")
        ));
    }
    let failed = |error: Error, to: &Target| {
        let next = packing::what_next(&error);
        Failure::from(error)
            .state(format!("The card is as it was; {}.", to.what_is_left()))
            .next(next)
    };
    let (saved, other) = match &also {
        None => {
            let progress = session.progress(steps);
            let watch = Watch { observer: &progress, cancel };
            (save(&plan.view, manifest, to.output()?, &options, watch), None)
        }
        Some(also) => beside(&writing, also, &plan, &manifest, &to, &options),
    };
    let saved = saved.map_err(|error| failed(error, &to))?;
    let other = match (other, &also) {
        (Some(Other::Image(second)), Some(Also::Image(to, _))) => {
            let second = second.map_err(|error| failed(error, to))?;
            Some((to, second))
        }
        (Some(Other::Card(exit)), _) => {
            exit?;
            None
        }
        _ => None,
    };
    let used = plan.view.copied_in(Span::whole(survey.size));
    let done = Done {
        card: &card,
        size: fitted.as_ref().map_or(survey.size, |before| before.size),
        fitted: fitted.as_ref().map(|_| survey.size),
        only: only.as_ref(),
        read_whole: &read_whole,
        used,
        saved: &saved,
    };
    summary(session, &done, &to, &tally, started.elapsed());
    if let Some((to, second)) = other.filter(|_| !session.out.is_json()) {
        let size = size::both(second.image_len);
        session.out.line(&format!("Also      {}, {size}", to.title()));
    }
    Ok(if saved.unreadable.is_empty() { Exit::Done } else { Exit::Unreadable })
}

/// What is made in the same read.
enum Also<'a> {
    /// A spare.
    Card(Box<Source<'a>>, Vec<write::Target>),
    /// A second image.
    Image(Target, SaveOptions),
}

/// What became of that.
enum Other {
    Card(Outcome<Exit>),
    Image(imbrik_core::Result<Saved>),
}

/// What `--also` names, planned, shown and agreed to.
fn also<'a>(
    writing: &Writing<'_>,
    args: &SaveArgs,
    name: &Path,
    card: &'a Card,
    source: &Arc<dyn ReadAt>,
    survey: &Survey,
    to: &Target,
) -> Outcome<Also<'a>> {
    let session = writing.session;
    if to.is_pipe() || pipe::is_pipe(name) {
        return Err(Failure::usage("--also and a pipe do not go together").state(UNTOUCHED));
    }
    if resolve::not_a_card(&session.fleet, name).is_ok() {
        let options = packing::options(session, &args.packing, Some(name))?;
        let stem = packing::stem_of(to.path());
        let second = Target::file(session, Some(name), &stem, &args.packing, options.pack)?;
        off_the_card(session, second.path(), card)?;
        if second.path() == to.path() {
            return Err(Failure::usage("both images have the same name").state(UNTOUCHED));
        }
        return Ok(Also::Image(second, options));
    }
    let cards = writing.cards(&[name.to_owned()])?;
    if cards.iter().any(|other| session.fleet.is_same_medium(card, other)) {
        return Err(Failure::usage(format!("{} is the card that is read", name.display()))
            .state(UNTOUCHED)
            .next("Name another card."));
    }
    let spare = Source::of_card(card, Arc::clone(source), survey.clone(), None)?;
    let targets = writing.prepare(&spare, cards, None)?.unwrap_or_default();
    Ok(Also::Card(Box::new(spare), targets))
}

/// Saves, and makes the other thing at the same time.
fn beside(
    writing: &Writing<'_>,
    also: &Also<'_>,
    plan: &Plan,
    manifest: &Manifest,
    to: &Target,
    options: &SaveOptions,
) -> (imbrik_core::Result<Saved>, Option<Other>) {
    let cancel = &writing.session.environment.interrupt.cancel;
    let board = Board::new(writing.session.environment.color);
    let first = "image".to_owned();
    let second = match also {
        Also::Card(_, targets) => targets.first().map_or(String::new(), write::Target::name),
        Also::Image(..) => "second".to_owned(),
    };
    let names = [first, second];
    let [line, other_line] = names.each_ref().map(|name| board.line(name, &names));
    let save_to = |to: &Target, options: &SaveOptions, observer: &Progress| {
        let watch = Watch { observer, cancel };
        save(&plan.view, manifest.clone(), Output::File(to.path()), options, watch)
    };
    thread::scope(|scope| {
        let path = to.path();
        let saving = scope.spawn(|| {
            let watch = Watch { observer: &line, cancel };
            save(&plan.view, manifest.clone(), Output::File(path), options, watch)
        });
        let other = match also {
            Also::Card(source, targets) => {
                Other::Card(writing.write(source, targets, Some(&board)))
            }
            Also::Image(to, options) => Other::Image(save_to(to, options, &other_line)),
        };
        let saved = saving.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
        (saved, Some(other))
    })
}

/// Which of the two names is the card's: with one card plugged in, a single name that is plainly
/// no card is the image's.
fn names<'a>(session: &Session, args: &'a SaveArgs) -> (Option<&'a Path>, Option<&'a Path>) {
    let (first, second) = (args.card.as_deref(), args.image.as_deref());
    match first {
        Some(name) if second.is_none() && pipe::is_pipe(name) => (None, first),
        Some(name) if second.is_none() && (name.is_dir() || Pack::of_name(name).is_some()) => {
            match resolve::card(&session.fleet, name) {
                Ok(_) => (first, None),
                Err(_) if name.is_file() && !args.packing.replace => (first, None),
                Err(_) => (None, first),
            }
        }
        _ => (first, second),
    }
}

/// A card that something writes to while it is read gives an image of no moment at all.
pub(crate) fn make_still(session: &Session, card: &Card, unmount: bool) -> Outcome<()> {
    let name = card.path.display();
    match standing(card, true) {
        Standing::Mounted(mounts) => session.make_unmounted(card, &mounts, unmount),
        Standing::Refused(
            reason
            @ (imbrik_core::card::Reason::System(_) | imbrik_core::card::Reason::Held { .. }),
        ) => Err(Failure::refused(format!("{name} would change while it is read: {reason}"))
            .state(UNTOUCHED)
            .next("Shut the machine down, and save its card on another one.")),
        _ if !card.mounts().is_empty() => session.make_unmounted(card, &card.mounts(), unmount),
        _ => Ok(()),
    }
}

/// `hive-07-2026-11-23`: host, else label, else size, then the date.
fn proposed_stem(survey: &Survey, card: &Card, only: Option<&Part>) -> String {
    let mut name =
        survey.name().map_or_else(|| format!("card {}", size::short(card.size)), str::to_owned);
    if let Some(part) = only {
        let label = part.volume.as_ref().and_then(|volume| volume.label.clone());
        let part = label.filter(|label| *label != name).unwrap_or_else(|| part.title());
        name = format!("{name} {part}");
    }
    let plain = |c: char| if c.is_alphanumeric() || ".-_".contains(c) { c } else { ' ' };
    let words: String = name.chars().map(plain).collect();
    let words: Vec<_> = words.split_whitespace().collect();
    let slug = words.join("-").trim_start_matches(['.', '-']).to_lowercase();
    let slug = if slug.is_empty() { "card".to_owned() } else { slug };
    format!("{slug}-{}", Zoned::now().date())
}

/// Refuses a place on the card itself, and warns of one that is gone with the power.
fn off_the_card(session: &Session, image: &Path, card: &Card) -> Outcome<()> {
    if session.fleet.card_under(image) == Some(card.path.clone())
        || card.mounts().iter().any(|at| image.starts_with(at))
    {
        return Err(Failure::refused(format!("{} lies on the card itself", quoted(image)))
            .state(UNTOUCHED)
            .next("Name a folder on another disk."));
    }
    if let Some(rack) = &session.fleet.rack
        && resolve::is_same_file_as_any(image, rack)
    {
        return Err(Failure::refused(format!(
            "{} stands behind a slot of the rack",
            quoted(image)
        ))
        .state(UNTOUCHED)
        .next("Choose another name."));
    }
    Ok(())
}

/// What was done.
struct Done<'a> {
    card: &'a Card,
    /// How long it is, or the partition of it that was saved.
    size: ByteLen,
    /// How long a card must be for the image, when it was fitted.
    fitted: Option<ByteLen>,
    only: Option<&'a Part>,
    read_whole: &'a [String],
    used: ByteLen,
    saved: &'a Saved,
}

fn summary(session: &Session, done: &Done<'_>, to: &Target, tally: &Tally, took: Duration) {
    let Done { card, saved, .. } = done;
    let out = &session.out;
    let lost: ByteLen = saved.unreadable.iter().map(|span| span.len()).sum();
    let place = done.only.map_or("CARD".to_owned(), |part| match part.number {
        Some(number) => format!("CARD --into {number}"),
        None => "CARD".to_owned(),
    });
    let next = to.next("imbrik restore", &place);
    if out.is_json() {
        let more = json!({
            "card": card.path.to_string_lossy(),
            "card_size": done.size.get(),
            "fitted_card_size": done.fitted.map(ByteLen::get),
            "read_whole": done.read_whole,
            "card_bytes_read": tally.read().get(),
            "card_requests": tally.reads(),
            "card_bytes_written": tally.written().get(),
            "used_bytes": done.used.get(),
            "image": to.path().to_string_lossy(),
            "image_bytes": saved.image_len.get(),
            "zero_bytes": saved.zeros.get(),
            "unreadable": json::spans(&saved.unreadable),
            "seconds": took.as_secs_f64(),
            "sums": json::sums(&saved.sums),
            "next": next,
        });
        out.line(&json::object("save", "done", more).to_string());
        return;
    }
    let ratio = match 100.0 * saved.image_len.get() as f64 / done.size.get().max(1) as f64 {
        ..0.1 => "less than 0.1 %".to_owned(),
        percent => format!("{percent:.1} %"),
    };
    out.line("");
    out.line(&format!("Image     {}", to.title()));
    out.line(&format!(
        "Size      {}, {ratio} of {}",
        size::both(saved.image_len),
        size::short(done.size)
    ));
    out.line(&format!(
        "Used      {} are in use, {} were read from the card",
        size::both(done.used),
        size::short(tally.read())
    ));
    if let Some(fitted) = done.fitted {
        out.line(&format!("Fits      {}", fits::cards(fitted)));
    }
    for why in done.read_whole {
        out.line(&format!("Note      {why}"));
    }
    out.line(&format!("Time      {}", time::span(took)));
    for sum in &saved.sums {
        out.line(&format!("{:<9} {}", sum.kind.to_string(), sum.hex));
    }
    if !lost.is_zero() {
        out.line(&format!(
            "Lost      {} in {} could not be read and are zeros in the image",
            size::both(lost),
            count(saved.unreadable.len() as u64, "place")
        ));
    }
    if !to.is_pipe() {
        out.line("The image is complete in itself; what stands beside it is for other tools.");
        out.line(&format!("Next      {next}"));
    }
}
