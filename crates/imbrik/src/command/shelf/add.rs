//! `imbrik shelf add`: everything before and after the save of a card onto a shelf.

use super::{check, open, thin};
use crate::{
    args::{SaveArgs, ShelfAddArgs},
    exit::Exit,
    failure::{Failure, Outcome},
    render::{count, quoted, size},
    session::Session,
};
use imbrik_core::shelf::Removal;
use jiff::{Timestamp, tz::TimeZone};
use std::path::PathBuf;

/// The arguments of the save; a missing mount is noticed before a card is read.
pub(crate) fn meant(session: &Session, args: &ShelfAddArgs) -> Outcome<SaveArgs> {
    if args.brief {
        session.out.be_brief();
    }
    open(session, Some(&args.folder))?;
    Ok(SaveArgs {
        card: args.card.clone(),
        image: Some(args.folder.clone()),
        reread: args.reread,
        note: args.note.clone(),
        unmount: args.unmount,
        live: args.live,
        freeze_limit: args.freeze_limit,
        onto_shelf: true,
        ..SaveArgs::default()
    })
}

/// The incomplete images that are on the shelf before a save.
pub(crate) fn leftovers(session: &Session, args: &ShelfAddArgs) -> Outcome<Vec<PathBuf>> {
    let listing = open(session, Some(&args.folder))?.list(Timestamp::now())?;
    Ok(listing.unfinished.into_iter().map(|left| left.path).collect())
}

/// Frees space after a save that ended with `failure` because the disk is full: with `--thin`, removes the images that
/// no rule keeps, and the leftover of the failed save. Returns whether to try again. Without `--thin`, reports how much
/// that would free.
pub(crate) fn make_room(
    session: &Session,
    args: &ShelfAddArgs,
    leftovers: &[PathBuf],
    failure: &mut Failure,
) -> Outcome<bool> {
    if failure.exit != Exit::NoRoom {
        return Ok(false);
    }
    let shelf = open(session, Some(&args.folder))?;
    let lock = shelf.lock()?;
    let now = Timestamp::now();
    let mut removal = shelf.removal(&shelf.list(now)?, now, &TimeZone::system(), Some(leftovers));
    let may_go = std::mem::take(&mut removal.images);
    // The leftover of the failed save is useless: the next image has another name.
    removal.apply(&shelf, &lock, || ())?;
    failure.state = "No image was added.".to_owned();
    let removal = Removal { images: may_go, ..Removal::default() };
    if removal.is_empty() {
        failure.next = format!(
            "Free space on its disk, or allow more to be removed: imbrik shelf keep {}",
            quoted(&args.folder)
        );
        return Ok(false);
    }
    let freed = size::short(removal.least_freed());
    if !args.thin {
        failure.next = format!(
            "To free at least {freed} by removing the images that no rule keeps: imbrik shelf thin {}",
            quoted(&args.folder)
        );
        return Ok(false);
    }
    let images = count(removal.images.len() as u64, "image");
    session.out.warn(&format!(
        "The disk is full. Removing {images} that no rule keeps (at least {freed}), then trying again."
    ));
    session.out.in_brief(format!("{images} removed to make room"));
    removal.apply(&shelf, &lock, || ())?;
    Ok(true)
}

/// Removes and checks images after the save, which ended as `saved`.
pub(crate) fn look_after(session: &Session, args: &ShelfAddArgs, saved: Exit) -> Outcome<Exit> {
    let shelf = open(session, Some(&args.folder))?;
    let mut exits = vec![saved];
    // Nothing is removed after an imperfect save.
    if args.thin && saved == Exit::Done {
        exits.push(thin::thin(session, &shelf, false, true)?);
    }
    if args.check > 0 {
        exits.push(check::check(session, &shelf, args.check)?);
    }
    session.out.tell_in_brief();
    Ok(exits.into_iter().find(|exit| *exit != Exit::Done).unwrap_or(Exit::Done))
}
