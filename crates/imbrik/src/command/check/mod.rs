//! `imbrik check`: verifies images, and compares them with cards.

mod against;
mod report;

use crate::{
    args::CheckArgs,
    exit::Exit,
    failure::{self, Explain, Failure, Outcome},
    pipe,
    render::{Tone, cards::Seen, count, json, quoted},
    resolve,
    session::Session,
};
use against::{Against, against_card, against_image};
use imbrik_core::{
    card::Listing,
    image::{Sum, SumFile, SumKind, pasted_for, publish_beside},
    layout::Survey,
    operation::ImageCheck,
    progress::Watch,
    shelf::CardIdentity,
    store::Tally,
};
use report::Report;
use std::{
    cell::OnceCell,
    fs::{self, File},
    io::Read,
    path::{Path, PathBuf},
    time::Instant,
};

/// The longest list of hashes that is read, in bytes.
const MOST_SUMS: u64 = 1 << 20;

pub(crate) fn run(session: &Session, args: &CheckArgs) -> Outcome<Exit> {
    let images = named_images(args)?;
    if let [image] = &images[..] {
        return one(session, args, image, &OnceCell::new());
    }
    several_make_sense(args, &images)?;
    let mut exits = Vec::new();
    let connected = OnceCell::new();
    for image in &images {
        if !session.out.is_json() {
            session.out.line("");
            session.out.line(&session.out.paint(Tone::Strong, &quoted(image)));
        }
        exits.push(match one(session, args, image, &connected) {
            Ok(exit) => exit,
            Err(failure) if failure.exit == Exit::Interrupted => return Err(failure),
            Err(failure) => {
                let image = Some(json::path(image));
                let told = json::Failed { image, ..json::failed(&failure) };
                session.out.failure_as(&json::object("check", "failed", told), &failure);
                failure.exit
            }
        });
    }
    let bad: Vec<_> = exits.iter().filter(|exit| **exit != Exit::Done).copied().collect();
    if !session.out.is_json() {
        session.out.line("");
        session.out.line(&match bad.len() {
            // Not "intact": one without digests was only read.
            0 if exits.len() == 2 => "Both images passed.".to_owned(),
            0 => format!("All {} passed.", count(exits.len() as u64, "image")),
            bad => {
                format!("{bad} of {} did not pass: see above.", count(exits.len() as u64, "image"))
            }
        });
    }
    let first = bad.first().copied().unwrap_or(Exit::Done);
    Ok(if bad.iter().all(|exit| *exit == first) { first } else { Exit::Mismatch })
}

/// The images, and of a folder all files in it that have the name of an image.
fn named_images(args: &CheckArgs) -> Outcome<Vec<PathBuf>> {
    let mut images = Vec::new();
    for path in &args.images {
        if !path.is_dir() {
            images.push(path.clone());
            continue;
        }
        let failed = |error| failure::system(format!("reading {}", quoted(path)), error);
        let mut inside = Vec::new();
        for entry in fs::read_dir(path).map_err(failed)? {
            let file = entry.map_err(failed)?.path();
            if file.is_file() && resolve::has_image_name(&file) {
                inside.push(file);
            }
        }
        if inside.is_empty() {
            return Err(Failure::usage(format!("no image is in the folder {}", quoted(path)))
                .next("Name the image itself if it has another extension."));
        }
        inside.sort();
        images.append(&mut inside);
    }
    Ok(images)
}

/// Refuses options for a single image if several are named.
fn several_make_sense(args: &CheckArgs, images: &[PathBuf]) -> Outcome<()> {
    let is_list = |text: &str| Path::new(text).is_file() || text.contains(char::is_whitespace);
    let what = if images.iter().any(|image| pipe::is_pipe(image)) {
        "- is one image, but several are named"
    } else if args.expect.as_deref().is_some_and(|text| !is_list(text)) {
        "--expect is for one image, but several are named"
    } else {
        return Ok(());
    };
    Err(Failure::usage(what).next("Check them one by one."))
}

/// The hashes that `--expect` names for `image`: pasted, or from a file.
fn wanted_sums(args: &CheckArgs, image: &Path) -> Outcome<Vec<Sum>> {
    let Some(text) = &args.expect else { return Ok(Vec::new()) };
    let name = image.file_name().unwrap_or_default();
    let path = Path::new(text);
    if !path.is_file() {
        return Ok(pasted_for(text, name)?);
    }
    let mut lines = String::new();
    let read = File::open(path).and_then(|file| file.take(MOST_SUMS).read_to_string(&mut lines));
    read.map_err(|error| failure::system(format!("reading {}", quoted(path)), error))?;
    pasted_for(&lines, name).map_err(|error| {
        let failure = Failure::from(error);
        let what = format!("{}: {}", quoted(path), failure.what);
        Failure { what, ..failure }
            .next("Look for the file's line, and paste its hash: --expect HASH.")
    })
}

/// The connected cards, which are examined once for all images.
type Connected = OnceCell<Vec<Seen>>;

