//! `imbrik shelf list`: the images on a shelf.

use super::open;
use crate::{
    args::ShelfOnlyArgs,
    card_sizes,
    exit::Exit,
    failure::{Explain, Outcome},
    render::{Tone, count, json, layout, quoted, size, table, time},
    session::Session,
};
use imbrik_core::{
    image::OutputDisk,
    shelf::{Fate, Listing, Shelf, Shelved, is_ahead},
    units::ByteLen,
};
use jiff::{Timestamp, tz::TimeZone};
use std::io;

const DAY: f64 = 24.0 * 60.0 * 60.0;

pub(super) fn run(session: &Session, args: &ShelfOnlyArgs) -> Outcome<Exit> {
    let shelf = open(session, args.folder.as_deref())?;
    let now = Timestamp::now();
    let listing = shelf.list(now).state("The shelf was only read.")?;
    let fates = shelf.fates(&listing, now, &TimeZone::system());
    let free = OutputDisk::of(shelf.folder()).ok().map(|disk| disk.free);
    let full = free.and_then(|free| full_in(&listing, now, free));
    let out = &session.out;
    if out.is_json() {
        let more = json::ShelfListed {
            shelf: json::path(shelf.folder()),
            rules: shelf.rules.to_string(),
            due_days: shelf.due,
            images: listing
                .images
                .iter()
                .zip(&fates)
                .map(|(one, status)| image(one, *status))
                .collect(),
            unrecognised: listing
                .unrecognised
                .iter()
                .map(|one| json::ShelfUnrecognised {
                    path: json::path(&one.path),
                    why: one.why.clone(),
                })
                .collect(),
            free_bytes: free.map(ByteLen::get),
            full_in_days: full,
        };
        out.line(&json::object("shelf", "list", more).to_string());
        return Ok(Exit::Done);
    }
    head(session, &shelf, &listing, free, full);
    let mut fates = fates.into_iter();
    for (card, images) in listing.by_card() {
        out.line("");
        if let Some(first) = images.first() {
            out.line(&out.paint(Tone::Strong, &first.card_label));
            let newest = match is_ahead(first.made_at, now) {
                true => "newest image dated in the future".to_owned(),
                false => format!("newest image {}", time::ago(first.made_at, now)),
            };
            out.line(&format!(
                "{} card, {newest}, fits {}",
                size::short(card.size),
                card_sizes::cards(first.card_size)
            ));
        }
        let mut rows =
            vec![["Saved", "Unique", "Checked", "Kept as", "Image"].map(str::to_owned).to_vec()];
        for image in &images {
            rows.push(row(image, fates.next().unwrap_or(Fate::Rule)));
        }
        let lines = table::fitted(rows, &[1], layout::width(io::stdout()));
        let is_table = lines.len() == images.len() + 1;
        for (index, line) in lines.iter().enumerate() {
            out.line(line);
            let image = index.checked_sub(1).and_then(|index| images.get(index));
            if let Some(note) = image.filter(|_| is_table).and_then(|image| image.note.as_ref()) {
                out.line(&format!("      {note}"));
            }
        }
    }
    for left in &listing.unfinished {
        out.note(&format!(
            "{} is the leftover of an incomplete image ({}, {}); `imbrik shelf thin` removes it after \
             two days.",
            quoted(&left.path),
            time::date_and_time(left.changed_at),
            size::short(left.len)
        ));
    }
    for stranger in &listing.unrecognised {
        out.warn(&format!("{} is ignored: {}.", quoted(&stranger.path), stranger.why));
    }
    Ok(Exit::Done)
}

