//! All cards that a command can use: those of the machine and those of a rack.

use crate::{
    failure::{Explain, Failure, Outcome},
    render::cards::Seen,
};
use imbrik_core::{
    Class,
    card::{Bus, Card, Host, LinuxHost, Listing, Rack},
    layout::Survey,
    store::{Cached, Counted, Keep, Patient, ReadAt, Tally},
    units::ByteLen,
};
use std::{fs, os::unix::fs::MetadataExt, path::Path, sync::Arc};

/// The size of the cache of a card's metadata between surveying and copying it.
const MOST_KEPT: ByteLen = ByteLen::mib(24);

/// The machine, and a rack when there is one.
pub(crate) struct Fleet {
    pub(crate) machine: LinuxHost,
    pub(crate) rack: Option<Rack>,
    /// Why the rack could not be opened: nobody needs to know before cards are listed.
    pub(crate) no_rack: Option<Failure>,
}

/// The message about a result from a card that changed while it was read.
pub(crate) fn mixed(what: &str, next: &str) -> String {
    format!(
        "The card was changed or exchanged while it was read: {what} contains data from different \
         times. Unmount it everywhere, and {next}."
    )
}

impl Fleet {
    /// Returns whether the content of a card has changed since it was read, or the card was exchanged. A removed card
    /// is unknown.
    pub(crate) fn has_changed(&self, card: &Card, before: &Survey) -> bool {
        match self.host_of(card).open_source(card) {
            Ok(store) => Survey::of(&*store).is_ok_and(|again| before.has_changed(&again)),
            Err(error) => error.class() == Class::Mismatch,
        }
    }

    pub(crate) fn open(rack: Option<&Path>) -> Outcome<Self> {
        let rack = rack
            .map(Rack::open)
            .transpose()
            .next("Name a folder with a rack.toml, or create one with `imbrik demo`.")?;
        Ok(Self { machine: LinuxHost::default(), rack, no_rack: None })
    }

    /// All cards; those of the rack first, because naming a rack means using it.
    pub(crate) fn list(&self) -> Outcome<Listing> {
        if let Some(failure) = &self.no_rack {
            return Err(failure.clone());
        }
        let mut listing = match &self.rack {
            Some(rack) => rack.list()?,
            None => Listing::default(),
        };
        let machine = self.machine.list()?;
        listing.cards.extend(machine.cards);
        listing.empty_slots += machine.empty_slots;
        Ok(listing)
    }

    /// The host of `card`.
    pub(crate) fn host_of(&self, card: &Card) -> &dyn Host {
        match &self.rack {
            Some(rack) if Rack::is_slot(&card.path) => rack,
            _ => &self.machine,
        }
    }

    /// Returns whether two cards are one medium, whatever they are called: also a slot of the rack and a loop
    /// device over its file.
    pub(crate) fn is_same_medium(&self, one: &Card, other: &Card) -> bool {
        one.path == other.path || self.file_of(one).is_some_and(|a| self.file_of(other) == Some(a))
    }

    /// The file of a simulated card, by device and inode.
    fn file_of(&self, card: &Card) -> Option<(u64, u64)> {
        let path = match (&card.bus, &self.rack) {
            (Bus::Loop(file), _) => file.clone(),
            (_, Some(rack)) => rack.file_of(card)?,
            _ => return None,
        };
        fs::metadata(path).ok().map(|meta| (meta.dev(), meta.ino()))
    }

    /// Opens `card` with retries of failed sectors. `tally` counts its reads; with `is_held`, nothing can mount it
    /// meanwhile.
    pub(crate) fn source(
        &self,
        card: &Card,
        tally: &Tally,
        is_held: bool,
    ) -> imbrik_core::Result<Arc<dyn ReadAt>> {
        let host = self.host_of(card);
        let store = if is_held { host.hold_source(card)? } else { host.open_source(card)? };
        let patient = Patient::new(Counted::new(store, tally));
        Ok(Arc::new(Cached::new(patient, MOST_KEPT, Keep::First)))
    }

    /// Surveys each card.
    pub(crate) fn look_at_all(&self, cards: Vec<Card>) -> Vec<Seen> {
        let look = |card: Card| Seen { survey: self.look(&card), card, shelved: None };
        cards.into_iter().map(look).collect()
    }

    /// Surveys `card`, if it may be read.
    pub(crate) fn look(&self, card: &Card) -> imbrik_core::Result<Survey> {
        Survey::of(&*self.host_of(card).open_source(card)?)
    }

    /// Returns whether the file at `path` lies on `card`.
    pub(crate) fn lies_on(&self, path: &Path, card: &Card) -> bool {
        let path = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
        self.machine.cards_under(&path).contains(&card.path)
            || card.mounts().iter().any(|at| path.starts_with(at))
    }
}
