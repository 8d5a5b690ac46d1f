//! `imbrik save`: card to image.

mod also;
mod earlier;
mod live;
mod summary;

use crate::{
    args::{SaveArgs, WriteArgs},
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    fit_plan, fleet,
    packing::{self, Destination},
    pipe,
    recognised::Shelved,
    render::{change, json, quoted, size, survey, time},
    resolve,
    session::Session,
    source_guard,
    writing::{self, MOST_TIMES, Writing},
};
use also::{Also, Other};
use earlier::{Earlier, OnShelf};
use imbrik_core::{
    Class, Error,
    card::Card,
    image::{ListedPart, Manifest, Pack},
    layout::{Occupancy, Part, Survey},
    operation::{ImageContent, ImagePlan, wait_for_source},
    progress::Watch,
    store::{ReadAt, Tally, Window},
    transfer::{OnUnfinished, SaveOptions, Saved, sample, save, save_again},
    units::{ByteLen, Span},
};
use jiff::{Timestamp, Zoned};
use std::{num::NonZero, path::Path, sync::Arc, thread, time::Instant};
use summary::Done;

const UNTOUCHED: &str = "Nothing was read or written.";
const UNWRITTEN: &str = "Nothing was written.";
/// The bytes of a card per second that a read-back decodes and compares on a slow computer.
const READ_BACK_RATE: f64 = 400e6;

pub(crate) fn run(session: &Session, args: &SaveArgs) -> Outcome<Exit> {
    if args.live {
        return live::run(session, args);
    }
    let (card_name, image_name) = names(session, args);
    let mut card = match card_name {
        Some(name) => resolve::card(&session.fleet, name)?,
        None => resolve::only_card(&session.fleet)?,
    };
    let mut resume = args.resume;
    for _ in 0..MOST_TIMES {
        let Stopped { failure, gone } = match attempt(session, args, &card, image_name, resume) {
            Ok(exit) => return Ok(exit),
            Err(stopped) => stopped,
        };
        let (Some(wait), Some(before)) = (args.pulled.wait, gone) else { return Err(failure) };
        let progress = session.progress(1);
        let watch = Watch { observer: &progress, cancel: &session.environment.interrupt.cancel };
        let host = session.fleet.host_of(&card);
        card = match wait_for_source(host, &card, &before, wait.0, watch) {
            Ok(Some(card)) => card,
            Ok(None) | Err(_) => return Err(failure),
        };
        resume = true;
    }
    attempt(session, args, &card, image_name, resume).map_err(|stopped| stopped.failure)
}

/// A save that came to nothing.
struct Stopped {
    failure: Failure,
    /// The survey of a removed card whose save can be resumed.
    gone: Option<Box<Survey>>,
}

impl From<Failure> for Stopped {
    fn from(failure: Failure) -> Self {
        Self { failure, gone: None }
    }
}

