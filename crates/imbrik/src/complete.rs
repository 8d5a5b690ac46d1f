//! Shell completions: connected cards, slots of a rack, and the partitions of the card or image in the line.

use crate::{config::Config, fleet::Fleet, render::size, session::Environment};
use clap_complete::{
    ArgValueCompleter, CompletionCandidate, PathCompleter, engine::ValueCompleter,
};
use imbrik_core::{
    card::Card,
    files::{Tree, find},
    fs::FileKind,
    image::Image,
    layout::{Part, Survey},
    store::ReadAt,
};
use std::{
    env,
    ffi::{OsStr, OsString},
    ops::ControlFlow,
    path::{Path, PathBuf},
    str,
    sync::Arc,
};

/// The maximum number of files of a folder that are offered.
const MOST_OFFERED: usize = 1000;

/// Cards alone.
pub(crate) fn cards() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| cards_like(typed))
}

/// Cards, and files.
pub(crate) fn cards_and_files() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| {
        let mut all = cards_like(typed);
        all.extend(PathCompleter::file().complete(typed));
        all
    })
}

/// The partitions of the card or image in the line.
pub(crate) fn parts() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| {
        let typed = typed.to_string_lossy();
        let words = env::args_os().skip(2);
        // The last card is the target, or the only one.
        let fleet = fleet();
        let cards = fleet.as_ref().and_then(|fleet| fleet.list().ok());
        let cards = cards.map(|listing| listing.cards).unwrap_or_default();
        let look = |word: OsString| survey_of(Path::new(&word), fleet.as_ref()?, &cards);
        let survey = words.filter_map(look).next_back();
        let parts = survey.map(|survey| survey.parts).unwrap_or_default();
        let names = parts.iter().flat_map(names_of);
        names
            .filter(|(name, _)| name.starts_with(&*typed))
            .map(|(name, about)| CompletionCandidate::new(name).help(Some(about.into())))
            .collect()
    })
}

/// Paths in the card or image in the line: `2:/etc/`, and partitions before a colon is typed.
pub(crate) fn part_paths() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| paths_like(typed).unwrap_or_default())
}

fn paths_like(typed: &OsStr) -> Option<Vec<CompletionCandidate>> {
    let typed = typed.to_str()?;
    let fleet = fleet()?;
    let cards = fleet.list().map(|listing| listing.cards).unwrap_or_default();
    let words = env::args_os().skip(2);
    let mut stores = words.filter_map(|word| store_of(Path::new(&word), &fleet, &cards));
    let store = stores.next()?;
    let survey = Survey::of(&*store).ok()?;
    let Some((name, path)) = typed.split_once(':') else {
        let names = survey.parts.iter().flat_map(names_of);
        let names = names.filter(|(name, _)| name.starts_with(typed));
        let candidate = |(name, about): (String, String)| {
            CompletionCandidate::new(format!("{name}:/")).help(Some(about.into()))
        };
        return Some(names.map(candidate).collect());
    };
    let has_name = |part: &&Part| names_of(part).iter().any(|(one, _)| one == name);
    let tree = Tree::open(&store, survey.parts.iter().find(has_name)?).ok()??;
    let files = tree.files().ok()?;
    let (folder, start) = path.rsplit_once('/').unwrap_or(("", path));
    let folder_file = find(&*files, folder.as_bytes()).ok()?.pop()?.file;
    let mut found = Vec::new();
    let listed = files.entries(folder_file, &mut |entry| {
        // Control characters would change the terminal.
        if let Some(one) =
            str::from_utf8(entry.name).ok().filter(|one| !one.chars().any(char::is_control))
            && one.starts_with(start)
            && found.len() < MOST_OFFERED
        {
            let is_folder = files.info(entry.file).is_ok_and(|info| info.kind == FileKind::Folder);
            let slash = if is_folder { "/" } else { "" };
            found.push(CompletionCandidate::new(format!("{name}:{folder}/{one}{slash}")));
        }
        Ok(ControlFlow::Continue(()))
    });
    listed.ok()?;
    Some(found)
}

/// The names of a partition, and its description.
fn names_of(part: &Part) -> Vec<(String, String)> {
    let about = format!("{}, {}", part.full_title(), size::short(part.span.len()));
    let label = part.volume.as_ref().and_then(|volume| volume.label.clone());
    let names = part.number.map(|number| number.to_string()).into_iter().chain(label);
    names.map(|name| (name, about.clone())).collect()
}

fn cards_like(typed: &OsStr) -> Vec<CompletionCandidate> {
    let typed = typed.to_string_lossy();
    let Some(fleet) = fleet() else { return Vec::new() };
    let cards = fleet.list().map(|listing| listing.cards).unwrap_or_default();
    let names = cards.iter().flat_map(|card| {
        let path = card.path.to_string_lossy().into_owned();
        let id = (card.id != path).then(|| card.id.clone());
        std::iter::once(path).chain(id).map(move |name| (name, about(card)))
    });
    names
        .filter(|(name, _)| name.starts_with(&*typed))
        .map(|(name, about)| CompletionCandidate::new(name).help(Some(about.into())))
        .collect()
}

fn about(card: &Card) -> String {
    let facts = [Some(size::short(card.size)), card.model.clone()];
    facts.into_iter().flatten().collect::<Vec<_>>().join(", ")
}

/// The cards that the line, the environment or the configuration speaks of.
fn fleet() -> Option<Fleet> {
    let environment = Environment::of_process();
    let words: Vec<_> = env::args_os().collect();
    let option = words.iter().position(|word| word == "--rack");
    let typed = option.and_then(|at| words.get(at.checked_add(1)?)).map(PathBuf::from);
    let config = Config::read(environment.config_folder.as_deref()).unwrap_or_default();
    let rack = typed.or(environment.rack).or(config.rack);
    Fleet::open(rack.as_deref()).or_else(|_| Fleet::open(None)).ok()
}

/// The survey of the card or image called `name`; `None` if it is neither.
fn survey_of(name: &Path, fleet: &Fleet, cards: &[Card]) -> Option<Survey> {
    Survey::of(&*store_of(name, fleet, cards)?).ok()
}

/// The content of the card or image called `name`; `None` if it is neither.
fn store_of(name: &Path, fleet: &Fleet, cards: &[Card]) -> Option<Arc<dyn ReadAt>> {
    let is_meant = |card: &&Card| card.path == name || Path::new(&card.id) == name;
    match cards.iter().find(is_meant) {
        Some(card) => fleet.host_of(card).open_source(card).ok(),
        None => Some(Arc::clone(Image::open(name, None).ok()?.content())),
    }
}
