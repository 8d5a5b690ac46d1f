//! `imbrik shelf`: images over time.

pub(super) mod add;
mod check;
mod due;
mod list;
mod nightly;
mod pin;
mod thin;

use crate::{
    args::{ShelfArgs, ShelfCommand, ShelfKeepArgs, ShelfMakeArgs},
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    render::{json, quoted},
    session::Session,
};
use imbrik_core::{
    Class,
    shelf::{Rules, Shelf},
};
use jiff::Timestamp;
use std::path::Path;

const UNTOUCHED: &str = "Nothing on the shelf was changed.";

pub(crate) fn run(session: &Session, args: &ShelfArgs) -> Outcome<Exit> {
    match &args.what {
        // The save in it is another command's.
        ShelfCommand::Add(_) => Ok(Exit::Done),
        ShelfCommand::Make(args) => make(session, args),
        ShelfCommand::List(args) => list::run(session, args),
        ShelfCommand::Keep(args) => keep(session, args),
        ShelfCommand::Thin(args) => thin::run(session, args),
        ShelfCommand::Remove(args) => thin::remove(session, args),
        ShelfCommand::Check(args) => check::run(session, args),
        ShelfCommand::Due(args) => due::run(session, args),
        ShelfCommand::Pin(args) => pin::pin(session, args, true),
        ShelfCommand::Unpin(args) => pin::pin(session, args, false),
        ShelfCommand::Nightly(args) => nightly::run(session, args),
        ShelfCommand::Label(args) => pin::label(session, args),
    }
}

/// The shelf that was named, or that of the configuration.
fn open(session: &Session, folder: Option<&Path>) -> Outcome<Shelf> {
    let folder = folder.or(session.config.images.as_deref()).ok_or_else(|| {
        Failure::usage("which shelf?")
            .next("Name its folder, or set `images` in the configuration to it.")
    })?;
    Shelf::open(folder).map_err(|error| {
        let next = match error.class() {
            Class::Refused => format!(
                "Mount its disk. To create a shelf there: imbrik shelf make {}",
                quoted(folder)
            ),
            Class::Corrupt => {
                "Correct that file, or move it away and create the shelf again.".to_owned()
            }
            _ => String::new(),
        };
        Failure::from(error).state(UNTOUCHED).next(next)
    })
}

fn make(session: &Session, args: &ShelfMakeArgs) -> Outcome<Exit> {
    let folder = &args.folder;
    if !folder.is_dir() {
        return Err(Failure::usage(format!("folder {} does not exist", quoted(folder)))
            .state(UNTOUCHED)
            .next("Make it first."));
    }
    let made = Shelf::make(folder, session.environment.owner, Timestamp::now());
    let (shelf, pinned) = made.map_err(|error| {
        let what = match error.class() {
            Class::Refused => Failure::refused(format!("{} is a shelf already", quoted(folder))),
            _ => Failure::from(error),
        };
        what.state(UNTOUCHED)
    })?;
    told(session, &shelf);
    if pinned > 0 && !session.out.is_json() {
        let (images, are) = match pinned {
            1 => ("1 image that was".to_owned(), "is"),
            more => (format!("{more} images that were"), "are"),
        };
        session.out.line(&format!(
            "Pinned    {images} in the folder already {are} pinned: no rule removes {}. To apply the rules \
             to one: imbrik shelf unpin IMAGE",
            if pinned == 1 { "it" } else { "them" }
        ));
    }
    let next = format!("imbrik save CARD {}", session.out.pasted(folder));
    session.out.next(&session.out.with_rack(&next));
    Ok(Exit::Done)
}

fn keep(session: &Session, args: &ShelfKeepArgs) -> Outcome<Exit> {
    let mut shelf = open(session, Some(&args.folder))?;
    if args.rules.is_some() || args.due.is_some() {
        let lock = shelf.lock().state(UNTOUCHED)?;
        if let Some(rules) = &args.rules {
            shelf.rules = rules.parse::<Rules>().state(UNTOUCHED).next(
                "Write them like this: '3 newest, 1 a week for 2 months, 1 a month, all for 2 weeks'.",
            )?;
        }
        shelf.due = args.due.unwrap_or(shelf.due);
        shelf.save(&lock, session.environment.owner).state(UNTOUCHED)?;
    }
    told(session, &shelf);
    Ok(Exit::Done)
}

fn told(session: &Session, shelf: &Shelf) {
    let out = &session.out;
    if out.is_json() {
        let more = json::ShelfRules {
            shelf: json::path(shelf.folder()),
            rules: shelf.rules.to_string(),
            due_days: shelf.due,
        };
        out.line(&json::object("shelf", "rules", more).to_string());
        return;
    }
    out.line(&format!("Shelf     {}", quoted(shelf.folder())));
    out.line(&format!("Keeps     {}", shelf.rules));
    out.line(
        "          Always kept: the newest image that is not damaged, the last one checked, pinned images",
    );
    out.line(&format!("Due       when a card has no new image for {}", days(shelf.due.into())));
}

fn days(count: u64) -> String {
    crate::render::count(count, "day")
}