fn head(
    session: &Session,
    shelf: &Shelf,
    listing: &Listing,
    free: Option<ByteLen>,
    full: Option<f64>,
) {
    let out = &session.out;
    let own: ByteLen = listing.images.iter().map(|image| image.own).sum();
    let len: ByteLen = listing.images.iter().map(|image| image.len).sum();
    let cards = listing.by_card().len() as u64;
    let mut facts = vec![format!(
        "{} of {}",
        count(listing.images.len() as u64, "image"),
        count(cards, "card")
    )];
    if !listing.images.is_empty() {
        facts.push(match own < len {
            true => format!("{} in total, {} not shared", size::short(len), size::short(own)),
            false => size::short(len),
        });
    }
    facts.extend(free.map(|free| format!("{} free", size::short(free))));
    out.line(&out.paint(Tone::Strong, &quoted(shelf.folder())));
    out.line(&facts.join(" · "));
    out.line(&format!("Keeps     {}", shelf.rules));
    if let Some(days) = full {
        out.line(&format!("Full      in about {}, at the pace of the last month", roughly(days)));
    }
}

/// "3 weeks", "8 months": a number of days that is only likely.
fn roughly(days: f64) -> String {
    let whole = |number: f64| number.round().max(1.0) as u64;
    match days {
        ..14.0 => count(whole(days), "day"),
        ..70.0 => count(whole(days / 7.0), "week"),
        ..700.0 => count(whole(days / 30.4), "month"),
        _ => "2 years or more".to_owned(),
    }
}

/// The number of days until the disk is full, at the pace of the last month; `None` if there is not enough data.
fn full_in(listing: &Listing, now: Timestamp, free: ByteLen) -> Option<f64> {
    let age = |image: &&Shelved| (now.as_second() - image.made_at.as_second()) as f64 / DAY;
    let recent: Vec<_> = listing.images.iter().filter(|image| age(image) < 31.0).collect();
    // The first image of a card contains everything; only later ones show the pace.
    let first = |image: &&&Shelved| {
        let older = listing.images.iter().filter(|one| one.card == image.card);
        older.map(|one| one.made_at).min() == Some(image.made_at)
    };
    let added: ByteLen = recent.iter().filter(|image| !first(image)).map(|image| image.own).sum();
    let days = recent.iter().map(age).fold(0.0, f64::max);
    let pace = added.get() as f64 / days;
    (recent.len() > 2 && days >= 1.0 && pace > 0.0).then(|| free.get() as f64 / pace)
}

fn row(image: &Shelved, status: Fate) -> Vec<String> {
    let checked = match (image.remarks.checked, image.remarks.whole) {
        (Some(_), Some(false)) => "damaged".to_owned(),
        (Some(at), _) => at.to_zoned(TimeZone::system()).strftime("%Y-%m-%d").to_string(),
        (None, _) => "never".to_owned(),
    };
    let stays = match status {
        Fate::Newest => "newest",
        Fate::Pinned => "pinned",
        Fate::LastChecked => "checked",
        Fate::Rule => "rule",
        Fate::Damaged => "damaged",
        Fate::Ahead => "future date",
        Fate::Goes => "no",
    };
    let name = image.path.file_name().unwrap_or_default();
    let mut what = vec![quoted(name.as_ref())];
    if !image.unreadable.is_zero() {
        what.push(format!("{} missing", size::short(image.unreadable)));
    }
    vec![
        time::date_and_time(image.made_at),
        size::short(image.own),
        checked,
        stays.to_owned(),
        what.join(" · "),
    ]
}

pub(super) fn image(image: &Shelved, status: Fate) -> json::ShelfImage {
    json::ShelfImage {
        image: json::path(&image.path),
        card: image.card_label.clone(),
        card_code: image.card.code(),
        made_at: image.made_at.to_string(),
        card_size: image.card_size.get(),
        image_bytes: image.len.get(),
        own_bytes: image.own.get(),
        unreadable_bytes: image.unreadable.get(),
        note: image.note.clone(),
        pinned: image.remarks.pinned,
        checked_at: image.remarks.checked.map(|at| at.to_string()),
        intact: image.remarks.whole,
        status: match status {
            Fate::Newest => json::ShelfStatus::Newest,
            Fate::Pinned => json::ShelfStatus::Pinned,
            Fate::LastChecked => json::ShelfStatus::LastChecked,
            Fate::Rule => json::ShelfStatus::Rule,
            Fate::Damaged => json::ShelfStatus::Damaged,
            Fate::Ahead => json::ShelfStatus::FutureDate,
            Fate::Goes => json::ShelfStatus::Remove,
        },
    }
}
