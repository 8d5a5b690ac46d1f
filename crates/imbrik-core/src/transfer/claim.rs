//! Claiming a card: the last proof before the first byte is written.

use crate::{
    card::{Card, Host, TargetCard, standing},
    layout::Survey,
};
use imbrik_store::error::{Class, Error, Result};

/// The card that a plan was made for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Planned {
    /// The card as of its listing.
    pub card: Card,
    /// The [`Survey::fingerprint`] of its content; `None` if not all of that could be read.
    pub fingerprint: Option<String>,
}

impl Planned {
    /// `card`, on which `survey` was found.
    #[must_use]
    pub fn new(card: Card, survey: &Survey) -> Self {
        let is_readable = survey.unreadable.is_empty();
        Self { card, fingerprint: is_readable.then(|| survey.fingerprint()) }
    }
}

/// Opens the card of a plan for writing, after proving that it still is the one that was planned
/// for and that it may be written.
///
/// # Errors
/// [`Class::Refused`] when it is another card now, or may not be written; [`Class::Gone`] when there is no card.
/// Nothing was written then.
pub fn claim(host: &dyn Host, planned: &Planned, allow_fixed: bool) -> Result<Box<dyn TargetCard>> {
    let path = planned.card.path.display();
    let listing = host.list()?;
    let now = listing.cards.iter().find(|card| card.path == planned.card.path);
    let now = now.ok_or_else(|| Error::new(Class::Gone, format!("{path} is no longer there")))?;
    let exchanged =
        || Error::refused(format!("{path} is no longer the card that the plan was made for"));
    if !now.is_same_medium_as(&planned.card) {
        return Err(exchanged());
    }
    if let Some(why) = standing(now, allow_fixed).refusal(&path) {
        return Err(Error::refused(why));
    }
    let target = host.open_target(now)?;
    let found = Survey::of(target.store())?;
    // Of a card with bad sectors, not the same can be read each time.
    let before = planned.fingerprint.as_ref().filter(|_| found.unreadable.is_empty());
    if before.is_some_and(|before| *before != found.fingerprint()) {
        return Err(exchanged());
    }
    tracing::info!(card = %planned.card.path.display(), "the card is claimed");
    Ok(target)
}
