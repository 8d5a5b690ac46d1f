//! The identity of each copy, from the command line.

use crate::{
    args::{self, IdentityArgs},
    failure::{self, Explain, Failure, Outcome},
    render::quoted,
    resolve,
};
use imbrik_core::{
    Class, Error,
    files::{Brought, Given, names},
    fs::{FileEdit, FileMeta},
    layout::{Guesses, Identity, LeavePrivate, PartEdit, Survey, Uninspected},
    store::{ReadAt, SparseStore, Window},
};
use jiff::Timestamp;
use std::{
    fmt::Write,
    fs as files,
    os::unix::ffi::OsStrExt,
    path::{Path, PathBuf},
    sync::Arc,
};

/// The maximum length of a file with placeholders, in bytes.
const MOST: u64 = 1 << 20;
const UNTOUCHED: &str = "Nothing was written.";

/// The next step if a copy can't get the requested identity.
pub(crate) fn hint(error: &Error) -> &'static str {
    match error.class() {
        Class::Refused => {
            "To copy such volumes without a search, add --keep-uninspected. To keep private data, run without \
             --leave-private."
        }
        _ => "Leave that option out to keep the current value.",
    }
}

/// The error for a copy that can't get the requested identity.
pub(crate) fn explain(error: Error) -> Failure {
    let hint = hint(&error);
    Failure::from(error).next(hint)
}

impl IdentityArgs {
    /// Returns whether no command was given.
    pub(crate) fn is_empty(&self) -> bool {
        self.ids.is_none()
            && self.keys.is_none()
            && self.leave_private.is_none()
            && [&self.host, &self.set, &self.put, &self.drop, &self.as_new]
                .iter()
                .all(|list| list.is_empty())
    }

    /// The identity of copy `number` of `count` of the card with this `survey`, in `source`; without a count, copies
    /// are created one by one.
    ///
    /// # Errors
    /// When a name or a file is invalid.
    pub(crate) fn of(
        &self,
        number: usize,
        count: Option<usize>,
        survey: &Survey,
        source: &Path,
    ) -> Outcome<Identity> {
        // Lists always start with their first name; only numbers have another start.
        let named = self.first.unwrap_or(1).saturating_add(number).saturating_sub(1);
        let names = if self.as_new.is_empty() { &self.host } else { &self.as_new };
        let host = match &names[..] {
            [] => None,
            [name] if count.unwrap_or(number) > 1 && counted(name, 0) == *name => {
                let count = count.unwrap_or(number);
                return Err(Failure::usage(format!("{count} cards would have the name {name}"))
                    .state(UNTOUCHED)
                    .next(
                        "Number them, as in hive-{n}, or list a name for each, separated by commas.",
                    ));
            }
            [name] => Some(counted(name, named)),
            names if count.is_some_and(|count| names.len() != count) || number > names.len() => {
                let count = count.unwrap_or(number);
                return Err(Failure::usage(format!(
                    "{} names are given for {}",
                    names.len(),
                    crate::render::count(count as u64, "card")
                ))
                .state(UNTOUCHED));
            }
            names => names.get(number - 1).cloned(),
        };
        let is_new = !self.as_new.is_empty();
        let now = Timestamp::now().as_second();
        let mut identity = Identity {
            ids: is_new || self.ids.is_some(),
            keys: is_new || self.keys.is_some(),
            now: u64::try_from(now).unwrap_or(0),
            host,
            leave_private: self.leave_private.map(|which| LeavePrivate {
                guesses: match which {
                    args::LeavePrivate::Known => Guesses::Keep,
                    args::LeavePrivate::Strict => Guesses::LeaveOut,
                },
                uninspected: match self.keep_uninspected {
                    true => Uninspected::Keep,
                    false => Uninspected::Refuse,
                },
            }),
            edits: Vec::new(),
        };
        let host = identity.host.as_deref().or(survey.host.as_deref()).unwrap_or_default();
        let copy = Copy { number: named, host: host.to_owned(), survey, source };
        for words in &self.drop {
            identity.edits.push(copy.drop(words)?);
        }
        for words in &self.put {
            identity.edits.extend(copy.put(words)?);
        }
        for words in &self.set {
            identity.edits.push(copy.set(words)?);
        }
        Ok(identity)
    }
}

/// `text` with `number` in place of `{n}`, and with leading zeros to three digits in place of
/// `{n:03}`.
fn counted(text: &str, number: usize) -> String {
    let mut out = String::new();
    let mut rest = text;
    while let Some((before, behind)) = rest.split_once("{n") {
        out += before;
        let width = match behind.split_once('}') {
            Some(("", after)) => Some((0, after)),
            Some((width, after)) => {
                let digits = width.strip_prefix(":0").and_then(|digits| digits.parse().ok());
                digits.filter(|digits| *digits < 10).map(|digits: usize| (digits, after))
            }
            None => None,
        };
        match width {
            Some((width, after)) => {
                let _ = write!(out, "{number:0width$}");
                rest = after;
            }
            None => {
                out += "{n";
                rest = behind;
            }
        }
    }
    out + rest
}

/// A copy, for replacing placeholders.
struct Copy<'a> {
    number: usize,
    host: String,
    survey: &'a Survey,
    source: &'a Path,
}

