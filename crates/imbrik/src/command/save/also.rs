//! A second output of the same read: a card for the same board, or another image.

use super::{SaveSource, UNTOUCHED, off_the_card};
use crate::{
    args::SaveArgs,
    exit::Exit,
    failure::{Failure, Outcome},
    packing::{self, Destination},
    pipe,
    render::progress::{Board, Progress},
    resolve,
    writing::{self, Chosen, Source, Writing},
};
use imbrik_core::{
    card::Card,
    image::{Manifest, Output},
    layout::Plan,
    progress::Watch,
    transfer::{SaveOptions, Saved, save},
};
use std::{path::Path, sync::Arc, thread};

/// The kind of second output.
pub(super) enum Also<'a> {
    /// A card for the same board.
    Card(Box<Source<'a>>, Vec<writing::PlannedCard>),
    /// A second image.
    Image(Destination, SaveOptions),
}

/// The result of the second output.
pub(super) enum Other {
    Card(Outcome<Exit>),
    Image(imbrik_core::Result<Saved>),
}

impl<'a> Also<'a> {
    /// Plans, shows and confirms the output named by `--also`.
    pub(super) fn of(
        writing: &Writing<'_>,
        args: &SaveArgs,
        name: &Path,
        card: &'a Card,
        wanted: &SaveSource,
        to: &Destination,
    ) -> Outcome<Self> {
        let session = writing.session;
        if to.is_pipe() || pipe::is_pipe(name) {
            return Err(Failure::usage("--also can't be combined with a pipe").state(UNTOUCHED));
        }
        if resolve::not_a_card(&session.fleet, name).is_ok() {
            let options = packing::options(session, &args.packing, Some(name))?;
            let stem = packing::stem_of(to.path());
            let second =
                Destination::file(session, Some(name), &stem, &args.packing, options.pack)?;
            off_the_card(session, second.path(), card)?;
            if second.path() == to.path() {
                return Err(Failure::usage("both images have the same name").state(UNTOUCHED));
            }
            return Ok(Self::Image(second, options));
        }
        let cards = spares(writing, name, card)?;
        let spare = Source::of_card(card, Arc::clone(&wanted.source), wanted.survey.clone(), None)?;
        let targets = writing.prepare(&spare, cards, None)?.unwrap_or_default();
        Ok(Self::Card(Box::new(spare), targets))
    }

    /// Refuses outputs that can't be written next to the image of `card`.
    pub(super) fn may_be(writing: &Writing<'_>, name: &Path, card: &Card) -> Outcome<()> {
        match resolve::not_a_card(&writing.session.fleet, name) {
            Ok(()) => Ok(()),
            Err(_) => spares(writing, name, card).map(drop),
        }
    }

    /// Saves, and writes the other output at the same time.
    pub(super) fn beside(
        &self,
        writing: &Writing<'_>,
        plan: &Plan,
        manifest: &Manifest,
        to: &Destination,
        options: &SaveOptions,
    ) -> (imbrik_core::Result<Saved>, Option<Other>) {
        let cancel = &writing.session.environment.interrupt.cancel;
        let board = Board::new(writing.session.environment.color);
        let first = "image".to_owned();
        let second = match self {
            Self::Card(_, targets) => {
                targets.first().map_or(String::new(), writing::PlannedCard::name)
            }
            Self::Image(..) => "second".to_owned(),
        };
        let names = [first, second];
        let [line, other_line] = names.each_ref().map(|name| board.line(name, &names));
        let save_to = |path: &Path, options: &SaveOptions, observer: &Progress| {
            let watch = Watch { observer, cancel };
            save(&plan.view, manifest.clone(), Output::File(path), options, watch)
        };
        thread::scope(|scope| {
            let path = to.path();
            let saving = scope.spawn(|| save_to(path, options, &line));
            let other = match self {
                Self::Card(source, targets) => {
                    Other::Card(writing.write(source, targets, Some(&board)))
                }
                Self::Image(to, options) => Other::Image(save_to(to.path(), options, &other_line)),
            };
            let saved = saving.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
            (saved, Some(other))
        })
    }
}

/// The card called `name`, which may be written and is not the one that is read.
fn spares(writing: &Writing<'_>, name: &Path, card: &Card) -> Outcome<Vec<Chosen>> {
    let cards = writing.cards(&[name.to_owned()])?;
    match cards.iter().any(|other| writing.session.fleet.is_same_medium(card, &other.card)) {
        false => Ok(cards),
        true => Err(Failure::usage(format!("{} is the source card", name.display()))
            .state(UNTOUCHED)
            .next("Name another card.")),
    }
}