fn one(session: &Session, args: &CheckArgs, path: &Path, connected: &Connected) -> Outcome<Exit> {
    let started = Instant::now();
    let expected = wanted_sums(args, path)?;
    let image = session
        .open_image(path)
        .state("The image was only read.")
        .next("If you have another copy, check that one.")?;
    let is_pipe = pipe::is_pipe(path);
    let (listed, unlisted_in) = if is_pipe { (Vec::new(), None) } else { listed_sums(path)? };
    let to_make = to_make(args, &listed, is_pipe)?;
    let against = args.against.as_deref().map(|name| Against::of(session, name)).transpose()?;
    let sums: Vec<Sum> = listed.iter().map(|listed| listed.sum.clone()).collect();
    if let (Some(_), Some(Against::Image(_))) = (&args.only, &against) {
        return Err(Failure::usage("--only is for a comparison with a card")
            .next("Leave it out: two images are compared as a whole."));
    }
    let check = ImageCheck { image: &image, listed: &sums, expected: &expected, make: to_make };
    let progress = session.progress(check.steps() + usize::from(against.is_some()));
    let cancel = &session.environment.interrupt.cancel;
    let watch = Watch { observer: &progress, cancel };
    let found = check.run(watch).state("The image was only read; the rest was not checked.")?;
    let is_undamaged = found.tiles.spans.is_empty();
    let tally = Tally::default();
    let card = match &against {
        Some(Against::Card(card)) if is_undamaged => {
            Some(against_card(session, &image, args.only.as_deref(), card, &tally, watch)?)
        }
        Some(Against::Image(other)) if is_undamaged => Some(against_image(&image, other, watch)?),
        _ => None,
    };
    drop(progress);
    let mut report = Report {
        image: &image,
        listed: &listed,
        unlisted_in,
        found: &found,
        card: card.as_ref(),
        made: None,
        cards: match found.content.as_ref().filter(|_| against.is_none()) {
            Some(content) => same_ids(session, &content.survey, connected),
            None => Vec::new(),
        },
        against: args.against.as_deref(),
        tally: &tally,
        took: started.elapsed(),
    };
    if let Some(kind) = to_make
        && report.exit() == Exit::Done
        && let Some(sum) = found.sums.iter().find(|sum| sum.kind == kind)
    {
        let made = publish_beside(path, sum, session.environment.owner);
        report.made = Some(made.state("The image is intact; its checksum file was not written.")?);
    }
    report.show(&session.out);
    Ok(report.exit())
}

/// The names of connected cards with the same ids as an image: its own card, and those that it was restored to.
fn same_ids(session: &Session, survey: &Survey, connected: &Connected) -> Vec<String> {
    let ids = CardIdentity::from_survey(survey).ids;
    if ids.is_empty() {
        return Vec::new();
    }
    let seen = connected.get_or_init(|| match session.fleet.list() {
        Ok(Listing { cards, .. }) => session.fleet.look_at_all(cards),
        Err(_) => Vec::new(),
    });
    let has_them = |seen: &&Seen| {
        seen.survey.as_ref().is_ok_and(|survey| CardIdentity::from_survey(survey).ids == ids)
    };
    seen.iter().filter(has_them).map(|seen| seen.card.path.display().to_string()).collect()
}

/// A hash of the image in a file next to it.
struct Listed {
    sum: Sum,
    file: PathBuf,
}

/// The checksum file to write, if no file of its kind exists.
fn to_make(args: &CheckArgs, listed: &[Listed], is_pipe: bool) -> Outcome<Option<SumKind>> {
    let Some(name) = &args.sum else { return Ok(None) };
    let kind: SumKind = name.parse()?;
    if is_pipe {
        return Err(Failure::usage(
            "a checksum file is written next to the image, and - has no folder",
        ));
    }
    Ok(Some(kind).filter(|kind| !listed.iter().any(|listed| listed.sum.kind == *kind)))
}

/// The hashes in the checksum files next to `image` and in lists of all files of its folder, and a list without it.
fn listed_sums(image: &Path) -> Outcome<(Vec<Listed>, Option<PathBuf>)> {
    let name = image.file_name().unwrap_or_default();
    let mut sums: Vec<Listed> = Vec::new();
    for kind in SumKind::ALL {
        let file = kind.path_beside(image);
        let Ok(bytes) = fs::read(&file) else { continue };
        let hex = SumFile::decode(&bytes);
        let hex = hex.hash_of(name).ok_or_else(|| {
            Failure::new(Exit::Mismatch, format!("{} has no line for this image", quoted(&file)))
                .state("The image itself was not checked.")
                .next("Remove that file, or put the right one in its place.")
        })?;
        sums.push(Listed { sum: Sum { kind, hex: hex.to_owned() }, file });
    }
    let mut unlisted_in = None;
    for (kind, file, list) in lists_beside(image) {
        let list = SumFile::decode(&list);
        match list.hash_of(name).filter(|_| list.has_line_for(name)) {
            Some(hex) => sums.push(Listed { sum: Sum { kind, hex: hex.to_owned() }, file }),
            None => unlisted_in = unlisted_in.or(Some(file)),
        }
    }
    Ok((sums, unlisted_in))
}

/// The checksum lists in the folder of `image`, with their content.
fn lists_beside(image: &Path) -> Vec<(SumKind, PathBuf, Vec<u8>)> {
    let mut lists = Vec::new();
    for kind in SumKind::ALL {
        let upper = match kind {
            SumKind::Blake3 => "B3SUMS".to_owned(),
            _ => format!("{}SUMS", kind.name().to_uppercase()),
        };
        let lower = upper.to_lowercase();
        let names = [upper.clone(), format!("{upper}.txt"), lower.clone(), format!("{lower}.txt")];
        let files = names.iter().map(|name| image.with_file_name(name));
        let read = |file: PathBuf| {
            // A pipe of that name would never end.
            file.is_file().then_some(())?;
            let mut list = Vec::new();
            File::open(&file).ok()?.take(MOST_SUMS).read_to_end(&mut list).ok()?;
            Some((kind, file, list))
        };
        lists.extend(files.filter_map(read).next());
    }
    lists
}
