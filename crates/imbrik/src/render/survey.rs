//! The content of a card, as lines of text.

use super::{Out, Tone, listed, size, table};
use imbrik_core::{
    card::Card,
    layout::{Change, Part, Room, Survey},
    units::ByteLen,
};
use std::cmp::Ordering;

/// One line per partition: number, type, label, size, and mount point.
pub(crate) fn parts(survey: &Survey, card: Option<&Card>) -> Vec<String> {
    let mount_of = |part: &Part| {
        let mounted = card?.partitions.iter().find(|known| Some(known.number) == part.number)?;
        let at: Vec<_> = mounted.mounted_at.iter().map(|at| at.display().to_string()).collect();
        (!at.is_empty()).then(|| format!("mounted at {}", listed(&at)))
    };
    let rows = survey.parts.iter().map(|part| {
        vec![
            part.number.map_or("-".to_owned(), |number| number.to_string()),
            volume(part),
            part.volume.as_ref().and_then(|volume| volume.label.clone()).unwrap_or_default(),
            size::short(part.span.len()),
            mount_of(part).unwrap_or_default(),
        ]
    });
    table::rows(rows, &[0, 3])
}

/// As [`parts`], with the changes of volumes since `before` and the free space: "grows from 3.7 GB", "moves",
/// "1.2 GB free".
pub(crate) fn parts_and_changes(
    survey: &Survey,
    before: &Survey,
    changes: &[Change],
    rooms: &[Room],
) -> Vec<String> {
    // A partition may be longer than its volume: only a change tells that the volume is resized.
    let resized = |of: &Part| {
        changes.iter().find_map(|change| match change {
            Change::Resized { title, from, to, .. } if *title == of.full_title() => {
                match to.cmp(from) {
                    Ordering::Greater => Some(format!("grows from {}", size::short(*from))),
                    Ordering::Less => Some(format!("shrinks from {}", size::short(*from))),
                    Ordering::Equal => None,
                }
            }
            _ => None,
        })
    };
    let rows = survey.parts.iter().enumerate().map(|(index, part)| {
        let was = before.parts.get(index).filter(|was| was.number == part.number);
        let moves = was.filter(|was| was.span.start() != part.span.start());
        let change = resized(part).or_else(|| moves.map(|_| "moves".to_owned()));
        let room = rooms.iter().find(|room| room.title == part.full_title() && !room.is_tight);
        let free = room.map(|room| format!("{} free", size::short(room.free)));
        let note = [change, free].into_iter().flatten().collect::<Vec<_>>().join(", ");
        vec![
            part.number.map_or("-".to_owned(), |number| number.to_string()),
            volume(part),
            part.volume.as_ref().and_then(|volume| volume.label.clone()).unwrap_or_default(),
            size::short(part.span.len()),
            note,
        ]
    });
    table::rows(rows, &[0, 3])
}

/// Whose card it is, and which system is on it: "hive-07, Meadow Linux 3".
pub(crate) fn whose(survey: &Survey) -> Option<String> {
    let host = survey.host.as_ref()?;
    Some(survey.system.as_ref().map_or(host.clone(), |system| format!("{host}, {system}")))
}

/// "ext4", or the type in the table if the content is unknown.
pub(crate) fn volume(part: &Part) -> String {
    match (&part.volume, part.kind) {
        (Some(volume), _) => volume.kind.to_string(),
        (None, Some(kind)) => format!("unknown ({kind})"),
        (None, None) => "unknown".to_owned(),
    }
}

/// The content of a card without partitions.
pub(crate) fn nothing(survey: &Survey) -> &'static str {
    match (survey.is_blank, &survey.table) {
        _ if survey.whole_because.is_some() && survey.parts.is_empty() => {
            "the layout of an optical disc"
        }
        (true, _) => "blank",
        (false, Some(_)) => "an empty table",
        (false, None) => "no known content: no table, no volume",
    }
}

/// The space after the last partition, if it is worth a line.
pub(crate) fn behind(survey: &Survey) -> Option<String> {
    let last = survey.parts.iter().map(|part| part.span.end()).max()?;
    let rest = survey.size.saturating_sub(ByteLen::new(last.get()));
    (rest > ByteLen::mib(16)).then(|| format!("{} after the last partition", size::short(rest)))
}

/// The name people know the card by, and have to type: its host or label, or else its size.
pub(crate) fn name(survey: Option<&Survey>, card: &Card) -> String {
    let name = survey.and_then(Survey::name).map(str::to_owned);
    name.unwrap_or_else(|| size::short(card.size))
}

/// Warns about systems with hardly any free space.
pub(crate) fn tight(out: &Out, rooms: &[Room]) -> Vec<String> {
    let line = |room: &Room| {
        let free = match room.free.is_zero() {
            true => "no free space".to_owned(),
            false => format!("only {} free", size::short(room.free)),
        };
        format!(
            "{} {} has {free}: its system may not start; use a larger card, or `fit --room`",
            out.paint(Tone::Alarm, "!"),
            room.title
        )
    };
    rooms.iter().filter(|room| room.is_tight).map(line).collect()
}
