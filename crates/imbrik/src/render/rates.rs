//! How fast a card reads from its first byte to its last: as a line of text, and as a picture.

use super::{
    picture::{
        self, Draw, Drawn, FAINT, Format, GROUND, HONEY, INK, LEFT, RIGHT, centred, style, text,
    },
    size, strip,
};
use imbrik_core::units::{ByteLen, ByteOffset};
use plotters::{
    coord::Shift,
    prelude::*,
    style::text_anchor::{HPos, Pos, VPos},
};
use std::error::Error;

/// The vertical extent of the rates.
const TOP: i32 = 170;
const BOTTOM: i32 = 680;

/// Rates in bytes per second, by offset.
pub(crate) type Rates<'a> = &'a [(ByteOffset, u64)];

fn highest(rates: Rates<'_>) -> u64 {
    rates.iter().map(|(_, rate)| *rate).max().unwrap_or(0)
}

/// A line of at most `columns`: the height of each column is the card's speed there, relative to the fastest place.
pub(crate) fn line(rates: Rates<'_>, columns: usize) -> String {
    let most = highest(rates).max(1) as f64;
    let count = rates.len().min(columns).max(1);
    let of_column = |column: usize| {
        let (from, to) = (column * rates.len() / count, (column + 1) * rates.len() / count);
        let slowest = rates.get(from..to).unwrap_or_default().iter().map(|(_, rate)| *rate).min();
        strip::bar(slowest.unwrap_or(0) as f64 / most)
    };
    (0..count).map(of_column).collect()
}

/// The rates as a picture.
///
/// # Errors
/// A message, when the picture can't be drawn.
pub(crate) fn draw(
    rates: Rates<'_>,
    card: ByteLen,
    title: &str,
    subtitle: &str,
    format: Format,
) -> Result<Vec<u8>, Box<dyn Error>> {
    picture::render(&Picture { rates, card, title, subtitle }, format)
}

struct Picture<'a> {
    rates: Rates<'a>,
    card: ByteLen,
    title: &'a str,
    subtitle: &'a str,
}

impl Draw for Picture<'_> {
    fn draw<B: DrawingBackend>(&self, area: &DrawingArea<B, Shift>) -> Drawn<B> {
        area.fill(&picture::PAPER)?;
        text(area, self.title, (LEFT, 44), 34, INK)?;
        text(area, self.subtitle, (LEFT, 94), 17, FAINT)?;
        let top = self.top();
        for step in 0..=4u64 {
            let rate = top / 4 * step;
            let y = self.y(rate);
            area.draw(&PathElement::new([(LEFT + 60, y), (RIGHT, y)], GROUND))?;
            let label = match rate {
                0 => "0".to_owned(),
                rate => format!("{}/s", size::short(ByteLen::new(rate))),
            };
            let right = style(14, FAINT).pos(Pos::new(HPos::Right, VPos::Center));
            area.draw(&Text::new(label, (LEFT + 50, y), right))?;
        }
        for (at, rate) in self.rates {
            let x = self.x(at.get());
            let bar = [(x, self.y(*rate)), ((x + self.width()).min(RIGHT), BOTTOM)];
            area.draw(&Rectangle::new(bar, HONEY.filled()))?;
        }
        for step in 0..=4u64 {
            let at = self.card.get() / 4 * step;
            let x = self.x(at).min(RIGHT - 20);
            let label = if at == 0 { "0".to_owned() } else { size::short(ByteLen::new(at)) };
            centred(area, &label, (x, BOTTOM + 24), 14)?;
        }
        let note = "Each bar is a read of 1 MiB. Missing bars could not be read.";
        text(area, note, (LEFT + 60, BOTTOM + 56), 14, INK)
    }
}

impl Picture<'_> {
    /// The rate at the upper edge: a round one.
    fn top(&self) -> u64 {
        let most = highest(self.rates).max(4);
        let mut unit = 4u64;
        while unit.saturating_mul(10) < most {
            unit = unit.saturating_mul(10);
        }
        most.div_ceil(unit).saturating_mul(unit)
    }

    fn y(&self, rate: u64) -> i32 {
        let part = rate as f64 / self.top() as f64;
        BOTTOM - (f64::from(BOTTOM - TOP) * part.clamp(0.0, 1.0)).round() as i32
    }

    fn x(&self, at: u64) -> i32 {
        let part = at as f64 / self.card.get().max(1) as f64;
        LEFT + 60 + (f64::from(RIGHT - LEFT - 60) * part.clamp(0.0, 1.0)).round() as i32
    }

    fn width(&self) -> i32 {
        let count = i32::try_from(self.rates.len()).unwrap_or(1).max(1);
        ((RIGHT - LEFT - 60) / count - 4).max(2)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn plot_column_shows_its_slowest_measurement() {
        let rate = |at: u64, rate: u64| (ByteOffset::new(at), rate);
        let rates = [rate(0, 100), rate(1, 100), rate(2, 50), rate(3, 100)];
        assert_eq!(line(&rates, 80).chars().count(), 4);
        let two: Vec<char> = line(&rates, 2).chars().collect();
        assert!(two[0] > two[1], "{two:?}");
        assert_eq!(line(&[], 10).chars().count(), 1);
    }
}
