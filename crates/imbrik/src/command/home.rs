//! `imbrik` without arguments: the cards and images here, and possible commands.

use crate::{
    exit::Exit,
    failure::{Failure, Outcome},
    render::{Tone, cards, quoted, size, time},
    resolve,
    session::Session,
};
use imbrik_core::{
    card::{Card, Standing, standing},
    image::Image,
};
use std::{
    fs,
    io::{self, IsTerminal},
    path::{Path, PathBuf},
    time::SystemTime,
};

/// How many images are shown.
const NEWEST: usize = 3;

pub(crate) fn run(session: &Session) -> Outcome<Exit> {
    if !io::stdout().is_terminal() || !session.environment.asks {
        return Err(Failure::usage("no command was given").next(
            "`imbrik cards` shows which card is which, `imbrik demo` runs a full example, `imbrik \
             --help` lists all commands.",
        ));
    }
    let out = &session.out;
    let mut listing = session.fleet.list()?;
    listing.cards.retain(is_card);
    out.line(&out.paint(Tone::Strong, "Cards plugged in"));
    if listing.cards.is_empty() {
        out.line("  none");
    }
    for seen in session.fleet.look_at_all(listing.cards.clone()) {
        cards::card(out, &seen);
    }
    let images = newest_images(Path::new("."));
    out.line("");
    out.line(&out.paint(Tone::Strong, "Newest images here"));
    if images.is_empty() {
        out.line("  none");
    }
    for path in &images {
        out.line(&format!("  {}", image_line(path)));
    }
    out.line("");
    out.line(&out.paint(Tone::Strong, "To type next"));
    for line in lines_to_type(&listing.cards, &images) {
        out.line(&format!("  {line}"));
    }
    Ok(Exit::Done)
}

fn is_card(card: &Card) -> bool {
    matches!(standing(card, false), Standing::Ready | Standing::Mounted(_))
}

/// The newest files in `folder` with the extension of an image.
fn newest_images(folder: &Path) -> Vec<PathBuf> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let mut images: Vec<(SystemTime, PathBuf)> = entries
        .filter(|entry| resolve::has_image_name(&entry.path()))
        .filter_map(|entry| {
            let meta = entry.metadata().ok().filter(fs::Metadata::is_file)?;
            Some((meta.modified().ok()?, PathBuf::from(entry.file_name())))
        })
        .collect();
    images.sort_by(|a, b| b.cmp(a));
    images.into_iter().take(NEWEST).map(|(_, path)| path).collect()
}

fn image_line(path: &Path) -> String {
    let len = fs::metadata(path).map_or(0, |meta| meta.len());
    let len = size::short(imbrik_core::units::ByteLen::new(len));
    let known = Image::open(path, None).ok().and_then(|image| image.manifest().map(time::saved));
    format!("{}  {len}  {}", quoted(path), known.unwrap_or_default()).trim_end().to_owned()
}

/// Three example commands with real names, or how to get some.
fn lines_to_type(cards: &[Card], images: &[PathBuf]) -> [String; 3] {
    let card = cards.first().map(|card| quoted(&card.path));
    let image = images.first().map(|path| quoted(path));
    let save = match (&card, cards.len()) {
        (None, _) => "imbrik cards --watch".to_owned(),
        (Some(_), 1) => "imbrik save".to_owned(),
        (Some(card), _) => format!("imbrik save {card}"),
    };
    let check = match &image {
        Some(image) => format!("imbrik check {image}"),
        None => "imbrik demo".to_owned(),
    };
    let restore = match (&image, &card) {
        (Some(image), Some(card)) => format!("imbrik restore {image} {card} --plan"),
        _ => "imbrik --help".to_owned(),
    };
    [save, check, restore]
}
