//! `imbrik files get`: extracts files and folders of a card or an image.

use super::{Looked, PartPath, Source, found, tell_of_faults};
use crate::{
    args::GetArgs,
    exit::Exit,
    failure::{Explain, Failure, Outcome, system},
    pipe,
    render::{count, files::name, json, listed, quoted, size, time},
    session::Session,
};
use imbrik_core::{
    Error,
    files::{
        ArchivePacking, Because, Chosen, LeftOut, Taken, ToArchive, ToFolder, Tree, TreeSink,
        take_out, weight_of,
    },
    fs::{FileKind, Files},
    image::PartFile,
    layout::Part,
    progress::{Unobserved, Watch},
    store::{ReadAt, Tally},
    units::{ByteLen, Span},
};
use std::{
    ffi::{OsStr, OsString},
    fs,
    io::{self, BufWriter, Write},
    os::unix::ffi::{OsStrExt, OsStringExt},
    path::{Path, PathBuf},
    time::Instant,
};

const AGAIN: &str = "Run the same command again to start over.";
/// The maximum number of listed items that were not extracted.
const TOLD: usize = 10;
/// The request size for a file to standard output.
const PIECE: ByteLen = ByteLen::mib(1);

pub(super) fn run(session: &Session, args: &GetArgs) -> Outcome<Exit> {
    let started = Instant::now();
    let (typed, dest) = typed(&args.paths);
    let paths = typed.iter().map(|typed| PartPath::of(typed));
    let paths = paths.collect::<Outcome<Vec<_>>>()?;
    if pipe::is_pipe(dest) {
        session.out.give_away();
    }
    let tally = Tally::default();
    let source = Source::open(session, &args.source, &tally)?;
    let mut parts = Vec::new();
    for path in &paths {
        let (part, tree) = source.part(path.part.as_deref())?;
        Source::tell_of(session, &tree);
        parts.push((part, tree, &path.path[..]));
    }
    let mut wanted = Vec::new();
    for (part, tree, path) in &parts {
        let files = tree.files().looked()?;
        let found = found(&*files, path, tree)?;
        let chosen = found.into_iter().map(|found| Chosen { name: found.name().to_vec(), found });
        wanted.push(Wanted { part, tree, files, chosen: chosen.collect() });
    }
    let getting = Getting { session, args, dest, started };
    let got = match Goal::of(dest, &mut wanted)? {
        Goal::Bytes => return getting.bytes(&wanted),
        Goal::Folder { folder, is_new } => getting.folder(&wanted, &folder, is_new)?,
        Goal::Archive(packing) => getting.archive(&wanted, packing)?,
    };
    for one in &wanted {
        tell_of_faults(session, &*one.files, one.tree);
    }
    getting.show(&wanted, &got, &tally)
}

/// The paths to extract, and the destination: the last argument, unless it is one of the paths.
fn typed(all: &[OsString]) -> (&[OsString], &Path) {
    let is_path = |typed: &OsStr| {
        let is_inside = typed.as_bytes().windows(2).any(|two| two == b":/");
        is_inside && !Path::new(typed).exists()
    };
    match all.split_last() {
        Some((dest, others)) if !others.is_empty() && !is_path(dest) => (others, Path::new(dest)),
        _ => (all, Path::new(".")),
    }
}

/// The selected files of a partition.
struct Wanted<'a> {
    part: &'a Part,
    tree: &'a Tree,
    files: Box<dyn Files + 'a>,
    chosen: Vec<Chosen>,
}

/// The destination.
enum Goal {
    /// The content of the only file, to standard output.
    Bytes,
    /// Into a folder, which is made when it is new.
    Folder { folder: PathBuf, is_new: bool },
    /// A tar stream.
    Archive(ArchivePacking),
}

