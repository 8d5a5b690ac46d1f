//! Common to all pictures: paper, ink, text, and file formats.

use plotters::{
    backend::BitMapBackend,
    coord::Shift,
    drawing::DrawingAreaErrorKind,
    prelude::*,
    style::{
        FontFamily, register_font,
        text_anchor::{HPos, Pos, VPos},
    },
};
use std::{error::Error, io::Cursor, sync::Once};

pub(super) const WIDTH: u32 = 1280;
pub(super) const HEIGHT: u32 = 800;
/// The horizontal extent of the drawing.
pub(super) const LEFT: i32 = 60;
pub(super) const RIGHT: i32 = 1220;
const FONT: &str = "imbrik";

pub(super) const PAPER: RGBColor = RGBColor(252, 250, 244);
pub(super) const INK: RGBColor = RGBColor(40, 38, 34);
pub(super) const FAINT: RGBColor = RGBColor(150, 144, 132);
pub(super) const GROUND: RGBColor = RGBColor(233, 228, 214);
pub(super) const HONEY: RGBColor = RGBColor(196, 128, 22);

/// The picture format.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Format {
    Svg,
    Png,
}

pub(super) type Drawn<B> = Result<(), DrawingAreaErrorKind<<B as DrawingBackend>::ErrorType>>;

/// A drawing.
pub(super) trait Draw {
    fn draw<B: DrawingBackend>(&self, area: &DrawingArea<B, Shift>) -> Drawn<B>;
}

/// Renders `what`.
///
/// # Errors
/// A message, when the picture can't be drawn.
pub(super) fn render(what: &impl Draw, format: Format) -> Result<Vec<u8>, Box<dyn Error>> {
    static FONTS: Once = Once::new();
    FONTS.call_once(|| {
        // A part of the font, with the letters of most alphabets; others are drawn as boxes. What is built in is sound.
        let bytes = include_bytes!("../../assets/DejaVuSans.ttf");
        let _ = register_font(FONT, FontStyle::Normal, bytes);
        let _ = register_font("sans-serif", FontStyle::Normal, bytes);
    });
    match format {
        Format::Svg => {
            let mut text = String::new();
            let area = SVGBackend::with_string(&mut text, (WIDTH, HEIGHT)).into_drawing_area();
            what.draw(&area).map_err(|e| e.to_string())?;
            area.present().map_err(|e| e.to_string())?;
            drop(area);
            // The font is named for any viewer; it need not be there.
            Ok(text.replace(&format!("\"{FONT}\""), "\"sans-serif\"").into_bytes())
        }
        Format::Png => {
            let mut pixels = vec![0; (WIDTH * HEIGHT * 3) as usize];
            let area = BitMapBackend::with_buffer(&mut pixels, (WIDTH, HEIGHT)).into_drawing_area();
            what.draw(&area).map_err(|e| e.to_string())?;
            area.present().map_err(|e| e.to_string())?;
            drop(area);
            let mut png = Vec::new();
            let mut encoder = png::Encoder::new(Cursor::new(&mut png), WIDTH, HEIGHT);
            encoder.set_color(png::ColorType::Rgb);
            encoder.set_depth(png::BitDepth::Eight);
            encoder.write_header()?.write_image_data(&pixels)?;
            Ok(png)
        }
    }
}

pub(super) fn style(size: u32, color: RGBColor) -> TextStyle<'static> {
    (FontFamily::Name(FONT), size).into_font().color(&color)
}

pub(super) fn text<B: DrawingBackend>(
    area: &DrawingArea<B, Shift>,
    words: &str,
    at: (i32, i32),
    size: u32,
    color: RGBColor,
) -> Drawn<B> {
    // Text that doesn't fit is truncated.
    let mut words = words.to_owned();
    let style = style(size, color);
    let most = (RIGHT - LEFT).unsigned_abs();
    while words.chars().count() > 1
        && area.estimate_text_size(&words, &style).is_ok_and(|(wide, _)| wide > most)
    {
        words = words.chars().take(words.chars().count() - 2).chain(['…']).collect();
    }
    area.draw(&Text::new(words, at, style))
}

pub(super) fn centred<B: DrawingBackend>(
    area: &DrawingArea<B, Shift>,
    words: &str,
    at: (i32, i32),
    size: u32,
) -> Drawn<B> {
    let style = style(size, FAINT).pos(Pos::new(HPos::Center, VPos::Center));
    area.draw(&Text::new(words.to_owned(), at, style))
}