/// Saves the card while it is connected; with `resume`, the result of an earlier attempt is kept.
fn attempt(
    session: &Session,
    args: &SaveArgs,
    card: &Card,
    image_name: Option<&Path>,
    resume: bool,
) -> std::result::Result<Exit, Stopped> {
    let started = Instant::now();
    let mut options = SaveOptions {
        damage: args.damage.on_damage(),
        unfinished: if resume { OnUnfinished::Resume } else { OnUnfinished::Keep },
        ..packing::options(session, &args.packing, image_name)?
    };
    if resume && !options.pack.can_be_gone_on_with() {
        return Err(Failure::usage(format!(
            "images in {} cannot be resumed",
            options.pack.container()
        ))
        .state(UNTOUCHED)
        .next("Leave --resume out to start from scratch.")
        .into());
    }
    source_guard::may_be_read(card)?;
    let tally = Tally::default();
    let mut wanted = SaveSource::of(session, args, card, &tally)?;
    let to = match image_name {
        Some(name) if pipe::is_pipe(name) => Destination::pipe(session)?,
        name => {
            let stem = proposed_stem(&wanted, card);
            let target = Destination::file(session, name, &stem, &args.packing, options.pack)?;
            off_the_card(session, target.path(), card)?;
            target
        }
    };
    let write_args = WriteArgs {
        yes: args.yes,
        plan: args.plan,
        no_check: args.packing.no_check,
        damage: options.damage,
        ..WriteArgs::default()
    };
    let writing = Writing::new(session, "save", &write_args);
    let also = args.also.as_deref();
    if !card.mounts().is_empty() {
        // Invalid requests are refused before anything is unmounted.
        also.map_or(Ok(()), |name| Also::may_be(&writing, name, card))?;
        drop(wanted);
        source_guard::unmounted(session, card, args.unmount)?;
        wanted = SaveSource::of(session, args, card, &tally)?;
    }
    let shelf = OnShelf::lock(&to, args.onto_shelf)?;
    if shelf.is_none() && args.reuse.is_none() {
        tell_of_the_shelf(session, card, &wanted);
    }
    let before = args.reuse.clone().or_else(|| shelf.as_ref()?.before(session, &wanted));
    let earlier = before.map(|name| Earlier::of(session, args, &name, &wanted)).transpose()?;
    earlier::kept(session, args, earlier.is_some() || shelf.is_some(), &mut options);
    if let Some(earlier) = &earlier {
        wanted.source = Arc::clone(&earlier.reuse.source);
    }
    let also = also.map(|name| Also::of(&writing, args, name, card, &wanted, &to)).transpose()?;
    let content = content(session, args, &wanted)?;
    match &earlier {
        None => to.judge_room(session, &content.plan.view, &options)?,
        Some(earlier) => earlier.tell_of_room(session, &to, &content.plan.view)?,
    }
    if args.plan {
        return Ok(plan(session, card, &wanted, &content, &to, &options)?);
    }
    let manifest = manifest(args, card, &wanted, &content);
    to.tell_of_network(session, &options);
    announce(session, card, &wanted, &to);

    let run = Run {
        session,
        args,
        card,
        wanted: &wanted,
        content: &content,
        options: &options,
        earlier: earlier.as_ref(),
        shelf: shelf.as_ref(),
        tally: &tally,
        started,
    };
    run.carry(&writing, also.as_ref(), &manifest, &to)
}

/// Reports that the shelf has images of this card, next to which another one would need less space.
fn tell_of_the_shelf(session: &Session, card: &Card, wanted: &SaveSource) {
    let known = Shelved::of(session).recognise(&wanted.survey);
    if let (Some(known), None, Some(folder)) = (known, &wanted.only, &session.config.images) {
        session.out.note(&format!(
            "An image of this card is on the shelf: {}. A new one there stores only changes: imbrik shelf add {} {}",
            known.words(""),
            quoted(folder),
            quoted(&card.path)
        ));
    }
}

/// A save that was planned and shown.
struct Run<'a> {
    session: &'a Session,
    args: &'a SaveArgs,
    card: &'a Card,
    wanted: &'a SaveSource,
    content: &'a ImagePlan,
    options: &'a SaveOptions,
    earlier: Option<&'a Earlier>,
    shelf: Option<&'a OnShelf>,
    tally: &'a Tally,
    started: Instant,
}

