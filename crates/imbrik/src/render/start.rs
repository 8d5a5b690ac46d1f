//! References of boot files on a card, as text.

use super::{Out, Tone};
use imbrik_core::layout::Reference;

/// Counts the references of boot files to devices and files that exist, after `head`; nothing without references.
pub(crate) fn start_lines(out: &Out, head: &str, references: &[Reference]) -> Vec<String> {
    let missing: Vec<_> = references.iter().filter(|reference| !reference.is_found).collect();
    let all = references.len();
    let verdict = match missing.len() {
        _ if references.is_empty() => return Vec::new(),
        0 => format!("{all} of {all} found, in {}", sources(references)),
        more => format!("{more} of {all} not found"),
    };
    let mut lines = vec![format!("{head}{verdict}")];
    lines.extend(missing.iter().map(|reference| {
        format!("  {} {} in {}", out.paint(Tone::Alarm, "!"), reference.what, reference.from)
    }));
    lines
}

/// The files with references, each once: "cmdline.txt, etc/fstab".
fn sources(references: &[Reference]) -> String {
    let mut files: Vec<&str> = Vec::new();
    for reference in references {
        let file = reference.from.split(" on ").next().unwrap_or_default();
        if !files.contains(&file) {
            files.push(file);
        }
    }
    match files.as_slice() {
        [first, second, third, rest @ ..] if !rest.is_empty() => {
            format!("{first}, {second}, {third} and {} more", rest.len())
        }
        files => files.join(", "),
    }
}
