//! Choosing the cards to write: the named ones, except for those that are refused or left out.

use super::{UNTOUCHED, Writing};
use crate::{
    exit::Exit,
    failure::{Failure, Outcome},
    resolve,
};
use imbrik_core::card::{Bus, Card, Reason, Standing, standing};
use std::path::{Path, PathBuf};

/// A named card, and its position on the command line, which determines its identity.
pub(crate) struct Chosen {
    pub(crate) card: Card,
    pub(super) number: usize,
}

impl Writing<'_> {
    /// The cards called `names`, each of which may be written, and no two of which are the same.
    ///
    /// # Errors
    /// Before anything is written.
    pub(crate) fn cards(&self, names: &[PathBuf]) -> Outcome<Vec<Chosen>> {
        let mut cards: Vec<Chosen> = Vec::new();
        for (number, name) in (1..).zip(names) {
            let card = match self.writable(name) {
                Ok(card) => card,
                Err(failure) => {
                    self.skip(name, names.len(), failure)?;
                    continue;
                }
            };
            let same = cards.iter().map(|other| &other.card);
            let mut same = same.filter(|other| self.session.fleet.is_same_medium(other, &card));
            if let Some(other) = same.next() {
                let what = match other.path == card.path {
                    true => format!("{} is named twice", card.path.display()),
                    false => format!(
                        "{} and {} are the same medium",
                        other.path.display(),
                        card.path.display()
                    ),
                };
                return Err(Failure::usage(what).state(UNTOUCHED).next("Name each card once."));
            }
            cards.push(Chosen { card, number });
        }
        self.must_be_any(cards.is_empty())?;
        Ok(cards)
    }

    fn writable(&self, name: &Path) -> Outcome<Card> {
        let card = resolve::card(&self.session.fleet, name)?;
        may_be_written(&card, self.args.allow_fixed)?;
        self.session.refuse_mounted(&card, self.args.unmount || self.args.plan)?;
        Ok(card)
    }

    /// Leaves out the card called `name`, one of `all`, and reports the reason.
    ///
    /// # Errors
    /// `failure`, unless skipping was requested.
    pub(super) fn skip(&self, name: &Path, all: usize, failure: Failure) -> Outcome<()> {
        if !self.args.skip_failed || all == 1 || failure.exit == Exit::Interrupted {
            return Err(failure);
        }
        self.show_failed(name, &failure);
        self.skipped.borrow_mut().push(failure.exit);
        Ok(())
    }

    pub(super) fn must_be_any(&self, is_none: bool) -> Outcome<()> {
        match self.skipped.borrow().first() {
            Some(exit) if is_none => Err(Failure::new(*exit, "none of the cards can be written")
                .state(UNTOUCHED)
                .next("Why stands above.")),
            _ => Ok(()),
        }
    }

    /// The exit code, considering cards that were left out.
    pub(super) fn with_skipped(&self, exit: Exit) -> Outcome<Exit> {
        let skipped = self.skipped.borrow();
        let Some(first) = skipped.first().filter(|_| exit != Exit::Interrupted) else {
            return Ok(exit);
        };
        let same = skipped.iter().all(|exit| exit == first);
        let what = match skipped.len() {
            1 => "1 card was left out".to_owned(),
            all => format!("{all} cards were left out"),
        };
        Err(Failure::new(if same { *first } else { Exit::Failed }, what)
            .state(match self.args.plan {
                true => "Nothing was written; see the error above.",
                false => "The others are done; see the error above.",
            })
            .next("Repeat the command with another card for it."))
    }
}

/// Refuses cards that may not be written, before any question.
pub(crate) fn may_be_written(card: &Card, allow_fixed: bool) -> Outcome<()> {
    let found = standing(card, allow_fixed);
    let next = match &found {
        Standing::Ready | Standing::Mounted(_) => return Ok(()),
        Standing::Fixed(_) => "If it is the one you mean, add --allow-fixed.",
        Standing::Refused(Reason::System(_)) => "No option permits this: choose another card.",
        Standing::Refused(Reason::Held { .. }) => "Stop what uses it, then try again.",
        Standing::Refused(Reason::ReadOnly) => match card.bus {
            Bus::Loop(_) => "It is attached read-only: attach it writable.",
            Bus::Rack => "Change read_only in its rack.toml entry.",
            Bus::Usb(_) | Bus::SdSlot => "Slide the lock on the adapter, or use another card.",
            _ => "Use another card.",
        },
        Standing::Refused(Reason::Empty) => "Put a card in.",
    };
    let what = found.refusal(card.path.display()).unwrap_or_default();
    Err(Failure::refused(what).state(UNTOUCHED).next(next))
}
