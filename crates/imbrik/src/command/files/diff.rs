//! `imbrik files diff`: the differences between two cards or images, by files.

use super::{Looked, ONLY_READ, PartPath, Source, found, tell_of_faults};
use crate::{
    args::DiffArgs,
    exit::Exit,
    failure::{Failure, Outcome},
    opened::Opened,
    render::{Tone, count, files::name, json, listed, size, table, time},
    session::Session,
};
use imbrik_core::{
    files::{
        Aspect, Change, Difference, Differences, KnownSame, Side, Tree, compare, stands_in_same,
    },
    fs::{FileContent, FileKind, Files},
    image::{TILE, TileDigest},
    layout::Part,
    progress::Watch,
    store::Tally,
    units::{ByteOffset, Span},
};
use std::{collections::BTreeMap, time::Instant};

pub(super) fn run(session: &Session, args: &DiffArgs) -> Outcome<Exit> {
    let started = Instant::now();
    let tally = Tally::default();
    let before = Source::open(session, &args.before, &tally)?;
    let after = Source::open(session, &args.after, &tally)?;
    let diffing = Diffing { session, args, before: &before, after: &after };
    let (pairs, alone) = diffing.pairs()?;
    let out = &session.out;
    let mut all = Summary { differs: !alone.is_empty(), ..Summary::default() };
    for (number, pair) in pairs.iter().enumerate() {
        let found = diffing.compare(pair)?;
        if !out.is_json() && (pairs.len() > 1 || !alone.is_empty()) {
            if number > 0 {
                out.line("");
            }
            let same = if found.list.is_empty() { ": no difference" } else { "" };
            let title = out.paint(Tone::Strong, pair.after.1.title());
            out.line(&format!("{title}{same}"));
        }
        match (out.is_json(), args.stat) {
            (true, _) => diffing.show_json(pair, &found),
            (false, true) => diffing.show_stat(&found),
            (false, false) => diffing.show(&found),
        }
        all.add(&found);
    }
    for (title, which) in &alone {
        match out.is_json() {
            true => {
                let more = json::OnlyThere { partition: title.clone(), only_in: (*which).into() };
                out.line(&json::object("files diff", "partition", more).to_string());
            }
            false => out.line(&format!("{title} is only in {which}")),
        }
    }
    diffing.sum_up(&all, started)
}

struct Diffing<'a> {
    session: &'a Session,
    args: &'a DiffArgs,
    before: &'a Source,
    after: &'a Source,
}