impl Goal {
    /// Interprets `dest`. A single file or folder gets that name, if it does not exist.
    fn of(dest: &Path, wanted: &mut [Wanted<'_>]) -> Outcome<Self> {
        let is_file = match wanted {
            [Wanted { files, chosen, .. }] => match &chosen[..] {
                [only] => {
                    let info = files.info(only.found.file).looked()?;
                    Some(info.kind == FileKind::File)
                }
                _ => None,
            },
            _ => None,
        };
        if pipe::is_pipe(dest) {
            return Ok(if is_file == Some(true) {
                Self::Bytes
            } else {
                Self::Archive(ArchivePacking::None)
            });
        }
        if let Some(packing) = ArchivePacking::of_name(dest).filter(|_| !dest.is_dir()) {
            // A single file that is such an archive itself is extracted unchanged.
            let only = wanted.first().and_then(|one| one.chosen.first());
            let is_one = is_file == Some(true)
                && only.is_some_and(|only| {
                    let its = PathBuf::from(OsString::from_vec(only.name.clone()));
                    ArchivePacking::of_name(&its) == Some(packing)
                });
            if !is_one {
                return Ok(Self::Archive(packing));
            }
        }
        if let Some(name) = unwritten_archive(dest).filter(|_| is_file != Some(true)) {
            return Err(Failure::usage(format!("archives ending in .{name} are not written"))
                .state("Nothing was extracted.")
                .next("Name it .tar.zst, .tar.gz or .tar, or name a folder."));
        }
        let is_all = wanted.iter().flat_map(|one| &one.chosen).any(|one| one.name.is_empty());
        if dest == Path::new(".") && is_all {
            return Err(Failure::usage("a whole volume needs a destination")
                .state("Nothing was extracted.")
                .next("Add the name of a new folder, or of an archive such as hive-07.tar.zst."));
        }
        if dest.is_dir() {
            return Ok(Self::Folder { folder: dest.to_owned(), is_new: false });
        }
        let only = match (is_file, wanted) {
            (Some(_), [Wanted { chosen, .. }]) => chosen.first_mut(),
            _ => None,
        };
        match (only, dest.file_name()) {
            (Some(only), Some(name))
                if !dest.as_os_str().as_bytes().ends_with(b"/") && !only.name.is_empty() =>
            {
                only.name = name.as_bytes().to_vec();
                let above = dest.parent().filter(|above| !above.as_os_str().is_empty());
                let folder = above.unwrap_or(Path::new(".")).to_owned();
                if !folder.is_dir() {
                    return Err(Failure::usage(format!(
                        "folder {} does not exist",
                        quoted(&folder)
                    ))
                    .state("Nothing was extracted.")
                    .next("Create the folder first."));
                }
                Ok(Self::Folder { folder, is_new: false })
            }
            _ => Ok(Self::Folder { folder: dest.to_owned(), is_new: true }),
        }
    }
}

/// The extension of a name, if it is that of an archive that can't be written.
fn unwritten_archive(dest: &Path) -> Option<&'static str> {
    const UNWRITTEN: [&str; 9] =
        ["zip", "7z", "rar", "tar.xz", "txz", "tar.bz2", "tbz2", "tar.lz", "tar.lzma"];
    let name = dest.file_name().unwrap_or_default().to_string_lossy().to_lowercase();
    let is_it = |ending: &&str| name.strip_suffix(*ending).is_some_and(|stem| stem.ends_with('.'));
    UNWRITTEN.into_iter().find(is_it).filter(|_| !dest.is_dir())
}

struct Getting<'a> {
    session: &'a Session,
    args: &'a GetArgs,
    dest: &'a Path,
    started: Instant,
}

