//! `imbrik show`: the content of a card or an image.

mod private;
mod shelf;

use crate::{
    args::ShowArgs,
    card_sizes::{self, MinimumSizes},
    drawing,
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    opened::Opened,
    render::{
        Out, Tone, json, map, quoted, size, start::start_lines, strip, survey as words, table, time,
    },
    session::Session,
};
use imbrik_core::{
    fs::Examined,
    image::Image,
    layout::{Occupancy, Part, Reference, Survey, gap_in_use, references},
    store::{ReadAt, Tally},
    units::{ByteLen, Span},
};
use shelf::OnShelf;
use std::{
    path::Path,
    time::{Duration, Instant},
};

/// The maximum width of the strip.
const WIDEST: u64 = 160;

pub(crate) fn run(session: &Session, args: &ShowArgs) -> Outcome<Exit> {
    let started = Instant::now();
    let format = args.map.as_deref().map(|path| drawing::format(path, args.replace)).transpose()?;
    let tally = Tally::default();
    let what = Opened::open(session, &args.what, &tally)?;
    let store = what.store();
    let untouched = "The card or image was only read.";
    let more = "Check that the card is still connected; for an image, run `imbrik check`.";
    let survey = Survey::of(&*store).state(untouched).next(more)?;
    if args.private {
        return private::run(session, &what, &store, &survey, started).state(untouched).next(more);
    }
    let cancel = &session.environment.interrupt.cancel;
    let examined = session.waiting("examining the volumes", || {
        let mut occupancy = Occupancy::of(&store, &survey)?;
        let cannot = occupancy.find_smallest(&store, &survey, cancel)?;
        occupancy.read_whole.extend(cannot);
        Ok::<_, imbrik_core::Error>(occupancy)
    });
    let occupancy = examined.state(untouched).next(more)?;
    let gaps = survey.gaps.iter().map(|gap| {
        let used = imbrik_core::if_readable(gap_in_use(&*store, *gap))?;
        Ok((*gap, used.unwrap_or((ByteLen::ZERO, false))))
    });
    let gaps = gaps.collect::<imbrik_core::Result<Vec<_>>>().state(untouched).next(more)?;
    let references = references(&*store, &survey).state(untouched).next(more)?;
    let shelf = match what {
        Opened::Card(..) => OnShelf::of(session, &store, &survey, &occupancy),
        Opened::Image(_) => None,
    };
    let found = Found { what: &what, survey, occupancy, gaps, references, shelf };
    if let (Some(path), Some(format)) = (&args.map, format) {
        let drawn = map::draw(&found.survey, &found.occupancy, &found.map_words(), format);
        let drawn = drawn.map_err(|why| {
            Failure::new(Exit::Failed, format!("drawing the picture failed: {why}"))
        })?;
        drawing::keep(session, path, args.replace, &drawn)?;
    }
    if session.out.is_json() {
        let map = args.map.as_deref();
        let more = found.json(&tally, started.elapsed(), map);
        session.out.line(&json::object("show", "done", more).to_string());
    } else {
        found.show(session, args.cards);
        if let Some(path) = &args.map {
            session.out.line("");
            let path = std::path::absolute(path).unwrap_or_else(|_| path.clone());
            session.out.line(&format!("{:<15} {}", "Map", quoted(&path)));
        }
    }
    Ok(Exit::Done)
}

/// All that was found.
struct Found<'a> {
    what: &'a Opened,
    survey: Survey,
    occupancy: Occupancy,
    /// The gaps, the used space of each, and whether all of it was read.
    gaps: Vec<(Span, (ByteLen, bool))>,
    references: Vec<Reference>,
    /// The images of the card on the shelf.
    shelf: Option<OnShelf>,
}

/// A line of the table.
enum Row<'a> {
    Part(usize, &'a Part),
    Gap(Span, ByteLen, bool),
}

