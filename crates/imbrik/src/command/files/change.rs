//! Common to `put`, `remove`, `rename`, `folder` and `carry`: changing the files of a card or an image, and reporting
//! it.

use super::{PartPath, Source};
use crate::{
    args::ChangeArgs,
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    opened::Opened,
    packing::{self, Destination},
    pipe,
    render::{count, files::name, json, quoted, size, time},
    session::Session,
};
use imbrik_core::{
    Class, Error,
    card::Card,
    files::{LeftOut, Tree},
    fs::{AfterACut, FileEdit},
    image::Image,
    layout::{Part, PartEdit},
    operation::{CardEdit, CardState, EditFailure, EditPlan},
    progress::Watch,
    store::{ReadAt, Tally},
    units::ByteLen,
};
use jiff::Timestamp;
use std::{path::Path, time::Instant};

pub(super) const UNTOUCHED: &str = "Nothing was changed.";

/// A card or an image whose files are changed.
pub(super) struct Target<'a> {
    session: &'a Session,
    args: &'a ChangeArgs,
    /// The name of the command in reports.
    command: &'static str,
    path: &'a Path,
    pub(super) source: Source,
    started: Instant,
}

/// A completed change, for reports.
pub(super) struct Told {
    pub(super) what: json::FileChanged,
    /// From the root, with a slash in front.
    pub(super) path: String,
    pub(super) to: Option<String>,
    pub(super) files: u64,
    pub(super) folders: u64,
    pub(super) bytes: ByteLen,
    /// The length of the replaced file.
    pub(super) replaced: Option<ByteLen>,
}

impl Told {
    pub(super) fn new(what: json::FileChanged, path: &[u8]) -> Self {
        let path = format!("/{}", String::from_utf8_lossy(path));
        let (files, folders, bytes) = (0, 0, ByteLen::ZERO);
        Self { what, path, to: None, files, folders, bytes, replaced: None }
    }

    /// The change in the partition called `part`, for the image's history.
    fn history(&self, part: &str) -> String {
        let path = &self.path;
        match (self.what, &self.to) {
            (json::FileChanged::Renamed, Some(to)) => format!("{part}{path} renamed to {to}"),
            (json::FileChanged::Removed, _) => format!("{part}{path} removed"),
            (json::FileChanged::Folder, _) => format!("{part}{path} created"),
            _ => format!("{part}{path} added"),
        }
    }

    /// The change, before it is made.
    fn planned(&self) -> String {
        format!("{:<10}{}", self.verbs().0, self.object())
    }

    /// The change, after it was made.
    fn line(&self) -> String {
        format!("{:<10}{}", self.verbs().1, self.object())
    }

    fn verbs(&self) -> (&'static str, &'static str) {
        match self.what {
            json::FileChanged::Put => ("Add", "Added"),
            json::FileChanged::Folder => ("Create", "Created"),
            json::FileChanged::Renamed => ("Rename", "Renamed"),
            json::FileChanged::Removed => ("Remove", "Removed"),
        }
    }

    fn object(&self) -> String {
        let len = size::short(self.bytes);
        let below = |files: u64, folders: u64| match (files, folders) {
            (0, folders) => count(folders, "folder"),
            (files, 0) => count(files, "file"),
            (files, folders) => format!("{} in {}", count(files, "file"), count(folders, "folder")),
        };
        let path = &self.path;
        match (self.what, &self.to, self.replaced) {
            (json::FileChanged::Put, _, Some(old)) => {
                format!("{path}  {len}, replaces {}", size::short(old))
            }
            (json::FileChanged::Put, ..) if self.folders == 0 && self.files == 1 => {
                format!("{path}  {len}, new")
            }
            (json::FileChanged::Put, ..) => {
                format!("{path}  {}, {len}", below(self.files, self.folders))
            }
            (json::FileChanged::Folder, ..) => path.clone(),
            (json::FileChanged::Renamed, to, _) => {
                format!("{path}  to {}", to.as_deref().unwrap_or_default())
            }
            (json::FileChanged::Removed, ..) if self.folders == 0 => {
                format!("{path}  {len}")
            }
            (json::FileChanged::Removed, ..) => {
                format!("{path}  {}, {len}", below(self.files, self.folders))
            }
        }
    }
}

/// The changes, and how to report them.
#[derive(Default)]
pub(super) struct Wanted {
    pub(super) edits: Vec<FileEdit>,
    pub(super) told: Vec<Told>,
    pub(super) left_out: Vec<LeftOut>,
}