impl Copy<'_> {
    fn filled(&self, text: &str) -> String {
        counted(text, self.number).replace("{host}", &self.host)
    }

    /// Parses `FILE=PART:/PATH`.
    fn pair<'w>(words: &'w str, option: &str) -> Outcome<(&'w str, &'w str)> {
        words.rsplit_once('=').ok_or_else(|| {
            Failure::usage(format!("--{option} {words} is invalid"))
                .state(UNTOUCHED)
                .next(format!("Write it like --{option} wifi.conf=2:/etc/wifi.conf."))
        })
    }

    /// `PART:/PATH`: the partition's place in the survey, and names from its root.
    fn place(&self, words: &str, option: &str) -> Outcome<(usize, String)> {
        let found = words.split_once(':').filter(|(_, path)| path.starts_with('/'));
        let (part, path) = found.ok_or_else(|| {
            Failure::usage(format!("--{option} {words} names no destination")).state(UNTOUCHED).next(
                "A destination is PART:/PATH: the partition's number or label, then the path in it.",
            )
        })?;
        Ok((resolve::part_index(self.survey, part, self.source)?, self.filled(path)))
    }

    /// A small file, filled in.
    fn set(&self, words: &str) -> Outcome<PartEdit> {
        let (name, place) = Self::pair(words, "set")?;
        let (part, path) = self.place(place, "set")?;
        let failed = |error: std::io::Error| {
            failure::system(format!("reading {}", quoted(Path::new(name))), error).state(UNTOUCHED)
        };
        let meta = files::metadata(name).map_err(failed)?;
        if !meta.is_file() || meta.len() > MOST {
            return Err(Failure::usage(format!(
                "{} is not a file of at most 1 MiB",
                quoted(Path::new(name))
            ))
            .state(UNTOUCHED)
            .next("Add longer files and whole folders with --put."));
        }
        let content = files::read(name).map_err(failed)?;
        // Only text has places to fill in.
        let content = match String::from_utf8(content) {
            Ok(text) => self.filled(&text).into_bytes(),
            Err(bytes) => bytes.into_bytes(),
        };
        let content = Arc::new(SparseStore::of(&content));
        let edit =
            FileEdit::Put { path: names(path.as_bytes()), content, meta: FileMeta::default() };
        Ok(PartEdit { part, edit })
    }

    /// Reads a file or folder to add.
    fn put(&self, words: &str) -> Outcome<Vec<PartEdit>> {
        let (name, place) = Self::pair(words, "put")?;
        let (part, path) = self.place(place, "put")?;
        let name = PathBuf::from(self.filled(name));
        let mut to = names(path.as_bytes());
        if path.ends_with('/') {
            to.push(name.file_name().unwrap_or_default().as_bytes().to_vec());
        }
        let volume = self.survey.parts.get(part).and_then(|part| part.volume.as_ref());
        let only_files = volume.is_some_and(|volume| volume.kind.has_only_files());
        let mut brought = Brought::default();
        brought
            .from_here(&name, &to.join(&b'/'), Given { only_files, ..Given::default() })
            .state(UNTOUCHED)
            .next("Check that it exists and that you may read it.")?;
        if let Some(first) = brought.left_out.first() {
            return Err(Failure::refused(format!(
                "not all of {} can be added: {}, {}",
                quoted(&name),
                crate::render::files::name(&first.path),
                first.why
            ))
            .state(UNTOUCHED));
        }
        Ok(brought.edits.into_iter().map(|edit| PartEdit { part, edit }).collect())
    }

    /// Parses a path to leave out.
    fn drop(&self, words: &str) -> Outcome<PartEdit> {
        let (part, path) = self.place(words, "drop")?;
        Ok(PartEdit { part, edit: FileEdit::Remove { path: names(path.as_bytes()) } })
    }
}

/// The first person who may log in on the system of a card, by its `/etc/passwd`.
pub(crate) fn login(content: &dyn ReadAt, survey: &Survey) -> Option<String> {
    survey.parts.iter().find_map(|part| {
        let volume = part.volume.as_ref()?;
        let window = Window::new(content, part.span).ok()?;
        let path: [&[u8]; 2] = [b"etc", b"passwd"];
        let text = volume.files(&window).ok()??.small_file(&path, 1 << 16).ok()??;
        let text = String::from_utf8_lossy(&text).into_owned();
        text.lines().find_map(|line| {
            let fields: Vec<_> = line.split(':').collect();
            let [name, _, id, _, _, _, shell] = fields[..] else { return None };
            let id: u32 = id.parse().ok()?;
            let may = (1000..60_000).contains(&id)
                && !shell.ends_with("nologin")
                && !shell.ends_with("false");
            let is_plain = |c: char| c.is_ascii_alphanumeric() || "._-".contains(c);
            (may && name.chars().all(is_plain)).then(|| name.to_owned())
        })
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn counted_names_have_the_requested_digits() {
        assert_eq!(counted("hive-{n}", 7), "hive-7");
        assert_eq!(counted("{n:02}-{n:03}-{n}", 14), "14-014-14");
        for text in ["hive", "{n:2}", "{n", "{n:0}x{m}", "{n:099}"] {
            assert_eq!(counted(text, 7), text);
        }
    }
}