impl Found<'_> {
    /// Partitions and gaps in the card's order.
    fn rows(&self) -> Vec<Row<'_>> {
        let parts = self.survey.parts.iter().enumerate();
        let parts = parts.map(|(index, part)| (part.span, Row::Part(index, part)));
        let gaps = self.gaps.iter().map(|(gap, (used, all))| (*gap, Row::Gap(*gap, *used, *all)));
        let mut rows: Vec<_> = parts.chain(gaps).collect();
        rows.sort_by_key(|(span, _)| *span);
        rows.into_iter().map(|(_, row)| row).collect()
    }

    fn title(&self) -> String {
        let name = self.survey.name().map_or_else(|| self.what.name(), str::to_owned);
        match &self.survey.system {
            Some(system) => format!("{name} · {system}"),
            None => name,
        }
    }

    /// The path, size and table.
    fn subtitle(&self) -> String {
        let table = match &self.survey.table {
            Some(table) => format!("{} {}", table.name(), table.id()),
            None if self.survey.parts.is_empty() => words::nothing(&self.survey).to_owned(),
            None => "no partition table: one volume on the whole card".to_owned(),
        };
        let mut facts = vec![self.what.name(), size::both(self.survey.size)];
        facts.extend(self.what.facts());
        facts.push(table);
        facts.join(" · ")
    }

    fn show(&self, session: &Session, with_cards: bool) {
        let out = &session.out;
        out.line(&out.paint(Tone::Strong, &self.title()));
        out.line(&self.subtitle());
        if let Some(shelf) = &self.shelf {
            out.line(&shelf.line());
        }
        if let Opened::Image(image) = self.what
            && let Some(manifest) = image.manifest()
        {
            out.line(&time::saved(manifest));
            if let Some(part) = &manifest.only {
                let number = part.number.map_or(String::new(), |number| format!(" {number}"));
                out.line(&format!("the image of partition{number} alone"));
            }
            if !manifest.left_out.is_empty() {
                let left_out = manifest.left_out.join(", ");
                out.line(&format!("the card's boot areas ({left_out}) are not in the image"));
            }
        }
        if let Opened::Card(card, _) = self.what
            && !card.boot_areas.is_empty()
        {
            out.line(&format!("with separate boot areas: {}", card.boot_areas.join(", ")));
        }
        out.line("");
        self.show_table(out);
        if !self.survey.parts.is_empty() {
            out.line("");
            let label =
                |index: usize| self.survey.parts.get(index).map(short_label).unwrap_or_default();
            let columns = (out.width() as u64).clamp(24, WIDEST) - 4;
            for line in strip::lines(&self.survey, &self.occupancy, columns, label) {
                out.line(format!("  {line}").trim_end());
            }
        }
        out.line("");
        self.show_limits(out);
        self.show_sold_sizes(out);
        if with_cards {
            self.show_cards(session);
        }
        for line in start_lines(out, "Boot references ", &self.references) {
            out.line(&line);
        }
        let findings = match self.what {
            Opened::Image(image) => image.findings(),
            Opened::Card(..) => &[],
        };
        let findings = findings.iter().map(ToString::to_string);
        for finding in findings.chain(self.survey.findings.iter().map(ToString::to_string)) {
            out.line(&format!("{} {finding}", out.paint(Tone::Alarm, "!")));
        }
    }

    fn show_table(&self, out: &Out) {
        let head = ["#", "Start", "Size", "Type", "Label", "Used", "Metadata", "Free", "State"];
        let mut lines = vec![head.map(str::to_owned).to_vec()];
        let mut below = vec![None];
        for row in self.rows() {
            match row {
                Row::Gap(gap, used, all) => {
                    let used = match (used.get(), all) {
                        (0, true) => "zeros".to_owned(),
                        (0, false) => "not read".to_owned(),
                        (_, _) => size::short(used),
                    };
                    lines.push(vec![
                        "·".to_owned(),
                        place(&gap),
                        size::short(gap.len()),
                        "unallocated".to_owned(),
                        String::new(),
                        used,
                        String::new(),
                        String::new(),
                        String::new(),
                    ]);
                    below.push(None);
                }
                Row::Part(index, part) => {
                    lines.push(self.part_cells(index, part));
                    below.push(details(part));
                }
            }
        }
        for (line, below) in
            table::fitted(lines, &[1, 2, 5, 6, 7], out.width()).into_iter().zip(below)
        {
            if !line.is_empty() {
                out.line(&line);
            }
            if let Some(below) = below {
                out.line(&format!("      {below}"));
            }
        }
    }

    fn part_cells(&self, index: usize, part: &Part) -> Vec<String> {
        let found = self.occupancy.volume(index);
        let label = part.volume.as_ref().and_then(|volume| volume.label.clone());
        let (used, free) = used_and_free(found, part);
        let metadata = found.map_or(ByteLen::ZERO, |found| found.usage.metadata);
        let files = used.map(|used| used.saturating_sub(metadata));
        vec![
            part.number.map_or("-".to_owned(), |number| number.to_string()),
            place(&part.span),
            size::short(part.span.len()),
            words::volume(part),
            label.unwrap_or_default(),
            files.map_or("all".to_owned(), size::short),
            if metadata.is_zero() { String::new() } else { size::short(metadata) },
            free.map_or("?".to_owned(), size::short),
            found.map_or("?".to_owned(), |found| found.state.to_string()),
        ]
    }

    /// The limits of the volumes, and the smallest card.
    fn show_limits(&self, out: &Out) {
        for why in self.occupancy.notes() {
            out.line(&format!("{} {why}", out.paint(Tone::Alarm, "!")));
        }
        if self.survey.parts.is_empty() {
            return;
        }
        for (index, part) in self.survey.parts.iter().enumerate() {
            let found = self.occupancy.volume(index).and_then(|found| found.least.as_ref());
            let text = match found {
                Some(least) => format!(
                    "{}: no smaller than {}{} ({})",
                    part.title(),
                    if least.is_exact { "" } else { "about " },
                    size::short(least.size),
                    least.limit
                ),
                None => format!("{}: stays as it is", part.title()),
            };
            let head = if index == 0 { "Limits" } else { "" };
            out.line(&format!("{head:<15} {text}"));
        }
        let (minimum, needed) = (self.minimum_sizes(), self.survey.needed());
        let mut lines = vec![format!("{} unchanged", size::both(needed))];
        let last = self.survey.last_resizable().and_then(|index| self.survey.parts.get(index));
        let fitted = minimum.last_shrunk().zip(last);
        if let Some((len, part)) = fitted {
            let title = part.title();
            lines
                .push(format!("{} with {title} fitted (`imbrik fit --smallest`)", size::both(len)));
        }
        let all = minimum.all_shrunk();
        if all < fitted.map_or(needed, |(len, _)| len) {
            lines.push(format!("{} with every volume as small as possible", size::both(all)));
        }
        for (index, line) in lines.iter().enumerate() {
            let head = if index == 0 { "Smallest card" } else { "" };
            out.line(&format!("{head:<15} {line}"));
        }
    }

    /// How far it can be made smaller.
    fn minimum_sizes(&self) -> MinimumSizes<'_> {
        let manifest = match self.what {
            Opened::Image(image) => image.manifest(),
            Opened::Card(..) => None,
        };
        let fills = match manifest {
            Some(manifest) => manifest.reaches_end || manifest.fitted.is_some(),
            None => matches!(self.what, Opened::Card(..)) && self.survey.reaches_end(),
        };
        MinimumSizes { survey: &self.survey, occupancy: &self.occupancy, fills }
    }

    /// Returns whether it can be written to a card of another size.
    fn is_for_any_size(&self) -> bool {
        !self.survey.parts.is_empty() && self.survey.whole_because.is_none()
    }

    /// The card sizes that it fits.
    fn show_sold_sizes(&self, out: &Out) {
        let name = card_sizes::sold_as(self.minimum_sizes().all_shrunk());
        if let Some(name) = name.filter(|_| self.is_for_any_size()) {
            out.line(&format!("{:<15} any card sold as {} or more", "Fits", size::short(name)));
        }
    }

    /// The changes on connected cards.
    fn show_cards(&self, session: &Session) {
        let own = match self.what {
            Opened::Card(card, _) => Some(&**card),
            Opened::Image(_) => None,
        };
        let lines = match self.is_for_any_size() {
            true => self.minimum_sizes().on_cards(session, own),
            false => Vec::new(),
        };
        for (index, line) in lines.iter().enumerate() {
            let head = if index == 0 { "On cards here" } else { "" };
            session.out.line(format!("{head:<15} {line}").trim_end());
        }
    }

    fn map_words(&self) -> map::Words {
        let labels = self.survey.parts.iter().enumerate().map(|(index, part)| {
            let (used, _) = used_and_free(self.occupancy.volume(index), part);
            let of = size::short(part.span.len());
            let used = used.map_or(format!("{of}, read whole"), |used| {
                let percent = 100.0 * used.get() as f64 / part.span.len().get().max(1) as f64;
                format!("{} of {of} in use ({percent:.0} %)", size::short(used))
            });
            (short_label(part), used)
        });
        map::Words { title: self.title(), subtitle: self.subtitle(), labels: labels.collect() }
    }

    fn json(&self, tally: &Tally, took: Duration, map: Option<&Path>) -> json::Shown {
        let (card, image) = match self.what {
            Opened::Card(card, _) => (Some(json::card(card, None)), None),
            Opened::Image(image) => (None, Some(facts_of(image))),
        };
        let content = json::content_with(&self.survey, |index, partition| {
            let found = self.occupancy.volume(index);
            let part = self.survey.parts.get(index);
            let (used, free) = part.map_or((None, None), |part| used_and_free(found, part));
            let least = found.and_then(|found| found.least.as_ref());
            json::InspectedVolume {
                partition,
                used: used.map(ByteLen::get),
                metadata: used.and(found).map(|found| found.usage.metadata.get()),
                free: free.map(ByteLen::get),
                state: found.map(|found| found.state.to_string()),
                read_whole_because: found.and_then(|found| found.usage.whole_because.clone()),
                smallest: least.map(|least| least.size.get()),
                limit: least.map(|least| least.limit.to_owned()),
            }
        });
        let gaps = self.gaps.iter().map(|(gap, (used, all))| json::Gap {
            start: gap.start().get(),
            size: gap.len().get(),
            used: used.get(),
            looked_at_all: *all,
        });
        let references = self.references.iter().map(|reference| json::Reference {
            from: reference.from.clone(),
            what: reference.what.clone(),
            found: reference.is_found,
        });
        json::Shown {
            card,
            image,
            size: self.survey.size.get(),
            content,
            gaps: gaps.collect(),
            references: references.collect(),
            shelf: self.shelf.as_ref().map(OnShelf::json),
            used: self.occupancy.used_in(Span::whole(self.survey.size)).get(),
            smallest_card: self.survey.needed().get(),
            smallest_card_for_the_data: self.minimum_sizes().last_shrunk().map(ByteLen::get),
            smallest_card_of_all: self.minimum_sizes().all_shrunk().get(),
            copied_whole_because: self.survey.whole_because.map(str::to_owned),
            card_bytes_read: tally.read().get(),
            seconds: took.as_secs_f64(),
            map: map.map(json::path),
        }
    }
}

