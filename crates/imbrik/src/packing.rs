//! The destination and format of an image: common to `save` and `repack`.

use crate::{
    args::Packing,
    exit::Exit,
    failure::{self, Explain, Failure, Outcome},
    pipe,
    render::{Out, json, quoted, size},
    resolve,
    session::Session,
};
use imbrik_core::{
    Class, Error,
    image::{Container, FolderId, Image, Limit, Output, OutputDisk, Pack, SumKind, manifest_path},
    layout::View,
    transfer::{OnDamage, OnUnfinished, ReadBack, SaveOptions, Saved, sample},
    units::ByteLen,
};
use std::{
    fs,
    os::unix::fs::MetadataExt,
    path::{Path, PathBuf},
    time::Duration,
};

/// The name of this program in manifests.
pub(crate) const MADE_BY: &str = concat!("imbrik ", env!("CARGO_PKG_VERSION"));

const UNTOUCHED: &str = "Nothing was read or written.";

pub(crate) fn options(
    session: &Session,
    args: &Packing,
    name: Option<&Path>,
) -> Outcome<SaveOptions> {
    let by_name = name.filter(|name| !name.is_dir()).and_then(Pack::of_name);
    let asked = args.pack;
    let only_read = name.filter(|name| {
        Container::of_name(name).is_some_and(|container| container.pack().is_none())
    });
    if let (Some(extension), None) = (only_read.and_then(Path::extension), asked) {
        let extension = extension.display();
        return Err(Failure::usage(format!("images ending in .{extension} are not written"))
            .next(format!("Name it {}.", endings())));
    }
    if let Some(name) = name
        && asked.or(by_name).is_none()
        && !name.is_dir()
        && !pipe::is_pipe(name)
        && !name.as_os_str().as_encoded_bytes().ends_with(b"/")
    {
        resolve::not_a_card(&session.fleet, name)?;
        return Err(Failure::usage(format!(
            "{} is not a folder, and its extension is not a known image format",
            quoted(name)
        ))
        .state(UNTOUCHED)
        .next(format!(
            "For a new folder, write {}/; for an image, write {}.img.zst.",
            name.display(),
            name.display()
        )));
    }
    if let (Some(asked), Some(by_name)) = (asked, by_name)
        && asked != by_name
    {
        return Err(Failure::usage(format!(
            "the image's name says {}, --pack says {}",
            by_name.extension(),
            asked.extension()
        ))
        .next("Leave --pack out, or change the name."));
    }
    let names = match (&args.sum[..], &session.config.sums) {
        ([], Some(names)) => names.clone(),
        ([], None) => vec![SumKind::Sha256.name().to_owned()],
        (names, _) => names.to_vec(),
    };
    let mut sums = Vec::new();
    for name in names {
        let kind: SumKind = name.parse()?;
        if !sums.contains(&kind) {
            sums.push(kind);
        }
    }
    let pack = asked.or(by_name).unwrap_or(Pack::usual());
    let fits = |level: &i32| pack.levels().is_some_and(|levels| levels.contains(level));
    let configured = session.config.level.filter(fits);
    if let Some(level) = args.level.filter(|level| !fits(level)) {
        let why = match pack.levels() {
            None => "a raw image has no level".to_owned(),
            Some(levels) => format!(
                "level {level} does not exist: {} has {} to {}",
                pack.container(),
                levels.start(),
                levels.end()
            ),
        };
        return Err(Failure::usage(why));
    }
    Ok(SaveOptions {
        pack,
        level: args.level.or(configured).unwrap_or(pack.usual_level()),
        sums,
        replace: args.replace,
        check: !args.no_check,
        in_pieces: false,
        owner: session.environment.owner,
        damage: OnDamage::default(),
        unfinished: OnUnfinished::Remove,
    })
}

