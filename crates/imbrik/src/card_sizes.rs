//! The card sizes that an image fits, and the changes on connected cards.

use crate::{render::size, session::Session};
use imbrik_core::{
    card::{Card, Standing, standing},
    layout::{Occupancy, Part, Survey},
    units::ByteLen,
};

/// The maximum number of listed cards.
const MOST_CARDS: usize = 8;

/// The smallest size by name of which every card holds `len`.
pub(crate) fn sold_as(len: ByteLen) -> Option<ByteLen> {
    let sold = (0..12).map(|power| 1_000_000_000u64 << power);
    // Cards may be up to a tenth smaller than labelled.
    sold.map(|size| (size, size / 10 * 9))
        .find(|(_, least)| *least >= len.get())
        .map(|(name, _)| ByteLen::new(name))
}

/// For which cards an image is: "cards of 2.1 GB and more, so any sold as 4 GB".
pub(crate) fn cards(len: ByteLen) -> String {
    let least = size::both(len);
    match sold_as(len) {
        Some(name) => format!("cards of {least} and more, so any sold as {}", size::short(name)),
        None => format!("cards of {least} and more"),
    }
}

/// How far a card's content can be made smaller.
pub(crate) struct MinimumSizes<'a> {
    pub(crate) survey: &'a Survey,
    pub(crate) occupancy: &'a Occupancy,
    /// True if the last volume fills a bigger card.
    pub(crate) fills: bool,
}

impl MinimumSizes<'_> {
    /// The smallest sizes of some partitions.
    fn smallest(&self, which: impl Fn(usize) -> bool) -> ByteLen {
        let parts = self.survey.parts.iter().enumerate().filter(|(index, _)| which(*index));
        let lens = parts.filter_map(|(index, part)| {
            let found = self.occupancy.volume(index)?;
            let can = part.is_resizable() && found.usage.whole_because.is_none();
            let least = found.least.as_ref().filter(|_| can)?.size;
            Some((index, least.min(part.span.len())))
        });
        self.survey.needed_with(lens)
    }

    /// The required card size if the last shrinkable volume has its smallest size; `None` if it can't shrink.
    pub(crate) fn last_shrunk(&self) -> Option<ByteLen> {
        let last = self.survey.last_resizable()?;
        let len = self.smallest(|index| index == last);
        (len < self.survey.needed()).then_some(len)
    }

    /// The required card size if every volume has its smallest size.
    pub(crate) fn all_shrunk(&self) -> ByteLen {
        self.smallest(|_| true).min(self.survey.needed())
    }

    /// A line for each connected card that may be written: the changes on it.
    pub(crate) fn on_cards(&self, session: &Session, but: Option<&Card>) -> Vec<String> {
        let Ok(listing) = session.fleet.list() else { return Vec::new() };
        let can = listing.cards.iter().filter(|card| {
            matches!(standing(card, false), Standing::Ready | Standing::Mounted(_))
                && but.is_none_or(|but| !session.fleet.is_same_medium(but, card))
        });
        let cards: Vec<&Card> = can.take(MOST_CARDS).collect();
        let names = cards.iter().map(|card| card.path.display().to_string());
        let width = names.clone().map(|name| name.chars().count()).max().unwrap_or(0);
        let sizes: Vec<String> = cards.iter().map(|card| size::short(card.size)).collect();
        let size_width = sizes.iter().map(|size| size.chars().count()).max().unwrap_or(0);
        let lines = names.zip(&sizes).zip(&cards).map(|((name, size), card)| {
            format!("{name:<width$}  {size:>size_width$}  {}", self.on_card(card))
        });
        lines.collect()
    }

    /// The changes on a card.
    fn on_card(&self, card: &Card) -> String {
        let needed = self.survey.needed();
        let last = self.survey.last_resizable();
        let is_known = last.and_then(|index| self.occupancy.volume(index));
        let is_known = is_known.is_some_and(|found| found.usage.whole_because.is_none());
        let last = last.and_then(|index| self.survey.parts.get(index));
        let title = last.map(Part::full_title).unwrap_or_default();
        // One that is not understood is not touched, and comes first when room is given or taken.
        if last.is_some() && !is_known {
            return match Some(needed.saturating_sub(card.size)).filter(|missing| !missing.is_zero())
            {
                Some(missing) => {
                    format!(
                        "too small: {} are missing; {title} keeps its size",
                        size::short(missing)
                    )
                }
                None => "fits unchanged".to_owned(),
            };
        }
        if card.size < self.all_shrunk() {
            let missing = self.all_shrunk().saturating_sub(card.size);
            return format!("too small: {} are missing", size::short(missing));
        }
        if card.size < needed {
            let less = size::short(needed.saturating_sub(card.size));
            return match self.last_shrunk().is_some_and(|least| least <= card.size) {
                true => format!("{title} shrinks by {less}"),
                false => format!(
                    "{less} less: {title} shrinks as far as possible, others provide the rest"
                ),
            };
        }
        let more = card.size.saturating_sub(needed);
        match (last, more > ByteLen::mib(1)) {
            (_, false) => "fits unchanged".to_owned(),
            (Some(_), true) if self.fills => format!("{title} grows by {}", size::short(more)),
            (Some(_), true) => {
                format!("fits unchanged; with --fill, {title} grows by {}", size::short(more))
            }
            (None, true) => "fits unchanged".to_owned(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn card_may_be_a_tenth_smaller_than_labelled() {
        let words = |bytes| cards(ByteLen::new(bytes));
        assert!(words(900_000_000).ends_with("so any sold as 1 GB"));
        assert!(words(900_000_001).ends_with("so any sold as 2 GB"));
        assert!(words(58_000_000_000).ends_with("so any sold as 128 GB"));
        assert!(words(u64::MAX).ends_with("and more"));
    }
}
