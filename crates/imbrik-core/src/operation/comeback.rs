//! Waits for a card that was unplugged, in any reader.

use crate::{
    card::{Card, Host},
    image::tile_span,
    layout::{Survey, View},
};
use imbrik_store::{
    ReadAt,
    bytes::is_zero,
    error::{Class, Result},
    progress::{Event, Step, Watch},
    read_vec,
    units::{ByteLen, ByteOffset},
};
use std::{
    thread,
    time::{Duration, Instant},
};

/// The interval of polling.
const LOOK_EVERY: Duration = Duration::from_millis(500);

/// The number of tiles of a plan that are searched for the first one with data.
const LOOKED_AT: u64 = 64;

/// Waits until the card that was read as `gone`, with the survey `before`, is connected again, under any path; `None`
/// if that takes longer than `how_long`.
///
/// A card is the same if its size and everything that [`Survey`] compares are equal. Reading on verifies more.
///
/// # Errors
/// When waiting is cancelled.
pub fn wait_for_source(
    host: &dyn Host,
    gone: &Card,
    before: &Survey,
    how_long: Duration,
    watch: Watch<'_>,
) -> Result<Option<Card>> {
    let before = before.fingerprint();
    wait_for(host, gone, how_long, watch, |card| {
        Ok(Survey::of(&*host.open_source(card)?)?.fingerprint() == before)
    })
}

/// Waits until a card of the size of `gone` is connected for which `is_it` holds. One that does not answer is asked
/// again, because it may just have been plugged in.
pub(super) fn wait_for(
    host: &dyn Host,
    gone: &Card,
    how_long: Duration,
    watch: Watch<'_>,
    is_it: impl Fn(&Card) -> Result<bool>,
) -> Result<Option<Card>> {
    tracing::info!(card = %gone.path.display(), seconds = how_long.as_secs(), "waiting for the card");
    watch.observer.on(&Event::StepAdded);
    watch.observer.on(&Event::Started { step: Step::WaitingForCard, total: ByteLen::ZERO });
    let until = Instant::now().checked_add(how_long);
    let found = loop {
        watch.observer.on(&Event::Advanced { done: ByteLen::ZERO });
        // Also at the start: a card that disappeared can stay listed briefly.
        thread::sleep(LOOK_EVERY.min(how_long));
        watch.cancel.check()?;
        let cards = match host.list() {
            Ok(listing) => listing.cards,
            Err(error) => {
                tracing::info!(%error, "the cards could not be listed");
                Vec::new()
            }
        };
        let like = |card: &Card| (card.size, card.sector) == (gone.size, gone.sector);
        let is_it = |card: &Card| match is_it(card) {
            Err(error) if error.class() == Class::Cancelled => Err(error),
            Err(error) => {
                tracing::info!(card = %card.path.display(), %error, "a card does not answer yet");
                Ok(false)
            }
            is => is,
        };
        let mut found = None;
        for card in cards.into_iter().filter(like) {
            if is_it(&card)? {
                found = Some(card);
                break;
            }
        }
        if found.is_some() || until.is_none_or(|until| Instant::now() >= until) {
            break found;
        }
    };
    watch.observer.on(&Event::Finished);
    let path = found.as_ref().map(|card| card.path.display().to_string());
    tracing::info!(?path, "the waiting is over");
    Ok(found)
}

/// Returns whether the writing of `view` to a card, of which only `place` was being written, was interrupted: it has no
/// start, and it contains the first tile after the start that has data.
///
/// For a card that was unplugged before that tile, the answer is no.
///
/// # Errors
/// When the plan or the card can't be read.
pub(super) fn is_half_written(view: &View, place: &dyn ReadAt) -> Result<bool> {
    let sector = place.sector_size().len();
    let start = read_vec(place, ByteOffset::ZERO, sector.to_usize().unwrap_or(0))?;
    if !is_zero(&start) {
        return Ok(false);
    }
    let tiles = (1..LOOKED_AT).map_while(|index| tile_span(index, view.size()));
    for tile in tiles {
        for segment in view.written_in(tile) {
            let len = segment.len().to_usize().unwrap_or(0);
            let planned = read_vec(view, segment.start(), len)?;
            if !is_zero(&planned) {
                return Ok(read_vec(place, segment.start(), len)? == planned);
            }
        }
    }
    Ok(false)
}