impl Run<'_> {
    /// Reads the card, and reports the result.
    fn carry(
        &self,
        writing: &Writing<'_>,
        also: Option<&Also>,
        manifest: &Manifest,
        to: &Destination,
    ) -> std::result::Result<Exit, Stopped> {
        let Self { session, content, options, wanted, .. } = *self;
        let (saved, other) = match also {
            None => {
                let steps = if options.check && !to.is_pipe() { 2 } else { 1 };
                let progress = session.progress(steps);
                let cancel = &session.environment.interrupt.cancel;
                let watch = Watch { observer: &progress, cancel };
                let (view, manifest) = (&content.plan.view, manifest.clone());
                let saved = match self.earlier {
                    None => save(view, manifest, to.output()?, options, watch),
                    Some(earlier) => {
                        save_again(view, &earlier.reuse, manifest, to.output()?, options, watch)
                    }
                };
                (saved, None)
            }
            Some(also) => also.beside(writing, &content.plan, manifest, to, options),
        };
        let saved = saved.map_err(|error| {
            let is_gone = error.class() == Class::Gone && to.unfinished().is_some();
            let gone = is_gone.then(|| Box::new(self.wanted.survey.clone()));
            Stopped { failure: failed(error, self.card, to), gone }
        })?;
        packing::tell_of(session, &saved);
        // The image is complete, whatever happened to the second output.
        let mut beside = Ok(Exit::Done);
        let second = match (other, also) {
            (Some(Other::Image(second)), Some(Also::Image(to, _))) => {
                Some((to, second.map_err(|error| failed(error, self.card, to))?))
            }
            (Some(Other::Card(exit)), _) => {
                beside = exit;
                None
            }
            _ => None,
        };
        let has_changed = wanted.has_changed(session, self.args, self.card, self.tally);
        if let Some(why) = &saved.not_named {
            session.out.warn(&format!("The names of lost files could not be determined: {why}."));
        }
        if let Some(why) = &saved.not_mended {
            session.out.warn(&format!(
                "Hard-to-read sectors were not fully retried, or are missing in the image: {why}."
            ));
        }
        let done = self.done(&saved);
        done.show(session, to);
        if let Some((to, second)) = second {
            let done = Done { saved: &second, pack: Pack::raw(), ..done };
            done.show_second(session, to);
        }
        beside?;
        earlier::report_damage(session, self.shelf, &saved, self.earlier);
        let lost: ByteLen = saved.unreadable.iter().map(|span| span.len()).sum();
        if !lost.is_zero() && lost >= done.used {
            session.out.warn(
                "Nothing of the card could be read: the image contains only zeros. Try another reader \
                 or cable, and save it again.",
            );
        }
        if has_changed {
            session.out.warn(&fleet::mixed("the image", "save it again"));
            return Ok(Exit::Mismatch);
        }
        let is_interrupted = session.environment.interrupt.cancel.check().is_err();
        Ok(match saved.unreadable.is_empty() {
            // The new image is intact, but older ones are not.
            true if !saved.reused.damaged.is_empty() => Exit::Mismatch,
            true => packing::exit(&saved),
            false if is_interrupted => Exit::Interrupted,
            false => Exit::Unreadable,
        })
    }

    fn done<'b>(&'b self, saved: &'b Saved) -> Done<'b> {
        let (content, view) = (self.content, &self.content.plan.view);
        Done {
            card: self.card,
            size: self.wanted.survey.size,
            fitted: content.is_fitted().then_some(content.after.size),
            only: self.wanted.only.as_ref(),
            occupancy: content.occupancy.as_ref().filter(|_| !content.is_fitted()),
            used: view.copied_in(Span::whole(view.size())),
            pack: self.options.pack,
            saved,
            reused: self.earlier.map(|earlier| earlier.json(saved)),
            reused_lines: self
                .earlier
                .map_or(Vec::new(), |earlier| earlier.lines(&self.session.out, saved)),
            frozen: None,
            tally: self.tally,
            took: self.started.elapsed(),
        }
    }
}

