//! `imbrik restore`: image to card.

use crate::{
    args::RestoreArgs,
    command::show::start_lines,
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    render::{Tone, json, quoted, size, survey, time},
    resolve,
    session::Session,
};
use imbrik_core::{
    Class, Error,
    card::{Card, Reason, Standing, standing},
    fs::VolumeKind,
    image::{Image, TileDigest},
    layout::{
        Change, Occupancy, Plan, Reference, Survey, Target, references, table_behind_a_preface,
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
    let made = match (&occupancy, args.fill) {
        (None, true) => {
            return Err(Failure::refused("an exact image stays as it is, to the byte")
                .state(UNTOUCHED)
                .next("Leave --fill out."));
        }
        (Some(occupancy), true) => {
            Plan::fill(content, &survey, occupancy, target, None).map_err(|error| {
                Error::new(error.class(), format!("the last volume cannot grow: {error}"))
            })
        }
        (occupancy, false) => Plan::restore(content, &survey, occupancy.as_ref(), target),
    };
    let mut plan = made.map_err(|error| {
        let next = match error.class() {
            Class::NoRoom => "Use a larger card.",
            Class::Refused => {
                "Get the whole image again; `imbrik check` tells whether it is whole."
            }
            Class::Unsupported if args.fill => "Leave --fill out, and it keeps its size.",
            Class::Unsupported => "Use a card with sectors of the same size.",
            _ => "",
        };
        Failure::from(error).state(UNTOUCHED).next(next)
    })?;
    if args.wipe {
        plan.view = plan.view.wiped();
    }
    let journey = Journey {
        session,
        args,
        image: &image,
        survey: &survey,
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
                "after": json::content(self.survey),
                "bytes_to_write": self.plan.view.written().get(),
                "likely_seconds": write + read,
                "changes": self.plan.changes.iter().map(change).collect::<Vec<_>>(),
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
        self.show_content(self.survey);
        for change in self.plan.changes.iter().map(change) {
            out.line(&format!("  {change}"));
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
        let last = self.survey.parts.iter().max_by_key(|part| part.span.end())?;
        let kind = last.volume.as_ref()?.kind;
        let is_ext = matches!(kind, VolumeKind::Ext2 | VolumeKind::Ext3 | VolumeKind::Ext4);
        is_ext.then(|| last.full_title())
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

/// A change in words.
fn change(change: &Change) -> String {
    match change {
        Change::GptMoved => "the backup of the GPT goes to the end of this card".to_owned(),
        Change::TailUnused(len) => format!("{} behind it are left as they are", size::short(*len)),
        Change::TailCleared(len) => {
            format!("{} at the card's end are cleared of old headers", size::short(*len))
        }
        Change::Grown { title, from, to } => {
            format!("{title} grows from {} to {}", size::short(*from), size::short(*to))
        }
        Change::TailCut(len) => {
            format!("{} behind the last partition do not fit and are left out", size::both(*len))
        }
    }
}