/// A partition of each, and where in them the comparison starts.
struct Pair<'a> {
    before: (&'a Part, Tree),
    after: (&'a Part, Tree),
    path: Vec<u8>,
}

/// A partition that only one of the two has, and which.
type Alone = (String, &'static str);

/// The sum of all comparisons.
#[derive(Default)]
struct Summary {
    differs: bool,
    added: u64,
    removed: u64,
    renamed: u64,
    changed: u64,
    only_metadata: u64,
    not_compared: u64,
    same: u64,
    known: u64,
}

impl Summary {
    fn add(&mut self, found: &Differences) {
        self.differs |= !found.list.is_empty();
        self.same = self.same.saturating_add(found.same);
        self.known = self.known.saturating_add(found.known);
        for one in &found.list {
            let (count, by) = match &one.change {
                Change::Added(_, below) => (&mut self.added, below.files),
                Change::Removed(_, below) => (&mut self.removed, below.files),
                Change::Renamed(..) => (&mut self.renamed, 1),
                Change::Changed(_, _, aspects) if is_content(aspects) => (&mut self.changed, 1),
                Change::Changed(..) => (&mut self.only_metadata, 1),
                Change::NotCompared(_) => (&mut self.not_compared, 1),
            };
            *count = count.saturating_add(by);
        }
    }
}

fn is_content(aspects: &[Aspect]) -> bool {
    aspects.iter().any(|aspect| matches!(aspect, Aspect::Content | Aspect::Kind))
}

impl<'a> Diffing<'a> {
    /// Partitions of the same number, or the only ones there are; and those that only one of the two has.
    fn pairs(&self) -> Outcome<(Vec<Pair<'a>>, Vec<Alone>)> {
        if let Some(typed) = &self.args.path {
            let PartPath { part, path } = PartPath::of(typed)?;
            let before = self.before.part(part.as_deref())?;
            let after = self.after.part(part.as_deref())?;
            return Ok((vec![Pair { before, after, path }], Vec::new()));
        }
        let (mut before, after) = (self.before.trees()?, self.after.trees()?);
        let (mut pairs, mut alone) = (Vec::new(), Vec::new());
        let are_alone = before.len() == 1 && after.len() == 1;
        for after in after {
            let same =
                before.iter().position(|(part, _)| are_alone || part.number == after.0.number);
            match same {
                Some(at) => {
                    let before = before.remove(at);
                    pairs.push(Pair { before, after, path: Vec::new() });
                }
                None => alone.push((after.1.title().to_owned(), "the second")),
            }
        }
        alone.extend(before.into_iter().map(|(_, tree)| (tree.title().to_owned(), "the first")));
        if pairs.is_empty() {
            return Err(Failure::refused(format!(
                "{} and {} have no volume in common whose files can be read",
                self.before.opened.name(),
                self.after.opened.name()
            ))
            .state(ONLY_READ)
            .next("`imbrik check --against` compares them byte by byte."));
        }
        Ok((pairs, alone))
    }

    fn compare(&self, pair: &Pair<'_>) -> Outcome<Differences> {
        let ((_, before), (_, after)) = (&pair.before, &pair.after);
        Source::tell_of(self.session, before);
        Source::tell_of(self.session, after);
        let before_files = before.files().looked()?;
        let after_files = after.files().looked()?;
        let start = |files: &dyn Files, tree: &Tree| {
            let mut all = found(files, &pair.path, tree)?;
            match all.len() {
                1 => Ok(all.remove(0)),
                many => Err(Failure::usage(format!("{} matches {many} files", name(&pair.path)))
                    .state(ONLY_READ)
                    .next("Name one folder or file.")),
            }
        };
        let (a, b) = (start(&*before_files, before)?, start(&*after_files, after)?);
        let digests = [&self.before.opened, &self.after.opened].map(digests_of);
        let starts = [pair.before.0.span.start(), pair.after.0.span.start()];
        let known = |a: &FileContent<'_>, b: &FileContent<'_>| match &digests {
            [Some(before), Some(after)] => {
                stands_in_same(a, b, starts, |span| is_same_tile(before, after, span))
            }
            _ => false,
        };
        // Changes in a journal are not in the tiles.
        let is_as_stored = !before.was_replayed() && !after.was_replayed();
        let known: Option<KnownSame<'_>> = if is_as_stored { Some(&known) } else { None };
        let progress = self.session.progress(1);
        let cancel = &self.session.environment.interrupt.cancel;
        let watch = Watch { observer: &progress, cancel };
        let sides = [
            Side { files: &*before_files, start: (a.file, &a.path) },
            Side { files: &*after_files, start: (b.file, &b.path) },
        ];
        let differences = compare(sides[0], sides[1], known, watch).looked()?;
        drop(progress);
        tell_of_faults(self.session, &*before_files, before);
        tell_of_faults(self.session, &*after_files, after);
        Ok(differences)
    }

    fn show(&self, found: &Differences) {
        if found.list.is_empty() {
            return;
        }
        let mut rows = self.session.out.rows();
        for one in &found.list {
            let (word, more) = words(one);
            let slash = if is_folder(one) { "/" } else { "" };
            let row = format!("  {word:<9} /{}{slash}{more}", name(&one.path));
            if !rows.push(&row) {
                return;
            }
        }
    }

    /// How much changed in each folder.
    fn show_stat(&self, found: &Differences) {
        let mut folders: BTreeMap<Vec<u8>, [u64; 4]> = BTreeMap::new();
        for one in &found.list {
            let cut = one.path.iter().rposition(|byte| *byte == b'/').unwrap_or(0);
            let folder = one.path.get(..cut).unwrap_or_default().to_vec();
            let (column, by) = match &one.change {
                Change::Added(_, below) => (0, below.files.max(1)),
                Change::Removed(_, below) => (1, below.files.max(1)),
                Change::Changed(..) => (2, 1),
                Change::Renamed(..) | Change::NotCompared(_) => (3, 1),
            };
            if let Some(cell) = folders.entry(folder).or_default().get_mut(column) {
                *cell = cell.saturating_add(by);
            }
        }
        let head = ["Added", "Removed", "Changed", "Other", "Folder"].map(str::to_owned).to_vec();
        let lines = folders.into_iter().map(|(folder, counts)| {
            let mut row: Vec<String> = counts.map(|count| count.to_string()).to_vec();
            row.push(format!("/{}", name(&folder)));
            row
        });
        let all: Vec<_> = std::iter::once(head).chain(lines).collect();
        if all.len() > 1 {
            let mut rows = self.session.out.rows();
            table::rows(all, &[0, 1, 2, 3]).iter().for_each(|line| {
                rows.push(line);
            });
        }
    }

    fn show_json(&self, pair: &Pair<'_>, found: &Differences) {
        let mut rows = self.session.out.rows();
        for one in &found.list {
            let more = json::FileDifference::of(pair.after.0.number, one);
            if !rows.push(&json::object("files diff", "difference", more).to_string()) {
                return;
            }
        }
    }

    fn sum_up(&self, all: &Summary, started: Instant) -> Outcome<Exit> {
        let out = &self.session.out;
        let exit = if all.differs { Exit::Mismatch } else { Exit::Done };
        if out.is_json() {
            let more = json::FilesCompared {
                before: json::path(&self.args.before),
                after: json::path(&self.args.after),
                added: all.added,
                removed: all.removed,
                renamed: all.renamed,
                changed: all.changed,
                only_metadata: all.only_metadata,
                not_compared: all.not_compared,
                same: all.same,
                same_by_digests: all.known,
                seconds: started.elapsed().as_secs_f64(),
            };
            out.line(&json::object("files diff", json::result(exit), more).to_string());
            return Ok(exit);
        }
        let counts = [
            (all.added, "added"),
            (all.removed, "removed"),
            (all.renamed, "renamed"),
            (all.changed, "changed"),
            (all.only_metadata, "changed in metadata only"),
            (all.not_compared, "not compared"),
        ];
        let counts = counts.iter().filter(|(count, _)| *count > 0);
        let counts: Vec<String> = counts.map(|(count, what)| format!("{count} {what}")).collect();
        let took = time::span(started.elapsed());
        let same = count(all.same, "file");
        if all.differs {
            out.line("");
        }
        out.line(&match (all.differs, counts.is_empty()) {
            (false, _) => format!("All files are the same: {same}, compared in {took}."),
            (true, true) => format!("Otherwise the same: {same}, compared in {took}."),
            (true, false) => format!("{}; {same} the same. Compared in {took}.", listed(&counts)),
        });
        if all.known > 0 {
            out.line(&format!(
                "{} not read: the digests of the images' tiles are equal.",
                match all.known {
                    1 => "1 file was".to_owned(),
                    many => format!("{many} files were"),
                }
            ));
        }
        out.line(
            "Partition tables and boot loaders were not compared: use `imbrik check --against`.",
        );
        Ok(exit)
    }
}

/// The digests of an image's tiles, when it has them.
fn digests_of(opened: &Opened) -> Option<Vec<TileDigest>> {
    match opened {
        Opened::Image(image) => image.manifest()?.tiles.digests().ok(),
        Opened::Card(..) => None,
    }
}

fn is_same_tile(before: &[TileDigest], after: &[TileDigest], span: Span) -> bool {
    let tile =
        |at: ByteOffset| at.get().checked_div(TILE.get()).and_then(|at| usize::try_from(at).ok());
    let last = ByteOffset::new(span.end().get().saturating_sub(1));
    let (Some(first), Some(last)) = (tile(span.start()), tile(last)) else { return false };
    (first..=last).all(|at| matches!((before.get(at), after.get(at)), (Some(a), Some(b)) if a == b))
}

fn is_folder(one: &Difference) -> bool {
    match &one.change {
        Change::Added(kind, _)
        | Change::Removed(kind, _)
        | Change::Renamed(kind, _)
        | Change::Changed(kind, ..) => *kind == FileKind::Folder,
        Change::NotCompared(_) => false,
    }
}

/// The kind of change of a file, and the details after its name.
fn words(one: &Difference) -> (&'static str, String) {
    let below = |kind: FileKind, below: &imbrik_core::files::Below| match kind {
        FileKind::Folder if below.files == 0 => String::new(),
        FileKind::Folder => {
            format!("  {}, {}", count(below.files, "file"), size::short(below.bytes))
        }
        FileKind::File => format!("  {}", size::short(below.bytes)),
        _ => String::new(),
    };
    match &one.change {
        Change::Added(kind, weight) => ("added", below(*kind, weight)),
        Change::Removed(kind, weight) => ("removed", below(*kind, weight)),
        Change::Renamed(_, from) => ("renamed", format!("  was /{}", name(from))),
        Change::Changed(_, [was, is], aspects) => {
            let told = aspects.iter().map(|aspect| match aspect {
                Aspect::Kind => "another kind".to_owned(),
                Aspect::Content if was != is => {
                    let [was, is] =
                        [*was, *is].map(|len| size::short(imbrik_core::units::ByteLen::new(len)));
                    format!("content, {was} became {is}")
                }
                Aspect::Content => "content".to_owned(),
                Aspect::Permissions => "permissions".to_owned(),
                Aspect::Owner => "owner".to_owned(),
                Aspect::Attributes => "attributes".to_owned(),
                Aspect::Flags => "flags".to_owned(),
                Aspect::Links => "hard links".to_owned(),
                Aspect::Modified => "modification time only".to_owned(),
            });
            ("changed", format!("  {}", told.collect::<Vec<_>>().join(", ")))
        }
        Change::NotCompared(why) => ("unknown", format!("  {why}")),
    }
}