fn failed(error: Error, card: &Card, to: &Destination) -> Failure {
    let class = error.class();
    let next = match class {
        Class::Io if to.is_pipe() => "Find out why the program that reads the pipe ended.",
        _ => packing::what_next(&error),
    };
    let mut failure = Failure::from(error);
    if let Some(next) = to.gone() {
        return failure.state("The card is unchanged; the image is incomplete.").next(next);
    }
    let Some(left) = to.unfinished() else {
        return failure.state(format!("The card is unchanged; {}.", to.what_is_left())).next(next);
    };
    let line = to.line("imbrik save", &card.path, "--resume");
    let next = match class {
        Class::Refused => {
            format!("{next} Or leave --resume out: {} is removed first.", quoted(&left))
        }
        Class::NoRoom => format!("Free some space, then resume: {line}"),
        Class::Gone => {
            format!(
                "Plug the card in again, find its name with `imbrik cards`, then resume: {line}"
            )
        }
        _ => format!("To resume, run: {line}"),
    };
    failure.state =
        format!("The card is unchanged; the part saved so far is in {}.", quoted(&left));
    failure.next = next;
    failure
}

/// The source of a save: a card, or a partition in place of a card.
struct SaveSource {
    source: Arc<dyn ReadAt>,
    survey: Survey,
    /// The partition, when it is one.
    only: Option<Part>,
}

impl SaveSource {
    fn of(session: &Session, args: &SaveArgs, card: &Card, tally: &Tally) -> Outcome<Self> {
        let mut source = session.fleet.source(card, tally, true).state(UNTOUCHED)?;
        if args.also.is_some() {
            source = writing::shared(&source);
        }
        let survey = Survey::of(&*source).state(UNWRITTEN)?;
        let Some(name) = &args.only else { return Ok(Self { source, survey, only: None }) };
        let part = resolve::part(&survey, name, &card.path).state(UNWRITTEN)?;
        let window: Arc<dyn ReadAt> = Arc::new(Window::new(source, part.span)?);
        let mut inside = Survey::of(&*window).state(UNWRITTEN)?;
        inside.host = inside.host.or_else(|| survey.host.clone());
        Ok(Self { source: window, survey: inside, only: Some(part.clone()) })
    }

    /// Returns whether the content of the card has changed since it was read. A removed card is unknown.
    fn has_changed(&self, session: &Session, args: &SaveArgs, card: &Card, tally: &Tally) -> bool {
        match Self::of(session, args, card, tally) {
            Ok(again) => self.survey.has_changed(&again.survey),
            Err(failure) => failure.exit == Exit::Mismatch,
        }
    }
}

/// The content of the image.
fn content(session: &Session, args: &SaveArgs, wanted: &SaveSource) -> Outcome<ImagePlan> {
    let (source, survey) = (&wanted.source, &wanted.survey);
    if args.fit {
        let room = args.room.map(|room| room.0);
        let smallest = fit_plan::smallest(survey, None, room).map_err(|failure| {
            failure.next("Leave --fit out: free space takes no space in the image.")
        })?;
        let plan = fit_plan::plan(session, source, survey, smallest, false)?;
        for change in &plan.plan.changes {
            session.out.note(&format!("{}.", change::words(change)));
        }
        return Ok(plan);
    }
    let what = if args.exact { ImageContent::Exact } else { ImageContent::InUse };
    let options = session.resize_options(false);
    let plan = session.waiting("examining the volumes of the card", || {
        ImagePlan::new(source, survey, what, options)
    });
    let plan = plan.state(UNWRITTEN)?;
    for why in plan.occupancy.iter().flat_map(Occupancy::notes) {
        session.out.warn(&format!("{why}."));
    }
    Ok(plan)
}

