//! References of boot files on a card, as text.

use super::{Out, Tone, count};
use imbrik_core::layout::Reference;

/// Prints whether all references of boot files exist, after `head`; nothing if there are none.
pub(crate) fn start_lines(out: &Out, head: &str, references: &[Reference]) -> Vec<String> {
    let missing: Vec<_> = references.iter().filter(|reference| !reference.is_found).collect();
    // The noun is printed once.
    let all = count(references.len() as u64, "reference");
    let verdict = match missing.len() {
        _ if references.is_empty() => return Vec::new(),
        0 => format!("{all} to devices and files, all found, in {}", sources(references)),
        1 => format!("1 of {all} to devices and files is broken"),
        more => format!("{more} of {all} to devices and files are broken"),
    };
    let mut lines = vec![format!("{head}{verdict}")];
    lines.extend(missing.iter().map(|reference| {
        format!("  {} {} in {}", out.paint(Tone::Alarm, "!"), reference.what, reference.from)
    }));
    lines
}

/// The files that name what a start needs, each once: "cmdline.txt, etc/fstab".
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
