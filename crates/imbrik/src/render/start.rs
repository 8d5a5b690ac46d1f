//! Will it start? What the files on a card refer to, in words.

use super::{Out, Tone, count};
use imbrik_core::layout::Reference;

/// Returns whether all that the system needs to start is where its files say, behind `head`; nothing when
/// its files say nothing.
pub(crate) fn start_lines(out: &Out, head: &str, references: &[Reference]) -> Vec<String> {
    let missing: Vec<_> = references.iter().filter(|reference| !reference.is_found).collect();
    // What a reference is, is told with the first word on them.
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
