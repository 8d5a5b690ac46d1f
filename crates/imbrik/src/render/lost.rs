//! The lost files of a card or an image with unreadable ranges.

use super::{count, json, quoted, size};
use imbrik_core::layout::{Lost, LostWhat};
use std::{ffi::OsStr, os::unix::ffi::OsStrExt, path::Path};

/// How many are named one by one.
const TOLD: usize = 20;

fn name(path: &[u8]) -> &Path {
    Path::new(OsStr::from_bytes(path))
}

/// A line for each, those beyond the first 20 counted.
pub(crate) fn lines(lost: &[Lost]) -> Vec<String> {
    let mut lines: Vec<String> = lost.iter().take(TOLD).map(line).collect();
    if let Some(more @ 1..) = lost.len().checked_sub(TOLD) {
        lines.push(format!("and {} more: --json lists all", count(more as u64, "file or folder")));
    }
    lines
}

fn line(lost: &Lost) -> String {
    let what = match &lost.what {
        LostWhat::OfFile { path, len, size: all } => {
            let all = size::short(*all);
            format!("{} of {all} of {}", size::short(*len), quoted(name(path)))
        }
        LostWhat::OfFolder { path, len } => format!(
            "{} of the entries of the folder {}: more files in it may be lost",
            size::short(*len),
            quoted(name(path))
        ),
        LostWhat::Whole { path } => {
            format!("{}: its metadata are lost", quoted(name(path)))
        }
        LostWhat::Elsewhere { len } => match lost.part {
            Some(_) => {
                format!("{} of its metadata, or of no known file", size::short(*len))
            }
            None => format!("{} between partitions", size::short(*len)),
        },
        _ => "something else".to_owned(),
    };
    match &lost.part {
        Some(part) => format!("{part}: {what}"),
        None => what,
    }
}

/// All of them as JSON.
pub(crate) fn for_programs(lost: &[Lost]) -> Vec<json::Lost> {
    let one = |lost: &Lost| {
        let text = |path: &[u8]| Some(name(path).to_string_lossy().into_owned());
        let (what, path, bytes, of) = match &lost.what {
            LostWhat::OfFile { path, len, size } => {
                (json::LostWhat::File, text(path), Some(len.get()), Some(size.get()))
            }
            LostWhat::OfFolder { path, len } => {
                (json::LostWhat::Folder, text(path), Some(len.get()), None)
            }
            LostWhat::Whole { path } => (json::LostWhat::All, text(path), None, None),
            LostWhat::Elsewhere { len } => (json::LostWhat::Elsewhere, None, Some(len.get()), None),
            _ => (json::LostWhat::Elsewhere, None, None, None),
        };
        json::Lost { part: lost.part.clone(), what, path, lost_bytes: bytes, size_bytes: of }
    };
    lost.iter().map(one).collect()
}
