//! A map of a card: one strip to scale, with the density of used space, and labels.

use super::{
    picture::{
        self, Draw, Drawn, FAINT, Format, GROUND, HEIGHT, HONEY, INK, LEFT, PAPER, RIGHT, centred,
        style, text,
    },
    size, strip,
};
use imbrik_core::{
    layout::{Occupancy, Survey},
    units::ByteLen,
};
use plotters::{
    coord::Shift,
    prelude::*,
    style::text_anchor::{HPos, Pos, VPos},
};
use std::error::Error;

/// The strip, from top to bottom.
const TOP: i32 = 190;
const BOTTOM: i32 = 430;
/// How wide a gap is at least, so that it is seen at all.
const NOTCH: i32 = 3;

/// The texts of a picture.
pub(crate) struct Words {
    pub(crate) title: String,
    pub(crate) subtitle: String,
    /// For each partition: its name, and its used space.
    pub(crate) labels: Vec<(String, String)>,
}

/// Draws a card.
///
/// # Errors
/// A message, when the picture can't be drawn.
pub(crate) fn draw(
    survey: &Survey,
    occupancy: &Occupancy,
    words: &Words,
    format: Format,
) -> Result<Vec<u8>, Box<dyn Error>> {
    picture::render(&Picture { survey, occupancy, words }, format)
}

struct Picture<'a> {
    survey: &'a Survey,
    occupancy: &'a Occupancy,
    words: &'a Words,
}

impl Draw for Picture<'_> {
    fn draw<B: DrawingBackend>(&self, area: &DrawingArea<B, Shift>) -> Drawn<B> {
        area.fill(&PAPER)?;
        text(area, &self.words.title, (LEFT, 44), 34, INK)?;
        text(area, &self.words.subtitle, (LEFT, 94), 17, FAINT)?;
        self.strip(area)?;
        self.scale(area)?;
        self.labels(area)?;
        legend(area)
    }
}

