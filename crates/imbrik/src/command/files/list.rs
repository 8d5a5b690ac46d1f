//! `imbrik files list`: the files in folders, and the space they use.

use super::{Looked, PartPath, Source, found, tell_of_faults};
use crate::{
    args::ListArgs,
    exit::Exit,
    failure::Outcome,
    render::{Rows, Tone, count, files as words, json, size, table},
    session::Session,
};
use imbrik_core::{
    files::{Found, Owners, below},
    fs::{FileId, FileInfo, FileKind, Files, Onward, Walked, WalkedEntry},
    layout::Part,
    progress::Cancel,
    store::Tally,
    units::{ByteLen, Span},
};
use std::collections::HashSet;

/// The longest target of a link that is shown, in bytes.
const LONGEST_TARGET: usize = 4096;
/// So many entries of a long listing say how wide its columns are.
const LOOKED_AHEAD: usize = 1000;
/// How many folders are shown with their sizes.
const LARGEST: usize = 30;
/// The minimum length of a file whose holes are counted.
const LOOKED_INTO: u64 = 1 << 20;

pub(super) fn run(session: &Session, args: &ListArgs) -> Outcome<Exit> {
    let tally = Tally::default();
    let source = Source::open(session, &args.source, &tally)?;
    let paths = args.paths.iter().map(|typed| PartPath::of(typed));
    let paths = paths.collect::<Outcome<Vec<_>>>()?;
    let mut all = Vec::new();
    for path in &paths {
        let (part, tree) = source.part(path.part.as_deref())?;
        all.push((part, tree, &path.path[..]));
    }
    if paths.is_empty() {
        let trees = source.trees()?;
        all.extend(trees.into_iter().map(|(part, tree)| (part, tree, &[][..])));
    }
    if all.is_empty() {
        // Says why there is nothing to list.
        source.part(None)?;
    }
    let (mut listed, mut faults) = (0, 0);
    for (number, (part, tree, path)) in all.iter().enumerate() {
        Source::tell_of(session, tree);
        let files = tree.files().looked()?;
        let found = found(&*files, path, tree)?;
        let listing = Listing {
            session,
            args,
            part,
            files: &*files,
            owners: Owners::of(&*files),
            cancel: &session.environment.interrupt.cancel,
        };
        if all.len() > 1 && !session.out.is_json() {
            if number > 0 {
                session.out.line("");
            }
            session.out.line(&session.out.paint(Tone::Strong, tree.title()));
        }
        let (entries, wrong) = match args.sizes {
            true => listing.sizes(&found)?,
            false => listing.list(&found)?,
        };
        listed += entries;
        faults += wrong;
        tell_of_faults(session, &*files, tree);
    }
    if session.out.is_json() {
        let more = json::FilesListed { entries: listed, faults };
        session.out.line(&json::object("files list", "done", more).to_string());
    }
    Ok(if faults > 0 { Exit::Unreadable } else { Exit::Done })
}

struct Listing<'a> {
    session: &'a Session,
    args: &'a ListArgs,
    part: &'a Part,
    files: &'a dyn Files,
    owners: Owners,
    cancel: &'a Cancel,
}

/// The present widths of the columns: they grow with the entries.
#[derive(Default)]
struct Widths {
    owner: usize,
    group: usize,
    size: usize,
}

/// An entry to print.
struct Shown {
    path: Vec<u8>,
    /// True if that is from the root down.
    is_whole: bool,
    info: FileInfo,
    target: Option<Vec<u8>>,
}