/// The possible extensions of an image, as text.
fn endings() -> String {
    let told = |pack: Pack| {
        let ending = format!(".{}", pack.extension());
        match (pack == Pack::usual(), pack.is_raw()) {
            (true, _) => format!("{ending} (default)"),
            (_, true) => format!("{ending} (raw)"),
            _ => ending,
        }
    };
    let mut packs: Vec<_> = Pack::all().collect();
    packs.sort_by_key(|pack| (pack.is_raw(), *pack != Pack::usual()));
    let told: Vec<_> = packs.into_iter().map(told).collect();
    match told.split_last() {
        Some((last, others)) => format!("{} or {last}", others.join(", ")),
        None => String::new(),
    }
}

/// A folder that was created for an image. If it is still empty at the end, it is removed.
pub(crate) struct NewFolder(PathBuf);

impl NewFolder {
    fn create(path: &Path) -> Outcome<Self> {
        fs::create_dir(path).map_err(|error| {
            failure::system(format!("creating the folder {}", quoted(path)), error)
                .state(UNTOUCHED)
                .next("Create the folder first, or name another one.")
        })?;
        // Its entry must be on the disk when the image is complete.
        let above = path.parent().filter(|above| !above.as_os_str().is_empty());
        if let Ok(above) = fs::File::open(above.unwrap_or(Path::new("."))) {
            let _ = above.sync_all();
        }
        Ok(Self(path.to_owned()))
    }
}

impl Drop for NewFolder {
    fn drop(&mut self) {
        // Fails if it is in use.
        let _ = fs::remove_dir(&self.0);
    }
}

/// The destination of an image.
pub(crate) enum Destination {
    /// A file, in the folder that was there when its name was chosen.
    File(
        PathBuf,
        Option<FolderId>,
        #[expect(dead_code, reason = "it acts when it is dropped")] Option<NewFolder>,
    ),
    Pipe,
}

impl Destination {
    /// Standard output. From then on, all text goes to standard error.
    pub(crate) fn pipe(session: &Session) -> Outcome<Self> {
        if session.out.is_json() {
            return Err(Failure::usage("--json and - both want standard output")
                .next("Write the image to a file, or leave --json out."));
        }
        pipe::output()?;
        session.out.give_away();
        Ok(Self::Pipe)
    }

