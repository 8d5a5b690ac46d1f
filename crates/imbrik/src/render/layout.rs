//! Wraps text at the available width, between words, with a hanging indent.

use super::harmless::is_mark;
use rustix::{fd::AsFd, termios::tcgetwinsize};
use std::io::IsTerminal;
use unicode_width::UnicodeWidthChar;

/// The width without a terminal.
const USUAL: usize = 80;
/// Less is taken for this: a terminal may say that it has no columns at all.
const LEAST: usize = 20;
/// The maximum hanging indent after a heading.
const FURTHEST: usize = 18;

/// How many columns `stream` has.
pub(crate) fn width(stream: impl AsFd + IsTerminal) -> usize {
    let size = stream.is_terminal().then(|| tcgetwinsize(&stream).ok()).flatten();
    size.map(|size| usize::from(size.ws_col)).filter(|columns| *columns > 0).unwrap_or(USUAL)
}

/// How many columns `text` takes.
pub(crate) fn columns(text: &str) -> usize {
    text.chars().map(column).sum()
}

fn column(c: char) -> usize {
    if is_mark(c) { 0 } else { c.width().unwrap_or(0) }
}

/// `text`, one line, as lines of at most `width` columns.
pub(crate) fn laid_out(text: &str, width: usize) -> Vec<String> {
    let width = width.max(LEAST);
    if columns(text) <= width {
        return vec![text.to_owned()];
    }
    let hang = hang(text, width);
    let mut lines = Vec::new();
    let mut line = String::new();
    let mut used = 0usize;
    for (blanks, word) in words(text) {
        let len = columns(word);
        let is_start = line.trim_start().is_empty();
        let fits_below = len <= width.saturating_sub(hang);
        if !is_start && fits_below && used.saturating_add(blanks).saturating_add(len) > width {
            lines.push(line.trim_end().to_owned());
            line = " ".repeat(hang);
            used = hang;
        } else {
            line += &" ".repeat(blanks);
            used = used.saturating_add(blanks);
        }
        // A word that is longer than a line, such as a hash on a narrow terminal, is broken.
        for c in word.chars() {
            if used.saturating_add(column(c)) > width {
                lines.push(line.trim_end().to_owned());
                line = " ".repeat(hang);
                used = hang;
            }
            line.push(c);
            used = used.saturating_add(column(c));
        }
    }
    lines.push(line);
    lines
}

/// Wraps a command line after `head` so that it can still be pasted.
pub(crate) fn command(head: &str, command: &str, width: usize) -> Vec<String> {
    let whole = format!("{head}{command}");
    let mut lines = laid_out(&whole, width);
    if lines.len() > 1 {
        lines = laid_out(&whole, width.max(LEAST).saturating_sub(2));
        let last = lines.len().saturating_sub(1);
        lines.iter_mut().take(last).for_each(|line| *line += " \\");
    }
    lines
}

/// The words, each with the number of spaces before it.
fn words(text: &str) -> impl Iterator<Item = (usize, &str)> {
    let mut rest = text;
    std::iter::from_fn(move || {
        let word = rest.trim_start_matches(' ');
        let blanks = rest.len().saturating_sub(word.len());
        let end = word.find(' ').unwrap_or(word.len());
        let (word, behind) = word.split_at(end);
        rest = behind;
        (!word.is_empty()).then_some((blanks, word))
    })
}

/// The hanging indent: the start of the text after a heading, which ends with a colon or two spaces, or else a little
/// more than the line's own indent.
fn hang(text: &str, width: usize) -> usize {
    let indent = text.len().saturating_sub(text.trim_start_matches(' ').len());
    let mut at = 0usize;
    for (index, (blanks, word)) in words(text).enumerate() {
        at = at.saturating_add(blanks);
        if index > 0 && blanks >= 2 {
            if at <= FURTHEST && at < width / 2 {
                return at;
            }
            break;
        }
        at = at.saturating_add(columns(word));
    }
    indent.saturating_add(2).min(width / 2)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn lines_wrap_between_words_with_a_hanging_indent() {
        let text = "Image     /home/keeper/cards/hive-07.img.zst, which is new";
        assert_eq!(
            laid_out(text, 40),
            ["Image     /home/keeper/cards/hive-07.img", "          .zst, which is new"]
        );
        assert_eq!(
            laid_out("  ! 1 of 3 references leads nowhere", 24),
            ["  ! 1 of 3 references", "    leads nowhere"]
        );
        assert_eq!(laid_out("short", 40), ["short"]);
    }

    #[test]
    fn wrapped_command_can_be_pasted() {
        let lines = command("Next      ", "imbrik restore /a/hive-07.img.zst CARD", 40);
        assert_eq!(lines, ["Next      imbrik restore \\", "          /a/hive-07.img.zst CARD"]);
    }

    proptest! {
        #[test]
        fn wrapping_respects_the_width_and_keeps_every_character(
            text in "[a-z ä🐝]{0,200}",
            width in 20usize..130,
        ) {
            let lines = laid_out(&text, width);
            for line in &lines {
                prop_assert!(columns(line) <= width, "{line:?}");
            }
            let letters = |text: &str| text.chars().filter(|c| *c != ' ').collect::<String>();
            prop_assert_eq!(letters(&lines.concat()), letters(&text));
        }
    }
}