/// Shows what would be saved, the destination, and the estimated time.
fn plan(
    session: &Session,
    card: &Card,
    wanted: &SaveSource,
    content: &ImagePlan,
    to: &Destination,
    options: &SaveOptions,
) -> Outcome<Exit> {
    let view = &content.plan.view;
    let used = view.copied_in(Span::whole(view.size()));
    let sampled = sample(view, options.pack, options.level).state(UNTOUCHED)?;
    let likely = packing::part(sampled.used, sampled.likely);
    let reading = used.get() as f64 / card.likely_read_rate() as f64;
    let threads = thread::available_parallelism().map_or(1, NonZero::get);
    // The card is read while earlier tiles are compressed.
    let seconds = reading.max(sampled.packing.as_secs_f64() / threads as f64);
    let back = match options.check && !to.is_pipe() {
        true => used.get() as f64 / READ_BACK_RATE,
        false => 0.0,
    };
    let out = &session.out;
    if out.is_json() {
        let more = json::SavePlan {
            card: json::card(card, Some(Some(&wanted.survey))),
            card_size: view.size().get(),
            bytes_to_read: used.get(),
            image: json::path(to.path()),
            likely_image_bytes: likely.get(),
            likely_seconds: seconds + back,
        };
        out.line(&json::object("save", "plan", more).to_string());
        return Ok(Exit::Done);
    }
    let name = card.path.display();
    let what = wanted.only.as_ref();
    let what = what.map_or(name.to_string(), |part| format!("{} of {name}", part.full_title()));
    out.line(&format!("Card      {what} · {}", size::both(wanted.survey.size)));
    for line in survey::parts(&content.after, None) {
        out.line(&format!("        {line}"));
    }
    out.line(&format!("Read      {} of it", size::both(used)));
    out.line(&format!("Image     {}", to.title()));
    out.line(&format!("Size      about {}, estimated from samples", size::short(likely)));
    let mut likely = format!("{} to read the card and compress", time::roughly(seconds));
    if back > 0.0 {
        likely += &format!(", {} to read the image back", time::roughly(back));
    }
    out.line(&format!("Time      {likely}"));
    out.only_planned();
    Ok(Exit::Done)
}

/// The manifest of the image.
fn manifest(args: &SaveArgs, card: &Card, wanted: &SaveSource, content: &ImagePlan) -> Manifest {
    let mut manifest = content.manifest(packing::MADE_BY, Timestamp::now());
    manifest.card_model.clone_from(&card.model);
    manifest.note.clone_from(&args.note);
    manifest.left_out.clone_from(&card.boot_areas);
    manifest.only = wanted.only.as_ref().map(ListedPart::of);
    manifest
}

/// Announces the save.
fn announce(session: &Session, card: &Card, wanted: &SaveSource, to: &Destination) {
    if !session.out.is_json() {
        let name = card.path.display();
        session.out.note(&format!(
            "Saving {} ({}) {}",
            wanted
                .only
                .as_ref()
                .map_or(name.to_string(), |part| format!("{} of {name}", part.full_title())),
            size::both(wanted.survey.size),
            match to.is_pipe() {
                true => "to standard output".to_owned(),
                false => format!("as {}", to.title()),
            }
        ));
    }
    if !card.boot_areas.is_empty() {
        session.out.warn(&format!(
            "the card's separate boot areas ({}) are not in the image; a board that starts from \
             them needs them, too.",
            card.boot_areas.join(", ")
        ));
    }
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

/// `hive-07-2026-11-23`: host, else label, else size, then the date.
fn proposed_stem(wanted: &SaveSource, card: &Card) -> String {
    let name = wanted.survey.name();
    let mut name = name.map_or_else(|| format!("card {}", size::short(card.size)), str::to_owned);
    if let Some(part) = &wanted.only {
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

/// Refuses a destination on the card itself, and warns of one in memory.
fn off_the_card(session: &Session, image: &Path, card: &Card) -> Outcome<()> {
    if session.fleet.lies_on(image, card) {
        return Err(Failure::refused(format!("{} lies on the card itself", quoted(image)))
            .state(UNTOUCHED)
            .next("Name a folder on another disk."));
    }
    if let Some(rack) = &session.fleet.rack
        && resolve::is_same_file_as_any(image, rack)
    {
        return Err(Failure::refused(format!(
            "{} is the file of a slot of the rack",
            quoted(image)
        ))
        .state(UNTOUCHED)
        .next("Choose another name."));
    }
    Ok(())
}

/// With a large letter in front.
fn sentence(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map_or(String::new(), |first| first.to_uppercase().chain(letters).collect())
}
