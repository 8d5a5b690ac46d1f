//! The changes of a plan, as text.

use super::{Out, count, listed, size};
use imbrik_core::{layout::Change, units::ByteLen};

/// The maximum number of listed faults.
const TOLD: usize = 5;

/// The changes of a plan without sizes, which are shown with the partitions: one line for all new ids, and one for all
/// files that are changed for the same reason.
fn lines(changes: &[Change]) -> Vec<String> {
    let groups = changes.chunk_by(|one, other| match (one, other) {
        (Change::NewId { .. }, Change::NewId { .. }) => true,
        (Change::Put { title, why, .. }, Change::Put { title: other, why: also, .. }) => {
            title == other && why == also
        }
        _ => false,
    });
    groups.filter_map(line).collect()
}

/// The same, or with details each change in a line.
pub(crate) fn shown(out: &Out, changes: &[Change]) -> Vec<String> {
    match out.is_verbose() {
        true => changes.iter().map(words).collect(),
        false => lines(changes),
    }
}

/// Changes of one kind, in one line.
fn line(group: &[Change]) -> Option<String> {
    let names = || {
        let names = group.iter().filter_map(|change| match change {
            Change::NewId { title, .. } => Some(title.clone()),
            Change::Put { path, .. } => Some(format!("/{path}")),
            _ => None,
        });
        listed(&names.collect::<Vec<_>>())
    };
    match group.first()? {
        Change::GptMoved | Change::TailCleared(_) | Change::Spilled(_) | Change::Resized { .. } => {
            None
        }
        Change::NewId { .. } => Some(format!("new ids: {}", names())),
        Change::Put { title, why, .. } => Some(format!("{} on {title}: {why}", names())),
        other => Some(words(other)),
    }
}

/// One change, without a full stop.
pub(crate) fn words(change: &Change) -> String {
    match change {
        Change::GptMoved => "the backup GPT moves to the end of this card".to_owned(),
        Change::TailUnused(len) => format!("the last {} are left unchanged", size::short(*len)),
        Change::TailCleared(len) => {
            format!("{} at the end of the card are cleared of old headers", size::short(*len))
        }
        Change::TailCut(len) => {
            format!("{} after the last partition do not fit and are left out", size::both(*len))
        }
        Change::Resized { title, from, to, moved, inodes, why } => {
            let (before, after) = (size::short(*from), size::short(*to));
            let mut words = match to < from {
                // Nobody wants to read that it grows from 9.5 MB to 9.5 MB.
                _ if before == after => format!("{title} stays at {after}"),
                true => format!("{title} shrinks from {before} to {after}"),
                false => format!("{title} grows from {before} to {after}"),
            };
            if !why.is_empty() {
                words += &format!(": {why}");
            }
            if !moved.is_zero() {
                words += &format!("; {} of it move", size::short(*moved));
            }
            if *inodes > 0 {
                let what = count(*inodes, "file");
                words +=
                    &format!(", {what} get{} a new inode", if *inodes == 1 { "s" } else { "" });
            }
            words
        }
        Change::Warning(what) => what.to_string(),
        Change::FaultsKept { title, faults } => {
            let some = faults.iter().take(TOLD).cloned().collect::<Vec<_>>().join("; ");
            let more = match faults.len().saturating_sub(TOLD) {
                0 => String::new(),
                more => format!("; and {more} more"),
            };
            format!("{title} has faults, which are kept unchanged: {some}{more}")
        }
        Change::Spilled(len) => {
            format!("{} of metadata are kept in a temporary file meanwhile", size::short(*len))
        }
        Change::NewId { title, from, to } => format!("{title} gets the id {to}, was {from}"),
        Change::Put { title, path, why } => format!("/{path} on {title}: {why}"),
        Change::PutTree { title, path, files, bytes, why } => {
            let all = count(*files, "file");
            format!("/{path} on {title}, {all} of {}: {why}", size::short(*bytes))
        }
        Change::JournalReplayed { title } => {
            format!("{title} was not unmounted: its journal is replayed first")
        }
        Change::Removed { title, path } => format!("/{path} on {title}: left out"),
        Change::Renamed { title, path, to } => {
            format!("/{path} on {title}: renamed to /{to}")
        }
        Change::Shifted { title, to } => {
            let to = size::short(ByteLen::new(to.get()));
            format!("{title} moves unchanged and starts at {to}")
        }
    }
}
