//! Writing one card, and the text about the result.

use super::{PlannedCard, Source, UNTOUCHED};
use crate::{
    args::WriteArgs,
    exit::Exit,
    failure::{Failure, Outcome},
    pipe,
    render::{quoted, size},
};
use imbrik_core::{
    Class, Error,
    card::Host,
    operation::{CardTarget, LeftOnCard, WriteFailure, WriteOptions, WrittenToCard},
    progress::Watch,
    transfer::{Differences, FirstTile},
    units::ByteLen,
};

/// How often a card may be removed and return in one run: a card that keeps disappearing would never be finished.
pub(crate) const MOST_TIMES: usize = 8;

/// The work for a card.
pub(super) struct Job<'a> {
    pub(super) host: &'a dyn Host,
    pub(super) card: &'a PlannedCard,
    pub(super) source: &'a Source<'a>,
    pub(super) args: &'a WriteArgs,
    pub(super) first_tile: FirstTile,
}

impl Job<'_> {
    /// # Errors
    /// With the state of the card.
    pub(super) fn run(&self, watch: Watch<'_>) -> Outcome<WrittenToCard> {
        let options = WriteOptions {
            allow_fixed: self.args.allow_fixed,
            differing: self.args.differing,
            read_back: !self.args.no_check,
            damage: self.args.damage,
            first_tile: self.first_tile,
        };
        let PlannedCard { plan, target, .. } = self.card;
        let known = &self.source.known;
        let mut written = plan.write(self.host, target, known, options, watch);
        // The new device of a card that returned under another name.
        let mut back: Option<CardTarget> = None;
        let mut worst = LeftOnCard::WhatItHad;
        for _ in 0..MOST_TIMES {
            let (Some(wait), Err(WriteFailure::CutShort { is_away: true, left, .. })) =
                (self.args.pulled.wait, &written)
            else {
                break;
            };
            worst = worst.max(*left);
            let gone = back.as_ref().unwrap_or(target);
            match plan.wait_for_target(self.host, gone, wait.0, watch) {
                Ok(Some(there)) => {
                    let options = WriteOptions { differing: true, ..options };
                    written = plan.write(self.host, &there, known, options, watch);
                    back = Some(there);
                }
                // The state of the card and the next step were reported.
                Ok(None) | Err(_) => break,
            }
        }
        written.map_err(|failure| {
            self.told(match failure {
                WriteFailure::CutShort { error, left, is_away } => {
                    WriteFailure::CutShort { error, left: left.max(worst), is_away }
                }
                other => other,
            })
        })
    }

    fn told(&self, failure: WriteFailure) -> Failure {
        match failure {
            WriteFailure::NotClaimed(error) => Failure::from(error)
                .state(UNTOUCHED)
                .next("List the cards again with `imbrik cards`, and try again."),
            WriteFailure::CutShort { error, left, .. } => self.cut_short(error, left),
            WriteFailure::NotReadBack(error) => self.not_read_back(error),
            WriteFailure::NotKept { found, wraps_at } => self.not_kept(&found, wraps_at),
            other => Failure::new(Exit::Failed, other.to_string()),
        }
    }

    fn cut_short(&self, error: Error, left: LeftOnCard) -> Failure {
        let name = self.card.goal();
        let again = match self.source.known.is_card {
            false => "Restore once more",
            true => "Clone once more",
        };
        let next = match error.class() {
            Class::Mismatch | Class::Corrupt | Class::Ended => {
                "Try another copy of the image.".to_owned()
            }
            Class::Cancelled => format!("{again}; --differing skips data that are already on it."),
            Class::Gone => format!(
                "Plug it in again, and repeat: {}; --differing skips data that are already on it.",
                again.to_lowercase()
            ),
            _ => format!("{again}; if it fails again, the card or the reader is bad."),
        };
        Failure::from(error)
            .state(match (left, &self.card.into) {
                (LeftOnCard::WhatItHad, _) => UNTOUCHED.to_owned(),
                (LeftOnCard::Uncertain, _) => format!(
                    "The first write failed: {name} is unchanged, or its first sector is lost."
                ),
                (LeftOnCard::NoStart, None) => format!(
                    "All data on {name} is lost. It has no partition table now, so that nobody takes \
                     it for a complete card."
                ),
                (LeftOnCard::NoStart, Some(_)) => format!(
                    "All data on {name} is lost. Its start was cleared, so that nobody takes it for \
                     complete."
                ),
            })
            .next(next)
    }

    fn not_read_back(&self, error: Error) -> Failure {
        let source = self.source.path();
        let prove = match self.source.known.is_card {
            false if pipe::is_pipe(&source) => {
                "Restore it again from the start: the pipe can't be read twice.".to_owned()
            }
            false => format!(
                "To verify it, run: imbrik check {} --against {}",
                quoted(&source),
                quoted(&self.card.target.card.path)
            ),
            true => "Clone it again.".to_owned(),
        };
        Failure::from(error)
            .state(format!("Everything was written to {}, but not verified.", self.card.goal()))
            .next(prove)
    }

    fn not_kept(&self, found: &Differences, wraps_at: Option<ByteLen>) -> Failure {
        let bytes: ByteLen = found.spans.iter().map(|span| span.len()).sum();
        let first = found.spans.first().copied().unwrap_or_default();
        Failure::new(
            Exit::Mismatch,
            format!(
                "the card did not keep the written data: first at {first}, {} in total",
                size::both(bytes)
            ),
        )
        .state(format!("{} cannot be relied on.", self.card.name()))
        .next(match wraps_at {
            Some(real) => format!(
                "Its addresses wrap around at {}: that is its real capacity. Use another card; see \
                 `imbrik weigh`.",
                size::both(real)
            ),
            None => {
                "Try another reader; if it happens again, the card is bad or smaller than it claims: \
                 test it with `imbrik weigh`."
                    .to_owned()
            }
        })
    }
}
