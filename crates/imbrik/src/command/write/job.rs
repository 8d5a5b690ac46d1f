//! One card: claimed, written, read back and let go.

use super::{Target, UNTOUCHED};
use crate::{
    args::WriteArgs,
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    pipe,
    render::{quoted, size},
};
use imbrik_core::{
    Class, Error,
    card::Host,
    image::TileDigest,
    progress::Watch,
    store::{Counted, ReadAt, Tally, Window},
    transfer::{Origin, Planned, claim, read_back, write_card},
    units::{ByteLen, Span},
};
use std::{
    path::PathBuf,
    sync::Arc,
    time::{Duration, Instant},
};

/// What there is to do for a card.
pub(super) struct Job<'a> {
    pub(super) host: &'a dyn Host,
    pub(super) planned: Planned,
    pub(super) target: &'a Target,
    pub(super) source: PathBuf,
    pub(super) origin: Origin<'a>,
    pub(super) args: &'a WriteArgs,
}

/// A card that is written, and proved unless that was waived.
pub(super) struct Written {
    pub(super) tally: Tally,
    /// How much was found on it already.
    pub(super) found: ByteLen,
    /// What could not be read of the source, and is zeros on it.
    pub(super) unreadable: Vec<Span>,
    pub(super) took: Duration,
    /// When it could not be let go, though all is well on it.
    pub(super) held: Option<Error>,
}

impl Job<'_> {
    /// # Errors
    /// With what state the card is in.
    pub(super) fn run(&self, watch: Watch<'_>) -> Outcome<Written> {
        let started = Instant::now();
        let target = self.target;
        let card = claim(self.host, &self.planned, self.args.allow_fixed)
            .state(UNTOUCHED)
            .next("Look again with `imbrik cards`, and repeat.")?;
        let tally = Tally::default();
        let counted = Counted::new(card.store(), &tally);
        let whole = Span::whole(target.card.size);
        let place = target.into.as_ref().map_or(whole, |into| into.span);
        let store = Window::new(counted, place).state(UNTOUCHED)?;
        let medium = || -> Outcome<Arc<dyn ReadAt>> {
            let medium = card.medium().state(UNTOUCHED)?;
            Ok(Arc::new(Window::new(Counted::new(medium, &tally), place).state(UNTOUCHED)?))
        };
        let now = if self.args.differing { Some(medium()?) } else { None };
        let written = write_card(&target.plan.view, &store, self.origin, now, watch)
            .map_err(|error| self.cut_short(error, &tally))?;
        if !self.args.no_check {
            self.read_back(&medium, &written.digests, watch)?;
        }
        let held = card.let_go().err();
        Ok(Written {
            tally,
            found: written.found,
            unreadable: written.unreadable,
            took: started.elapsed(),
            held,
        })
    }

    fn cut_short(&self, error: Error, tally: &Tally) -> Failure {
        let name = self.target.goal();
        let again = match self.origin {
            Origin::Image(_) => "Restore once more",
            Origin::Card => "Clone once more",
        };
        let next = match error.class() {
            Class::Mismatch | Class::Corrupt | Class::Ended => {
                "Try another copy of the image.".to_owned()
            }
            Class::Cancelled => format!("{again} to start over."),
            Class::Gone => format!("Plug it in again, and repeat: {}.", again.to_lowercase()),
            _ => format!("{again}; if it fails again, the card or the reader is bad."),
        };
        Failure::from(error)
            .state(match tally.written() {
                ByteLen::ZERO => UNTOUCHED.to_owned(),
                _ if self.target.into.is_none() => format!(
                    "What was on {name} is lost, and it has no partition table now, so that it is \
                     not taken for a whole card."
                ),
                _ => format!(
                    "What was on {name} is lost, and its start is cleared, so that it is not taken \
                     for whole."
                ),
            })
            .next(next)
    }

    fn read_back(
        &self,
        medium: &dyn Fn() -> Outcome<Arc<dyn ReadAt>>,
        digests: &[TileDigest],
        watch: Watch<'_>,
    ) -> Outcome<()> {
        let unproved = format!(
            "Everything was written to {}, but it is not proved that the card kept it.",
            self.target.goal()
        );
        let prove = match self.origin {
            Origin::Image(_) if pipe::is_pipe(&self.source) => {
                "Restore it once more: what came through the pipe is gone.".to_owned()
            }
            Origin::Image(_) => format!(
                "To prove it, run: imbrik check {} --against {}",
                quoted(&self.source),
                quoted(&self.target.card.path)
            ),
            Origin::Card => "Clone it once more.".to_owned(),
        };
        let medium = medium().map_err(|failure| Failure { state: unproved.clone(), ..failure })?;
        let found = read_back(&self.target.plan.view.read_back_from(medium), digests, watch)
            .state(&unproved)
            .next(prove)?;
        let Some(first) = found.spans.first() else { return Ok(()) };
        let bytes: ByteLen = found.spans.iter().map(|span| span.len()).sum();
        Err(Failure::new(
            Exit::Mismatch,
            format!(
                "the card did not keep what was written: first at {first}, {} in all",
                size::both(bytes)
            ),
        )
        .state(format!("{} cannot be relied on.", self.target.card.path.display()))
        .next("Try another reader; if it happens again, the card is bad or holds less than it claims."))
    }
}
