//! What each copy gets of its own, from what was typed.

use crate::{
    args::IdentityArgs,
    failure::{self, Failure, Outcome},
    render::quoted,
    resolve,
};
use imbrik_core::{
    fs::{FileEdit, FileMeta},
    layout::{Identity, PartEdit, Survey},
    store::{ReadAt, SparseStore, Window},
};
use jiff::Timestamp;
use std::{fmt::Write, fs as files, path::Path, sync::Arc};

/// The longest file that can be put in, in bytes.
const MOST: u64 = 1 << 20;
const UNTOUCHED: &str = "Nothing was written.";

impl IdentityArgs {
    /// Whether nothing was asked for.
    pub(crate) fn is_empty(&self) -> bool {
        self.ids.is_none()
            && self.keys.is_none()
            && [&self.host, &self.set, &self.as_new].iter().all(|list| list.is_empty())
    }

    /// The identity of the `number`th of `count` copies of what `survey` tells of, in `source`; with
    /// no count, one after the other is made for as long as somebody wants.
    ///
    /// # Errors
    /// When a name or a file makes no sense.
    pub(crate) fn of(
        &self,
        number: usize,
        count: Option<usize>,
        survey: &Survey,
        source: &Path,
    ) -> Outcome<Identity> {
        // Lists are gone along from their start; only what counts begins elsewhere.
        let named = self.first.unwrap_or(1).saturating_add(number).saturating_sub(1);
        let names = if self.as_new.is_empty() { &self.host } else { &self.as_new };
        let host = match &names[..] {
            [] => None,
            [name] if count.unwrap_or(number) > 1 && counted(name, 0) == *name => {
                let count = count.unwrap_or(number);
                return Err(Failure::usage(format!("{count} cards would have the name {name}"))
                    .state(UNTOUCHED)
                    .next(
                        "Let it count, as in hive-{n}, or list a name for each, parted by commas.",
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
            edits: Vec::new(),
        };
        for words in &self.set {
            let host = identity.host.as_deref().or(survey.host.as_deref()).unwrap_or_default();
            identity.edits.push(file(words, named, host, survey, source)?);
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

/// `FILE=PART:/PATH`.
fn file(
    words: &str,
    number: usize,
    host: &str,
    survey: &Survey,
    source: &Path,
) -> Outcome<PartEdit> {
    let wrong = || {
        Failure::usage(format!("--set {words} makes no sense"))
            .state(UNTOUCHED)
            .next("Write it like --set wifi.conf=2:/etc/wifi.conf.")
    };
    let (name, place) = words.rsplit_once('=').ok_or_else(wrong)?;
    let (part, path) =
        place.split_once(':').filter(|(_, path)| path.starts_with('/')).ok_or_else(wrong)?;
    let failed = |error: std::io::Error| {
        failure::system(format!("reading {}", quoted(Path::new(name))), error).state(UNTOUCHED)
    };
    let meta = files::metadata(name).map_err(failed)?;
    if !meta.is_file() || meta.len() > MOST {
        return Err(Failure::usage(format!(
            "{} is no file of at most 1 MiB",
            quoted(Path::new(name))
        ))
        .state(UNTOUCHED));
    }
    let content = files::read(name).map_err(failed)?;
    // Only text has places to fill in.
    let filled = |text: &str| counted(text, number).replace("{host}", host);
    let content = match String::from_utf8(content) {
        Ok(text) => filled(&text).into_bytes(),
        Err(bytes) => bytes.into_bytes(),
    };
    let part = resolve::part_index(survey, part, source)?;
    let path = filled(path);
    let names = path.split('/').filter(|name| !name.is_empty());
    let path = names.map(|name| name.as_bytes().to_vec()).collect();
    let content = Arc::new(SparseStore::of(&content));
    let edit = FileEdit::Put { path, content, meta: FileMeta::default() };
    Ok(PartEdit { part, edit })
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
    fn names_count_with_as_many_digits_as_are_asked_for() {
        assert_eq!(counted("hive-{n}", 7), "hive-7");
        assert_eq!(counted("{n:02}-{n:03}-{n}", 14), "14-014-14");
        for text in ["hive", "{n:2}", "{n", "{n:0}x{m}", "{n:099}"] {
            assert_eq!(counted(text, 7), text);
        }
    }
}
