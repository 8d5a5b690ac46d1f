//! `imbrik demo`: the full example on simulated cards, nothing hidden.
//!
//! The cards are created from small images in the program; every command is run exactly as printed, and the real output
//! follows.

use super::run as run_command;
use crate::{
    args::DemoArgs,
    exit::Exit,
    failure::{self, Failure, Outcome},
    render::{Out, Tone, quoted},
    session::Environment,
};
use std::{
    collections::BTreeSet,
    env,
    ffi::OsString,
    fs, io,
    path::{Component, Path, PathBuf},
};

/// The rack of Hollow Oak Apiary, as a user would write it.
const RACK: &str = r#"# Stand-ins for the cards and readers of Hollow Oak Apiary.

[[slot]]
name = "a"                 # the card of the board at hive 7
size = 4009754624
model = "Willow card 4G"

[[slot]]
name = "b"                 # a blank one, sold as the same size
size = 3951034368
model = "Sorrel card 4G"

[[slot]]
name = "c"                 # an older card that may be overwritten
size = 8010072064
model = "Willow card 8G"

[[slot]]
name = "d"                 # a large blank one
size = 15931539456
model = "Clover card 16G"

[[slot]]
name = "e"                 # three blank ones of different makes, for more hives
size = 3951034368
model = "Sorrel card 4G"

[[slot]]
name = "f"
size = 8010072064
model = "Willow card 8G"

[[slot]]
name = "g"
size = 3904897024
model = "Yarrow card 4G"
"#;

/// The file that is added to an image.
const CALIBRATION: &str = "images/calibration.toml";

/// A card that fails, as one reader reads it and as another does.
const WORN: &str = r#"# A worn card of Hollow Oak Apiary, in two readers.

[[slot]]
name = "old"               # here, parts of two files cannot be read
size = 4009754624
model = "Willow card 4G"
unreadable = [[308502528, 20480], [308715520, 512], [1501429760, 4194304]]

[[slot]]
name = "other"             # the same card in another reader
size = 4009754624
file = "old.img"
model = "Willow card 4G"
"#;

/// The racks, from the folder of the demo.
const RACKS: [(&str, &str); 2] = [("rack/rack.toml", RACK), ("worn/rack.toml", WORN)];

/// The written cards of the racks, as sparse files; the rack gives them their full length. They share most of their
/// bytes, so one archive of all is much smaller than one of each.
const CARDS: &[u8] = include_bytes!("../../../../demo/cards.tar.zst");

/// The file that marks a folder of an earlier demo: it lists the demo's files, which may be replaced.
const MARK: &str = ".imbrik-demo";
/// The folders that it fills.
const FOLDERS: [&str; 4] = ["rack", "worn", "images", "shelf"];

pub(crate) fn run(args: &DemoArgs, is_json: bool, environment: &Environment) -> Outcome<Exit> {
    if is_json {
        return Err(Failure::usage("the demo has no JSON output")
            .state("Nothing was done.")
            .next("Run it without --json, then try other commands with it on its cards."));
    }
    let out = Out::new(false, environment.color);
    let failed = |error| set_up_failed(&args.dir, error);
    let others = set_up(&args.dir, &out)?;
    env::set_current_dir(&args.dir).map_err(failed)?;
    let environment = Environment { rack: Some("rack".into()), asks: false, ..environment.clone() };
    out.line(&format!("$ cd {}", quoted(&args.dir)));
    out.line("$ export IMBRIK_RACK=$PWD/rack");

    let show = |step: &Step<'_>| step.show(&out, &environment);
    first_steps().iter().try_for_each(show)?;
    let image = new_image(&others).map_err(failed)?;
    let fitted = image.replace(".img.zst", "-fitted.img.zst");
    steps(&image, &fitted).iter().try_for_each(show)?;
    nights().iter().try_for_each(show)?;
    note_what_was_made(Path::new("."), &others).map_err(failed)?;
    out.line("");
    out.line(&format!(
        "The cards and the image stay in {}: try your own commands on them.",
        quoted(&env::current_dir().unwrap_or_else(|_| args.dir.clone()))
    ));
    Ok(Exit::Done)
}

/// A command of the demo: its purpose, and its exit code.
struct Step<'a> {
    comment: &'a str,
    words: Vec<&'a str>,
    expected: Exit,
}

impl<'a> Step<'a> {
    const fn new(comment: &'a str, words: Vec<&'a str>) -> Self {
        Self { comment, words, expected: Exit::Done }
    }

