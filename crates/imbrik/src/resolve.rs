//! Resolves names on the command line to cards and images.

use crate::{
    failure::{Failure, Outcome},
    fleet::Fleet,
    render::{quoted, size},
};
use imbrik_core::{
    card::{Card, Rack, Standing, standing},
    image::{Container, Pack},
    layout::{Part, Survey},
    shelf::{CardIdentity, MARK, Shelf, Shelved},
};
use jiff::{Timestamp, tz::TimeZone};
use std::{
    fs, io,
    os::unix::fs::FileTypeExt,
    path::{Path, PathBuf},
};

const ORDER: &str = "The source comes first, the target last: save CARD IMAGE, restore IMAGE CARD, \
                     clone CARD CARD. A card is a device, its id, or a slot of a rack.";
const LOOK: &str = "See which card is which with `imbrik cards`.";

/// The card called `name`: a device path, an id, or `rack:SLOT`.
pub(crate) fn card(fleet: &Fleet, name: &Path) -> Outcome<Card> {
    let listing = fleet.list()?;
    let find = |path: &Path| listing.cards.iter().find(|card| card.path == path).cloned();
    if Rack::is_slot(name) {
        return find(name).ok_or_else(|| {
            let why = if fleet.rack.is_some() { "the rack has no such slot" } else { "no rack is in use" };
            Failure::usage(format!("{} was not found: {why}", name.display()))
                .next("Name the rack's folder with --rack or IMBRIK_RACK; `imbrik cards` lists its slots.")
        });
    }
    if let Some(card) = listing.cards.iter().find(|card| Path::new(&card.id) == name) {
        return Ok(card.clone());
    }
    let Ok(meta) = fs::metadata(name) else {
        return Err(Failure::usage(format!("no card is called {}", quoted(name))).next(LOOK));
    };
    if meta.is_file() {
        return Err(Failure::usage(format!(
            "{} is a file (an image), but a card is needed here",
            quoted(name)
        ))
        .next(ORDER));
    }
    let real = fs::canonicalize(name).unwrap_or_else(|_| name.to_owned());
    if !meta.file_type().is_block_device() {
        return Err(Failure::usage(format!("{} is not a card", quoted(name))).next(LOOK));
    }
    if let Some(card) = find(&real) {
        return Ok(card);
    }
    let device = real.file_name().and_then(|name| name.to_str()).unwrap_or_default();
    match fleet.machine.card_of(device) {
        Some((whole, true)) => Err(Failure::usage(format!(
            "{} is only a partition of {}",
            quoted(name),
            whole.display()
        ))
        .next(format!("Use {} for the whole card.", whole.display()))),
        _ => Err(Failure::usage(format!("{} is not a card", quoted(name))).next(LOOK)),
    }
}

/// The only card that is plugged in and may be taken for one.
pub(crate) fn only_card(fleet: &Fleet) -> Outcome<Card> {
    let listing = fleet.list()?;
    let is_card =
        |card: &&Card| matches!(standing(card, false), Standing::Ready | Standing::Mounted(_));
    let mut cards = listing.cards.iter().filter(is_card);
    match (cards.next(), cards.count()) {
        (Some(card), 0) => Ok(card.clone()),
        (Some(_), more) => {
            Err(Failure::usage(format!("{} cards are connected: which one?", more + 1)).next(LOOK))
        }
        (None, _) => Err(Failure::usage("no card is connected")
            .next("Insert one, or wait for it with `imbrik cards --watch`.")),
    }
}

/// The partition of a card that is called `name`: its number, or the label of its volume, or its
/// name in the table.
pub(crate) fn part<'a>(survey: &'a Survey, name: &str, card: &Path) -> Outcome<&'a Part> {
    let number: Option<u32> = name.parse().ok();
    let by_number = |part: &&Part| number.is_some() && part.number == number;
    let by_label = |part: &&Part| {
        let label = part.volume.as_ref().and_then(|volume| volume.label.as_deref());
        label == Some(name) || part.name.as_deref() == Some(name)
    };
    let exact: Vec<_> = survey.parts.iter().filter(by_number).collect();
    let found = match exact[..] {
        [] => survey.parts.iter().filter(by_label).collect(),
        _ => exact,
    };
    let see = format!("See its partitions with `imbrik show {}`.", quoted(card));
    match found[..] {
        [part] => Ok(part),
        [] if name.contains('/') => {
            Err(Failure::usage(format!("{} has no partition {name}", card.display())).next(
                "Write the partition's number or label before the path, such as 2:/etc/hostname.",
            ))
        }
        [] => Err(Failure::usage(format!("{} has no partition {name}", card.display())).next(see)),
        _ => Err(Failure::usage(format!("{} partitions are called {name}", found.len()))
            .next("Name it by its number.")),
    }
}

/// The place in [`Survey::parts`] of the partition called `name`.
pub(crate) fn part_index(survey: &Survey, name: &str, card: &Path) -> Outcome<usize> {
    let found = part(survey, name, card)?;
    let index = survey.parts.iter().position(|one| one == found);
    index.ok_or_else(|| Failure::usage(format!("{} has no partition {name}", card.display())))
}

/// Refuses a card in place of an image.
pub(crate) fn not_a_card(fleet: &Fleet, path: &Path) -> Outcome<()> {
    let is_id = || {
        fleet.list().is_ok_and(|listing| {
            listing.cards.iter().any(|card| Path::new(&card.id) == path) && !path.exists()
        })
    };
    let is_device = fs::metadata(path).is_ok_and(|meta| meta.file_type().is_block_device());
    if Rack::is_slot(path) || is_device || is_id() {
        return Err(Failure::usage(format!(
            "{} is a card, but an image is needed here",
            quoted(path)
        ))
        .next(ORDER));
    }
    Ok(())
}

