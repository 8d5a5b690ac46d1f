//! `imbrik restore`: image to card.

use crate::{
    args::RestoreArgs,
    command::show::start_lines,
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    render::{Tone, change, json, quoted, size, survey, time},
    resolve,
    session::Session,
};
use imbrik_core::{
    Class, Error,
    card::{Card, Reason, Standing, standing},
    fs::VolumeKind,
    image::{Image, Manifest, TileDigest},
    layout::{
        Change, Fit, Occupancy, Part, Plan, Reference, Survey, Target, references,
        table_behind_a_preface,
    },
    progress::Watch,
    store::{Counted, ReadAt, Tally, Window},
    transfer::{Planned, check_tiles, claim, read_back, write_card},
    units::{ByteLen, ByteOffset, Span},
};
use serde_json::json;
use std::{
    sync::Arc,
    time::{Duration, Instant},
};

const UNTOUCHED: &str = "Nothing was written to the card.";

pub(crate) fn run(session: &Session, args: &RestoreArgs) -> Outcome<Exit> {
    let image = session
        .open_image(&args.image)
        .state(UNTOUCHED)
        .next("`imbrik check` tells more; try another copy of the image.")?;
    let card = resolve::card(&session.fleet, &args.card)?;
    let (content, survey) = content(&image, args)?;
    may_be_written(&card, args)?;
    let on_card = session.fleet.look(&card).state(UNTOUCHED)?;
    let into = match &args.into {
        None => None,
        Some(name) => Some(into(session, &card, &on_card, name, &survey)?),
    };
    let size = into.as_ref().map_or(card.size, |into| into.span.len());
    let target = Target { size, sector: card.sector };
    let references = references(&*content, &survey).state(UNTOUCHED)?;
    let exact = image.manifest().is_some_and(|manifest| manifest.exact) && args.starts_at.is_none();
    let occupancy = match exact || args.as_is {
        true => None,
        false => Some(Occupancy::of(&content, &survey).state(UNTOUCHED)?),
    };
    let request = Request { args, image: &image, survey: &survey, target };
    let mut plan = request.plan(session, &content, occupancy.as_ref())?;
    if args.wipe {
        plan.view = plan.view.wiped();
    }
    let after = Survey::of(&plan.view).state(UNTOUCHED)?;
    let journey = Journey {
        session,
        args,
        image: &image,
        survey: &survey,
        after: &after,
        card: &card,
        on_card: &on_card,
        into,
        references,
        plan: &plan,
    };
    journey.show_plan();
    if args.plan {
        return Ok(Exit::Done);
    }
    journey.unmount_and_confirm()?;
    journey.go()
}

/// What a plan is to be made of.
struct Request<'a> {
    args: &'a RestoreArgs,
    image: &'a Image,
    survey: &'a Survey,
    target: Target,
}

