//! How things are shown.

pub(crate) mod cards;
pub(crate) mod change;
pub(crate) mod files;
mod harmless;
pub(crate) mod json;
pub(crate) mod layout;
pub(crate) mod lost;
pub(crate) mod map;
pub(crate) mod picture;
pub(crate) mod progress;
pub(crate) mod rates;
pub(crate) mod size;
pub(crate) mod start;
pub(crate) mod strip;
pub(crate) mod survey;
pub(crate) mod table;
pub(crate) mod time;
pub(crate) mod waiting;

use crate::failure::Failure;
pub(crate) use harmless::{harmless, is_plain, only_plain};
use std::{
    cell::{Cell, RefCell},
    io::{self, IsTerminal, Write},
    path::{Path, PathBuf},
};

/// How many bytes of rows are written at once.
const ROWS: usize = 64 << 10;

/// The outputs: text or JSON on standard output, notes and errors on standard error.
pub(crate) struct Out {
    json: bool,
    color: bool,
    is_verbose: bool,
    /// The folder given with `--rack`, which the next command needs as well.
    rack: Option<PathBuf>,
    /// True if standard output carries an image, so that text goes to standard error.
    is_given_away: Cell<bool>,
    failed: RefCell<Option<io::Error>>,
    /// The parts of a report that is printed as a single line.
    brief: RefCell<Option<Vec<String>>>,
}

/// The meaning of a text, shown in colour if possible.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Tone {
    /// A heading.
    Strong,
    /// All is well.
    Good,
    /// A warning or an error.
    Alarm,
}

impl Out {
    pub(crate) fn new(json: bool, color: bool) -> Self {
        Self {
            json,
            color,
            is_verbose: false,
            rack: None,
            is_given_away: Cell::new(false),
            failed: RefCell::new(None),
            brief: RefCell::new(None),
        }
    }

    /// The same for a command that prints details, and that was given a folder with `--rack`.
    pub(crate) fn with(self, is_verbose: bool, rack: Option<PathBuf>) -> Self {
        Self { is_verbose, rack, ..self }
    }

    /// Returns whether details are printed, too.
    pub(crate) fn is_verbose(&self) -> bool {
        self.is_verbose
    }

    /// From then on, prints only warnings, errors, and what [`Out::in_brief`] collects: one line in total. JSON output
    /// is unchanged.
    pub(crate) fn be_brief(&self) {
        self.brief.borrow_mut().get_or_insert_default();
    }

    pub(crate) fn is_brief(&self) -> bool {
        self.brief.borrow().is_some()
    }

    /// Part of the final line, if it is printed.
    pub(crate) fn in_brief(&self, part: String) {
        if let Some(parts) = &mut *self.brief.borrow_mut() {
            parts.push(part);
        }
    }

    /// Prints the line.
    pub(crate) fn tell_in_brief(&self) {
        let parts = self.brief.take().unwrap_or_default();
        if !parts.is_empty() && !self.json {
            self.verbatim(&parts.join("; "));
        }
    }

    /// Text of the result that is for other programs: its lines are neither broken nor shortened.
    pub(crate) fn verbatim(&self, text: &str) {
        let mut rows = self.rows();
        for line in text.lines() {
            rows.push(line);
        }
    }

    pub(crate) fn is_json(&self) -> bool {
        self.json
    }

    /// Prints a line of the result. A closed output pipe is not an error; a full disk is.
    pub(crate) fn line(&self, text: &str) {
        if self.is_brief() && !self.json {
            return;
        }
        if self.is_given_away.get() {
            return self.note(text);
        }
        let done = match self.json {
            true => writeln!(io::stdout().lock(), "{}", harmless::json(text)),
            false => {
                let lines = layout::laid_out(text, layout::width(io::stdout()));
                written(io::stdout().lock(), &lines)
            }
        };
        if let Err(error) = done
            && error.kind() != io::ErrorKind::BrokenPipe
        {
            self.failed.borrow_mut().get_or_insert(error);
        }
    }