/// Refuses a name that cannot be an image's, whatever is in it.
pub(crate) fn must_be_an_image(fleet: &Fleet, path: &Path) -> Outcome<()> {
    not_a_card(fleet, path)?;
    if let Some(rack) = &fleet.rack
        && is_same_file_as_any(path, rack)
    {
        return Err(Failure::usage(format!(
            "{} is the file of a slot of the rack: it is a card, not an image",
            quoted(path)
        ))
        .next("Name it as rack:SLOT."));
    }
    Ok(())
}

/// Returns whether a file is named as images of cards are: an archive with any other name may hold anything.
pub(crate) fn has_image_name(path: &Path) -> bool {
    let name = path.file_name().unwrap_or_default().to_string_lossy().to_lowercase();
    name.ends_with(".iso")
        || name.ends_with(".img")
        || Path::new(&name).file_stem().is_some_and(|stem| {
            stem.to_string_lossy().ends_with(".img") && Container::of_name(path).is_some()
        })
}

/// The archive and the entry in it, of a name like `two.zip:one.img`.
pub(crate) fn in_archive(path: &Path) -> Option<(PathBuf, String)> {
    let text = path.to_str().filter(|_| !path.exists())?;
    let parts = text.match_indices(':').map(|(at, _)| text.split_at(at));
    let mut parts = parts.map(|(archive, entry)| (PathBuf::from(archive), entry[1..].to_owned()));
    parts.find(|(archive, entry)| archive.is_file() && !entry.is_empty())
}

/// Refuses the name of an image that is not there, or is something else than a file.
pub(crate) fn must_be_there(path: &Path) -> Outcome<()> {
    match fs::metadata(path) {
        Ok(meta) if meta.is_dir() => {
            Err(Failure::usage(format!("{} is a folder, not an image", quoted(path)))
                .state("Nothing was done.")
                .next("Name the image in it."))
        }
        Err(error) if error.kind() == io::ErrorKind::NotFound => Err(Failure::usage(format!(
            "image {} does not exist",
            quoted(path)
        ))
        .next(
            "Check the name, for example with `ls`; `imbrik` alone shows the newest images here.",
        )),
        _ => Ok(()),
    }
}

/// Returns whether `path` is the file of a slot of `rack`.
pub(crate) fn is_same_file_as_any(path: &Path, rack: &Rack) -> bool {
    let real = |path: &Path| fs::canonicalize(path).ok();
    let wanted: Option<PathBuf> = real(path);
    wanted.is_some() && rack.files().iter().any(|file| real(file) == wanted)
}

/// The image on a shelf with this name: in the folder in the name, or else in `usual`; `None` if it is the name of a
/// file, or not the name of a card.
pub(crate) fn on_shelf(usual: Option<&Path>, name: &Path) -> Outcome<Option<Shelved>> {
    let own = name.parent().filter(|folder| !folder.as_os_str().is_empty());
    let Some(folder) = own.or(usual) else { return Ok(None) };
    let text = name.file_name().and_then(|text| text.to_str());
    let text = text.filter(|text| !text.contains(':') && *text != "-");
    let is_file = || name.exists() || Pack::of_name(name).is_some();
    let Some(text) = text.filter(|_| !is_file() && folder.join(MARK).is_file()) else {
        return Ok(None);
    };
    let listing = Shelf::open(folder)?.list(Timestamp::now())?;
    let (name, which) = match text.split_once('@') {
        Some((name, which)) => (name, Some(which)),
        None => (text, None),
    };
    let card = match listing.cards_named(name)[..] {
        [] => return Ok(None),
        [card] => card.clone(),
        ref cards => return Err(ambiguous(name, which, cards)),
    };
    let images: Vec<_> = listing.images.iter().filter(|image| image.card == card).collect();
    let day = |image: &Shelved| {
        image.made_at.to_zoned(TimeZone::system()).strftime("%Y-%m-%d").to_string()
    };
    let found = match which {
        None => listing.newest(&card).cloned(),
        Some("pinned") => {
            images.iter().find(|image| image.remarks.pinned).map(|one| (*one).clone())
        }
        Some(date) => images.iter().find(|image| day(image) == date).map(|one| (*one).clone()),
    };
    found.map(Some).ok_or_else(|| {
        let what = match which {
            None => format!("all images of {name} on the shelf {} are damaged", quoted(folder)),
            Some("pinned") => format!("no image of {name} is pinned"),
            Some(date) => format!("the shelf has no image of {name} from {date}"),
        };
        Failure::usage(what).next(format!("See them with `imbrik shelf list {}`.", quoted(folder)))
    })
}

/// The refusal of a name that several cards of a shelf have.
fn ambiguous(name: &str, which: Option<&str>, cards: &[&CardIdentity]) -> Failure {
    let which = which.map_or(String::new(), |which| format!("@{which}"));
    let choices: Vec<_> = cards
        .iter()
        .map(|card| format!("{}{which} ({})", card.full_name(), size::short(card.size)))
        .collect();
    Failure::usage(format!("{} cards on the shelf are named {name}", cards.len()))
        .state("Nothing was done.")
        .next(format!("Choose one: {}.", choices.join(", ")))
}