impl Request<'_> {
    fn plan(
        &self,
        session: &Session,
        content: &Arc<dyn ReadAt>,
        occupancy: Option<&Occupancy>,
    ) -> Outcome<Plan> {
        let refused = |error: Error| {
            let next = match error.class() {
                Class::NoRoom => "Use a larger card.",
                Class::Refused => {
                    "Get the whole image again; `imbrik check` tells whether it is whole."
                }
                Class::Unsupported | Class::Corrupt if self.args.shape.fill => {
                    "Leave --fill out, and it keeps its size."
                }
                Class::Unsupported => "Use a card with sectors of the same size.",
                _ => "",
            };
            Failure::from(error).state(UNTOUCHED).next(next)
        };
        let plain = Plan::restore(Arc::clone(content), self.survey, occupancy, self.target);
        let size = self.target.size;
        let fit = |occupancy: &Occupancy, fit: &Fit| {
            Plan::fit(Arc::clone(content), self.survey, occupancy, fit, session.work())
        };
        let plain = match (plain, occupancy.filter(|_| self.may_resize())) {
            // A smaller card is used when the data fit.
            (Err(error), Some(occupancy)) if error.class() == Class::NoRoom => {
                let take_from = self.parts(&self.args.shape.take_from)?;
                let smaller = Fit::Card { size, take_from, give_to: None };
                return fit(occupancy, &smaller).map_err(|why| match why.class() {
                    Class::NoRoom | Class::Cancelled => refused(why),
                    _ => refused(Error::new(Class::NoRoom, format!("{error}; {why}"))),
                });
            }
            (plain, _) => plain.map_err(refused)?,
        };
        let named = match &self.args.shape.give_to {
            Some(name) => Some(self.part(name)?),
            None => None,
        };
        let asked = self.args.shape.fill || named.is_some();
        let Some(occupancy) = occupancy.filter(|_| asked || self.fills_of_itself()) else {
            return match asked {
                false => Ok(plain),
                true => Err(Failure::refused("an exact image stays as it is, to the byte")
                    .state(UNTOUCHED)
                    .next("Leave --fill out.")),
            };
        };
        let Some(index) = named.or_else(|| self.survey.last_reshapable()) else {
            return match asked {
                false => Ok(plain),
                true => Err(Failure::refused(format!(
                    "no volume can grow: none is one of {}",
                    VolumeKind::RESHAPED
                ))
                .state(UNTOUCHED)
                .next("Leave --fill out, and all keep their sizes.")),
            };
        };
        let room = size.saturating_sub(self.survey.needed());
        if room < LEAST_ROOM {
            if asked {
                session.out.note("There is nothing to fill: the card is as large as the image.");
            }
            return Ok(plain);
        }
        let larger = Fit::Card { size, take_from: Vec::new(), give_to: Some(index) };
        match fit(occupancy, &larger) {
            Ok(plan) => Ok(plan),
            Err(error) if asked || error.class() == Class::Cancelled => {
                let words = format!("the volume cannot grow: {error}");
                Err(refused(Error::new(error.class(), words)))
            }
            Err(error) => {
                session.out.warn(&format!("the last volume keeps its size: {error}."));
                Ok(plain)
            }
        }
    }

    /// The place in [`Survey::parts`] of the partition called `name`.
    fn part(&self, name: &str) -> Outcome<usize> {
        resolve::part_index(self.survey, name, self.image.path()).state(UNTOUCHED)
    }

    fn parts(&self, names: &[String]) -> Outcome<Vec<usize>> {
        names.iter().map(|name| self.part(name)).collect()
    }

    /// Whether a volume may get another size without having been asked for.
    fn may_resize(&self) -> bool {
        let is_plain = !self.args.as_is && self.args.starts_at.is_none();
        is_plain && !self.args.shape.keep_size && self.args.into.is_none()
    }

    /// Whether the image says that its last volume took what its card had.
    fn fills_of_itself(&self) -> bool {
        let says = |manifest: &Manifest| manifest.reaches_end || manifest.fitted.is_some();
        self.may_resize() && self.image.manifest().is_some_and(says)
    }
}

/// Less than this is not worth growing a volume for.
const LEAST_ROOM: ByteLen = ByteLen::mib(1);

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

/// A partition that is written instead of the whole card.
struct Into {
    span: Span,
    title: String,
    /// What is in it now.
    now: Survey,
}

/// The partition `name` of `card`, into which a volume may be put.
fn into(
    session: &Session,
    card: &Card,
    on_card: &Survey,
    name: &str,
    image: &Survey,
) -> Outcome<Into> {
    let part = resolve::part(on_card, name, &card.path).state(UNTOUCHED)?;
    if image.table.is_some() {
        return Err(Failure::refused("the image is of a whole card, with a table of its own")
            .state(UNTOUCHED)
            .next("Leave --into out to write it to the whole card."));
    }
    if let Some(why) = on_card.whole_because {
        return Err(Failure::refused(format!("nothing can be put into this card: {why}"))
            .state(UNTOUCHED)
            .next("Restore a whole card instead."));
    }
    let source = session.fleet.host_of(card).open_source(card).state(UNTOUCHED)?;
    let now = Survey::of(&Window::new(source, part.span)?).state(UNTOUCHED)?;
    Ok(Into { span: part.span, title: part.full_title(), now })
}

/// Refuses what may not be written, before anything else is asked.
fn may_be_written(card: &Card, args: &RestoreArgs) -> Outcome<()> {
    let name = card.path.display();
    let (what, next) = match standing(card, args.allow_fixed) {
        Standing::Ready | Standing::Mounted(_) => return Ok(()),
        Standing::Fixed(why) => (
            format!("{name} is {why}, not a card"),
            "If it is the one you mean, add --allow-fixed.",
        ),
        Standing::Refused(reason) => {
            let next = match reason {
                Reason::System(_) => "No option permits this: choose another card.",
                Reason::Held { .. } => "Stop what uses it, then repeat.",
                Reason::ReadOnly => "Slide the lock on the adapter, or use another card.",
                Reason::Empty => "Put a card in.",
            };
            (format!("{name} cannot be written to: {reason}"), next)
        }
    };
    Err(Failure::refused(what).state(UNTOUCHED).next(next))
}