impl<'a> Target<'a> {
    /// Opens the card or image `path`.
    pub(super) fn open(
        session: &'a Session,
        command: &'static str,
        path: &'a Path,
        args: &'a ChangeArgs,
    ) -> Outcome<Self> {
        let started = Instant::now();
        if pipe::is_pipe(path) {
            return Err(Failure::usage("an image in a pipe can't be changed")
                .state(UNTOUCHED)
                .next("Name a file."));
        }
        let source = Source::open(session, path, &Tally::default())?;
        Ok(Self { session, args, command, path, source, started })
    }

    /// The partition that a path is in, its place in the survey, and its files.
    pub(super) fn part(&self, typed: &PartPath) -> Outcome<(usize, Tree)> {
        let (part, tree) = self.source.part(typed.part.as_deref())?;
        let index = self.source.survey.parts.iter().position(|one| one == part).unwrap_or(0);
        if tree.was_replayed() {
            let title = tree.title();
            self.session
                .out
                .note(&format!("{title} was not unmounted: its journal is replayed first."));
        } else {
            Source::tell_of(self.session, &tree);
        }
        Ok((index, tree))
    }

    /// Makes the changes and reports them.
    pub(super) fn apply(self, index: usize, title: &str, wanted: Wanted) -> Outcome<Exit> {
        for one in wanted.left_out.iter().take(5) {
            self.session.out.warn(&format!("{} is left out: {}.", name(&one.path), one.why));
        }
        if let Some(more) = wanted.left_out.len().checked_sub(5).filter(|more| *more > 0) {
            self.session.out.warn(&format!("{} more are left out.", count(more as u64, "file")));
        }
        if wanted.edits.is_empty() {
            return Err(Failure::refused("there is nothing to change").state(UNTOUCHED));
        }
        match &self.source.opened {
            Opened::Image(image) => self.image(image, index, title, wanted),
            Opened::Card(card, _) => self.card(card, index, title, wanted),
        }
    }

    fn image(&self, image: &Image, index: usize, title: &str, wanted: Wanted) -> Outcome<Exit> {
        let session = self.session;
        let options = packing::in_place(session, self.path, image, self.args.no_check)?;
        session.out.note(&format!("Checking every file of {title} first ..."));
        let now = Timestamp::now();
        let means = session.resize_options(false);
        let edits = wanted.edits.into_iter().map(|edit| PartEdit { part: index, edit });
        let edits: Vec<PartEdit> = edits.collect();
        let plan = match EditPlan::new(image, edits.clone(), means, packing::MADE_BY, now) {
            Err(error) if error.class() == Class::NoRoom && self.args.grow => {
                let shortfall = error.shortfall().unwrap_or_default();
                EditPlan::with_room(image, edits, shortfall, means, packing::MADE_BY, now)
            }
            plan => plan,
        };
        let mut plan = plan.map_err(|error| refused(error, image))?;
        let grown = plan.view.size().saturating_sub(image.content().size());
        let day = now.strftime("%Y-%m-%d");
        let part = self.number(index).map_or(String::new(), |number| format!("{number}:"));
        let done: Vec<_> = wanted.told.iter().map(|one| one.history(&part)).collect();
        let history = format!("{} on {day}", done.join(", "));
        plan.manifest.note = Some(continued(plan.manifest.note.take(), &history));
        let progress = session.progress(if self.args.no_check { 1 } else { 2 });
        let watch = Watch { observer: &progress, cancel: &session.environment.interrupt.cancel };
        let path = std::path::absolute(self.path).unwrap_or_else(|_| self.path.to_owned());
        let saved = plan.run(&path, &options, watch).map_err(|error| {
            let next = packing::what_next(&error);
            Failure::from(error).state("The image is unchanged.").next(next)
        })?;
        drop(progress);
        packing::tell_of(session, &saved);
        let to = Destination::File(path, None, None);
        let out = &session.out;
        if out.is_json() {
            let more = json::FilesChanged {
                image_bytes: Some(saved.image_len.get()),
                frames_reused: Some(saved.reused.tiles()),
                ..self.told(to.path(), index, &wanted.told, &wanted.left_out)
            };
            out.line(&json::object(self.command, "done", more).to_string());
            return Ok(packing::exit(&saved));
        }
        out.line("");
        wanted.told.iter().for_each(|one| out.line(&one.line()));
        out.line(&format!("In        {title} of {}", quoted(to.path())));
        if !grown.is_zero() {
            let more = size::short(grown);
            out.line(&format!("Grown     by {more}: the image is for a larger card now"));
        }
        let kept: ByteLen = saved.reused.unread.iter().map(|span| span.len()).sum();
        if !kept.is_zero() {
            out.line(&format!(
                "Kept      {} of the previous image, copied without re-reading them",
                size::short(kept)
            ));
        }
        for sum in &saved.sums {
            out.line(&format!("{:<9} {}", sum.kind.to_string(), sum.hex));
        }
        out.line(&format!("Time      {}", time::span(self.started.elapsed())));
        out.next(&to.next(out, "imbrik check", ""));
        Ok(packing::exit(&saved))
    }