    /// Prints the command line, and runs it.
    fn show(&self, out: &Out, environment: &Environment) -> Outcome<()> {
        out.line("");
        out.line(&out.paint(Tone::Strong, &format!("# {}", self.comment)));
        out.line(&out.paint(Tone::Strong, &format!("$ imbrik {}", typed_as(&self.words))));
        let typed = std::iter::once("imbrik").chain(self.words.iter().copied());
        match run_command(typed.map(OsString::from).collect(), environment.clone()) {
            exit if exit == self.expected => Ok(()),
            exit => Err(Failure::new(
                exit,
                format!(
                    "this step of the demo ended with code {}, not {}",
                    exit.code(),
                    self.expected.code()
                ),
            )),
        }
    }
}

/// Words as a shell takes them.
fn typed_as(words: &[&str]) -> String {
    let quoted = words.iter().map(|word| match word.contains(' ') {
        true => format!("'{word}'"),
        false => (*word).to_owned(),
    });
    quoted.collect::<Vec<_>>().join(" ")
}

fn first_steps() -> [Step<'static>; 3] {
    [
        Step::new("Which card is which?", vec!["cards"]),
        Step::new("Show what is on the card of hive 7, and where.", vec!["show", "rack:a"]),
        Step::new(
            "Save the card of hive 7 into the folder images.",
            vec!["save", "rack:a", "images"],
        ),
    ]
}

/// The steps with the new image, and with its copies.
fn steps<'a>(image: &'a str, fitted: &'a str) -> Vec<Step<'a>> {
    let onto_any = "It can be restored to any card, and its last volume then fills the card.";
    vec![
        Step::new(
            "Is the image intact, and does the card still match it?",
            vec!["check", image, "--against", "rack:a"],
        ),
        Step::new(
            "Clone it to another \"4 GB\" card. That one is a little smaller: the last volume shrinks.",
            vec!["restore", image, "rack:b", "--yes"],
        ),
        Step::new(
            "Shrink the image, with some free space, so that it fits smaller cards.",
            vec!["fit", image],
        ),
        Step::new(onto_any, vec!["restore", fitted, "rack:d", "--yes"]),
        Step::new(
            "Restore it to the 8 GB card: first only the plan.",
            vec!["restore", image, "rack:c", "--plan"],
        ),
        Step::new(
            "Now really. (Without --yes it asks for the card's host name.)",
            vec!["restore", image, "rack:c", "--yes"],
        ),
        Step::new(
            "Copies for three more hives in one read of the card, each with its own name and ids.",
            vec!["clone", "rack:a", "rack:e", "rack:f", "rack:g", "--as-new", "hive-1{n}", "--yes"],
        ),
        Step::new("Now these cards contain the system.", vec!["cards"]),
        Step::new(
            "Extract one log from the image, without unpacking or mounting it.",
            vec!["files", "get", image, "2:/var/log/hive.log", "-"],
        ),
        Step::new(
            "Add a calibration file for the scales to the image.",
            vec!["files", "put", image, CALIBRATION, "2:/home/keeper/hive"],
        ),
        Step {
            expected: Exit::Mismatch,
            ..Step::new(
                "Which files differ between the card and its image?",
                vec!["files", "diff", "rack:a", image],
            )
        },
        Step::new("Does a card have the capacity it claims?", vec!["weigh", "rack:d"]),
        Step {
            expected: Exit::Unreadable,
            ..Step::new(
                "Save a worn card with unreadable sectors: the rest is saved, and lost files are named.",
                vec!["save", "rack:old", "images/worn.img.zst", "--rack", "worn"],
            )
        },
        Step::new(
            "Another reader can read more: add the missing data to the image.",
            vec!["mend", "images/worn.img.zst", "rack:other", "--rack", "worn"],
        ),
    ]
}

/// Three nights of saves of hive-07 onto a shelf.
fn nights() -> Vec<Step<'static>> {
    let again = vec!["shelf", "add", "shelf", "rack:a"];
    vec![
        Step::new("Images over time: a folder becomes a shelf.", vec!["shelf", "make", "shelf"]),
        Step::new(
            "The first night.",
            vec!["shelf", "add", "shelf", "rack:a", "--note", "the good evening"],
        ),
        Step::new(
            "Something changes on the card.",
            vec!["files", "put", "rack:a", CALIBRATION, "2:/home/keeper/hive", "--yes"],
        ),
        Step::new("The second night costs what changed.", again.clone()),
        Step::new(
            "The next day.",
            vec!["files", "folder", "rack:a", "2:/home/keeper/hive/brood", "--yes"],
        ),
        Step::new("The third night.", again),
        Step::new("Keep only the two newest.", vec!["shelf", "keep", "shelf", "2 newest"]),
        Step::new("Remove the images that no rule keeps.", vec!["shelf", "thin", "shelf", "--yes"]),
        Step::new("What is there now?", vec!["shelf", "list", "shelf"]),
        Step::new(
            "Restore the newest image to a card, by the name of the hive.",
            vec!["restore", "shelf/hive-07", "rack:e", "--yes"],
        ),
    ]
}

