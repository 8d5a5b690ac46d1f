//! The plan for cards, before it is confirmed.

use super::{PlannedCard, Source, SourceKind, Writing};
use crate::render::{
    Tone, change, json, listed, size, start::start_lines, strip, survey, table, time,
};
use imbrik_core::{
    layout::{Change, Part, Survey},
    units::{ByteLen, Span},
};

/// How wide the strip of the larger of two cards is drawn.
const COLUMNS: u64 = 64;

impl Writing<'_> {
    pub(super) fn show(&self, source: &Source<'_>, targets: &[PlannedCard]) {
        let out = &self.session.out;
        if out.is_json() {
            targets.iter().for_each(|target| self.show_json(source, target));
            return;
        }
        match targets {
            [target] => self.show_target(source, target, "On the card now"),
            _ if out.is_verbose() => {
                for (index, target) in targets.iter().enumerate() {
                    let head = format!("Card {} of {}", index + 1, targets.len());
                    self.show_target(source, target, &head);
                }
            }
            _ => self.show_cards(source, targets),
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
        if out.is_verbose() || references.iter().any(|reference| !reference.is_found) {
            for line in start_lines(out, &self.head("Boot references"), references) {
                out.line(&line);
            }
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
    pub(super) fn json_command(&self) -> &'static str {
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
        self.show_content(&target.target.survey, survey::parts(&target.target.survey, None));
        if let Some(behind) = survey::behind(&target.target.survey) {
            out.line(&format!("  {behind}"));
        }
        for line in self.remarks_before(source, target) {
            out.line(&format!("  {line}"));
        }
        out.line("");
        let goal = target.into.as_ref().map_or(String::new(), |into| format!("{}, ", into.title));
        let named = target.host.as_ref().map_or(String::new(), |host| format!(", as {host}"));
        out.line(&format!("{}{goal}from {}{named}", self.head("Afterwards"), source.title()));
        if out.is_verbose() {
            self.show_strips(source, target);
        }
        let (before, plan) = (&source.known.survey, &target.plan);
        let mut after = plan.after.clone();
        if let (Some(into), Some(part)) = (&target.into, after.parts.first_mut()) {
            part.number = into.number;
        }
        let parts = survey::parts_and_changes(&after, before, &plan.plan.changes, &plan.room);
        self.show_content(&after, parts);
        let is_named = |change: &Change| matches!(change, Change::TailUnused(_));
        let behind = survey::behind(&target.plan.after);
        if let Some(behind) = behind.filter(|_| !plan.plan.changes.iter().any(is_named)) {
            out.line(&format!("  {behind}"));
        }
        for line in self.remarks_after(source, target) {
            out.line(&format!("  {line}"));
        }
        out.line("");
    }

    /// Several cards: a row for each, and what is changed on all of them.
    fn show_cards(&self, source: &Source<'_>, targets: &[PlannedCard]) {
        let out = &self.session.out;
        let head = self.head(&format!("{} cards", targets.len()));
        out.line(&format!("{head}from {}", source.title()));
        let mut rows = vec![
            ["Card", "Size", "Now", "Afterwards", "Resized", "Free"].map(str::to_owned).to_vec(),
        ];
        rows.extend(targets.iter().map(|target| self.row(source, target)));
        for line in table::fitted(rows, &[1, 5], out.width()) {
            out.line(&line);
        }
        out.line("");
        let remarks: Vec<Vec<String>> = targets
            .iter()
            .map(|target| {
                let before = self.remarks_before(source, target);
                before.into_iter().chain(self.remarks_after(source, target)).collect()
            })
            .collect();
        let is_common = |line: &String| remarks.iter().all(|lines| lines.contains(line));
        let common: Vec<_> = remarks.iter().take(1).flatten().filter(|l| is_common(l)).collect();
        for (index, line) in common.iter().enumerate() {
            let head = if index == 0 { self.head("On each card") } else { self.head("") };
            out.line(&format!("{head}{line}"));
        }
        for (target, lines) in targets.iter().zip(&remarks) {
            let own = lines.iter().filter(|line| !is_common(line));
            for (index, line) in own.enumerate() {
                let name = if index == 0 { target.name() } else { String::new() };
                out.line(&format!("{}{line}", self.head(&name)));
            }
        }
    }

    /// A card's row: its path, size, present and future name, resized volumes, and free space.
    fn row(&self, source: &Source<'_>, target: &PlannedCard) -> Vec<String> {
        let (card, now) = (&target.target.card, target.now());
        let present = match now.name() {
            Some(name) => name.to_owned(),
            None => survey::nothing(now).to_owned(),
        };
        let title = |title: &str| {
            let part = source.known.survey.parts.iter().find(|part| part.full_title() == title);
            part.map_or_else(|| title.to_owned(), Part::title)
        };
        let resized = target.plan.plan.changes.iter().filter_map(|change| match change {
            Change::Resized { title: of, from, to, .. } if from < to => {
                Some(format!("{} grows to {}", title(of), size::short(*to)))
            }
            Change::Resized { title: of, from, to, .. } if from > to => {
                Some(format!("{} shrinks to {}", title(of), size::short(*to)))
            }
            _ => None,
        });
        let free = target.plan.room.iter().map(|room| size::short(room.free));
        vec![
            card.path.display().to_string(),
            size::short(card.size),
            present,
            target.host.clone().unwrap_or_else(|| source.whose()),
            resized.collect::<Vec<_>>().join(", "),
            free.collect::<Vec<_>>().join(", "),
        ]
    }

    /// Remarks about the present content of a card.
    fn remarks_before(&self, source: &Source<'_>, target: &PlannedCard) -> Vec<String> {
        let alarm = self.session.out.paint(Tone::Alarm, "!");
        let mut lines = Vec::new();
        let mounts = target.target.card.mounts();
        if !mounts.is_empty() {
            let at: Vec<_> = mounts.iter().map(|at| at.display().to_string()).collect();
            let remedy = match self.args.unmount {
                true => "it is unmounted first (--unmount)",
                false => "it must be unmounted first: --unmount does that",
            };
            lines.push(format!("mounted at {}; {remedy}", listed(&at)));
        }
        let later = target.target.survey.written.zip(source.known.survey.written);
        if later.is_some_and(|(card, source)| card > source)
            && matches!(source.from, SourceKind::Card(_))
        {
            let of = source.title();
            lines.push(format!(
                "{alarm} it was written later than {of}: are source and target swapped?"
            ));
        }
        lines.extend(alone(target).map(|line| format!("{alarm} {line}")));
        lines
    }

    /// The differences of a card from the source.
    fn remarks_after(&self, source: &Source<'_>, target: &PlannedCard) -> Vec<String> {
        let out = &self.session.out;
        let mut lines = change::shown(out, &target.plan.plan.changes);
        lines.extend(survey::tight(out, &target.plan.room));
        let has_grown =
            |change: &Change| matches!(change, Change::Resized { from, to, .. } if to > from);
        if out.is_verbose()
            && !self.args.shape.fill
            && target.plan.plan.changes.iter().any(has_grown)
        {
            lines.push("with --keep-size, it keeps its size".to_owned());
        }
        if let Some(part) = self.could_fill(source, target) {
            lines.push(format!("with --fill, {part} would use them"));
        }
        lines
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

    fn show_content(&self, content: &Survey, parts: Vec<String>) {
        let out = &self.session.out;
        if content.parts.is_empty() {
            out.line(&format!("  {}", survey::nothing(content)));
        }
        parts.iter().for_each(|line| out.line(line));
    }

    /// "hive-07, saved 2026-11-23 07:20"; for a card, its size and used space.
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
            (true, _) => "; not checked first, as requested",
            (false, true) => "",
            (false, false) => "; it has no digests, so only its readability is checked first",
        };
        let of = match image.manifest() {
            Some(manifest) if self.session.out.is_verbose() => time::saved(manifest),
            Some(manifest) => time::saved_in_short(manifest),
            None if !image.findings().is_empty() => {
                "its manifest cannot be read, so its date is unknown".to_owned()
            }
            None => "made by another program, so its date is unknown".to_owned(),
        };
        of + check
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