    fn card(&self, card: &Card, index: usize, title: &str, wanted: Wanted) -> Outcome<Exit> {
        let session = self.session;
        if self.args.grow {
            return Err(Failure::usage("a card cannot grow; --grow is for images")
                .state("Nothing was written to the card."));
        }
        let (fixed, unmount) = (self.args.allow_fixed, self.args.unmount);
        session.make_writable(card, fixed, unmount).state(UNTOUCHED)?;
        let part: &Part = self
            .source
            .survey
            .parts
            .get(index)
            .ok_or_else(|| Failure::usage("the card has no such partition").state(UNTOUCHED))?;
        session.out.note(&format!("Checking every file of {title} first ..."));
        let cancel = &session.environment.interrupt.cancel;
        let plan = CardEdit::new(
            card.clone(),
            &self.source.opened.store(),
            &self.source.survey,
            part,
            wanted.edits,
            Timestamp::now(),
            cancel,
        );
        let path = card.path.display();
        let plan = plan.map_err(refused_on_card)?;
        for one in &wanted.told {
            session.out.note(&one.planned());
        }
        session.out.note(&match plan.after_a_cut {
            AfterACut::OldOrNew => format!(
                "In {title} on {path}, through the journal of the volume: after an interruption, it has \
                 the old files or the new ones."
            ),
            AfterACut::ToBeChecked => format!(
                "In {title} on {path}, which has no journal: after an interruption, the volume has to be \
                 checked; only files that are to be removed or replaced can be lost."
            ),
        });
        session.must_be_able_to_ask(self.args.yes).state("Nothing was written to the card.")?;
        let word = crate::render::survey::name(Some(&self.source.survey), card);
        session.confirm_by_typing(
            &word,
            &format!("Type the name of the card, {word}, to continue: "),
            self.args.yes,
        )?;
        let progress = session.progress(2);
        let watch = Watch { observer: &progress, cancel };
        let host = session.fleet.host_of(card);
        let edited = plan.run(host, self.args.allow_fixed, watch).map_err(failed_on_card)?;
        drop(progress);
        for at in &edited.unmounted {
            session.out.note(&format!("Unmounted {}", at.display()));
        }
        let out = &session.out;
        if out.is_json() {
            let more = json::FilesChanged {
                bytes_written: Some(edited.written.get()),
                ..self.told(&card.path, index, &wanted.told, &wanted.left_out)
            };
            out.line(&json::object(self.command, "done", more).to_string());
            return Ok(Exit::Done);
        }
        out.line("");
        wanted.told.iter().for_each(|one| out.line(&one.line()));
        out.line(&format!("In        {title} of {path}"));
        out.line(&format!("Written   {}, and read back", size::short(edited.written)));
        out.line(&format!("Time      {}", time::span(self.started.elapsed())));
        out.line("It is safe to take the card out.");
        Ok(Exit::Done)
    }

    /// The number of a partition; `None` on a bare card.
    fn number(&self, index: usize) -> Option<u32> {
        self.source.survey.parts.get(index).and_then(|part| part.number)
    }

    fn told(
        &self,
        path: &Path,
        index: usize,
        told: &[Told],
        left_out: &[LeftOut],
    ) -> json::FilesChanged {
        json::FilesChanged {
            target: json::path(path),
            image_bytes: None,
            bytes_written: None,
            partition: self.number(index),
            done: told
                .iter()
                .map(|one| json::FileDone {
                    what: one.what,
                    path: one.path.clone(),
                    to: one.to.clone(),
                    files: one.files,
                    folders: one.folders,
                    bytes: one.bytes.get(),
                    replaced_bytes: one.replaced.map(ByteLen::get),
                })
                .collect(),
            left_out: left_out.iter().map(json::FileLeftOut::of).collect(),
            frames_reused: None,
            seconds: self.started.elapsed().as_secs_f64(),
        }
    }
}

