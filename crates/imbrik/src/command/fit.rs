//! `imbrik fit`: an image for a card of another size.

use crate::{
    args::FitArgs,
    card_sizes,
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    fit_plan, identity,
    packing::{self, Destination},
    pipe,
    render::{Tone, change, json, quoted, size, survey, time},
    resolve,
    session::Session,
};
use imbrik_core::{
    image::{Image, Pack},
    layout::{Change, Fit, Plan, Room, Survey, room},
    operation::ImagePlan,
    progress::Watch,
    store::ReadAt,
    transfer::{Saved, fit},
    units::{ByteLen, Span},
};
use jiff::Timestamp;
use std::{
    path::{Path, PathBuf},
    sync::Arc,
    time::{Duration, Instant},
};

const UNTOUCHED: &str = "Nothing was written.";
/// The checks of a resized volume before its plan is shown.
const VERIFIED: &str = "block ownership, directories and link counts of resized volumes; not file \
                        contents, and not all that fsck checks";
/// The same if faults are kept.
const VERIFIED_BUT_FAULTS: &str = "block ownership of resized volumes, and no fault in directories and links but \
                                   those above; not file contents";

pub(crate) fn run(session: &Session, args: &FitArgs) -> Outcome<Exit> {
    let started = Instant::now();
    let name = out_name(args)?;
    let options = packing::options(session, &args.packing, Some(&name))?;
    let to = match pipe::is_pipe(&name) {
        true => Destination::pipe(session)?,
        false => {
            let stem = packing::stem_of(&args.image);
            Destination::file(
                session,
                Some(&name),
                &format!("{stem}-fitted"),
                &args.packing,
                options.pack,
            )?
        }
    };
    let image = session
        .open_image(&args.image)
        .state(UNTOUCHED)
        .next("Run `imbrik check` for details, or try another copy of the image.")?;
    let mut content = Arc::clone(image.content());
    let mut before = Survey::of(&*content).state(UNTOUCHED)?;
    let wanted = wanted(session, args, &before)?;
    let identity = args.identity.of(1, Some(1), &before, &args.image)?;
    let means = session.resize_options(false);
    // A larger image needs space before its files are written; a smaller one frees it first.
    let grows = matches!(&wanted, Fit::Card { size, .. } if *size > content.size());
    let mut first = Vec::new();
    if !identity.is_empty() && !grows {
        let plan = Plan::save_exact(Arc::clone(&content)).with_identity(&identity, means);
        let Plan { view, changes } = plan.map_err(identity::explain).state(UNTOUCHED)?;
        content = Arc::new(view);
        before = Survey::of(&*content).state(UNTOUCHED)?;
        first = changes;
    }
    let mut plan = fit_plan::plan(session, &content, &before, wanted, args.shares.as_found)?;
    if !identity.is_empty() && grows {
        plan = plan.with_identity(&identity, means).map_err(identity::explain).state(UNTOUCHED)?;
    }
    plan.plan.changes.splice(..0, first);
    refuse_less_room(args, &plan)?;
    let room = room(&plan.plan.view, &plan.after).state(UNTOUCHED)?;
    let job = Job { session, image: &image, plan: &plan, room: &room, to: &to };
    job.show_plan();
    if args.plan {
        session.out.only_planned();
        return Ok(Exit::Done);
    }
    to.judge_room(session, &plan.plan.view, &options)?;
    let manifest = plan.manifest_after(&image, packing::MADE_BY, Timestamp::now());
    let steps = if options.check && !to.is_pipe() { 2 } else { 1 };
    let progress = session.progress(steps);
    let cancel = &session.environment.interrupt.cancel;
    let watch = Watch { observer: &progress, cancel };
    let saved = fit(&plan.plan.view, manifest, to.output()?, &options, watch)
        .map_err(|error| packing::failed(error, &image, &to))?;
    drop(progress);
    packing::tell_of(session, &saved);
    job.summary(&saved, options.pack, started.elapsed());
    Ok(packing::exit(&saved))
}

/// The path of the new image: as named, or next to the old one.
fn out_name(args: &FitArgs) -> Outcome<PathBuf> {
    if let Some(out) = &args.out {
        return Ok(out.clone());
    }
    if pipe::is_pipe(&args.image) {
        return Err(Failure::usage("an image from standard input needs a name for the new one")
            .next("Add it: imbrik fit - NEW.img.zst"));
    }
    let folder = args.image.parent().filter(|folder| !folder.as_os_str().is_empty());
    Ok(folder.unwrap_or(Path::new(".")).to_owned())
}

/// The requested size.
fn wanted(session: &Session, args: &FitArgs, survey: &Survey) -> Outcome<Fit> {
    let part = |name: &String| resolve::part_index(survey, name, &args.image).state(UNTOUCHED);
    let card = match (&args.card, args.to) {
        (Some(name), _) => {
            let card = resolve::card(&session.fleet, name).state(UNTOUCHED)?;
            Some(card.size)
        }
        (None, Some(size)) => Some(size.0.whole_sectors(survey.sector.bytes())),
        (None, None) => None,
    };
    let named = args.part.as_ref().map(part).transpose()?;
    let give_to = args.shares.give_to.as_ref().map(part).transpose()?;
    let mut take_from = args.shares.take_from.iter().map(part).collect::<Outcome<Vec<_>>>()?;
    let Some(size) = card else {
        let room = if args.smallest { Some(ByteLen::ZERO) } else { args.room.map(|room| room.0) };
        return fit_plan::smallest(survey, named, room)
            .map_err(|failure| failure.next(fit_plan::OTHERWISE));
    };
    if take_from.is_empty() {
        take_from.extend(named);
    }
    Ok(Fit::Card { size, take_from, give_to: give_to.or(named).or(survey.last_resizable()) })
}

