//! `imbrik shelf due`: reports overdue cards and checks.

use super::{days, open};
use crate::{
    args::ShelfOnlyArgs,
    exit::Exit,
    failure::{Explain, Outcome},
    render::{
        count, json, quoted, size,
        time::{ago, date_and_time},
    },
    session::Session,
};
use imbrik_core::shelf::{Listing, Shelf, is_ahead};
use jiff::Timestamp;

/// The number of days after which an image should be checked again.
const CHECK: i64 = 31;
const DAY: i64 = 24 * 60 * 60;

pub(super) fn run(session: &Session, args: &ShelfOnlyArgs) -> Outcome<Exit> {
    let shelf = open(session, args.folder.as_deref())?;
    let now = Timestamp::now();
    let listing = shelf.list(now).state("The shelf was only read.")?;
    let overdue = overdue(&shelf, &listing, now);
    let out = &session.out;
    let exit = if overdue.is_empty() { Exit::Done } else { Exit::Overdue };
    if out.is_json() {
        let more = json::ShelfDue { shelf: json::path(shelf.folder()), overdue };
        out.line(&json::object("shelf", "due", more).to_string());
        return Ok(exit);
    }
    for one in &overdue {
        out.line(&one.text);
    }
    if overdue.is_empty() {
        let cards = listing.by_card().len() as u64;
        out.line(&format!(
            "Nothing is overdue: {} with an image from the last {}; no image went unchecked for more than \
             a month.",
            count(cards, "card"),
            days(shelf.due.into())
        ));
    }
    for (name, cards) in listing.shared_names() {
        let cards: Vec<_> = cards
            .iter()
            .map(|card| format!("{} ({})", card.full_name(), size::short(card.size)))
            .collect();
        out.note(&format!("{} cards are named {name}: {}.", cards.len(), cards.join(", ")));
    }
    Ok(exit)
}

fn overdue(shelf: &Shelf, listing: &Listing, now: Timestamp) -> Vec<json::ShelfOverdue> {
    use json::ShelfOverdueKind as Kind;
    let mut all = Vec::new();
    let older = |at: Timestamp, days: i64| now.as_second() - at.as_second() > days * DAY;
    for (card, images) in listing.by_card() {
        let label = images.first().map_or(&card.name, |image| &image.card_label);
        let text = match listing.newest(card) {
            None => format!("{label} has only damaged images."),
            Some(newest) if is_ahead(newest.made_at, now) => format!(
                "{label} has no image with a plausible date: the newest is dated {}, in the future.",
                date_and_time(newest.made_at)
            ),
            Some(newest) if older(newest.made_at, shelf.due.into()) => {
                format!("{label} was last saved {}.", ago(newest.made_at, now))
            }
            Some(_) => continue,
        };
        let card = Some(label.clone());
        all.push(json::ShelfOverdue { what: Kind::Image, card, image: None, text });
    }
    for one in &listing.images {
        let name = quoted(one.path.file_name().unwrap_or_default().as_ref());
        let (what, text) = match one.remarks.checked {
            _ if !one.remarks.is_sound() => (Kind::Damaged, format!("{name} is damaged.")),
            // A new image was read back when it was written, or shares its data.
            None if older(one.made_at, CHECK) || is_ahead(one.made_at, now) => {
                (Kind::Check, format!("{name} was never checked."))
            }
            Some(at) if is_ahead(at, now) => (
                Kind::Check,
                format!("{name} was checked at a date in the future, {}.", date_and_time(at)),
            ),
            Some(at) if older(at, CHECK) => {
                (Kind::Check, format!("{name} was last checked {}.", ago(at, now)))
            }
            _ => continue,
        };
        let (card, image) = (Some(one.card_label.clone()), Some(json::path(&one.path)));
        all.push(json::ShelfOverdue { what, card, image, text });
    }
    for one in &listing.unrecognised {
        let text = format!("{} cannot be read as an image: {}.", quoted(&one.path), one.why);
        let image = Some(json::path(&one.path));
        all.push(json::ShelfOverdue { what: Kind::Unreadable, card: None, image, text });
    }
    all
}