impl Listing<'_> {
    /// Lists the items: folders with their entries, files by themselves.
    fn list(&self, found: &[Found]) -> Outcome<(u64, u64)> {
        let (mut entries, mut faults) = (0u64, 0u64);
        let mut rows = self.session.out.rows();
        let mut widths = Widths::default();
        let mut waiting: Vec<Shown> = Vec::new();
        // Files that were named come first, as one table; then each folder as its own.
        let (mut plain, mut folders) = (Vec::new(), Vec::new());
        for one in found {
            match self.info(one.file)?.kind {
                FileKind::Folder => folders.push(one),
                _ => plain.push(one),
            }
        }
        let (recursive, plain_count) = (self.args.recursive, plain.len());
        plain.append(&mut folders);
        for (number, one) in plain.into_iter().enumerate() {
            let is_folder = number >= plain_count;
            if is_folder && !recursive && found.len() > 1 && !self.session.out.is_json() {
                if !self.push_all(&mut rows, &mut widths, &mut waiting) {
                    break;
                }
                if number > 0 {
                    rows.push("");
                }
                rows.push(&format!("/{}:", words::name(&one.path)));
                widths = Widths::default();
            }
            // How wide the columns are is known before a line is shown, of a long listing by its start.
            let mut goes_on = true;
            let walked = self.files.walk(one.file, &mut |walked| {
                self.cancel.check()?;
                let entry = match walked {
                    Walked::Entry(entry) => entry,
                    Walked::Fault { path, error } => {
                        faults += 1;
                        let path = below(&one.path, path);
                        let text = format!("/{}: {error}", words::name(&path));
                        self.session.out.warn(&text);
                        return Ok(Onward::Past);
                    }
                };
                if is_folder && entry.depth == 0 {
                    return Ok(Onward::Into);
                }
                entries += 1;
                let shown = self.shown(one, is_folder, entry)?;
                waiting.push(shown);
                if recursive && waiting.len() >= LOOKED_AHEAD {
                    goes_on = self.push_all(&mut rows, &mut widths, &mut waiting);
                }
                Ok(match (goes_on, recursive) {
                    (false, _) => Onward::End,
                    (true, true) => Onward::Into,
                    (true, false) => Onward::Past,
                })
            });
            walked.looked()?;
            if !goes_on {
                break;
            }
        }
        self.push_all(&mut rows, &mut widths, &mut waiting);
        Ok((entries, faults))
    }

    fn info(&self, file: FileId) -> Outcome<FileInfo> {
        self.files.info(file).looked()
    }

    fn shown(
        &self,
        start: &Found,
        is_folder: bool,
        entry: WalkedEntry<'_>,
    ) -> imbrik_core::Result<Shown> {
        let target = match entry.info.kind {
            FileKind::Link => match self.files.read(entry.file, LONGEST_TARGET) {
                // One that cannot be read leads nowhere, and the others can.
                Err(error) if error.is_local() => {
                    let path = below(&start.path, entry.path);
                    self.session.out.warn(&format!("/{}: {error}", words::name(&path)));
                    None
                }
                target => Some(target?),
            },
            _ => None,
        };
        // The content of a named folder is shown by its names in the folder.
        let is_whole = !is_folder || self.args.recursive || self.session.out.is_json();
        let path = match is_whole {
            true => below(&start.path, entry.path),
            false => entry.path.to_vec(),
        };
        Ok(Shown { path, is_whole, info: entry.info, target })
    }

    /// Prints pending rows; returns whether the output is still open.
    fn push_all(&self, rows: &mut Rows<'_>, widths: &mut Widths, waiting: &mut Vec<Shown>) -> bool {
        waiting.iter().for_each(|shown| self.widen(widths, shown));
        waiting.drain(..).all(|shown| self.push(rows, widths, &shown))
    }

    fn widen(&self, widths: &mut Widths, shown: &Shown) {
        let [owner, group, size] = self.cells(shown);
        widths.owner = widths.owner.max(owner.chars().count());
        widths.group = widths.group.max(group.chars().count());
        widths.size = widths.size.max(size.len());
    }

    /// Owner, group and size.
    fn cells(&self, shown: &Shown) -> [String; 3] {
        let of = shown.info.ownership;
        let named = |id: u32, name: Option<&[u8]>| name.map_or_else(|| id.to_string(), words::name);
        let owner = of.map(|of| named(of.owner, self.owners.user(of.owner)));
        let group = of.map(|of| named(of.group, self.owners.group(of.group)));
        let size = match shown.info.kind {
            FileKind::CharacterDevice(major, minor) | FileKind::BlockDevice(major, minor) => {
                format!("{major}, {minor}")
            }
            _ => shown.info.size.to_string(),
        };
        [owner.unwrap_or_default(), group.unwrap_or_default(), size]
    }

    fn push(&self, rows: &mut Rows<'_>, widths: &mut Widths, shown: &Shown) -> bool {
        if self.session.out.is_json() {
            let object = json::object("files list", "entry", self.json(shown));
            return rows.push(&object.to_string());
        }
        self.widen(widths, shown);
        let [owner, group, size] = self.cells(shown);
        let Widths { owner: owners, group: groups, size: sizes } = *widths;
        let mut row = words::mode(&shown.info);
        if shown.info.ownership.is_some() {
            row += &format!("  {owner:<owners$}  {group:<groups$}");
        }
        row += &format!("  {size:>sizes$}  {:<16}  ", words::modified_at(&shown.info));
        let slash = if shown.is_whole { "/" } else { "" };
        row += &format!("{slash}{}", words::name(&shown.path));
        if let Some(target) = &shown.target {
            row += &format!(" -> {}", words::name(target));
        }
        rows.push(&row)
    }

    fn json(&self, shown: &Shown) -> json::ListedFile {
        let Shown { path, info, target, .. } = shown;
        let owner = info.ownership.map(|of| of.owner);
        let group = info.ownership.map(|of| of.group);
        let device = match info.kind {
            FileKind::CharacterDevice(major, minor) | FileKind::BlockDevice(major, minor) => {
                Some([major, minor])
            }
            _ => None,
        };
        json::ListedFile {
            part: self.part.number,
            path: format!("/{}", String::from_utf8_lossy(path)),
            path_hex: json::hex_unless_text(path),
            kind: json::FileKind::of(info.kind),
            size: info.size,
            links: info.links,
            mode: info.ownership.map(|of| format!("{:04o}", of.permissions)),
            owner,
            group,
            owner_name: owner.and_then(|owner| self.owners.user(owner)).map(words::name),
            group_name: group.and_then(|group| self.owners.group(group)).map(words::name),
            modified: info.modified.map(|time| format!("{}.{:09}", time.seconds, time.nanoseconds)),
            target: target.as_ref().map(|target| String::from_utf8_lossy(target).into_owned()),
            device,
        }
    }

    /// Prints the sizes of folders with everything below them.
    fn sizes(&self, found: &[Found]) -> Outcome<(u64, u64)> {
        let measured = self.session.waiting("adding up the folders", || self.measured(found));
        let Measured { folders, entries, faults } = measured?;
        for (path, why) in &faults {
            self.session.out.warn(&format!("/{}: {why}", words::name(path)));
        }
        self.show_sizes(folders);
        Ok((entries, faults.len() as u64))
    }

    fn measured(&self, found: &[Found]) -> Outcome<Measured> {
        let mut all: Vec<Folder> = Vec::new();
        let (mut entries, mut faults) = (0u64, Vec::new());
        let mut seen = HashSet::new();
        for one in found {
            // The folders from the root to the present one.
            let mut open: Vec<Folder> = Vec::new();
            let walked = self.files.walk(one.file, &mut |walked| {
                self.cancel.check()?;
                let WalkedEntry { path, file, info, depth } = match walked {
                    Walked::Entry(entry) => entry,
                    Walked::Fault { path, error } => {
                        faults.push((below(&one.path, path), error.to_string()));
                        return Ok(Onward::Past);
                    }
                };
                entries += 1;
                close(&mut open, depth, &mut all);
                if info.kind == FileKind::Folder {
                    open.push(Folder { path: below(&one.path, path), len: 0, files: 0 });
                } else if info.links < 2 || seen.insert(file.number()) {
                    let len = self.room_of(file, &info);
                    if let Some(folder) = open.last_mut() {
                        folder.len = folder.len.saturating_add(len);
                        folder.files = folder.files.saturating_add(1);
                    }
                }
                Ok(Onward::Into)
            });
            walked.looked()?;
            close(&mut open, 0, &mut all);
        }
        all.sort_by(|a, b| b.len.cmp(&a.len).then_with(|| a.path.cmp(&b.path)));
        Ok(Measured { folders: all, entries, faults })
    }

    fn show_sizes(&self, mut all: Vec<Folder>) {
        let out = &self.session.out;
        if out.is_json() {
            let mut rows = out.rows();
            for folder in &all {
                let more = json::FolderSize {
                    part: self.part.number,
                    path: format!("/{}", String::from_utf8_lossy(&folder.path)),
                    path_hex: json::hex_unless_text(&folder.path),
                    bytes: folder.len,
                    files: folder.files,
                };
                let object = json::object("files list", "folder", more);
                if !rows.push(&object.to_string()) {
                    break;
                }
            }
            return;
        }
        let most = all.first().map_or(0, |folder| folder.len).max(1);
        // Empty ones fill nothing.
        all.retain(|folder| folder.len > 0);
        let lines = all.iter().take(LARGEST).map(|folder| {
            let part = folder.len as f64 / most as f64 * 100.0;
            vec![
                size::short(ByteLen::new(folder.len)),
                format!("{part:.0} %"),
                count(folder.files, "file"),
                format!("/{}", words::name(&folder.path)),
            ]
        });
        let mut rows = out.rows();
        table::rows(lines, &[0, 1, 2]).iter().for_each(|line| {
            rows.push(line);
        });
        drop(rows);
        if let Some(more) = all.len().checked_sub(LARGEST).filter(|more| *more > 0) {
            out.line(&format!("  and {} smaller than these", count(more as u64, "folder")));
        }
    }

    /// How much of the volume a file's content takes: holes are none of it.
    fn room_of(&self, file: FileId, info: &FileInfo) -> u64 {
        match info.kind {
            FileKind::File if info.size < LOOKED_INTO => info.size,
            FileKind::File => {
                let content = self.files.content_of(file);
                let written = content.map(|content| content.written().map(Span::len).sum());
                written.map_or(0, ByteLen::get)
            }
            _ => 0,
        }
    }
}

/// All folders, the largest first, the number of entries, and what could not be read.
struct Measured {
    folders: Vec<Folder>,
    entries: u64,
    faults: Vec<(Vec<u8>, String)>,
}

/// A folder and everything below it.
struct Folder {
    path: Vec<u8>,
    len: u64,
    files: u64,
}

/// Closes folders down to `depth`, and adds the totals of each to its parent.
fn close(open: &mut Vec<Folder>, depth: usize, all: &mut Vec<Folder>) {
    while open.len() > depth {
        let Some(folder) = open.pop() else { return };
        if let Some(above) = open.last_mut() {
            above.len = above.len.saturating_add(folder.len);
            above.files = above.files.saturating_add(folder.files);
        }
        all.push(folder);
    }
}