fn set_up_failed(dir: &Path, error: io::Error) -> Failure {
    failure::system(format!("setting up the demo in {}", quoted(dir)), error)
        .next("Name another folder: imbrik demo DIR")
}

/// Creates the rack, replacing that of an earlier demo; returns the files of the user next to it.
fn set_up(dir: &Path, out: &Out) -> Outcome<BTreeSet<PathBuf>> {
    let failed = |error| set_up_failed(dir, error);
    let is_used = fs::read_dir(dir).is_ok_and(|mut entries| entries.next().is_some());
    let made = fs::read_to_string(dir.join(MARK));
    let refused = |what: String| {
        Err(Failure::refused(what)
            .state("It is unchanged.")
            .next("Name another folder: imbrik demo DIR"))
    };
    if is_used && made.is_err() {
        return refused(format!("{} is in use by something else", quoted(dir)));
    }
    for (name, rack) in RACKS {
        if fs::read_to_string(dir.join(name)).is_ok_and(|found| found != rack) {
            return refused(format!("{} was changed", quoted(&dir.join(name))));
        }
    }
    for name in made.unwrap_or_default().lines().map(Path::new) {
        let is_below = name.components().all(|part| matches!(part, Component::Normal(_)));
        if is_below && FOLDERS.iter().any(|folder| name.starts_with(folder)) {
            remove(&dir.join(name)).map_err(failed)?;
        }
    }
    for folder in FOLDERS {
        fs::create_dir_all(dir.join(folder)).map_err(failed)?;
    }
    // Simulated cards of an interrupted demo are not on the list.
    for name in RACKS.iter().map(|(name, _)| (*name).to_owned()).chain(slots()) {
        remove(&dir.join(name)).map_err(failed)?;
    }
    let others = files_in(dir).map_err(failed)?;
    out.note(&format!("Creating eight simulated cards in {} ...", quoted(dir)));
    fs::write(dir.join(MARK), "").map_err(failed)?;
    for (name, rack) in RACKS {
        fs::write(dir.join(name), rack).map_err(failed)?;
    }
    let cards = zstd::Decoder::with_buffer(CARDS).map_err(failed)?;
    tar::Archive::new(cards).unpack(dir).map_err(failed)?;
    // A user's own file of that name is kept.
    if !others.contains(Path::new(CALIBRATION)) {
        fs::write(dir.join(CALIBRATION), "# hive-07, weighed with 10 kg\noffset = -0.35\n")
            .map_err(failed)?;
    }
    Ok(others)
}

/// The files of the slots of the rack.
fn slots() -> impl Iterator<Item = String> {
    let worn = std::iter::once("worn/old.img".to_owned());
    ('a'..='g').map(|slot| format!("rack/{slot}.img")).chain(worn)
}

fn remove(path: &Path) -> io::Result<()> {
    match fs::remove_file(path) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
        _ => Ok(()),
    }
}

/// All files in the demo's folders, from `dir` on.
fn files_in(dir: &Path) -> io::Result<BTreeSet<PathBuf>> {
    let mut files = BTreeSet::new();
    for folder in FOLDERS {
        for entry in fs::read_dir(dir.join(folder))? {
            files.insert(Path::new(folder).join(entry?.file_name()));
        }
    }
    Ok(files)
}

/// Lists the files of the demo, for the next one.
fn note_what_was_made(dir: &Path, others: &BTreeSet<PathBuf>) -> io::Result<()> {
    let made = files_in(dir)?;
    let made = made.difference(others).filter_map(|path| path.to_str());
    fs::write(dir.join(MARK), made.map(|path| format!("{path}\n")).collect::<String>())
}

/// The image that was just made, as it would be typed.
fn new_image(others: &BTreeSet<PathBuf>) -> io::Result<String> {
    let made = files_in(Path::new("."))?;
    let image = made
        .difference(others)
        .find(|path| path.extension().is_some_and(|extension| extension == "zst"));
    let image = image.ok_or_else(|| io::Error::other("no image was made"))?;
    Ok(image.display().to_string())
}
