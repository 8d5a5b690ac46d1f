//! `imbrik shelf thin`: remove images that no rule keeps.

use super::{UNTOUCHED, open};
use crate::{
    args::{ShelfRemoveArgs, ShelfThinArgs},
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    render::{Tone, count, json, quoted, size, time},
    session::Session,
};
use imbrik_core::shelf::{Removal, Shelf};
use jiff::{Timestamp, tz::TimeZone};
use std::path::Path;

pub(super) fn run(session: &Session, args: &ShelfThinArgs) -> Outcome<Exit> {
    let shelf = open(session, args.folder.as_deref())?;
    thin(session, &shelf, args.plan, args.yes)
}

/// Lists the images to remove, asks for confirmation unless `yes` is set, and removes them.
pub(super) fn thin(session: &Session, shelf: &Shelf, plan: bool, yes: bool) -> Outcome<Exit> {
    let lock = shelf.lock().state(UNTOUCHED)?;
    let now = Timestamp::now();
    let listing = shelf.list(now).state(UNTOUCHED)?;
    let removal = shelf.removal(&listing, now, &TimeZone::system(), None);
    let out = &session.out;
    if !plan && !removal.images.is_empty() {
        out.in_brief(format!("{} removed", removal.images.len()));
    }
    if !out.is_json() {
        show(session, shelf, &removal);
    }
    if plan || removal.is_empty() {
        if out.is_json() {
            show_json(session, shelf, &removal, if plan { "plan" } else { "thinned" });
        } else if plan {
            out.only_planned();
        }
        return Ok(Exit::Done);
    }
    session.must_be_able_to_ask(yes).state(UNTOUCHED)?;
    let question = "Removed images cannot be restored. Type remove to continue: ";
    session.confirm_by_typing("remove", question, yes)?;
    let mut done = 0u64;
    removal.apply(shelf, &lock, || done += 1).map_err(|error| {
        let state = format!("{} removed before that; the rest is kept.", count(done, "file"));
        Failure::from(error).state(state)
    })?;
    if out.is_json() {
        show_json(session, shelf, &removal, "thinned");
    } else if !removal.images.is_empty() {
        out.line(&format!(
            "Removed   {}; at least {} freed",
            count(removal.images.len() as u64, "image"),
            size::short(removal.least_freed())
        ));
    }
    Ok(Exit::Done)
}

/// Removes one image, whatever the rules are, unless it is pinned.
pub(super) fn remove(session: &Session, args: &ShelfRemoveArgs) -> Outcome<Exit> {
    let path = session.image_path(&args.image)?;
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty());
    let shelf = open(session, Some(folder.unwrap_or(Path::new("."))))?;
    let lock = shelf.lock().state(UNTOUCHED)?;
    let listing = shelf.list(Timestamp::now()).state(UNTOUCHED)?;
    let image = listing.images.iter().find(|image| image.path.file_name() == path.file_name());
    let image = image.ok_or_else(|| {
        Failure::usage(format!("the shelf has no image {}", quoted(&path)))
            .state(UNTOUCHED)
            .next("`imbrik shelf list` lists them.")
    })?;
    let name = quoted(image.path.file_name().unwrap_or_default().as_ref());
    if image.remarks.pinned {
        return Err(Failure::refused(format!("{name} is pinned"))
            .state(UNTOUCHED)
            .next(format!("Unpin it first: imbrik shelf unpin {}", quoted(&path))));
    }
    let of = listing.by_card().get(&image.card).map_or(0, Vec::len);
    let out = &session.out;
    if !out.is_json() {
        let others = match of.saturating_sub(1) {
            0 => out.paint(Tone::Alarm, "the only image of this card"),
            others => format!("{} of this card kept", count(others as u64, "other image")),
        };
        out.line(&format!(
            "Remove    {name}  {}, frees at least {}; {others}",
            time::date_and_time(image.made_at),
            size::short(image.own)
        ));
    }
    session.must_be_able_to_ask(args.yes).state(UNTOUCHED)?;
    let question = "A removed image cannot be restored. Type remove to continue: ";
    session.confirm_by_typing("remove", question, args.yes)?;
    shelf.remove(image, &lock).state(UNTOUCHED)?;
    if out.is_json() {
        let more = json::ShelfThinned {
            shelf: json::path(shelf.folder()),
            removed: vec![json::path(&image.path)],
            unfinished: Vec::new(),
            kept: listing.images.len().saturating_sub(1) as u64,
            own_bytes: image.own.get(),
        };
        out.line(&json::object("shelf", "thinned", more).to_string());
    } else {
        out.line(&format!("Removed   {name}"));
    }
    Ok(Exit::Done)
}

fn show(session: &Session, shelf: &Shelf, removal: &Removal) {
    let out = &session.out;
    for image in &removal.images {
        let name = image.path.file_name().unwrap_or_default();
        out.line(&format!(
            "Remove    {}  {}, frees at least {}",
            quoted(name.as_ref()),
            time::date_and_time(image.made_at),
            size::short(image.own)
        ));
    }
    for left in &removal.unfinished {
        let name = left.path.file_name().unwrap_or_default();
        out.line(&format!(
            "Remove    {}  incomplete since {}, {}",
            quoted(name.as_ref()),
            time::date_and_time(left.changed_at),
            size::short(left.len)
        ));
    }
    let images = match removal.images.len() {
        0 => "No image".to_owned(),
        some => count(some as u64, "image"),
    };
    out.line(&format!("{images} to remove, {} kept by the rules: {}", removal.kept, shelf.rules));
}

fn show_json(session: &Session, shelf: &Shelf, removal: &Removal, result: &str) {
    let more = json::ShelfThinned {
        shelf: json::path(shelf.folder()),
        removed: removal.images.iter().map(|image| json::path(&image.path)).collect(),
        unfinished: removal.unfinished.iter().map(|left| json::path(&left.path)).collect(),
        kept: removal.kept as u64,
        own_bytes: removal.images.iter().map(|image| image.own.get()).sum(),
    };
    session.out.line(&json::object("shelf", result, more).to_string());
}