    /// The file `name`, or one with a proposed name that begins with `stem` in the folder `name`,
    /// or in the usual folder.
    pub(crate) fn file(
        session: &Session,
        name: Option<&Path>,
        stem: &str,
        packing: &Packing,
        pack: Pack,
    ) -> Outcome<Self> {
        let is_folder = |name: &&Path| name.as_os_str().as_encoded_bytes().ends_with(b"/");
        let missing = name.filter(is_folder).filter(|name| name.symlink_metadata().is_err());
        let new = missing.map(NewFolder::create).transpose()?;
        let path = path(session, name, stem, pack)?;
        if let Some(rack) = &session.fleet.rack
            && resolve::is_same_file_as_any(&path, rack)
        {
            return Err(Failure::refused(format!(
                "{} is the file of a slot of the rack",
                quoted(&path)
            ))
            .state(UNTOUCHED)
            .next("Choose another name."));
        }
        if !packing.replace && path.symlink_metadata().is_ok() {
            return Err(Failure::refused(format!("{} exists already", quoted(&path)))
                .state("It is unchanged.")
                .next("Choose another name, or add --replace."));
        }
        let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty());
        let folder = FolderId::open(folder.unwrap_or(Path::new("."))).ok();
        Ok(Self::File(path, folder, new))
    }

    pub(crate) fn is_pipe(&self) -> bool {
        matches!(self, Self::Pipe)
    }

    /// Its path; `-` for a pipe.
    pub(crate) fn path(&self) -> &Path {
        match self {
            Self::File(path, ..) => path,
            Self::Pipe => Path::new("-"),
        }
    }

    /// Its name for people.
    pub(crate) fn title(&self) -> String {
        match self {
            Self::File(path, ..) => quoted(path),
            Self::Pipe => "standard output".to_owned(),
        }
    }

    /// The same for the core.
    pub(crate) fn output(&self) -> Outcome<Output<'_>> {
        match self {
            Self::File(path, Some(folder), _) => Ok(Output::FileIn(path, *folder)),
            Self::File(path, None, _) => Ok(Output::File(path)),
            Self::Pipe => Ok(Output::Pipe(Box::new(pipe::output()?))),
        }
    }

    /// The state of the image after a failure.
    pub(crate) fn what_is_left(&self) -> String {
        match self {
            Self::File(path, ..) => {
                let name = path.file_name().unwrap_or_default();
                format!("no image {} was written", quoted(name.as_ref()))
            }
            Self::Pipe => "the image in the pipe is incomplete".to_owned(),
        }
    }

    /// The unfinished image that can be resumed.
    pub(crate) fn unfinished(&self) -> Option<PathBuf> {
        let Self::File(path, ..) = self else { return None };
        let with = |ending: &str| {
            let mut name = path.clone().into_os_string();
            name.push(ending);
            PathBuf::from(name)
        };
        Some(with(".part")).filter(|part| part.exists() && with(".part.notes").exists())
    }

    /// A command line: `command`, a card, the image, and `more`.
    pub(crate) fn line(&self, command: &str, card: &Path, more: &str) -> String {
        format!("{command} {} {} {more}", quoted(card), quoted(self.path())).trim_end().to_owned()
    }

    /// The image as JSON.
    pub(crate) fn made(&self, saved: &Saved, took: Duration, next: String) -> json::MadeImage {
        json::MadeImage {
            image: json::path(self.path()),
            image_bytes: saved.image_len.get(),
            image_disk_bytes: self.on_disk().map(ByteLen::get),
            image_read_from: match saved.read_back {
                ReadBack::Waived => None,
                ReadBack::Medium => Some(json::ReadFrom::Medium),
                ReadBack::Memory => Some(json::ReadFrom::Memory),
            },
            image_bytes_read_back: saved.read_back_len.get(),
            image_bytes_copied: saved.copied.get(),
            seconds: took.as_secs_f64(),
            sums: json::sums(&saved.sums),
            next,
        }
    }

    /// How much room it takes on its disk, when that is less than it is long.
    pub(crate) fn holes(&self, saved: &Saved) -> String {
        match self.on_disk().filter(|taken| *taken < saved.image_len) {
            Some(taken) => format!("; {} on the disk, the rest is holes", size::short(taken)),
            None => String::new(),
        }
    }

    /// How much room it takes on its disk; `None` through a pipe.
    pub(crate) fn on_disk(&self) -> Option<ByteLen> {
        let Self::File(path, ..) = self else { return None };
        fs::metadata(path).ok().map(|meta| ByteLen::new(meta.blocks().saturating_mul(512)))
    }

    /// Names the file next to the image that belongs to it, if there is one.
    pub(crate) fn tell_what_belongs_to_it(&self, out: &Out, pack: Pack) {
        let Self::File(path, ..) = self else { return };
        if !pack.holds_manifest() {
            let beside = manifest_path(path);
            let beside = beside.file_name().unwrap_or_default();
            out.line(&format!(
                "{} next to it contains its digests: keep both together.",
                quoted(beside.as_ref())
            ));
        }
    }

    /// The network traffic; `None` if the image is not on another machine.
    pub(crate) fn traffic(&self, session: &Session, saved: &Saved) -> Option<String> {
        let Self::File(path, ..) = self else { return None };
        session.fleet.machine.is_on_network(path).then(|| {
            let written = saved.image_len.saturating_sub(saved.copied);
            let copied = match saved.copied.is_zero() {
                true => String::new(),
                false => format!(", {} copied there", size::short(saved.copied)),
            };
            format!(
                "Network   {} written{copied}, {} read back",
                size::short(written),
                size::short(saved.read_back_len)
            )
        })
    }

    /// Reports in advance what will go over the network.
    pub(crate) fn tell_of_network(&self, session: &Session, options: &SaveOptions) {
        let Self::File(path, ..) = self else { return };
        if session.fleet.machine.is_on_network(path) {
            let folder = path.parent().unwrap_or(Path::new("/"));
            let back = match options.check {
                true => "; it is read back from there for verification (skip with --no-check)",
                false => "; it is not read back",
            };
            session.out.note(&format!(
                "{} is on another machine: compressed data are sent there{back}.",
                quoted(folder)
            ));
        }
    }

    /// The next step if the folder has disappeared.
    pub(crate) fn gone(&self) -> Option<String> {
        let Self::File(path, ..) = self else { return None };
        let folder = path.parent().unwrap_or(Path::new("/"));
        fs::metadata(folder).is_err().then(|| {
            format!(
                "{} is not there any more: mount its disk or share again, and repeat. Its leftover \
                 there will be removed.",
                quoted(folder)
            )
        })
    }

    /// The next command: `command`, the image, and `more`.
    pub(crate) fn next(&self, out: &Out, command: &str, more: &str) -> String {
        out.with_rack(format!("{command} {} {more}", out.pasted(self.path())).trim_end())
    }

    /// Judges, before a long read, whether the image can fit.
    pub(crate) fn judge_room(
        &self,
        session: &Session,
        view: &View,
        options: &SaveOptions,
    ) -> Outcome<()> {
        let Self::File(image, ..) = self else { return Ok(()) };
        let mut unfinished = image.clone().into_os_string();
        unfinished.push(".part");
        let unfinished = PathBuf::from(unfinished);
        if unfinished.symlink_metadata().is_ok() {
            let what = match (options.unfinished, self.unfinished()) {
                (OnUnfinished::Resume, Some(_)) => "is resumed, if it is of this card",
                (OnUnfinished::Resume, None) => "cannot be resumed and is removed",
                (OnUnfinished::Keep, Some(_)) => {
                    "is the leftover of an interrupted save; --resume would resume it, and now it is \
                     removed"
                }
                _ => "exists: it is a leftover and is removed, unless a program is writing it",
            };
            session.out.note(&format!("{} {what}.", quoted(&unfinished)));
        }
        let folder = image.parent().unwrap_or(Path::new("/"));
        let mut place = OutputDisk::of(folder)
            .state(UNTOUCHED)
            .next("Create the folder first, or name another one.")?;
        // A leftover is resumed or removed: either way, its space is available.
        let left = fs::metadata(&unfinished).map_or(0, |left| left.blocks().saturating_mul(512));
        place.free = place.free.saturating_add(ByteLen::new(left));
        if place.in_memory {
            session.out.warn(&format!(
                "{} is in memory: an image there is lost when the machine is switched off.",
                quoted(folder)
            ));
        }
        let whole = imbrik_core::store::ReadAt::size(view);
        if place.limit_for(whole).is_none() {
            return Ok(());
        }
        let (low, likely) = match (options.pack, place.limit_for(whole)) {
            // The length of a sparse file counts in full.
            (pack, Some(Limit::LargestFile(_))) if pack.is_raw() => (whole, whole),
            (pack, _) => {
                let sampled = sample(view, pack, options.level).state(UNTOUCHED)?;
                (part(sampled.used, sampled.low), part(sampled.used, sampled.likely))
            }
        };
        let tell = |limit: Limit, len: ByteLen| match limit {
            Limit::LargestFile(largest) => format!(
                "the image would be about {}, but the filesystem at {} supports files up to {}",
                size::both(len),
                quoted(folder),
                size::both(largest)
            ),
            Limit::Free(free) => format!(
                "the image would be about {}, but {} has {} free",
                size::both(len),
                quoted(folder),
                size::both(free)
            ),
        };
        if let Some(limit) = place.limit_for(low) {
            return Err(Failure::new(Exit::NoRoom, tell(limit, likely))
                .state("Nothing was written.")
                .next("Free some space there, or name a folder on a larger disk."));
        }
        if let Some(limit) = place.limit_for(likely) {
            session.out.warn(&format!("space may run out: {}.", tell(limit, likely)));
        }
        Ok(())
    }
}

