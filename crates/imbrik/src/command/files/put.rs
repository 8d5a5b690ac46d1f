//! `imbrik files put`: files into an image.

use super::{Looked, PartPath, Source};
use crate::{
    args::PutArgs,
    exit::Exit,
    failure::{Failure, Outcome, system},
    opened::Opened,
    packing::{self, Destination},
    pipe,
    render::{count, json, quoted, size, time},
    resolve,
    session::Session,
};
use imbrik_core::{
    Class,
    files::{Tree, below, find},
    fs::FileKind,
    image::Image,
    layout::IdentityFile,
    operation::EditPlan,
    progress::Watch,
    store::Tally,
    transfer::Saved,
    units::ByteLen,
};
use jiff::Timestamp;
use std::{
    fs,
    os::unix::ffi::OsStrExt,
    path::{Path, PathBuf},
    time::Instant,
};

const UNTOUCHED: &str = "The image is as it was.";
/// The longest file that is put in: it is held in memory.
const LONGEST: ByteLen = ByteLen::mib(256);

pub(super) fn run(session: &Session, args: &PutArgs) -> Outcome<Exit> {
    let started = Instant::now();
    if pipe::is_pipe(&args.image) {
        return Err(Failure::usage("nothing can be put into an image in a pipe: it has no place")
            .next("Name a file."));
    }
    let Some((goal, names)) = args.paths.split_last() else { return Ok(Exit::Done) };
    if resolve::not_a_card(&session.fleet, &args.image).is_err() {
        return Err(Failure::usage("files are put into images only")
            .state("Nothing was written to the card.")
            .next(
                "Save the card, put them into the image, and restore that; or restore with --set.",
            ));
    }
    let goal = PartPath::of(goal)?;
    let names: Vec<PathBuf> = names.iter().map(PathBuf::from).collect();
    let source = Source::open(session, &args.image, &Tally::default())?;
    let Opened::Image(image) = &source.opened else { return Ok(Exit::Done) };
    let options = packing::in_place(session, &args.image, image, args.no_check)?;
    let (part, tree) = source.part(goal.part.as_deref())?;
    let index = source.survey.parts.iter().position(|one| one == part).unwrap_or(0);
    let title = tree.title().to_owned();
    let mut files = Vec::new();
    for name in &names {
        let (path, replaced) = place(&tree, &goal.path, name, names.len())?;
        let content = content(name)?;
        files.push(Wanted { part: index, path, replaced, content });
    }
    let put: Vec<_> = files.iter().map(Wanted::told).collect();
    let wanted = files.into_iter().map(|one| IdentityFile {
        part: one.part,
        path: one.path,
        content: one.content,
    });
    session.out.note(&format!("Looking at every file of {title} first ..."));
    let now = Timestamp::now();
    let means = session.reshape_options(false);
    let mut plan = EditPlan::new(image, wanted.collect(), means, packing::MADE_BY, now)
        .map_err(|error| refused(error, image))?;
    let day = now.strftime("%Y-%m-%d");
    let names: Vec<_> = put.iter().map(|one| one.path.clone()).collect();
    let history = format!("{} put into {title} on {day}", names.join(", "));
    plan.manifest.note = Some(match plan.manifest.note.take() {
        Some(note) => format!("{note}; {history}"),
        None => history,
    });
    let progress = session.progress(if args.no_check { 1 } else { 2 });
    let watch = Watch { observer: &progress, cancel: &session.environment.interrupt.cancel };
    let path = std::path::absolute(&args.image).unwrap_or_else(|_| args.image.clone());
    let saved = plan.run(&path, &options, watch).map_err(|error| {
        let next = packing::what_next(&error);
        Failure::from(error).state(UNTOUCHED).next(next)
    })?;
    drop(progress);
    packing::tell_of(session, &saved);
    show(session, &Destination::File(path), &title, part.number, &put, &saved, started);
    Ok(packing::exit(&saved))
}

/// A file that is to be put in.
struct Wanted {
    part: usize,
    /// From the volume's root, with slashes.
    path: String,
    /// How long the file is that stands there now.
    replaced: Option<u64>,
    content: Vec<u8>,
}

impl Wanted {
    fn told(&self) -> json::FilePut {
        json::FilePut {
            path: format!("/{}", self.path),
            bytes: ByteLen::of(&self.content).get(),
            replaced_bytes: self.replaced,
        }
    }
}

