//! `imbrik shelf pin`, `unpin` and `label`: a single image of a shelf.

use super::UNTOUCHED;
use crate::{
    args::ShelfImageArgs,
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    render::{json, quoted, size},
    session::Session,
};
use imbrik_core::{
    image::Image,
    shelf::{FileState, Remarks, Shelf, card_name, set_pinned},
    units::ByteLen,
};
use jiff::tz::TimeZone;
use std::path::Path;

/// Has an image stay whatever the rules say, or not.
pub(super) fn pin(session: &Session, args: &ShelfImageArgs, pinned: bool) -> Outcome<Exit> {
    let path = session.image_path(&args.image)?;
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty());
    let shelf = Shelf::open(folder.unwrap_or(Path::new("."))).state(UNTOUCHED)?;
    let _lock = shelf.lock().state(UNTOUCHED)?;
    if !path.is_file() {
        return Err(Failure::usage(format!("image {} does not exist", quoted(&path)))
            .state(UNTOUCHED)
            .next("`imbrik shelf list` lists them."));
    }
    set_pinned(&path, pinned, session.environment.owner).state(UNTOUCHED)?;
    let out = &session.out;
    if out.is_json() {
        let more = json::ShelfMarked { image: json::path(&path), pinned, label: None };
        out.line(&json::object("shelf", "marked", more).to_string());
    } else {
        let what = match pinned {
            true => "is pinned: no rule removes it",
            false => "is unpinned: the rules apply to it again",
        };
        out.line(&format!("{} {what}.", quoted(&path)));
    }
    Ok(Exit::Done)
}

/// A short line for the sticker on a card.
pub(super) fn label(session: &Session, args: &ShelfImageArgs) -> Outcome<Exit> {
    let path = session.image_path(&args.image)?;
    let image: Image = session.open_image(&path).state("The image was only read.")?;
    let manifest = image.manifest().ok_or_else(|| {
        Failure::usage(format!("{} does not record which card it is of", quoted(&path)))
    })?;
    let day = manifest.made_at.to_zoned(TimeZone::system()).strftime("%Y-%m-%d").to_string();
    let size = size::short(ByteLen::new(manifest.card_size));
    let id = manifest.table.as_ref().map(|table| table.id.to_lowercase());
    let id = id.map_or(String::new(), |id| format!("  {}", id.get(..8).unwrap_or(&id)));
    let line = format!("{}  {day}  {size}{id}", card_name(manifest));
    let out = &session.out;
    if out.is_json() {
        let remarks = FileState::read(&path).and_then(|file| Remarks::read(&image, &file));
        let pinned = remarks.is_ok_and(|remarks| remarks.pinned);
        let more = json::ShelfMarked { image: json::path(&path), pinned, label: Some(line) };
        out.line(&json::object("shelf", "marked", more).to_string());
    } else {
        out.line(&line);
    }
    Ok(Exit::Done)
}
