//! Shell completions: connected cards, slots of a rack, and the partitions of the card or image in the line.

use crate::{config::Config, fleet::Fleet, render::size, session::Environment};
use clap_complete::{
    ArgValueCompleter, CompletionCandidate, PathCompleter, engine::ValueCompleter,
};
use imbrik_core::{
    card::Card,
    image::Image,
    layout::{Part, Survey},
};
use std::{
    env,
    ffi::{OsStr, OsString},
    path::{Path, PathBuf},
};

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
    let is_meant = |card: &&Card| card.path == name || Path::new(&card.id) == name;
    match cards.iter().find(is_meant) {
        Some(card) => fleet.look(card).ok(),
        None => Survey::of(&**Image::open(name, None).ok()?.content()).ok(),
    }
}