/// A restore whose plan is made.
struct Journey<'a> {
    session: &'a Session,
    args: &'a RestoreArgs,
    image: &'a Image,
    survey: &'a Survey,
    /// What is on the card, or the partition, afterwards.
    after: &'a Survey,
    card: &'a Card,
    /// What is on the whole card now.
    on_card: &'a Survey,
    into: Option<Into>,
    references: Vec<Reference>,
    plan: &'a Plan,
}

impl Journey<'_> {
    /// What is now where the image goes.
    fn now(&self) -> &Survey {
        self.into.as_ref().map_or(self.on_card, |into| &into.now)
    }

    /// What is written: the card, or a partition of it.
    fn goal(&self) -> String {
        let card = self.card.path.display();
        match &self.into {
            None => card.to_string(),
            Some(into) => format!("{} of {card}", into.title),
        }
    }

    /// Seconds to write and to read back.
    fn likely_seconds(&self) -> (f64, f64) {
        let bytes = self.plan.view.written().get() as f64;
        let write = bytes / self.card.likely_write_rate() as f64;
        let read = bytes / self.card.likely_read_rate() as f64;
        (write, if self.args.no_check { 0.0 } else { read })
    }

    fn show_plan(&self) {
        let out = &self.session.out;
        let (write, read) = self.likely_seconds();
        if out.is_json() {
            let more = json!({
                "image": self.image.path().to_string_lossy(),
                "card": json::card(self.card, Some(self.on_card)),
                "into": self.into.as_ref().map(|into| into.title.clone()),
                "after": json::content(self.after),
                "bytes_to_write": self.plan.view.written().get(),
                "likely_seconds": write + read,
                "changes": self.plan.changes.iter().map(change::words).collect::<Vec<_>>(),
                "references_missing": self.references.iter().filter(|r| !r.is_found).count(),
            });
            out.line(&json::object("restore", "plan", more).to_string());
            return;
        }
        let strong = |text: &str| out.paint(Tone::Strong, &format!("{text:<16}"));
        let facts = [Some(size::both(self.card.size)), self.card.model.clone()];
        let facts: Vec<_> = facts.into_iter().flatten().collect();
        let path = self.card.path.display();
        out.line(&format!("{}{} · {}", strong("On the card now"), path, facts.join(" · ")));
        self.show_content(self.on_card);
        if !self.card.mounts().is_empty() {
            let at: Vec<_> = self.card.mounts().iter().map(|at| at.display().to_string()).collect();
            out.line(&format!("  mounted at {}", at.join(" and ")));
        }
        out.line("");
        let goal = self.into.as_ref().map_or(String::new(), |into| format!("{}, ", into.title));
        out.line(&format!("{}{goal}from {}", strong("Afterwards"), quoted(self.image.path())));
        self.show_content(self.after);
        for change in self.plan.changes.iter().map(change::words) {
            out.line(&format!("  {change}"));
        }
        let is_resized = |change: &Change| matches!(change, Change::Resized { .. });
        if !self.args.shape.fill && self.plan.changes.iter().any(is_resized) {
            out.line("  with --keep-size, it keeps its size");
        }
        if let Some(part) = self.could_fill() {
            out.line(&format!("  with --fill, {part} would take them"));
        }
        out.line("");
        out.line(&format!("{}{}", strong("The image"), self.about_the_image()));
        for line in start_lines(out, &strong("Will it start?"), &self.references) {
            out.line(&line);
        }
        for finding in self.image.findings().iter().chain(&self.survey.findings) {
            out.line(&format!("  {} {finding}", out.paint(Tone::Alarm, "!")));
        }
        let mut likely =
            format!("{} to write {}", time::roughly(write), size::short(self.plan.view.written()));
        if read > 0.0 {
            likely += &format!(", {} to read back", time::roughly(read));
        }
        out.line(&format!("{}{likely}", strong("Likely time")));
        out.line("");
    }

    /// The last volume, when it could grow into room that is left as it is.
    fn could_fill(&self) -> Option<String> {
        let is_left = |change: &Change| matches!(change, Change::TailUnused(_));
        if self.into.is_some() || !self.plan.changes.iter().any(is_left) {
            return None;
        }
        let last = self.survey.last_reshapable().filter(|_| !self.args.shape.keep_size)?;
        self.survey.parts.get(last).map(Part::full_title)
    }

    fn show_content(&self, content: &Survey) {
        let out = &self.session.out;
        if content.parts.is_empty() {
            out.line(&format!("  {}", survey::nothing(content)));
        }
        for line in survey::parts(content, None) {
            out.line(&line);
        }
        if let Some(behind) = survey::behind(content) {
            out.line(&format!("  {behind}"));
        }
    }

    /// "hive-07, saved 2026-11-23 07:20; every tile is checked before writing".
    fn about_the_image(&self) -> String {
        let check = match (self.args.no_check, self.image.manifest().is_some()) {
            (true, _) => "not checked beforehand, as asked",
            (false, true) => "every tile is checked before the card is touched",
            (false, false) => "it has no digests; that it can be read is checked beforehand",
        };
        match self.image.manifest() {
            Some(manifest) => {
                format!("{}; {check}", time::saved(manifest))
            }
            None => format!("made by another program, so its date is unknown; {check}"),
        }
    }

    fn unmount_and_confirm(&self) -> Outcome<()> {
        let now = self.now();
        let word = match (&self.into, now.name()) {
            (None, _) => survey::name(Some(now), self.card),
            (Some(_), Some(name)) => name.to_owned(),
            (Some(into), None) => size::short(into.span.len()),
        };
        if let Standing::Mounted(mounts) = standing(self.card, self.args.allow_fixed) {
            self.session.make_unmounted(self.card, &mounts, self.args.unmount).state(UNTOUCHED)?;
        }
        let what = match (&now.host, now.label()) {
            (Some(_), _) => "its host name",
            (None, Some(_)) => "its label",
            (None, None) => "its size",
        };
        let question = format!(
            "Everything on {} is overwritten. Type {what}, {word}, to go ahead: ",
            self.goal()
        );
        self.session.confirm_by_typing(&word, &question, self.args.yes)
    }

    fn go(&self) -> Outcome<Exit> {
        let started = Instant::now();
        let steps = if self.args.no_check { 1 } else { 3 };
        let progress = self.session.progress(steps);
        let cancel = &self.session.environment.interrupt.cancel;
        let watch = Watch { observer: &progress, cancel };
        let digests = match self.image.manifest() {
            Some(manifest) => Some(manifest.tiles.digests().state(UNTOUCHED)?),
            None => None,
        };
        if !self.args.no_check {
            self.check_image(digests.as_deref().unwrap_or_default(), watch)?;
        }
        let card_name = self.goal();
        let planned = Planned { card: self.fresh_card()?, fingerprint: self.on_card.fingerprint() };
        let target = claim(self.session.fleet.host_of(self.card), &planned, self.args.allow_fixed)
            .state(UNTOUCHED)
            .next("Look again with `imbrik cards`, and repeat.")?;
        let tally = Tally::default();
        let digests = digests.as_deref().filter(|_| self.args.starts_at.is_none());
        let counted = Counted::new(target.store(), &tally);
        let whole = Span::whole(self.card.size);
        let place = self.into.as_ref().map_or(whole, |into| into.span);
        let store = Window::new(counted, place).state(UNTOUCHED)?;
        let medium = || -> Outcome<Arc<dyn ReadAt>> {
            let medium = target.medium().state(UNTOUCHED)?;
            Ok(Arc::new(Window::new(Counted::new(medium, &tally), place).state(UNTOUCHED)?))
        };
        let now = if self.args.differing { Some(medium()?) } else { None };
        let written =
            write_card(&self.plan.view, &store, digests, now, watch).map_err(|error| {
                let next = match error.class() {
                    Class::Mismatch | Class::Corrupt => "Try another copy of the image.",
                    Class::Gone => "Plug it in again, and restore once more.",
                    _ => "Restore once more; if it fails again, the card or the reader is bad.",
                };
                Failure::from(error)
                    .state(match tally.written() {
                        ByteLen::ZERO => UNTOUCHED.to_owned(),
                        _ if self.into.is_none() => format!(
                            "What was on {card_name} is lost, and it has no partition table now, \
                             so that it is not taken for a whole card."
                        ),
                        _ => format!(
                            "What was on {card_name} is lost, and its start is cleared, so that \
                             it is not taken for whole."
                        ),
                    })
                    .next(next)
            })?;
        if !self.args.no_check {
            self.read_back(&medium, &written.digests, watch)?;
        }
        drop(progress);
        let let_go = target.let_go();
        self.summary(&tally, written.found, started.elapsed());
        match let_go {
            Ok(_) => Ok(Exit::Done),
            Err(error) => Err(Failure::from(error)
                .state(format!("{card_name} is written and proved, but mounted again."))
                .next("Unmount it before you take it out.")),
        }
    }

    /// The card as it is listed after what was mounted is gone.
    fn fresh_card(&self) -> Outcome<Card> {
        resolve::card(&self.session.fleet, &self.card.path).state(UNTOUCHED)
    }

    fn check_image(&self, digests: &[TileDigest], watch: Watch<'_>) -> Outcome<()> {
        let found = check_tiles(self.image, digests, watch)
            .state(UNTOUCHED)
            .next("Run the same command again.")?;
        match found.spans.first() {
            None => Ok(()),
            Some(first) => Err(Failure::new(
                Exit::Mismatch,
                format!("the image is damaged, first at {first} of the card's content"),
            )
            .state(UNTOUCHED)
            .next("Try another copy of the image.")),
        }
    }

    fn read_back(
        &self,
        medium: &dyn Fn() -> Outcome<Arc<dyn ReadAt>>,
        digests: &[TileDigest],
        watch: Watch<'_>,
    ) -> Outcome<()> {
        let unproved = format!(
            "Everything was written to {}, but it is not proved that the card kept it.",
            self.goal()
        );
        let compare = format!(
            "imbrik check {} --against {}",
            quoted(self.image.path()),
            quoted(&self.card.path)
        );
        let medium = medium().map_err(|failure| Failure { state: unproved.clone(), ..failure })?;
        let found = read_back(&self.plan.view.read_back_from(medium), digests, watch)
            .state(&unproved)
            .next(format!("To prove it, run: {compare}"))?;
        let Some(first) = found.spans.first() else { return Ok(()) };
        let bytes: ByteLen = found.spans.iter().map(|span| span.len()).sum();
        Err(Failure::new(
            Exit::Mismatch,
            format!(
                "the card did not keep what was written: first at {first}, {} in all",
                size::both(bytes)
            ),
        )
        .state(format!("{} cannot be relied on.", self.card.path.display()))
        .next("Try another reader; if it happens again, the card is bad or holds less than it claims."))
    }

    fn summary(&self, tally: &Tally, found: ByteLen, took: Duration) {
        let out = &self.session.out;
        let card = self.goal();
        let proved = match (self.args.no_check, self.args.differing) {
            (true, _) => "written, not read back",
            (false, false) => "written, and read back from the card",
            (false, true) => "differed and were written; all of it was read back",
        };
        if out.is_json() {
            let more = json!({
                "card": self.card.path.to_string_lossy(),
                "card_size": self.card.size.get(),
                "card_bytes_read": tally.read().get(),
                "card_bytes_written": tally.written().get(),
                "image": self.image.path().to_string_lossy(),
                "image_bytes": self.image.file().size().get(),
                "card_bytes_found": found.get(),
                "read_back": !self.args.no_check,
                "seconds": took.as_secs_f64(),
                "sums": {},
            });
            out.line(&json::object("restore", "done", more).to_string());
            return;
        }
        let of = self
            .survey
            .name()
            .map_or_else(|| format!("the content of {}", quoted(self.image.path())), str::to_owned);
        out.line("");
        out.line(&format!(
            "{card} now holds {of}: {} {proved} in {}.",
            size::both(tally.written()),
            time::span(took)
        ));
        out.line("It is safe to take the card out.");
        out.line(
            "Should a computer offer to format this card, decline: it only cannot read all of it.",
        );
        if self.into.is_some() {
            return;
        }
        out.line(&format!(
            "Next      imbrik check {} --against {}",
            quoted(self.image.path()),
            quoted(&self.card.path)
        ));
    }
}
