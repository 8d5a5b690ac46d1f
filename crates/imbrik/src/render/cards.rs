//! Which card is which.

use super::{Out, Tone, count, listed, size, survey, table};
use crate::recognised::Recognised;
use imbrik_core::{
    card::{Bus, Card, Standing, standing},
    layout::Survey,
};
use std::collections::BTreeMap;

/// A card, and its survey if it was readable.
pub(crate) struct Seen {
    pub(crate) card: Card,
    pub(crate) survey: Result<Survey, imbrik_core::Error>,
    /// Its images on the shelf.
    pub(crate) shelved: Option<Recognised>,
}

/// Returns whether a device is shown as a card; the others are disks, of which only the reason is shown why
/// they cannot be a target.
pub(crate) fn is_card(card: &Card) -> bool {
    matches!(standing(card, false), Standing::Ready | Standing::Mounted(_))
        || card.read_only && (card.removable || card.bus == Bus::Rack)
}

/// Shows cards first, then the disks that can't be a target, then a hint if no card is connected.
pub(crate) fn show(out: &Out, cards: &[Seen], disks: &[Card], empty_slots: usize) {
    let mut first = true;
    let mut gap = || {
        if !std::mem::take(&mut first) {
            out.line("");
        }
    };
    for seen in cards {
        gap();
        card(out, seen);
    }
    if cards.is_empty() {
        gap();
        out.line("No card is connected.");
        out.line("Insert one and run this again, or wait for it with `imbrik cards --watch`.");
        out.line("If a card does not appear, push it in firmly, or try another reader or port.");
    }
    if !disks.is_empty() {
        gap();
        out.line(&out.paint(Tone::Strong, "Protected disks"));
        let rows = disks.iter().map(|disk| {
            vec![
                disk.path.display().to_string(),
                size::both(disk.size),
                disk.bus.to_string(),
                why_not(disk),
            ]
        });
        for line in table::rows(rows, &[]) {
            out.line(&line);
        }
    }
    if empty_slots > 0 {
        gap();
        let are = if empty_slots == 1 { "is" } else { "are" };
        out.line(&format!("{} {are} empty.", count(empty_slots as u64, "reader slot")));
    }
    for note in notes(cards) {
        out.warn(&note);
    }
}

/// A card with its partitions.
pub(crate) fn card(out: &Out, seen: &Seen) {
    let card = &seen.card;
    let facts = [
        Some(size::both(card.size)),
        card.model.clone(),
        (card.bus != Bus::Rack).then(|| card.bus.to_string()),
        (card.id != card.path.to_string_lossy()).then(|| format!("id {}", card.id)),
    ];
    let facts: Vec<_> = facts.into_iter().flatten().collect();
    let name = out.paint(Tone::Strong, &card.path.display().to_string());
    out.line(&format!("{name}  {}", facts.join(" · ")));
    if let Some(whose) = seen.survey.as_ref().ok().and_then(survey::whose) {
        out.line(&format!("  {whose}"));
    }
    if let Some(known) = &seen.shelved {
        out.line(&format!("  on the shelf: {}", known.words("")));
    }
    match &seen.survey {
        Ok(found) if found.parts.is_empty() => out.line(&format!("  {}", survey::nothing(found))),
        Ok(found) => survey::parts(found, Some(card)).iter().for_each(|line| out.line(line)),
        Err(_) => known_to_the_system(card).iter().for_each(|line| out.line(line)),
    }
    if let Ok(found) = &seen.survey {
        for finding in &found.findings {
            out.line(&format!("  {} {finding}", out.paint(Tone::Alarm, "!")));
        }
    }
    if card.read_only {
        out.line(match card.bus {
            Bus::Usb(_) | Bus::SdSlot => {
                "  write-protected: slide the lock on the adapter to write to it"
            }
            _ => "  write-protected",
        });
    }
    let elsewhere = card.partitions.is_empty() || seen.survey.is_err();
    if elsewhere && !card.mounts().is_empty() && seen.survey.is_ok() {
        let at: Vec<_> = card.mounts().iter().map(|at| at.display().to_string()).collect();
        out.line(&format!("  mounted at {}", listed(&at)));
    }
    if !card.boot_areas.is_empty() {
        out.line(&format!("  with separate boot areas: {}", card.boot_areas.join(", ")));
    }
}

/// The device database's data about a card that may not be read.
fn known_to_the_system(card: &Card) -> Vec<String> {
    let rows = card.partitions.iter().map(|part| {
        let at: Vec<_> = part.mounted_at.iter().map(|at| at.display().to_string()).collect();
        vec![
            part.number.to_string(),
            part.filesystem.clone().unwrap_or_else(|| "?".to_owned()),
            part.label.clone().unwrap_or_default(),
            size::short(part.span.len()),
            if at.is_empty() { String::new() } else { format!("mounted at {}", listed(&at)) },
        ]
    });
    table::rows(rows, &[0, 3])
}

fn why_not(card: &Card) -> String {
    let file = match &card.bus {
        Bus::Loop(file) => format!(" ({})", file.display()),
        _ => String::new(),
    };
    match standing(card, false) {
        // The kind of device precedes it.
        Standing::Fixed(_) if !file.is_empty() => {
            format!("a loop device{file}: only with --allow-fixed")
        }
        Standing::Fixed(why) => format!("{why}{file}: only with --allow-fixed"),
        Standing::Refused(reason) => reason.to_string(),
        Standing::Ready | Standing::Mounted(_) => String::new(),
    }
}

/// Important notes: equal ids, and what root could see.
fn notes(cards: &[Seen]) -> Vec<String> {
    let mut notes = Vec::new();
    let mut holders: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for seen in cards {
        for id in seen.survey.iter().flat_map(Survey::ids) {
            holders.entry(id).or_default().push(seen.card.path.display().to_string());
        }
    }
    let mut groups: Vec<_> = holders.into_values().filter(|cards| cards.len() > 1).collect();
    groups.sort();
    groups.dedup();
    for cards in groups {
        notes.push(format!(
            "{} have the same ids, as copies do: use only one of them at a time on one machine.",
            listed(&cards)
        ));
    }
    let closed = cards.iter().filter(|seen| seen.survey.is_err()).count();
    if closed > 0 {
        notes.push(format!(
            "{} could not be read; run with sudo to see its content.",
            count(closed as u64, "card")
        ));
    }
    notes
}