    /// Prints lines of the result without wrapping: a table of any width.
    pub(crate) fn rows(&self) -> Rows<'_> {
        Rows { out: self, buffer: String::new(), is_over: false }
    }

    /// The end of a command that was only to show its plan.
    pub(crate) fn only_planned(&self) {
        if !self.json {
            self.line("Nothing was written. Run it without --plan to do it.");
        }
    }

    /// Reserves standard output for an image: from then on, all text goes to standard error.
    pub(crate) fn give_away(&self) {
        self.is_given_away.set(true);
    }

    /// Prints the next command.
    pub(crate) fn next(&self, command: &str) {
        self.command("Next      ", command);
    }

    /// Prints a command for pasting, after `head`.
    pub(crate) fn command(&self, head: &str, command: &str) {
        layout::command(head, command, self.width()).iter().for_each(|line| self.line(line));
    }

    /// A command of this program with the folder of simulated cards that it needs.
    pub(crate) fn with_rack(&self, command: &str) -> String {
        match &self.rack {
            Some(rack) => format!("{command} --rack {}", quoted(rack)),
            None => command.to_owned(),
        }
    }

    /// `path` for a command in the current folder: absolute for programs, relative for people.
    pub(crate) fn pasted(&self, path: &Path) -> String {
        let here = std::path::absolute(".").ok().filter(|_| !self.json);
        let near = here.and_then(|here| path.strip_prefix(here).ok().map(Path::to_owned));
        // A name that begins with a hyphen would be taken for an option.
        let near = near.filter(|near| !near.as_os_str().as_encoded_bytes().starts_with(b"-"));
        quoted(near.as_deref().filter(|near| !near.as_os_str().is_empty()).unwrap_or(path))
    }

    /// How many columns a line of the result has.
    pub(crate) fn width(&self) -> usize {
        match self.is_given_away.get() {
            true => layout::width(io::stderr()),
            false => layout::width(io::stdout()),
        }
    }

    /// A line that is not part of the result.
    pub(crate) fn note(&self, text: &str) {
        if !self.is_brief() {
            note(text);
        }
    }

    /// A line that should not be overlooked.
    pub(crate) fn warn(&self, text: &str) {
        tracing::warn!("{text}");
        let mark = paint(Tone::Alarm, "Note:", self.color && io::stderr().is_terminal());
        note(&format!("{mark} {text}"));
    }

    /// `text` in `tone`, on a terminal that shows colours.
    pub(crate) fn paint(&self, tone: Tone, text: &str) -> String {
        paint(tone, text, self.color && io::stdout().is_terminal())
    }

    /// Says why a command failed.
    pub(crate) fn failure(&self, command: &str, failure: &Failure) {
        self.failure_as(&json::failure(command, failure), failure);
    }

    /// The same, with the JSON object.
    pub(crate) fn failure_as(&self, object: &serde_json::Value, failure: &Failure) {
        let Failure { what, state, next, .. } = failure;
        tracing::error!(%state, %next, "{what}");
        if self.json {
            self.line(&object.to_string());
        }
        let mark = paint(Tone::Alarm, "imbrik:", self.color && io::stderr().is_terminal());
        let stop = if failure.what.ends_with('?') { "" } else { "." };
        note(&format!("{mark} {}{stop}", failure.what));
        for line in [&failure.state, &failure.next] {
            if !line.is_empty() {
                note(&format!("  {line}"));
            }
        }
    }

    /// The first failure of standard output, if any.
    pub(crate) fn broken(&self) -> Option<io::Error> {
        let flushed = io::stdout().lock().flush().err();
        self.failed.take().or(flushed).filter(|e| e.kind() != io::ErrorKind::BrokenPipe)
    }
}

/// Rows of a long table, on their way.
pub(crate) struct Rows<'a> {
    out: &'a Out,
    buffer: String,
    is_over: bool,
}

