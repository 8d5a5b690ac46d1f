//! `imbrik shelf thin`: images that no rule keeps go.

use super::{UNTOUCHED, open};
use crate::{
    args::ShelfThinArgs,
    confirm::Policy,
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    render::{count, json, quoted, size, time},
    session::Session,
};
use imbrik_core::{
    shelf::{Fate, Shelf, Shelved, Unfinished},
    units::ByteLen,
};
use jiff::{Timestamp, tz::TimeZone};

pub(super) fn run(session: &Session, args: &ShelfThinArgs) -> Outcome<Exit> {
    let shelf = open(session, args.folder.as_deref())?;
    thin(session, &shelf, args.plan, args.yes)
}

/// Shows what goes, asks unless `yes` says that it may, and removes it.
pub(super) fn thin(session: &Session, shelf: &Shelf, plan: bool, yes: bool) -> Outcome<Exit> {
    let lock = shelf.lock().state(UNTOUCHED)?;
    let listing = shelf.list().state(UNTOUCHED)?;
    let fates = shelf.fates(&listing, Timestamp::now(), &TimeZone::system());
    let pairs = listing.images.iter().zip(fates);
    let given_up = listing.unfinished.iter().filter(|left| left.is_given_up(Timestamp::now()));
    let given_up: Vec<&Unfinished> = given_up.collect();
    let going: Vec<&Shelved> =
        pairs.filter(|(_, fate)| *fate == Fate::Goes).map(|(image, _)| image).collect();
    let kept = (listing.images.len() - going.len()) as u64;
    let own: ByteLen = going.iter().map(|image| image.own).sum();
    let out = &session.out;
    let told = |result: &str| {
        let more = json::ShelfThinned {
            shelf: json::path(shelf.folder()),
            removed: going.iter().map(|image| json::path(&image.path)).collect(),
            unfinished: given_up.iter().map(|left| json::path(&left.path)).collect(),
            kept,
            own_bytes: own.get(),
        };
        out.line(&json::object("shelf", result, more).to_string());
    };
    if !plan && !going.is_empty() {
        out.in_brief(format!("{} removed", going.len()));
    }
    if !out.is_json() {
        for image in &going {
            let name = image.path.file_name().unwrap_or_default();
            out.line(&format!(
                "Goes      {}  {}, {} of it not shared",
                quoted(name.as_ref()),
                time::moment(image.made_at),
                size::short(image.own)
            ));
        }
        for left in &given_up {
            let name = left.path.file_name().unwrap_or_default();
            out.line(&format!(
                "Goes      {}  not finished since {}, {}",
                quoted(name.as_ref()),
                time::moment(left.changed_at),
                size::short(left.len)
            ));
        }
        let goes = match going.len() {
            0 => "No image goes".to_owned(),
            1 => "1 image goes".to_owned(),
            many => format!("{many} images go"),
        };
        let stay = if kept == 1 { "1 stays".to_owned() } else { format!("{kept} stay") };
        out.line(&format!("{goes}, {stay} by the rules: {}", shelf.rules));
    }
    let is_nothing = going.is_empty() && given_up.is_empty();
    if plan || is_nothing {
        if out.is_json() {
            told(if plan { "plan" } else { "thinned" });
        } else if plan {
            out.only_planned();
        }
        return Ok(Exit::Done);
    }
    if session.policy(yes) == Policy::Nobody {
        return Err(Failure::refused("this needs a confirmation, and nobody can be asked here")
            .state(UNTOUCHED)
            .next("If that is what you want, add --yes."));
    }
    let question = "They cannot be brought back. Type remove to go ahead: ";
    session.confirm_by_typing("remove", question, yes)?;
    for (done, image) in going.iter().enumerate() {
        shelf.remove(image, &lock).map_err(|error| {
            let state =
                format!("{} removed before that, the rest stays.", count(done as u64, "image"));
            Failure::from(error).state(state)
        })?;
    }
    for left in &given_up {
        shelf.remove_unfinished(left, &lock).state("The images that go are removed.")?;
    }
    if out.is_json() {
        told("thinned");
    } else if !going.is_empty() {
        out.line(&format!(
            "Removed   {}; {} were theirs alone",
            count(going.len() as u64, "image"),
            size::short(own)
        ));
    }
    Ok(Exit::Done)
}