impl Picture<'_> {
    /// The horizontal position of a byte of the card.
    fn x(&self, byte: u64) -> i32 {
        let wide = u128::from((RIGHT - LEFT).unsigned_abs());
        let ahead = u128::from(byte) * wide / u128::from(self.survey.size.get().max(1));
        LEFT + i32::try_from(ahead).unwrap_or(0).min(RIGHT - LEFT)
    }

    fn strip<B: DrawingBackend>(&self, area: &DrawingArea<B, Shift>) -> Drawn<B> {
        area.draw(&Rectangle::new([(LEFT, TOP), (RIGHT, BOTTOM)], GROUND.filled()))?;
        let columns = u64::from((RIGHT - LEFT).unsigned_abs());
        let used = strip::density(|span| self.occupancy.used_in(span), self.survey.size, columns);
        for (column, used) in (LEFT..RIGHT).zip(used) {
            if used > 0.0 {
                let tall = (f64::from(BOTTOM - TOP) * used).round().max(2.0) as i32;
                let top = BOTTOM - tall.min(BOTTOM - TOP);
                area.draw(&Rectangle::new([(column, top), (column + 1, BOTTOM)], HONEY.filled()))?;
            }
        }
        // Gaps are notches through the whole strip; data in them are not part of a volume.
        for gap in &self.survey.gaps {
            let (from, to) = (self.x(gap.start().get()), self.x(gap.end().get()));
            let to = to.max(from + NOTCH).min(RIGHT);
            area.draw(&Rectangle::new(
                [(from.min(to - NOTCH), TOP - 8), (to, BOTTOM + 1)],
                PAPER.filled(),
            ))?;
        }
        let rail = INK.stroke_width(2);
        for part in &self.survey.parts {
            let (from, to) = (self.x(part.span.start().get()), self.x(part.span.end().get()));
            let from = from + i32::from(part.span.start().get() > 0) * NOTCH;
            let to = to.max(from + 2).min(RIGHT);
            area.draw(&PathElement::new([(from, BOTTOM + 3), (to, BOTTOM + 3)], rail))?;
        }
        Ok(())
    }

    /// Sizes above the strip, at round places.
    fn scale<B: DrawingBackend>(&self, area: &DrawingArea<B, Shift>) -> Drawn<B> {
        let size = self.survey.size.get();
        let mut step = 1u64;
        let factors = [2, 5, 10];
        let steps = (0..20)
            .flat_map(|power| factors.map(|f| 10u64.saturating_pow(power).saturating_mul(f)));
        for candidate in steps {
            step = candidate;
            if size / candidate.max(1) <= 10 {
                break;
            }
        }
        let mut at = 0u64;
        while at <= size {
            let x = self.x(at);
            if at == 0 || RIGHT - x > 12 {
                area.draw(&PathElement::new([(x, TOP - 16), (x, TOP - 10)], FAINT))?;
            }
            let label = if at == 0 { "0".to_owned() } else { ByteLen::new(at).decimal() };
            // The last one would run into the card's own size.
            if RIGHT - x > 90 {
                centred(area, &label, (x, TOP - 30), 14)?;
            }
            at = at.saturating_add(step);
        }
        area.draw(&PathElement::new([(RIGHT, TOP - 16), (RIGHT, TOP - 10)], FAINT))?;
        centred(area, &size::short(self.survey.size), (RIGHT, TOP - 30), 14)
    }

    /// The names of the partitions, below their start.
    fn labels<B: DrawingBackend>(&self, area: &DrawingArea<B, Shift>) -> Drawn<B> {
        let starts = strip::starts(self.survey, u64::from((RIGHT - LEFT).unsigned_abs()));
        let count = i32::try_from(starts.len()).unwrap_or(0);
        let room = ((HEIGHT as i32 - 120) - (BOTTOM + 30)) / count.max(1);
        let pitch = room.clamp(18, 52);
        let mut last = 0;
        for (place, (index, start)) in starts.iter().enumerate() {
            // Lines that start close together are drawn apart.
            let x = (LEFT + i32::try_from(*start).unwrap_or(0) + NOTCH).max(last + 7);
            last = x;
            let row = count - 1 - i32::try_from(place).unwrap_or(0);
            let y = BOTTOM + 40 + row * pitch;
            let anchor = LEFT + i32::try_from(*start).unwrap_or(0) + NOTCH;
            let to_left = x > RIGHT - 330;
            let elbow = if to_left { x - 14 } else { x + 14 };
            let thread = [(anchor, BOTTOM + 4), (x, BOTTOM + 16), (x, y), (elbow, y)];
            area.draw(&PathElement::new(thread, FAINT))?;
            let Some((name, used)) = self.words.labels.get(*index) else { continue };
            let line = format!("{name}   {used}");
            let pos = if to_left { HPos::Right } else { HPos::Left };
            let at = (if to_left { elbow - 6 } else { elbow + 6 }, y);
            let font = if pitch < 24 { 14 } else { 17 };
            area.draw(&Text::new(line, at, style(font, INK).pos(Pos::new(pos, VPos::Center))))?;
        }
        Ok(())
    }
}

fn legend<B: DrawingBackend>(area: &DrawingArea<B, Shift>) -> Drawn<B> {
    let y = HEIGHT as i32 - 60;
    let mut x = LEFT;
    for (color, words, width) in [
        (HONEY, "used: the height shows how much", 410),
        (GROUND, "free", 80),
        (PAPER, "unallocated (at least 3 pixels wide)", 0),
    ] {
        let place = [(x, y - 8), (x + 16, y + 8)];
        area.draw(&Rectangle::new(place, color.filled()))?;
        area.draw(&Rectangle::new(place, FAINT))?;
        let style = style(14, INK).pos(Pos::new(HPos::Left, VPos::Center));
        area.draw(&Text::new(words.to_owned(), (x + 24, y), style))?;
        x += 40 + width;
    }
    Ok(())
}