impl Rows<'_> {
    /// Adds a row; returns whether the output is still open.
    pub(crate) fn push(&mut self, row: &str) -> bool {
        match self.out.json {
            true => self.buffer.push_str(&harmless::json(row)),
            false => self.buffer.push_str(&harmless::terminal(row)),
        }
        self.buffer.push('\n');
        if self.buffer.len() >= ROWS {
            self.flush();
        }
        !self.is_over
    }

    fn flush(&mut self) {
        let done = io::stdout().lock().write_all(self.buffer.as_bytes());
        self.buffer.clear();
        if let Err(error) = done {
            self.is_over = true;
            if error.kind() != io::ErrorKind::BrokenPipe {
                self.out.failed.borrow_mut().get_or_insert(error);
            }
        }
    }
}

impl Drop for Rows<'_> {
    fn drop(&mut self) {
        self.flush();
    }
}

/// A line on standard error, laid out. A terminal that went away is often the reason for it.
pub(crate) fn note(text: &str) {
    let _ = written(io::stderr().lock(), &layout::laid_out(text, layout::width(io::stderr())));
}

fn written(mut to: impl Write, lines: &[String]) -> io::Result<()> {
    lines.iter().try_for_each(|line| writeln!(to, "{}", harmless::terminal(line)))
}

fn paint(tone: Tone, text: &str, color: bool) -> String {
    if color { harmless::marked(tone, text) } else { text.to_owned() }
}

/// A path for pasting into a shell: quoted if it contains special characters.
pub(crate) fn quoted(path: &Path) -> String {
    let text = path.to_string_lossy();
    let plain = |c: char| c.is_ascii_alphanumeric() || "/._-+:@%,=".contains(c);
    if !text.is_empty() && path.to_str().is_some() && text.chars().all(plain) {
        return text.into_owned();
    }
    if path.to_str().is_some() && !text.chars().any(char::is_control) {
        return format!("'{}'", text.replace('\'', r"'\''"));
    }
    let bytes = std::os::unix::ffi::OsStrExt::as_bytes(path.as_os_str());
    let escaped: String = bytes
        .iter()
        .map(|byte| match byte {
            b'\'' | b'\\' => format!("\\{}", char::from(*byte)),
            b' '..=b'~' => char::from(*byte).to_string(),
            other => format!("\\x{other:02x}"),
        })
        .collect();
    format!("$'{escaped}'")
}

/// "a", "a and b", "a, b and c".
pub(crate) fn listed(names: &[String]) -> String {
    match names {
        [] => String::new(),
        [one] => one.clone(),
        [others @ .., last] => format!("{} and {last}", others.join(", ")),
    }
}

/// "1 tile", "3 tiles".
pub(crate) fn count(number: u64, what: &str) -> String {
    format!("{number} {what}{}", if number == 1 { "" } else { "s" })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::{ffi::OsStr, os::unix::ffi::OsStrExt};

    #[test]
    fn lists_of_names_end_with_and() {
        let of =
            |names: &[&str]| listed(&names.iter().map(|name| (*name).into()).collect::<Vec<_>>());
        assert_eq!(of(&[]), "");
        assert_eq!(of(&["rack:a", "rack:b"]), "rack:a and rack:b");
        assert_eq!(of(&["rack:a", "rack:b", "rack:c"]), "rack:a, rack:b and rack:c");
    }

    #[test]
    fn quoted_path_can_be_pasted() {
        let of = |bytes: &[u8]| quoted(Path::new(OsStr::from_bytes(bytes)));
        assert_eq!(of(b"/a/hive-07.img.zst"), "/a/hive-07.img.zst");
        assert_eq!(of(b"two words"), "'two words'");
        assert_eq!(of(b"bee's"), r"'bee'\''s'");
        assert_eq!(of(b"\xff\n'"), r"$'\xff\x0a\''");
        assert_eq!(of(b""), "''");
        assert_eq!(of("Bienenstöcke".as_bytes()), "'Bienenstöcke'");
    }
}
