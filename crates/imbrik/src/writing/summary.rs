//! The results of cards, once they are written.

use super::{Outcome, PlannedCard, Source, SourceKind, Writing, WrittenToCard};
use crate::{
    exit::Exit,
    failure::Failure,
    identity, pipe,
    render::{Tone, count, json, lost, quoted, size, time},
    running_card::Freezes,
};
use imbrik_core::{
    layout::{Lost, View},
    store::ReadAt,
    units::ByteLen,
};
use std::{path::Path, sync::Arc, time::Duration};

impl Writing<'_> {
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

    /// "written and read back", with the zeros that were there already.
    fn how(&self, written: &WrittenToCard) -> String {
        let zeros = match written.zero_already {
            len if !len.is_zero() && self.session.out.is_verbose() => {
                format!(" ({} of zeros were already there)", size::short(len))
            }
            _ => String::new(),
        };
        match (self.args.no_check, self.args.differing) {
            (true, _) => format!("written{zeros}, not read back"),
            (false, false) => format!("written{zeros} and read back"),
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
            frozen: source.frozen.as_ref().map(Freezes::json),
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
        self.session.out.line(&format!("          reach it as {who}{host}.local once it runs"));
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
        for line in source.frozen.iter().flat_map(Freezes::lines) {
            out.line(&line);
        }
        self.show_lost(target, written);
        self.show_damaged(source);
        out.line("It is safe to take the card out.");
        out.line(
            "If a computer offers to format it, choose Cancel: it can't read every partition.",
        );
        self.show_how_to_reach(target);
        if let (None, SourceKind::Image(image), None) =
            (&target.into, source.from, &target.plan.references)
            && !pipe::is_pipe(image.path())
        {
            let (image, card) = (quoted(image.path()), quoted(&written.path));
            out.next(&out.with_rack(&format!("imbrik check {image} --against {card}")));
        }
    }
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
