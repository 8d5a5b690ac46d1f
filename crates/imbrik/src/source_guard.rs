//! A card that is read must not be written to meanwhile.

use crate::{
    failure::{Failure, Outcome},
    session::Session,
};
use imbrik_core::card::{Card, Reason, Standing, standing};

/// Refuses a card that another process may write while it is read: the image would mix data from different times.
pub(crate) fn may_be_read(card: &Card) -> Outcome<()> {
    let name = card.path.display();
    match standing(card, true) {
        Standing::Refused(reason @ (Reason::System(_) | Reason::Held { .. })) => {
            Err(Failure::refused(format!("{name} would change while it is read: {reason}"))
                .state("Nothing was read or written.")
                .next("Save it while it runs: imbrik save --live / IMAGE. Or shut the machine down, and save its card on another one."))
        }
        _ => Ok(()),
    }
}

/// Unmounts a card before it is read.
pub(crate) fn unmounted(session: &Session, card: &Card, unmount: bool) -> Outcome<()> {
    may_be_read(card)?;
    match card.mounts() {
        mounts if mounts.is_empty() => Ok(()),
        mounts => session.make_unmounted(card, &mounts, unmount),
    }
}