/// So much of `len`.
pub(crate) fn part(len: ByteLen, ratio: f64) -> ByteLen {
    ByteLen::new((len.get() as f64 * ratio) as u64)
}

/// The name of an image without the extension of its container.
pub(crate) fn stem_of(image: &Path) -> String {
    let name = image.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let mut stem = name.as_str();
    for end in
        [".zst", ".zstd", ".gz", ".xz", ".bz2", ".zip", ".7z", ".img", ".iso", ".bin", ".raw"]
    {
        let at = stem.len().saturating_sub(end.len());
        if at > 0 && stem.get(at..).is_some_and(|found| found.eq_ignore_ascii_case(end)) {
            stem = &stem[..at];
        }
    }
    if pipe::is_pipe(image) { "image".to_owned() } else { stem.to_owned() }
}

/// Reports when an image was compared with the page cache instead of the disk.
pub(crate) fn tell_of(session: &Session, saved: &Saved) {
    if let Some(why) = &saved.not_beside {
        session.out.warn(&format!(
            "The image is complete, but its checksum or manifest file could not be written next to \
             it: {why}. Write a checksum file with `imbrik check --sum`."
        ));
    }

    if saved.read_back == ReadBack::Memory && session.out.is_brief() {
        session.out.in_brief("read back from memory".to_owned());
    } else if saved.read_back == ReadBack::Memory {
        session.out.warn(
            "The image was compared with the system's copy in memory, not with the disk. Verify it \
             later with `imbrik check`.",
        );
    }
}