impl Getting<'_> {
    fn weight(&self, wanted: &[Wanted<'_>], state: &str) -> Outcome<ByteLen> {
        let cancel = &self.session.environment.interrupt.cancel;
        let watch = Watch { observer: &Unobserved, cancel };
        let mut all = ByteLen::ZERO;
        for one in wanted {
            let weight = weight_of(&*one.files, &one.chosen, watch);
            all = all.saturating_add(weight.state(state).next(AGAIN)?);
        }
        Ok(all)
    }

    /// Everything that is wanted, into `sink`.
    fn take(
        &self,
        wanted: &[Wanted<'_>],
        total: ByteLen,
        sink: &mut dyn TreeSink,
        state: &str,
    ) -> Outcome<Taken> {
        let progress = self.session.progress(1);
        let cancel = &self.session.environment.interrupt.cancel;
        let watch = Watch { observer: &progress, cancel };
        let mut got = Taken::default();
        for one in wanted {
            let taken = take_out(&*one.files, &one.chosen, total, sink, watch);
            let taken = taken.state(state).next(AGAIN)?;
            got.files = got.files.saturating_add(taken.files);
            got.folders = got.folders.saturating_add(taken.folders);
            got.bytes = got.bytes.saturating_add(taken.bytes);
            got.left_out.extend(taken.left_out);
        }
        Ok(got)
    }

    fn folder(&self, wanted: &[Wanted<'_>], folder: &Path, is_new: bool) -> Outcome<Taken> {
        if is_new {
            fs::create_dir(folder).map_err(|error| {
                system(format!("making the folder {}", quoted(folder)), error)
                    .state("Nothing was extracted.")
                    .next("Create the folder first, or name another one.")
            })?;
        }
        let total = self.weight(wanted, "Nothing was extracted.")?;
        judge_room(total, folder)?;
        let mut sink = ToFolder::open(folder, self.args.replace).state("Nothing was extracted.")?;
        let state =
            format!("The files extracted so far are in {}, each of them complete.", quoted(folder));
        self.take(wanted, total, &mut sink, &state)
    }

    fn archive(&self, wanted: &[Wanted<'_>], packing: ArchivePacking) -> Outcome<Taken> {
        let total = self.weight(wanted, "Nothing was extracted.")?;
        if pipe::is_pipe(self.dest) {
            let to = BufWriter::with_capacity(1 << 16, io::stdout().lock());
            let mut sink = ToArchive::new(to, packing)?;
            let got =
                self.take(wanted, total, &mut sink, "The archive in the pipe is incomplete.")?;
            let ended = sink.into_inner().and_then(|mut to| {
                to.flush().map_err(|error| Error::io("writing the archive", error))
            });
            ended.state("The archive in the pipe is incomplete.")?;
            return Ok(got);
        }
        let owner = self.session.environment.owner;
        let part = PartFile::create(self.dest, self.args.replace, owner)
            .map_err(|error| Failure::from(error).state("Nothing was extracted."))
            .map_err(|failure| match failure.exit {
                Exit::Refused => failure.next("Choose another name, or add --replace."),
                _ => failure,
            })?;
        let state = format!("No archive {} was created.", quoted(self.dest));
        let mut sink = ToArchive::new(BufWriter::with_capacity(1 << 16, part.file()), packing)?;
        let got = self.take(wanted, total, &mut sink, &state)?;
        let ended = sink
            .into_inner()
            .and_then(|mut to| to.flush().map_err(|error| Error::io("writing the archive", error)));
        ended.state(&state)?;
        part.publish().state(&state)?;
        Ok(got)
    }

    /// Writes the content of a single file.
    fn bytes(&self, wanted: &[Wanted<'_>]) -> Outcome<Exit> {
        let [Wanted { files, chosen, .. }] = wanted else { return Ok(Exit::Done) };
        let [only] = &chosen[..] else { return Ok(Exit::Done) };
        let content = files.content_of(only.found.file).looked()?;
        let cancel = &self.session.environment.interrupt.cancel;
        let mut out = io::stdout().lock();
        let half = "The file in the pipe is incomplete.";
        let mut buffer = Vec::new();
        let mut at = Span::whole(content.size());
        while !at.is_empty() {
            cancel.check().state(half)?;
            let len = at.len().min(PIECE);
            buffer.resize(len.to_usize().unwrap_or(0), 0);
            content.read_at(at.start(), &mut buffer).state(half).next(AGAIN)?;
            match out.write_all(&buffer) {
                // A closed output pipe is not an error.
                Err(error) if error.kind() == io::ErrorKind::BrokenPipe => return Ok(Exit::Done),
                written => {
                    written.map_err(|error| system("writing the file", error).state(half))?
                }
            }
            at = Span::between(at.start().saturating_add(len), at.end());
        }
        out.flush().map_err(|error| system("writing the file", error).state(half))?;
        Ok(Exit::Done)
    }

    fn show(&self, wanted: &[Wanted<'_>], got: &Taken, tally: &Tally) -> Outcome<Exit> {
        let out = &self.session.out;
        let is = |because: Because| got.left_out.iter().filter(move |one| one.because == because);
        let (damaged, there) = (is(Because::Damage).count(), is(Because::Exists).count());
        let exit = match (damaged, there) {
            (1.., _) => Exit::Unreadable,
            (0, 1..) => Exit::Refused,
            (0, 0) => Exit::Done,
        };
        if out.is_json() && !pipe::is_pipe(self.dest) {
            let left_out = got.left_out.iter().map(json::FileLeftOut::of);
            let more = json::FilesGot {
                to: json::path(self.dest),
                partitions: wanted.iter().map(|one| one.part.number).collect(),
                files: got.files,
                folders: got.folders,
                bytes: got.bytes.get(),
                card_bytes_read: tally.read().get(),
                left_out: left_out.collect(),
                seconds: self.started.elapsed().as_secs_f64(),
            };
            let result = if exit == Exit::Done { "done" } else { "differs" };
            out.line(&json::object("files get", result, more).to_string());
            return Ok(exit);
        }
        let mut titles: Vec<String> =
            wanted.iter().map(|one| one.tree.title().to_owned()).collect();
        titles.dedup();
        let mut what = vec![count(got.files, "file")];
        if got.folders > 0 {
            what.push(count(got.folders, "folder"));
        }
        let goal = match pipe::is_pipe(self.dest) {
            true => "to standard output".to_owned(),
            false => format!("into {}", quoted(self.dest)),
        };
        out.line(&format!(
            "{}, {}, from {} {goal} in {}.",
            listed(&what),
            size::short(got.bytes),
            listed(&titles),
            time::span(self.started.elapsed())
        ));
        self.show_left_out(&got.left_out);
        if there > 0 {
            out.note("Existing files are unchanged; --replace overwrites them.");
        }
        Ok(exit)
    }

    fn show_left_out(&self, left_out: &[LeftOut]) {
        let out = &self.session.out;
        for one in left_out.iter().take(TOLD) {
            out.warn(&format!("/{}: {}.", name(&one.path), one.why));
        }
        if let Some(more) = left_out.len().checked_sub(TOLD).filter(|more| *more > 0) {
            out.warn(&format!("{} more were changed or left out; --json lists all.", more));
        }
    }
}

/// Refuses an extraction without enough free space, before it begins.
fn judge_room(total: ByteLen, folder: &Path) -> Outcome<()> {
    let Ok(found) = rustix::fs::statvfs(folder) else { return Ok(()) };
    let free = ByteLen::new(found.f_bavail.saturating_mul(found.f_frsize));
    if total <= free {
        return Ok(());
    }
    Err(Failure::new(
        Exit::NoRoom,
        format!(
            "{} are needed, but {} has {} free",
            size::both(total),
            quoted(folder),
            size::both(free)
        ),
    )
    .state("Nothing was extracted.")
    .next("Free some space there, or name a folder on a larger disk."))
}
