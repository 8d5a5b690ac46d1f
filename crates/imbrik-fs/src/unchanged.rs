//! Detection of content that is unchanged since an earlier state of a volume.

use crate::files::{FileId, FileInfo, FileKind, FileTime, Files, Stretch};
use imbrik_store::{
    error::{Class, Error, Result},
    progress::Cancel,
    units::{ByteLen, Span, joined},
};
use std::{collections::HashMap, ops::ControlFlow};

/// File content that is unchanged and at the same place as in an earlier state of a volume, according to metadata: the
/// content itself is not read.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Unchanged {
    /// Its ranges, in bytes from the start of the volume, in order and joined.
    pub spans: Vec<Span>,
    /// How many files have it.
    pub files: u64,
    /// The reason why no file is judged, if so.
    pub why_not: Option<String>,
    /// True if files were judged by names, sizes, times and positions alone, which a write in place with the
    /// same time does not change.
    pub by_names: bool,
}

impl Unchanged {
    /// No file is judged, because of `why`.
    #[must_use]
    pub fn unknown(why: impl Into<String>) -> Self {
        Self { why_not: Some(why.into()), ..Self::default() }
    }
}

/// Shorter files are not judged by their names and times: boot loaders write settings in place without changing the
/// time, and reading them takes little time.
const SHORTEST: u64 = 1 << 20;
/// How much older than the newest file a file must be, in seconds, so that a later write would show: FAT has a
/// resolution of two seconds.
const MARGIN: i64 = 4;
/// Volumes with less used space than this are read in full, which costs seconds.
pub(crate) const LEAST_USED: ByteLen = ByteLen::mib(1024);
/// Times before 2001 are those of boards without a clock, in seconds since 1970.
const FIRST: i64 = 978_307_200;
const DAY: i64 = 24 * 60 * 60;
/// How many bytes files with the same time may have in all: more cannot be written within the two seconds that
/// FAT counts in.
const MOST_AT_ONCE: u64 = 256 << 20;
/// The maximum depth of folders.
const DEEPEST: usize = 128;

/// The unchanged content of files that have only names, sizes, times and locations: those of at least a MiB for which
/// all of that is the same.
///
/// # Errors
/// When a store cannot be read, or stopping was requested.
pub(crate) fn by_names(now: &dyn Files, then: &dyn Files, cancel: &Cancel) -> Result<Unchanged> {
    let mut found = ByNames {
        now,
        then,
        cancel,
        newest: i64::MIN,
        alike: Vec::new(),
        bytes_at: HashMap::new(),
    };
    match found.folder(now.root(), then.root(), 0) {
        Err(error)
            if matches!(error.class(), Class::Corrupt | Class::Unsupported | Class::Mismatch) =>
        {
            return Ok(Unchanged::unknown(error.to_string()));
        }
        looked => looked?,
    }
    let until = found.newest.saturating_sub(MARGIN);
    let (mut spans, mut files) = (Vec::new(), 0u64);
    for (modified, content) in found.alike {
        let bytes = found.bytes_at.get(&modified).copied().unwrap_or(0);
        let is_trusted = (FIRST..until).contains(&modified)
            && !may_be_default(modified)
            && bytes <= MOST_AT_ONCE;
        if is_trusted {
            spans.extend(content);
            files = files.saturating_add(1);
        }
    }
    Ok(Unchanged { spans: joined(spans), files, why_not: None, by_names: files > 0 })
}

/// Returns whether a time may come from a clock that was not set, or from a tool that sets a fixed date: midnight, or the
/// first day of a year.
fn may_be_default(seconds: i64) -> bool {
    let day = seconds.div_euclid(DAY);
    // A leap year moves the first day by one; a day before and after it cover time zones.
    let is_new_year = (day.saturating_mul(4)).rem_euclid(1461) < 12
        || (day.saturating_add(1).saturating_mul(4)).rem_euclid(1461) < 8;
    seconds.rem_euclid(DAY) == 0 || is_new_year
}

struct ByNames<'a> {
    now: &'a dyn Files,
    then: &'a dyn Files,
    cancel: &'a Cancel,
    /// The newest time that any file had before.
    newest: i64,
    /// Matching files, with their modification time and their content.
    alike: Vec<(i64, Vec<Span>)>,
    /// How many bytes the files have now that were last changed at each time.
    bytes_at: HashMap<i64, u64>,
}

fn entries(files: &dyn Files, folder: FileId) -> Result<HashMap<Vec<u8>, FileId>> {
    let mut all = HashMap::new();
    files.entries(folder, &mut |entry| {
        all.insert(entry.name.to_vec(), entry.file);
        Ok(ControlFlow::Continue(()))
    })?;
    Ok(all)
}

fn content(files: &dyn Files, file: FileId) -> Result<Option<Vec<Span>>> {
    let mut spans = Some(Vec::new());
    files.content(file, &mut |_, stretch| {
        match (stretch, &mut spans) {
            (Stretch::InVolume(span), Some(spans)) => spans.push(span),
            _ => spans = None,
        }
        Ok(ControlFlow::Continue(()))
    })?;
    Ok(spans)
}

/// The compared properties of a file, besides its name and the location of its content.
fn told(info: &FileInfo) -> (FileKind, u64, Option<FileTime>, Option<FileTime>) {
    (info.kind, info.size, info.modified, info.created)
}

impl ByNames<'_> {
    fn folder(&mut self, now: FileId, then: FileId, depth: usize) -> Result<()> {
        self.cancel.check()?;
        if depth > DEEPEST {
            return Err(Error::unsupported("its folders are too deep"));
        }
        let before = entries(self.then, then)?;
        for file in before.values() {
            if let Some(time) = self.then.info(*file)?.modified {
                self.newest = self.newest.max(time.seconds);
            }
        }
        for (name, file) in entries(self.now, now)? {
            let info = self.now.info(file)?;
            if let Some(time) = info.modified.filter(|_| info.kind == FileKind::File) {
                let bytes = self.bytes_at.entry(time.seconds).or_default();
                *bytes = bytes.saturating_add(info.size);
            }
            let Some(was) = before.get(&name) else { continue };
            let was_info = self.then.info(*was)?;
            match info.kind {
                FileKind::Folder if was_info.kind == FileKind::Folder => {
                    self.folder(file, *was, depth.saturating_add(1))?;
                }
                FileKind::File if info.size >= SHORTEST && told(&info) == told(&was_info) => {
                    let places = content(self.now, file)?;
                    if let (Some(places), Some(time)) = (places, info.modified)
                        && content(self.then, *was)?.as_ref() == Some(&places)
                    {
                        self.alike.push((time.seconds, places));
                    }
                }
                _ => {}
            }
        }
        Ok(())
    }
}