/// Options for rewriting the image `path` in place, with the same format and the same files next to it.
pub(crate) fn in_place(
    session: &Session,
    path: &Path,
    image: &Image,
    no_check: bool,
) -> Outcome<SaveOptions> {
    let pack = Pack::all().find(|pack| pack.container() == image.container());
    let pack = pack.ok_or_else(|| {
        Failure::usage(format!("{} is {}, which is only read", quoted(path), image.container()))
            .state("The image is unchanged.")
            .next("Convert it with `imbrik repack`, and use the new image.")
    })?;
    let level = session
        .config
        .level
        .filter(|level| pack.levels().is_some_and(|levels| levels.contains(level)));
    let is_beside = |kind: &SumKind| kind.path_beside(path).exists();
    Ok(SaveOptions {
        pack,
        level: level.unwrap_or(pack.usual_level()),
        sums: SumKind::ALL.into_iter().filter(is_beside).collect(),
        replace: true,
        check: !no_check,
        in_pieces: image.is_in_pieces(),
        owner: session.environment.owner,
        damage: OnDamage::default(),
        unfinished: OnUnfinished::Remove,
    })
}

/// How a command ends that made an image.
pub(crate) fn exit(saved: &Saved) -> Exit {
    if saved.not_beside.is_some() { Exit::Failed } else { Exit::Done }
}

/// A failure while an image was converted to another one.
pub(crate) fn failed(error: Error, image: &Image, to: &Destination) -> Failure {
    let next = match error.class() {
        Class::Mismatch => "Run `imbrik check` for details, or try another copy of the image.",
        _ => what_next(&error),
    };
    Failure::from(error)
        .state(format!("{} is unchanged; {}.", pipe::title(image.path()), to.what_is_left()))
        .next(next)
}

/// The next step after a failure while an image was written.
pub(crate) fn what_next(error: &Error) -> &'static str {
    match error.class() {
        Class::Cancelled => "Run the same command again to start over.",
        Class::NoRoom => "Free some space there, or name a folder on a larger disk.",
        Class::Io => "Try another disk, cable or reader; see the kernel log (`dmesg`).",
        Class::Mismatch => "Try another disk, and have its memory and cable checked.",
        _ => "",
    }
}