/// Where in the volume `name` goes: into the folder that `goal` is, or under that name.
fn place(tree: &Tree, goal: &[u8], name: &Path, count: usize) -> Outcome<(String, Option<u64>)> {
    let files = tree.files().looked()?;
    let found = find(&*files, goal).looked()?;
    let is_folder =
        |file| -> Outcome<bool> { Ok(files.info(file).looked()?.kind == FileKind::Folder) };
    let base = name.file_name().unwrap_or_default().as_bytes();
    let path = match &found[..] {
        [one] if is_folder(one.file)? => below(&one.path, base),
        [one] if count == 1 => one.path.clone(),
        [] if count == 1 && !goal.ends_with(b"/") => {
            let start = goal.iter().position(|byte| *byte != b'/').unwrap_or(goal.len());
            goal.get(start..).unwrap_or_default().to_vec()
        }
        _ => {
            let goal = crate::render::files::name(goal);
            return Err(Failure::usage(format!("{goal} is no folder in {}", tree.title()))
                .state(UNTOUCHED)
                .next("Name a folder that is there; `imbrik files list` shows what there is."));
        }
    };
    let there = find(&*files, &[b"/", &path[..]].concat()).looked()?;
    let replaced = match &there[..] {
        [one] => Some(files.info(one.file).looked()?.size),
        _ => None,
    };
    match String::from_utf8(path) {
        Ok(path) if !path.is_empty() => Ok((path, replaced)),
        _ => Err(Failure::usage("a file can only be put under a name in UTF-8").state(UNTOUCHED)),
    }
}

fn content(name: &Path) -> Outcome<Vec<u8>> {
    let reading = |error| system(format!("reading {}", quoted(name)), error).state(UNTOUCHED);
    let data = fs::metadata(name).map_err(reading)?;
    if !data.is_file() {
        return Err(Failure::usage(format!("{} is no file", quoted(name)))
            .state(UNTOUCHED)
            .next("Only files are put in, one by one."));
    }
    if data.len() > LONGEST.get() {
        return Err(Failure::usage(format!(
            "{} has {}, and files of up to {} are put in",
            quoted(name),
            size::short(ByteLen::new(data.len())),
            size::short(LONGEST)
        ))
        .state(UNTOUCHED));
    }
    fs::read(name).map_err(reading)
}

fn refused(error: imbrik_core::Error, image: &Image) -> Failure {
    let path = quoted(image.path());
    let next = match error.class() {
        Class::NoRoom => {
            let megabytes = image.content().size().get().div_ceil(1_000_000).saturating_add(100);
            format!("An image with room is made by: imbrik fit {path} --to {megabytes}MB")
        }
        Class::Corrupt => format!("`imbrik show {path}` tells more."),
        _ => String::new(),
    };
    Failure::from(error).state(UNTOUCHED).next(next)
}

fn show(
    session: &Session,
    to: &Destination,
    title: &str,
    part: Option<u32>,
    put: &[json::FilePut],
    saved: &Saved,
    started: Instant,
) {
    let out = &session.out;
    if out.is_json() {
        let more = json::FilesPut {
            image: json::path(to.path()),
            image_bytes: saved.image_len.get(),
            partition: part,
            files: put.to_vec(),
            frames_taken_over: saved.taken_over,
            seconds: started.elapsed().as_secs_f64(),
        };
        out.line(&json::object("files put", "done", more).to_string());
        return;
    }
    out.line("");
    for one in put {
        let len = size::short(ByteLen::new(one.bytes));
        let what = match one.replaced_bytes {
            Some(old) => format!("{len}, in place of {}", size::short(ByteLen::new(old))),
            None => format!("{len}, new"),
        };
        out.line(&format!("Put       {}  {what}", one.path));
    }
    out.line(&format!("Into      {title} of {}", quoted(to.path())));
    if saved.taken_over > 0 {
        let frames = count(saved.taken_over, "frame");
        out.line(&format!("Kept      {frames} of the image, taken over as packed"));
    }
    for sum in &saved.sums {
        out.line(&format!("{:<9} {}", sum.kind.to_string(), sum.hex));
    }
    out.line(&format!("Time      {}", time::span(started.elapsed())));
    out.next("Next      ", &to.next("imbrik check", ""));
}