/// Extends a note: the user's text is kept, and the latest changes of a long history.
fn continued(note: Option<String>, done: &str) -> String {
    const MOST: usize = 1000;
    let Some(note) = note else { return done.to_owned() };
    let mut parts: Vec<&str> = note.split("; ").chain([done]).collect();
    while parts.len() > 3 && parts.join("; ").len() > MOST {
        // The second one, which is older than all but the first.
        parts.remove(1);
    }
    parts.join("; ")
}

fn refused(error: Error, image: &Image) -> Failure {
    let path = quoted(image.path());
    let next = match error.class() {
        Class::NoRoom => {
            let shortfall = error.shortfall().unwrap_or_default().get().saturating_add(100_000_000);
            let size = image.content().size().get().saturating_add(shortfall);
            let megabytes = size.div_ceil(1_000_000);
            format!("Add --grow, or make room: imbrik fit {path} --to {megabytes}MB")
        }
        Class::Corrupt => format!("See `imbrik show {path}`."),
        _ => String::new(),
    };
    let shortfall = shortfall(&error);
    let mut failure = Failure::from(error).state("The image is unchanged.").next(next);
    failure.what += &shortfall;
    failure
}

fn refused_on_card(error: Error) -> Failure {
    let next = match error.class() {
        Class::NoRoom => "Make room with `imbrik files remove`, or restore onto a larger card.",
        Class::Corrupt => {
            "Save the card first; the filesystem checker of its system may repair it."
        }
        _ => "",
    };
    let shortfall = shortfall(&error);
    let mut failure = Failure::from(error).state("Nothing was written to the card.").next(next);
    failure.what += &shortfall;
    failure
}

fn shortfall(error: &Error) -> String {
    match error.shortfall().filter(|_| error.class() == Class::NoRoom) {
        Some(len) => format!(": at least {} lack", size::short(len)),
        None => String::new(),
    }
}

fn failed_on_card(failure: EditFailure) -> Failure {
    let state = match failure.state {
        CardState::Untouched => "Nothing was written to the card.",
        CardState::OldOrNew => {
            "The card has the old files or the new ones, once its journal is replayed at the next start."
        }
        CardState::ToBeChecked => {
            "The volume must be checked: each name is the old or the new one, and the volume is \
             marked as not unmounted."
        }
        CardState::Differs => {
            "Everything was written, but the card did not keep all of it: do not trust this card."
        }
        _ => "Everything was written and verified.",
    };
    let next = match (failure.error.class(), failure.state) {
        (Class::Cancelled, _) => "Run the same command again to do it.",
        (_, CardState::Untouched | CardState::Whole) => "",
        (_, CardState::OldOrNew) => "See what is there with `imbrik files list`, and try again.",
        _ => "Check it with the filesystem checker of its system, or restore it from its image.",
    };
    Failure::from(failure.error).state(state).next(next)
}

/// The present item at a path: the length of a file.
pub(super) fn there(tree: &Tree, path: &[u8]) -> Outcome<Option<imbrik_core::files::Found>> {
    use super::Looked as _;
    let files = tree.files().looked()?;
    let full = [b"/", path].concat();
    let found = imbrik_core::files::find(&*files, &full).looked()?;
    Ok(found.into_iter().find(|one| one.path == path))
}

/// Splits paths from the destination, which is the last one.
pub(super) fn split<T>(all: &[T]) -> Outcome<(&T, &[T])> {
    all.split_last().ok_or_else(|| Failure::usage("nothing was named").state(UNTOUCHED))
}

/// A path in a volume, without slashes at its ends.
pub(super) fn plain(path: &[u8]) -> Vec<u8> {
    imbrik_core::files::names(path).join(&b'/')
}

#[cfg(test)]
mod tests {
    use super::continued;

    #[test]
    fn history_keeps_the_note_and_the_last_operations() {
        assert_eq!(continued(None, "/a put in"), "/a put in");
        let mut note = "the good evening".to_owned();
        for n in 0..300 {
            note = continued(Some(note), &format!("/log-{n} put in on 2026-11-27"));
        }
        assert!(note.len() <= 1000 && note.starts_with("the good evening; /log-2"), "{note}");
        assert!(note.ends_with("; /log-298 put in on 2026-11-27; /log-299 put in on 2026-11-27"));
    }
}
