//! The plan before, and the summary afterwards.

use super::{Outcome, PlannedCard, Source, SourceKind, Writing, WrittenToCard};
use crate::{
    exit::Exit,
    failure::Failure,
    identity, pipe,
    render::{
        Tone, change, count, json, listed, lost, quoted, size, start::start_lines, strip, survey,
        time,
    },
    running_card::Freezes,
};
use imbrik_core::{
    layout::{Change, Lost, Part, Survey, View},
    store::ReadAt,
    units::{ByteLen, Span},
};
use std::{path::Path, sync::Arc, time::Duration};

/// How wide the strip of the larger of two cards is drawn.
const COLUMNS: u64 = 64;

impl Writing<'_> {
    pub(super) fn show(&self, source: &Source<'_>, targets: &[PlannedCard]) {
        let out = &self.session.out;
        if out.is_json() {
            targets.iter().for_each(|target| self.show_json(source, target));
            return;
        }
        for (index, target) in targets.iter().enumerate() {
            let head = match targets.len() {
                1 => "On the card now".to_owned(),
                all => format!("Card {} of {all}", index + 1),
            };
            self.show_target(source, target, &head);
        }
        let from = match source.from {
            SourceKind::Image(_) => "The image",
            SourceKind::Card(_) | SourceKind::Kept(..) => "The source",
        };
        out.line(&format!("{}{}", self.head(from), self.about(source)));
        let changed = targets.iter().filter_map(|target| target.plan.references.as_deref());
        // Of several copies, the one with the most that leads nowhere speaks for all.
        let worst = changed.max_by_key(|all| all.iter().filter(|one| !one.is_found).count());
        let references = worst.unwrap_or(&source.known.references);
        for line in start_lines(out, &self.head("Boot references"), references) {
            out.line(&line);
        }
        let findings = match source.from {
            SourceKind::Image(image) => image.findings(),
            SourceKind::Card(_) | SourceKind::Kept(..) => &[],
        };
        let findings = findings.iter().map(ToString::to_string);
        let known = source.known.survey.findings.iter().map(ToString::to_string);
        for finding in findings.chain(known) {
            out.line(&format!("  {} {finding}", out.paint(Tone::Alarm, "!")));
        }
        let seconds = targets.iter().map(|target| target.likely_seconds(self.args));
        let (write, read) =
            seconds.fold((0.0f64, 0.0f64), |all, one| (all.0.max(one.0), all.1.max(one.1)));
        let bytes: ByteLen = targets.iter().map(|target| target.plan.plan.view.written()).sum();
        let mut likely = format!("{} to write {}", time::roughly(write), size::short(bytes));
        if read > 0.0 {
            likely += &format!(", {} to read back", time::roughly(read));
        }
        if targets.len() > 1 {
            likely += "; all cards at the same time";
        }
        out.line(&format!("{}{likely}", self.head("Likely time")));
        out.line("");
    }

    fn head(&self, text: &str) -> String {
        self.session.out.paint(Tone::Strong, &format!("{text:<16}"))
    }

    /// A card written next to an image is a clone.
    fn json_command(&self) -> &'static str {
        if self.command == "save" { "clone" } else { self.command }
    }

    fn show_json(&self, source: &Source<'_>, target: &PlannedCard) {
        let (write, read) = target.likely_seconds(self.args);
        let references = target.plan.references.as_ref().unwrap_or(&source.known.references);
        let more = json::WritePlan {
            image: match source.from {
                SourceKind::Image(image) => Some(json::path(image.path())),
                SourceKind::Card(_) | SourceKind::Kept(..) => None,
            },
            source: source.json_path(),
            card: json::card(&target.target.card, Some(Some(&target.target.survey))),
            into: target.into.as_ref().map(|into| into.title.clone()),
            after: json::content(&target.plan.after),
            bytes_to_write: target.plan.plan.view.written().get(),
            likely_seconds: write + read,
            changes: target.plan.plan.changes.iter().map(change::words).collect(),
            references_missing: references.iter().filter(|one| !one.is_found).count(),
            host: target.host.clone(),
        };
        self.session.out.line(&json::object(self.json_command(), "plan", more).to_string());
    }

    fn show_target(&self, source: &Source<'_>, target: &PlannedCard, head: &str) {
        let out = &self.session.out;
        let card = &target.target.card;
        let facts = [Some(size::both(card.size)), card.model.clone()];
        let facts: Vec<_> = facts.into_iter().flatten().collect();
        out.line(&format!("{}{} · {}", self.head(head), card.path.display(), facts.join(" · ")));
        if let Some(whose) = survey::whose(&target.target.survey) {
            out.line(&format!("  {whose}"));
        }
        self.show_content(&target.target.survey, None);
        if !card.mounts().is_empty() {
            let at: Vec<_> = card.mounts().iter().map(|at| at.display().to_string()).collect();
            out.line(&format!("  mounted at {}", listed(&at)));
        }
        let later = target.target.survey.written.zip(source.known.survey.written);
        if later.is_some_and(|(card, source)| card > source)
            && matches!(source.from, SourceKind::Card(_))
        {
            out.line(&format!(
                "  {} it was written later than {}: are source and target swapped?",
                out.paint(Tone::Alarm, "!"),
                source.title()
            ));
        }
        out.line("");
        let goal = target.into.as_ref().map_or(String::new(), |into| format!("{}, ", into.title));
        let named = target.host.as_ref().map_or(String::new(), |host| format!(", as {host}"));
        out.line(&format!("{}{goal}from {}{named}", self.head("Afterwards"), source.title()));
        if let Some(line) = alone(target) {
            out.line(&format!("  {} {line}", out.paint(Tone::Alarm, "!")));
        }
        self.show_strips(source, target);
        self.show_content(&target.plan.after, Some(&source.known.survey));
        for change in target.plan.plan.changes.iter().map(change::words) {
            out.line(&format!("  {change}"));
        }
        for line in survey::room(out, &target.plan.room) {
            out.line(&format!("  {line}"));
        }
        let has_grown =
            |change: &Change| matches!(change, Change::Resized { from, to, .. } if to > from);
        if !self.args.shape.fill && target.plan.plan.changes.iter().any(has_grown) {
            out.line("  with --keep-size, it keeps its size");
        }
        if let Some(part) = self.could_fill(source, target) {
            out.line(&format!("  with --fill, {part} would use them"));
        }
        out.line("");
    }

    /// Both cards to the same scale, if their used space is known.
    fn show_strips(&self, source: &Source<'_>, target: &PlannedCard) {
        let Some(occupancy) = &source.known.occupancy else { return };
        if source.known.survey.parts.is_empty() {
            return;
        }
        let view = &target.plan.plan.view;
        let (before, after) = (&source.known.survey, &target.plan.after);
        let larger = before.size.max(after.size).get().max(1);
        let columns = |size: ByteLen| {
            let most = COLUMNS.min((self.session.out.width() as u64).saturating_sub(11));
            let part = u128::from(size.get()) * u128::from(most) / u128::from(larger);
            (part as u64).max(4)
        };
        let was = strip::short(before, columns(before.size), |span| occupancy.used_in(span));
        let is = strip::short(after, columns(after.size), |span| view.in_use_in(span));
        for (head, lines) in [("source", was), ("card", is)] {
            let mut head = head;
            for line in lines {
                self.session.out.line(format!("  {head:<8}{line}").trim_end());
                head = "";
            }
        }
    }

    /// The last volume, if it could grow into unused space.
    fn could_fill(&self, source: &Source<'_>, target: &PlannedCard) -> Option<String> {
        let is_left = |change: &Change| matches!(change, Change::TailUnused(_));
        if target.into.is_some() || !target.plan.plan.changes.iter().any(is_left) {
            return None;
        }
        let last = source.known.survey.last_resizable().filter(|_| !self.args.shape.keep_size)?;
        // One that contradicts itself would be refused.
        let found = source.known.occupancy.as_ref()?.volume(last)?;
        found.usage.whole_because.is_none().then_some(())?;
        source.known.survey.parts.get(last).map(Part::full_title)
    }

    fn show_content(&self, content: &Survey, before: Option<&Survey>) {
        let out = &self.session.out;
        if content.parts.is_empty() {
            out.line(&format!("  {}", survey::nothing(content)));
        }
        for line in survey::parts_and_before(content, before) {
            out.line(&line);
        }
        if let Some(behind) = survey::behind(content) {
            out.line(&format!("  {behind}"));
        }
    }

    /// "saved 2026-11-23 07:20; every tile is checked before the card is written".
    fn about(&self, source: &Source<'_>) -> String {
        let SourceKind::Image(image) = source.from else {
            let used = source
                .known
                .occupancy
                .as_ref()
                .map(|occupancy| occupancy.used_in(Span::whole(source.known.survey.size)));
            let used = used.unwrap_or(source.known.survey.size);
            return format!(
                "{} · {} in use",
                size::both(source.known.survey.size),
                size::short(used)
            );
        };
        if !source.known.damaged.is_empty() {
            let lost: ByteLen = source.known.damaged.iter().map(|span| span.len()).sum();
            return format!("damaged: {} of it become zeros, as requested", size::both(lost));
        }
        let check = match (self.args.no_check, image.manifest().is_some()) {
            (true, _) => "not checked first, as requested",
            (false, true) => "every tile is checked before the card is written",
            (false, false) => "it has no digests; only its readability is checked first",
        };
        match image.manifest() {
            Some(manifest) => format!("{}; {check}", time::saved(manifest)),
            None if !image.findings().is_empty() => {
                format!("its manifest cannot be read, so its date is unknown; {check}")
            }
            None => format!("made by another program, so its date is unknown; {check}"),
        }
    }

    /// Reports the result of each card.
    ///
    /// # Errors
    /// The failure of the only card, or that some of several failed.
    pub(super) fn sum_up(
        &self,
        source: &Source<'_>,
        targets: &[PlannedCard],
        results: Vec<Outcome<WrittenToCard>>,
        took: Duration,
    ) -> Outcome<Exit> {
        let out = &self.session.out;
        let read = source.tally.as_ref().filter(|_| !out.is_json());
        let read = read
            .map(|tally| format!("Read      {} of {}", size::both(tally.read()), source.title()));
        let all = results.len();
        let mut failed: Vec<Failure> = Vec::new();
        let mut exit = Exit::Done;
        if all > 1 && !out.is_json() {
            out.line("");
        }
        for (target, result) in targets.iter().zip(results) {
            let written = match result {
                Err(failure) if all == 1 => return Err(failure),
                Err(failure) => {
                    self.show_failed(&target.target.card.path, &failure);
                    failed.push(failure);
                    continue;
                }
                Ok(written) => written,
            };
            match all {
                1 => self.show_written(source, target, &written),
                _ if out.is_json() => self.show_json_done(source, target, &written),
                _ => self.show_line(target, &written),
            }
            if !written.unreadable.is_empty() || !source.known.damaged.is_empty() {
                exit = Exit::Unreadable;
            }
            if let Some(error) = written.held {
                let name = target.goal_at(&written.path);
                let failure = Failure::from(error)
                    .state(format!("{name} is written and verified, but was mounted again."))
                    .next("Unmount it before you take it out.");
                match all {
                    1 => return Err(failure),
                    _ => failed.push(failure),
                }
            }
        }
        if let Some(read) = read {
            out.line(&read);
        }
        if all > 1 && !out.is_json() {
            self.show_damaged(source);
        }
        if all == 1 {
            return Ok(exit);
        }
        if !failed.is_empty() {
            return Err(some_failed(&failed, all));
        }
        if !out.is_json() {
            self.show_all_done(source, targets, took);
        }
        Ok(exit)
    }

    /// All of several cards.
    fn show_all_done(&self, source: &Source<'_>, targets: &[PlannedCard], took: Duration) {
        let named = match targets.iter().any(|target| target.host.is_some()) {
            true => ", each with its own name",
            false => "",
        };
        self.session.out.line(&format!(
            "{} cards now hold {}{named}, in {}. It is safe to take them out.",
            match targets.len() {
                2 => "Both".to_owned(),
                all => format!("All {all}"),
            },
            source.whose(),
            time::span(took)
        ));
    }

    /// A card of several that failed, or was left out.
    pub(super) fn show_failed(&self, card: &Path, failure: &Failure) {
        let out = &self.session.out;
        if out.is_json() {
            let card = Some(card.to_string_lossy().into_owned());
            let more = json::Failed { card, ..json::failed(failure) };
            out.line(&json::object(self.json_command(), "failed", more).to_string());
            return;
        }
        let name = card.display();
        out.line(&format!("{name:<10}{} {}.", out.paint(Tone::Alarm, "failed:"), failure.what));
        for line in [&failure.state, &failure.next] {
            if !line.is_empty() {
                out.line(&format!("{:<10}{line}", ""));
            }
        }
    }

    /// The written part of the plan: the start, which is cleared before it is written, counts once.
    fn sent(&self, target: &PlannedCard, written: &WrittenToCard) -> ByteLen {
        let planned = target.plan.plan.view.written();
        planned.saturating_sub(written.found).saturating_sub(written.zero_already)
    }

    fn how(&self, written: &WrittenToCard) -> String {
        let zeros = match written.zero_already {
            ByteLen::ZERO => String::new(),
            len => format!(" ({} of zeros were already there)", size::short(len)),
        };
        match (self.args.no_check, self.args.differing) {
            (true, _) => format!("written{zeros}, not read back"),
            (false, false) => format!("written{zeros}, and read back from the card"),
            (false, true) => format!("differed and were written{zeros}; all of it was read back"),
        }
    }

    fn show_json_done(&self, source: &Source<'_>, target: &PlannedCard, written: &WrittenToCard) {
        let image = match source.from {
            SourceKind::Image(image) => Some(image),
            SourceKind::Card(_) | SourceKind::Kept(..) => None,
        };
        let more = json::WrittenCard {
            card: written.path.to_string_lossy().into_owned(),
            card_size: target.target.card.size.get(),
            card_bytes_read: written.tally.read().get(),
            card_bytes_written: written.tally.written().get(),
            card_bytes_cleared: target.plan.plan.view.cleared().get(),
            card_bytes_found: written.found.get(),
            card_bytes_zero_already: written.zero_already.get(),
            source_bytes_read: source.tally.as_ref().map(|tally| tally.read().get()),
            source: source.json_path(),
            image: image.map(|image| json::path(image.path())),
            image_bytes: image.map(|image| image.file().size().get()),
            unreadable: json::spans(&written.unreadable),
            damaged: json::spans(&source.known.damaged),
            lost: lost::for_programs(&[self.lost(target, written), self.damaged(source)].concat()),
            read_back: !self.args.no_check,
            seconds: written.took.as_secs_f64(),
            stood: source.stood.as_ref().map(Freezes::json),
        };
        self.session.out.line(&json::object(self.json_command(), "done", more).to_string());
    }

    /// One of several cards.
    fn show_line(&self, target: &PlannedCard, written: &WrittenToCard) {
        let out = &self.session.out;
        let name = written.path.display();
        let bytes = size::short(self.sent(target, written));
        let took = time::span(written.took);
        let how = self.how(written);
        out.line(&format!("{name:<10}{bytes} {how} in {took}"));
        self.show_how_to_reach(target);
        self.show_lost(target, written);
    }

    /// The next steps for a copy with a new name.
    fn show_how_to_reach(&self, target: &PlannedCard) {
        let Some(host) = &target.host else { return };
        let login = identity::login(&target.plan.plan.view, &target.plan.after);
        let who = login.map_or(String::new(), |login| format!("{login}@"));
        self.session.out.line(&format!("          start it, then reach it as {who}{host}.local"));
    }

    /// The parts of a damaged image that are zeros on the cards.
    fn show_damaged(&self, source: &Source<'_>) {
        for (place, len) in source.known.survey.places_of(&source.known.damaged) {
            let len = size::both(len);
            self.session.out.line(&format!("Lost      {len} in {place}: damaged in the image"));
        }
        for line in lost::lines(&self.damaged(source)) {
            self.session.out.line(&format!("          {line}"));
        }
    }

    /// Whose the bytes were that are damaged in an image.
    fn damaged(&self, source: &Source<'_>) -> Vec<Lost> {
        let view = View::whole(Arc::clone(&source.known.content));
        self.session.lost_in(&view, &source.known.damaged)
    }

    /// Whose the bytes were that could not be read.
    fn lost(&self, target: &PlannedCard, written: &WrittenToCard) -> Vec<Lost> {
        self.session.lost_in(&target.plan.plan.view, &written.unreadable)
    }

    fn show_lost(&self, target: &PlannedCard, written: &WrittenToCard) {
        let lost: ByteLen = written.unreadable.iter().map(|span| span.len()).sum();
        if !lost.is_zero() {
            self.session.out.line(&format!(
                "Lost      {} in {} could not be read, zeros on the card",
                size::both(lost),
                count(written.unreadable.len() as u64, "place")
            ));
            for line in lost::lines(&self.lost(target, written)) {
                self.session.out.line(&format!("          {line}"));
            }
        }
    }

    /// Prints the result for a single card.
    fn show_written(&self, source: &Source<'_>, target: &PlannedCard, written: &WrittenToCard) {
        let out = &self.session.out;
        if out.is_json() {
            return self.show_json_done(source, target, written);
        }
        out.line("");
        out.line(&format!(
            "{} now holds {}: {} {} in {}.",
            target.goal_at(&written.path),
            match &target.host {
                Some(host) => format!("{host}, a copy of {}", source.whose()),
                None => source.whose(),
            },
            size::both(self.sent(target, written)),
            self.how(written),
            time::span(written.took)
        ));
        for line in source.stood.iter().flat_map(Freezes::lines) {
            out.line(&line);
        }
        self.show_lost(target, written);
        self.show_damaged(source);
        out.line("It is safe to take the card out.");
        out.line(
            "If a computer offers to format this card, choose Cancel: it can't read every partition.",
        );
        self.show_how_to_reach(target);
        if let (None, SourceKind::Image(image), None) =
            (&target.into, source.from, &target.plan.references)
            && !pipe::is_pipe(image.path())
        {
            let (image, card) = (quoted(image.path()), quoted(&written.path));
            out.next("Next      ", &format!("imbrik check {image} --against {card}"));
        }
    }
}

/// The warning about an image of one partition that would take a whole card.
fn alone(target: &PlannedCard) -> Option<String> {
    let only = target.only.as_ref().filter(|_| target.into.is_none())?;
    let number = only.number?;
    let facts = only.volume.as_ref().map(|volume| {
        let facts = [Some(volume.kind.clone()), volume.label.clone()];
        format!(" ({})", facts.into_iter().flatten().collect::<Vec<_>>().join(", "))
    });
    Some(format!(
        "the image of partition {number}{} alone: it would become the card's only volume, without a \
         partition table; to write it to a partition: --into {number}",
        facts.unwrap_or_default()
    ))
}

/// The error if some of `all` cards failed.
fn some_failed(failed: &[Failure], all: usize) -> Failure {
    let first = failed.first().map_or(Exit::Failed, |failure| failure.exit);
    let same = failed.iter().all(|failure| failure.exit == first);
    let done = match all - failed.len() {
        0 => "none is done".to_owned(),
        1 => "1 is done".to_owned(),
        good => format!("{good} are done"),
    };
    Failure::new(
        if same { first } else { Exit::Failed },
        format!("{} of {all} cards failed, {done}", failed.len()),
    )
    .state("See above for each card.")
    .next("Repeat the command with the cards that failed.")
}
