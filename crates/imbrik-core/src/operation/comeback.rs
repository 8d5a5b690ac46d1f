//! A card that was pulled out is waited for, wherever it comes back.

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

/// How often it is looked for.
const LOOK_EVERY: Duration = Duration::from_millis(500);

/// How many tiles of a plan are looked at for the first that holds anything.
const LOOKED_AT: u64 = 64;

/// Waits until the card that was read as `gone`, and on which `before` was found, is there again, under
/// whatever path; `None` when it is not within `how_long`.
///
/// It is the same when it has the same size and tells the same of itself, all that [`Survey`] compares
/// included: whoever goes on reading proves more.
///
/// # Errors
/// When the waiting is stopped.
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

/// Waits until a card is listed that is as large as `gone`, and of which `is_it` holds. One that does not
/// answer is asked again, it may have come a moment ago.
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
        // First of all, too: a card that went away may still be listed for a moment.
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

/// Whether a card, of which only `place` was being written, was left half way in writing `view`: it has
/// no start, and the first tile behind that which holds anything is on it.
///
/// Of one that was pulled out before that tile, nothing can be proved.
///
/// # Errors
/// When the plan or the card cannot be read.
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