/// The path of the image: as named, or proposed. The folder for an image called `name`, or for one with a proposed
/// name.
pub(crate) fn folder_for(session: &Session, name: Option<&Path>) -> Outcome<PathBuf> {
    let parent = |file: &Path| match file.parent() {
        Some(parent) if !parent.as_os_str().is_empty() => parent.to_owned(),
        _ => PathBuf::from("."),
    };
    let folder = match name {
        Some(folder) if folder.is_dir() => folder.to_owned(),
        Some(file) => parent(file),
        None => session.config.images.clone().unwrap_or_else(|| PathBuf::from(".")),
    };
    fs::canonicalize(&folder).map_err(|error| {
        failure::system(format!("the folder {}", quoted(&folder)), error)
            .state(UNTOUCHED)
            .next("Create the folder first, or name another one.")
    })
}

fn path(session: &Session, name: Option<&Path>, stem: &str, pack: Pack) -> Outcome<PathBuf> {
    if let Some(name) = name.filter(|name| !name.is_dir()) {
        resolve::not_a_card(&session.fleet, name)?;
        if name.as_os_str().as_encoded_bytes().ends_with(b"/") {
            return Err(Failure::usage(format!("{} is not a folder", quoted(name)))
                .state(UNTOUCHED)
                .next("Choose another name."));
        }
        return Ok(std::path::absolute(name).unwrap_or_else(|_| name.to_owned()));
    }
    let folder = folder_for(session, name)?;
    let extension = pack.extension();
    let names = fs::read_dir(&folder).into_iter().flatten().flatten();
    let names: Vec<_> = names.filter_map(|entry| entry.file_name().into_string().ok()).collect();
    Ok(folder.join(free_name(stem, &extension, &names)))
}

/// The first name of a day, or the one after the last existing one: the name of a removed image is not reused.
fn free_name(stem: &str, extension: &str, names: &[String]) -> String {
    let number = |name: &String| {
        let middle = name.strip_prefix(stem)?.strip_suffix(extension)?.strip_suffix('.')?;
        match middle {
            "" => Some(1),
            _ => middle.strip_prefix('-')?.parse::<u32>().ok().filter(|number| *number > 1),
        }
    };
    match names.iter().filter_map(number).max() {
        None => format!("{stem}.{extension}"),
        Some(last) => format!("{stem}-{}.{extension}", last.saturating_add(1)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn second_image_of_a_day_gets_the_next_number() {
        let free = |names: &[&str]| {
            let names: Vec<_> = names.iter().map(|name| (*name).to_owned()).collect();
            free_name("hive-07-2026-11-27", "img.zst", &names)
        };
        assert_eq!(
            free(&["hive-07-2026-11-26.img.zst", "hive-07-2026-11-27.img.xz"]),
            "hive-07-2026-11-27.img.zst"
        );
        assert_eq!(free(&["hive-07-2026-11-27.img.zst"]), "hive-07-2026-11-27-2.img.zst");
        assert_eq!(free(&["hive-07-2026-11-27-5.img.zst"]), "hive-07-2026-11-27-6.img.zst");
        let odd = ["hive-07-2026-11-27-x.img.zst", "hive-07-2026-11-27-9.img.zst.sha256"];
        assert_eq!(free(&odd), "hive-07-2026-11-27.img.zst");
    }

    #[test]
    fn stem_excludes_the_container_extension() {
        let of = |name: &str| stem_of(Path::new(name));
        assert_eq!(of("/a/hive-07.img.zst"), "hive-07");
        assert_eq!(of("hive.IMG.XZ"), "hive");
        assert_eq!(of("hive"), "hive");
        assert_eq!(of(".img"), ".img");
        assert_eq!(of("-"), "image");
    }
}
