//! Letters, colours and lengths of a picture.

use super::PlotError;
use plotters::prelude::*;
use plotters::style::{FontStyle, register_font};
use std::sync::Once;

/// Drawn pixels per pixel of the picture.
pub(super) const SCALE: u32 = 4;
/// The family name that the built-in fonts are registered under.
pub(super) const FONT: &str = "Open Sans";
/// The built-in regular face.
const REGULAR: &[u8] = include_bytes!("../../fonts/OpenSans-Regular.ttf");
/// The built-in semibold face.
const SEMIBOLD: &[u8] = include_bytes!("../../fonts/OpenSans-Semibold.ttf");

pub(super) const INK: RGBColor = RGBColor(0x1d, 0x24, 0x2b);
pub(super) const FAINT: RGBColor = RGBColor(0x5a, 0x66, 0x72);
pub(super) const GRID: RGBColor = RGBColor(0xe4, 0xe8, 0xec);
pub(super) const GRID_STRONG: RGBColor = RGBColor(0xc3, 0xcb, 0xd2);
pub(super) const CURVE: RGBColor = RGBColor(0x1f, 0x4e, 0x79);
pub(super) const BAND: RGBColor = RGBColor(0xc9, 0xdd, 0xee);
pub(super) const STAGE: RGBColor = RGBColor(0x8a, 0x94, 0x9e);
pub(super) const PASS: RGBColor = RGBColor(0x1b, 0x7f, 0x4d);
pub(super) const FAIL: RGBColor = RGBColor(0xc0, 0x2b, 0x1d);
pub(super) const OPEN: RGBColor = RGBColor(0xa8, 0x6a, 0x00);

/// Colours of traces, told apart by brightness too.
pub(super) const TRACES: [RGBColor; 6] = [
    RGBColor(0x9c, 0x2f, 0x1f),
    RGBColor(0x1f, 0x6f, 0x4a),
    RGBColor(0x1f, 0x4e, 0x9a),
    RGBColor(0xb0, 0x7a, 0x10),
    RGBColor(0x6b, 0x3f, 0x8f),
    RGBColor(0x4a, 0x55, 0x60),
];

/// A length in pixels of the picture, as drawn.
pub(super) fn px(value: f64) -> u32 {
    (value * f64::from(SCALE)).round() as u32
}

pub(super) fn drawing(error: impl std::fmt::Display) -> PlotError {
    PlotError::Drawing(error.to_string())
}

/// Makes the built-in fonts known to the library.
pub(super) fn fonts() {
    static ONCE: Once = Once::new();
    ONCE.call_once(|| {
        // Fails only on damaged font data, which is built in and covered by a test.
        let _ = register_font(FONT, FontStyle::Normal, REGULAR);
        let _ = register_font(FONT, FontStyle::Bold, SEMIBOLD);
    });
}

pub(super) fn label(size: f64, colour: &'static RGBColor) -> TextStyle<'static> {
    TextStyle::from((FONT, px(size) as f64).into_font()).color(colour)
}

pub(super) fn heading(size: f64) -> TextStyle<'static> {
    let font = FontDesc::new(FontFamily::Name(FONT), px(size) as f64, FontStyle::Bold);
    TextStyle::from(font).color(&INK)
}