/// The properties of an image as JSON.
fn facts_of(image: &Image) -> json::ImageFacts {
    let manifest = image.manifest();
    let fitted = manifest.and_then(|manifest| manifest.fitted.as_ref());
    json::ImageFacts {
        path: json::path(image.path()),
        container: image.container().to_string(),
        bytes: image.file().size().get(),
        made_at: manifest.map(|manifest| manifest.made_at.to_string()),
        fitted_from_card_size: fitted.map(|fitted| fitted.card_size),
        note: manifest.and_then(|manifest| manifest.note.clone()),
        findings: json::told(image.findings()),
    }
}

/// The start of a range.
fn place(span: &Span) -> String {
    match span.start().get() {
        0 => "0".to_owned(),
        start => size::short(ByteLen::new(start)),
    }
}

/// The ids of a partition and of its volume.
fn details(part: &Part) -> Option<String> {
    let volume = part.volume.as_ref().and_then(|volume| volume.uuid.as_ref());
    let facts = [
        part.name.as_ref().map(|name| format!("named {name}")),
        volume.map(|uuid| format!("UUID {uuid}")),
        part.uuid.as_ref().map(|uuid| format!("PARTUUID {uuid}")),
    ];
    let facts: Vec<_> = facts.into_iter().flatten().collect();
    (!facts.is_empty()).then(|| facts.join("  "))
}

/// "2  hive-07, ext4".
fn short_label(part: &Part) -> String {
    let volume = part.volume.as_ref();
    let label = volume.and_then(|volume| volume.label.clone());
    let kind = volume.map_or("unknown".to_owned(), |volume| volume.kind.to_string());
    let number = part.number.map_or(String::new(), |number| format!("{number}  "));
    match label {
        Some(label) => format!("{number}{label}, {kind}"),
        None => format!("{number}{kind}"),
    }
}

/// The used and the free space of a volume; `None` if unknown.
fn used_and_free(found: Option<&Examined>, part: &Part) -> (Option<ByteLen>, Option<ByteLen>) {
    match found {
        Some(found) if found.usage.whole_because.is_none() => {
            let used = found.usage.in_use().min(part.span.len());
            (Some(used), Some(part.span.len().saturating_sub(used)))
        }
        _ => (None, None),
    }
}
