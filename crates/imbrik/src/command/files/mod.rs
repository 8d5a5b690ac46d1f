//! `imbrik files`: single files of a card or an image.

mod alter;
mod change;
mod diff;
mod get;
mod list;
mod put;

use crate::{
    args::{FilesArgs, FilesCommand},
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    opened::Opened,
    render::{files::name, listed, quoted},
    resolve,
    session::Session,
};
use imbrik_core::{
    Class,
    files::{Found, Tree, find},
    fs::Files,
    layout::{Part, Survey},
    store::Tally,
};
use std::{
    ffi::OsStr,
    os::unix::ffi::OsStrExt,
    path::{Path, PathBuf},
};

const ONLY_READ: &str = "The card or image was only read.";
const MORE: &str = "Check that the card is still connected; for an image, run `imbrik check`.";

pub(crate) fn run(session: &Session, args: &FilesArgs) -> Outcome<Exit> {
    match &args.what {
        FilesCommand::List(args) => list::run(session, args),
        FilesCommand::Get(args) => get::run(session, args),
        FilesCommand::Diff(args) => diff::run(session, args),
        FilesCommand::Put(args) => put::put(session, args),
        FilesCommand::Carry(args) => put::carry(session, args),
        FilesCommand::Remove(args) => alter::remove(session, args),
        FilesCommand::Rename(args) => alter::rename(session, args),
        FilesCommand::Folder(args) => alter::folder(session, args),
    }
}

/// Adds the state and the next step to errors of read-only access.
trait Looked<T> {
    /// Adds the state and the next step.
    fn looked(self) -> Outcome<T>;
}

impl<T> Looked<T> for imbrik_core::Result<T> {
    fn looked(self) -> Outcome<T> {
        self.map_err(|error| {
            let next = if error.class() == Class::Cancelled { "" } else { MORE };
            Failure::from(error).state(ONLY_READ).next(next)
        })
    }
}

/// A card or image whose files are read.
struct Source {
    opened: Opened,
    path: PathBuf,
    survey: Survey,
}

/// A partition and a path in it, as on the command line.
struct PartPath {
    part: Option<String>,
    path: Vec<u8>,
}

impl PartPath {
    /// `PART:/PATH`, `PART:` or `PART`; a path alone is one of the only volume there is.
    fn of(typed: &OsStr) -> Outcome<Self> {
        let bytes = typed.as_bytes();
        let split = bytes.iter().position(|byte| *byte == b':');
        let (part, path) = match split {
            _ if bytes.starts_with(b"/") => (None, bytes),
            Some(at) => {
                let (part, path) = bytes.split_at(at);
                (Some(part), path.get(1..).unwrap_or_default())
            }
            None => (Some(bytes), &[][..]),
        };
        let part = part.map(|part| String::from_utf8_lossy(part).into_owned());
        if part.as_ref().is_some_and(String::is_empty) {
            return Err(Failure::usage(format!("{} names no partition", quoted(Path::new(typed))))
                .state("Nothing was read.")
                .next(
                    "A path is PART:/PATH: the partition's number or label, then the path in it.",
                ));
        }
        Ok(Self { part, path: path.to_vec() })
    }
}

impl PartPath {
    /// A new name, which may be a path, with or without its partition in front.
    fn of_new(typed: &OsStr) -> Self {
        let bytes = typed.as_bytes();
        let split = bytes.iter().position(|byte| *byte == b':');
        let is_path = |at: &usize| bytes.get(at.saturating_add(1)) == Some(&b'/');
        match split.filter(is_path) {
            Some(at) => {
                let (part, path) = bytes.split_at(at);
                let part = String::from_utf8_lossy(part).into_owned();
                Self { part: Some(part), path: path.get(1..).unwrap_or_default().to_vec() }
            }
            None => Self { part: None, path: bytes.to_vec() },
        }
    }
}

impl Source {
    fn open(session: &Session, path: &Path, tally: &Tally) -> Outcome<Self> {
        let opened = Opened::open(session, path, tally)?;
        let survey = Survey::of(&*opened.store()).looked()?;
        Ok(Self { opened, path: path.to_owned(), survey })
    }

    /// The files of a partition.
    fn tree(&self, part: &Part) -> Outcome<Option<Tree>> {
        Tree::open(&self.opened.store(), part).looked()
    }

    /// All partitions with readable files.
    fn trees(&self) -> Outcome<Vec<(&Part, Tree)>> {
        let mut trees = Vec::new();
        for part in &self.survey.parts {
            trees.extend(self.tree(part)?.map(|tree| (part, tree)));
        }
        Ok(trees)
    }

    /// The partition called `part`; the only one with files where none is named.
    fn part(&self, part: Option<&str>) -> Outcome<(&Part, Tree)> {
        let see = format!("See what is in it with `imbrik show {}`.", quoted(&self.path));
        let Some(typed) = part else {
            let mut trees = self.trees()?;
            return match (trees.pop(), trees.is_empty()) {
                (Some(only), true) => Ok(only),
                (None, _) => Err(Failure::refused(format!(
                    "the files of no volume of {} can be read",
                    self.opened.name()
                ))
                .state(ONLY_READ)
                .next(see)),
                (Some(last), false) => {
                    let (first, _) = trees.first().unwrap_or(&last);
                    let name = first.number.map_or("2".to_owned(), |number| number.to_string());
                    let next =
                        format!("Write its number or label before the path, such as {name}:/etc.");
                    let all = trees.iter().chain([&last]);
                    let all: Vec<_> = all.map(|(_, tree)| tree.title().to_owned()).collect();
                    Err(Failure::usage(format!("which volume? There are {}", listed(&all)))
                        .state("Nothing was read.")
                        .next(next))
                }
            };
        };
        let part = resolve::part(&self.survey, typed, &self.path).state("Nothing was read.")?;
        match self.tree(part)? {
            Some(tree) => Ok((part, tree)),
            None => {
                Err(Failure::refused(format!("the files of {} cannot be read", part.full_title()))
                    .state(ONLY_READ)
                    .next(match &part.volume {
                        Some(volume) => {
                            format!("The files of {} volumes are not read.", volume.kind)
                        }
                        None => see,
                    }))
            }
        }
    }

    /// Reports that a journal was replayed, or could not be.
    fn tell_of(session: &Session, tree: &Tree) {
        if tree.was_replayed() {
            session.out.note(&format!(
                "{} was not unmounted: its journal is taken into account.",
                tree.title()
            ));
        }
        if let Some(why) = tree.recovery_error() {
            session.out.warn(&format!(
                "{} was not unmounted, and its journal cannot be replayed ({why}): it is shown \
                 without it, and may be out of date.",
                tree.title()
            ));
        }
    }
}

/// The items at a path.
fn found(files: &dyn Files, path: &[u8], tree: &Tree) -> Outcome<Vec<Found>> {
    let found = find(files, path).looked()?;
    if found.is_empty() {
        let slash = if path.starts_with(b"/") { "" } else { "/" };
        let what = format!("{slash}{} does not exist in {}", name(path), tree.title());
        return Err(Failure::usage(what)
            .state(ONLY_READ)
            .next("List the files with `imbrik files list`."));
    }
    Ok(found)
}

/// Reports faults in a volume's metadata that were skipped.
fn tell_of_faults(session: &Session, files: &dyn Files, tree: &Tree) {
    let faults = files.faults();
    if let Some(first) = faults.first() {
        let more = match faults.len() {
            1 => String::new(),
            all => format!(", and {} more", all.saturating_sub(1)),
        };
        session.out.warn(&format!("{}: {first}{more}.", tree.title()));
    }
}
