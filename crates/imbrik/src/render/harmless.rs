//! Text as a terminal may have it.
//!
//! Labels, notes, models and paths are foreign text: they must not move the cursor, change colours, or reverse the
//! direction of the text. All output is escaped here.

use super::Tone;
use std::{
    borrow::Cow,
    fmt::Write,
    sync::atomic::{AtomicBool, Ordering},
};

/// The start and the end of a tone: characters without a meaning.
const MARKS: [(char, &str); 4] = [
    ('\u{fdd0}', "\u{1b}[1m"),
    ('\u{fdd1}', "\u{1b}[32m"),
    ('\u{fdd2}', "\u{1b}[33m"),
    (END, PLAIN),
];
/// Returns whether a character only marks where a tone starts or ends, and takes no room.
pub(super) fn is_mark(c: char) -> bool {
    MARKS.iter().any(|(mark, _)| *mark == c)
}

const END: char = '\u{fdd3}';
const PLAIN: &str = "\u{1b}[0m";

/// `text` in `tone`, for [`terminal`] to colour.
pub(super) fn marked(tone: Tone, text: &str) -> String {
    let mark = match tone {
        Tone::Strong => '\u{fdd0}',
        Tone::Good => '\u{fdd1}',
        Tone::Alarm => '\u{fdd2}',
    };
    format!("{mark}{text}{END}")
}

/// Returns whether a character changes how others are shown: controls, and marks of direction.
fn is_harmful(c: char) -> bool {
    c.is_control()
        || matches!(
            c,
            '\u{61c}'
                | '\u{200e}'
                | '\u{200f}'
                | '\u{2028}'..='\u{202e}'
                | '\u{2066}'..='\u{2069}'
                | '\u{feff}'
        )
}

fn escaped(text: &str, put: impl Fn(&mut String, char)) -> Cow<'_, str> {
    if !text.chars().any(is_harmful) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 8);
    for c in text.chars() {
        if is_harmful(c) { put(&mut out, c) } else { out.push(c) }
    }
    Cow::Owned(out)
}

/// ASCII replacements for drawing characters.
const PLAINER: [(char, &str); 20] = [
    ('·', "-"),
    ('…', "..."),
    ('━', "="),
    ('─', "-"),
    ('╸', ">"),
    ('┳', "+"),
    ('┗', "+"),
    ('┛', "+"),
    ('┃', "|"),
    ('▁', "."),
    ('▂', "."),
    ('▃', ":"),
    ('▄', ":"),
    ('▅', ":"),
    ('▆', "#"),
    ('▇', "#"),
    ('█', "#"),
    ('×', "x"),
    ('→', ">"),
    ('–', "-"),
];

/// True if only ASCII is shown, because the terminal is not known to support more.
static IS_PLAIN: AtomicBool = AtomicBool::new(false);

/// From now on, only ASCII is shown.
pub(crate) fn only_plain() {
    IS_PLAIN.store(true, Ordering::Relaxed);
}

/// Returns whether only ASCII is shown.
pub(crate) fn is_plain() -> bool {
    IS_PLAIN.load(Ordering::Relaxed)
}

/// `text` in ASCII: our own symbols replaced by similar characters, others escaped.
fn plainer(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match PLAINER.iter().find(|(sign, _)| *sign == c) {
            Some((_, plain)) => out += plain,
            None if c.is_ascii() || is_mark(c) => out.push(c),
            None => out += &format!("\\u{{{:x}}}", u32::from(c)),
        }
    }
    out
}

/// Escapes harmful characters of `text`.
pub(crate) fn harmless(text: &str) -> Cow<'_, str> {
    if is_plain() && !text.is_ascii() {
        return Cow::Owned(escaped(&plainer(text), written_out).into_owned());
    }
    escaped(text, written_out)
}

fn written_out(out: &mut String, c: char) {
    let _ = match u32::from(c) {
        code @ ..0x100 => write!(out, "\\x{code:02x}"),
        code => write!(out, "\\u{{{code:x}}}"),
    };
}
/// A line for a terminal: harmless, with tones as colours.
pub(super) fn terminal(text: &str) -> Cow<'_, str> {
    let text = harmless(text);
    if !text.contains(MARKS.map(|(mark, _)| mark)) {
        return text;
    }
    let coloured =
        MARKS.iter().fold(text.into_owned(), |text, (mark, code)| text.replace(*mark, code));
    Cow::Owned(coloured + PLAIN)
}

/// Escapes harmful characters in a line of JSON, which are in strings.
pub(super) fn json(text: &str) -> Cow<'_, str> {
    escaped(text, |out, c| {
        let _ = write!(out, "\\u{:04x}", u32::from(c));
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn control_characters_are_escaped() {
        let evil = "hive\u{1b}[2J\u{202e}70\r\n\u{9b}31m Bienenstöcke 🐝";
        let shown = r"hive\x1b[2J\u{202e}70\x0d\x0a\x9b31m Bienenstöcke 🐝";
        assert_eq!(harmless(evil), shown);
        assert!(matches!(harmless("hive-07 → Bienenstöcke"), Cow::Borrowed(_)));
        let value = serde_json::json!({ "label": evil });
        let line = value.to_string();
        let line = json(&line);
        assert!(!line.chars().any(is_harmful), "{line}");
        assert_eq!(serde_json::from_str::<serde_json::Value>(&line).unwrap(), value);
    }

    #[test]
    fn ascii_output_contains_only_ascii() {
        assert_eq!(
            plainer("hive-07 · 4 GB ━━┳ Bienenstöcke"),
            r"hive-07 - 4 GB ==+ Bienenst\u{f6}cke"
        );
    }

    #[test]
    fn colours_are_reset_at_the_end_of_the_line() {
        let text = format!("{} hive\u{1b}[31m", marked(Tone::Alarm, "Note:"));
        assert_eq!(terminal(&text), "\u{1b}[33mNote:\u{1b}[0m hive\\x1b[31m\u{1b}[0m");
        // A foreign mark has no effect beyond its line.
        assert!(terminal("x\u{fdd0}y").ends_with(PLAIN));
    }
}
