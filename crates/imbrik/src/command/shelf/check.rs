//! `imbrik shelf check`: the images that were not checked for the longest time.

use super::{UNTOUCHED, open};
use crate::{
    args::ShelfCheckArgs,
    exit::Exit,
    failure::{Explain, Outcome},
    render::{count, json, quoted, size},
    session::Session,
};
use imbrik_core::{
    Class, Error,
    image::{Image, Pack},
    operation::{ImageCheck, Verdict},
    progress::Watch,
    shelf::{Remarks, Shelf, Shelved},
};
use jiff::Timestamp;

pub(super) fn run(session: &Session, args: &ShelfCheckArgs) -> Outcome<Exit> {
    let shelf = open(session, args.folder.as_deref())?;
    check(session, &shelf, args.oldest.unwrap_or(usize::MAX))
}

/// Checks at most `most` of them, and stores the results.
pub(super) fn check(session: &Session, shelf: &Shelf, most: usize) -> Outcome<Exit> {
    let _lock = shelf.lock().state(UNTOUCHED)?;
    let now = Timestamp::now();
    let listing = shelf.list(now).state(UNTOUCHED)?;
    let mut checked = Vec::new();
    let out = &session.out;
    for one in listing.longest_unchecked(most, now) {
        let why = wrong_with(session, one).state("Earlier results are kept.")?;
        let name = quoted(one.path.file_name().unwrap_or_default().as_ref());
        let result =
            Remarks { checked: Some(Timestamp::now()), whole: Some(why.is_none()), ..one.remarks };
        one.remember(&result, session.environment.owner)?;
        if !out.is_json() {
            out.line(&match &why {
                None => format!("OK        {name}  {}", size::short(one.len)),
                Some(why) => format!("Damaged   {name}  {why}"),
            });
        }
        checked.push(json::ShelfCheckedImage {
            image: json::path(&one.path),
            intact: why.is_none(),
            why,
        });
    }
    let damaged = checked.iter().filter(|one| !one.intact).count();
    if !checked.is_empty() {
        let result = if damaged == 0 { "OK".to_owned() } else { format!("{damaged} DAMAGED") };
        out.in_brief(format!("{} checked, {result}", checked.len()));
    }
    let not_checked = (listing.images.len() - checked.len()) as u64;
    if out.is_json() {
        let more =
            json::ShelfChecked { shelf: json::path(shelf.folder()), images: checked, not_checked };
        out.line(&json::object("shelf", "checked", more).to_string());
    } else {
        let others = match not_checked {
            0 => "all checked".to_owned(),
            others => format!("{others} not checked now"),
        };
        out.line(&format!(
            "{} read and compared with the digests in it; {others}.",
            count(checked.len() as u64, "image")
        ));
        if damaged > 0 {
            out.warn(&format!(
                "{} damaged and will not be reused. Save the card again; `imbrik check IMAGE` shows which \
                 files are affected.",
                if damaged == 1 { "1 image is".to_owned() } else { format!("{damaged} images are") }
            ));
        }
    }
    Ok(if damaged > 0 { Exit::Mismatch } else { Exit::Done })
}

/// The problem of an image, if it has one.
fn wrong_with(session: &Session, one: &Shelved) -> imbrik_core::Result<Option<String>> {
    let damaged = |error: &Error| {
        matches!(error.class(), Class::Corrupt | Class::Mismatch | Class::Unsupported)
    };
    let image = match Image::open(&one.path, None) {
        Err(error) if damaged(&error) => return Ok(Some(error.to_string())),
        image => image?,
    };
    if let (true, Some(finding)) = (Pack::of_name(&one.path).is_some(), image.findings().first()) {
        return Ok(Some(finding.to_string()));
    }
    let check = ImageCheck { image: &image, listed: &[], expected: &[], make: None };
    let progress = session.progress(check.steps());
    let watch = Watch { observer: &progress, cancel: &session.environment.interrupt.cancel };
    let found = match check.run(watch) {
        Err(error) if damaged(&error) => return Ok(Some(error.to_string())),
        found => found?,
    };
    Ok(match (found.verdict, found.tiles.spans.first()) {
        (Verdict::Whole, _) => None,
        (_, Some(span)) => Some(format!("{span} of the card do not match their digest")),
        (_, None) => Some(match found.findings.first() {
            Some(finding) => finding.to_string(),
            None => "its checksum does not match".to_owned(),
        }),
    })
}