/// Refuses a size that leaves less free space than requested in a volume that was resized for it.
fn refuse_less_room(args: &FitArgs, plan: &ImagePlan) -> Outcome<()> {
    let Some(room) = args.room.filter(|_| args.to.is_some() || args.card.is_some()) else {
        return Ok(());
    };
    let pairs = plan.before.parts.iter().zip(&plan.after.parts).enumerate();
    for (index, (was, is)) in pairs {
        if was.span.len() == is.span.len() && plan.before.last_resizable() != Some(index) {
            continue;
        }
        if let Some(free) = plan.free_in(index).state(UNTOUCHED)?.filter(|free| *free < room.0) {
            let title = is.full_title();
            let (free, room) = (size::short(free), size::short(room.0));
            let text = format!("{title} would have only {free} of free space, less than {room}");
            return Err(Failure::new(Exit::NoRoom, text)
                .state(UNTOUCHED)
                .next("Give a larger size, or ask for less room."));
        }
    }
    Ok(())
}

struct Job<'a> {
    session: &'a Session,
    image: &'a Image,
    plan: &'a ImagePlan,
    /// How much room its systems have afterwards.
    room: &'a [Room],
    to: &'a Destination,
}

impl Job<'_> {
    fn show_plan(&self) {
        let out = &self.session.out;
        if out.is_json() {
            let more = json::FitPlan {
                image: json::path(self.image.path()),
                before: json::content(&self.plan.before),
                after: json::content(&self.plan.after),
                changes: self.plan.plan.changes.iter().map(change::words).collect(),
                bytes_to_read: self
                    .plan
                    .plan
                    .view
                    .copied_in(Span::whole(self.plan.after.size))
                    .get(),
            };
            out.line(&json::object("fit", "plan", more).to_string());
            return;
        }
        let strong = |text: &str| out.paint(Tone::Strong, &format!("{text:<16}"));
        let name = quoted(self.image.path());
        out.line(&format!(
            "{}{name} · {}",
            strong("The image now"),
            size::both(self.plan.before.size)
        ));
        survey::parts(&self.plan.before, None).iter().for_each(|line| out.line(line));
        out.line("");
        out.line(&format!("{}{}", strong("Afterwards"), size::both(self.plan.after.size)));
        let changes = &self.plan.plan.changes;
        survey::parts_and_changes(&self.plan.after, &self.plan.before, changes, self.room)
            .iter()
            .for_each(|line| out.line(line));
        let changes = change::shown(out, &self.plan.plan.changes);
        for line in changes.into_iter().chain(survey::tight(out, self.room)) {
            out.line(&format!("  {line}"));
        }
        out.line("");
        let is_kept = |change: &Change| matches!(change, Change::FaultsKept { .. });
        let changes = &self.plan.plan.changes;
        let verified = match changes.iter().any(is_kept) {
            true => VERIFIED_BUT_FAULTS,
            false => VERIFIED,
        };
        if changes.iter().any(|change| matches!(change, Change::Resized { .. })) {
            out.line(&format!("{}{verified}", strong("Verified")));
            out.line("");
        }
    }

    fn summary(&self, saved: &Saved, pack: Pack, took: Duration) {
        let out = &self.session.out;
        let next = self.to.next(out, "imbrik restore", "CARD");
        let moved: ByteLen = self
            .plan
            .plan
            .changes
            .iter()
            .map(|change| match change {
                Change::Resized { moved, .. } => *moved,
                _ => ByteLen::ZERO,
            })
            .sum();
        if out.is_json() {
            let more = json::Fitted {
                from: json::path(self.image.path()),
                from_card_size: self.plan.before.size.get(),
                card_size: self.plan.after.size.get(),
                moved_bytes: moved.get(),
                made: self.to.made(saved, took, next),
            };
            out.line(&json::object("fit", "done", more).to_string());
            return;
        }
        out.line("");
        out.line(&format!("Image     {}", self.to.title()));
        out.line(&format!(
            "Size      {}; the source image has {}",
            size::both(saved.image_len),
            size::short(self.image.file().size())
        ));
        out.line(&format!("Fits      {}", card_sizes::cards(self.plan.after.size)));
        out.line(&format!("Time      {}", time::span(took)));
        for sum in &saved.sums {
            out.line(&format!("{:<9} {}", sum.kind.to_string(), sum.hex));
        }
        if !self.to.is_pipe() {
            self.to.tell_what_belongs_to_it(out, pack);
            out.line("On a bigger card, its last volume fills the card when it is restored.");
            out.next(&next);
        }
    }
}
