//! Pictures: what is drawn ([`TimeCurrent`], [`Oscillogram`]) apart from how ([`svg()`], [`png()`]).

mod axis;
mod draw;
mod model;
mod oscillogram;
mod png;
mod svg;
mod waves;

pub use axis::LogAxis;
pub use model::{Mark, Outcome, Stage, TimeCurrent};
pub use oscillogram::{Oscillogram, Panel, Trace};
pub use waves::{of_program, of_waveform};

/// Something that can be drawn.
#[derive(Clone, Copy, Debug)]
pub enum Diagram<'a> {
    /// A time-current diagram.
    TimeCurrent(&'a TimeCurrent),
    /// Values over time.
    Oscillogram(&'a Oscillogram),
}

impl<'a> From<&'a TimeCurrent> for Diagram<'a> {
    fn from(plot: &'a TimeCurrent) -> Self {
        Self::TimeCurrent(plot)
    }
}

impl<'a> From<&'a Oscillogram> for Diagram<'a> {
    fn from(plot: &'a Oscillogram) -> Self {
        Self::Oscillogram(plot)
    }
}

/// Draws a diagram as SVG text of `size` (width, height) in pixels.
///
/// Every point carries a title, which browsers show on hovering, and the class `point` with its
/// id, for the report's own read-out.
///
/// # Errors
/// [`PlotError`] when there is nothing to draw or the drawing library refuses.
pub fn svg<'a>(diagram: impl Into<Diagram<'a>>, size: (u32, u32)) -> Result<String, PlotError> {
    match diagram.into() {
        Diagram::TimeCurrent(plot) => svg::svg_of(plot, size),
        Diagram::Oscillogram(plot) => svg::svg_of(plot, size),
    }
}

/// Draws a diagram as PNG bytes of `size` (width, height) in pixels.
///
/// Only the built-in fonts are used, so that the picture is the same on every machine.
///
/// # Errors
/// [`PlotError`] when there is nothing to draw, the drawing library refuses, or the picture cannot
/// be encoded.
pub fn png<'a>(diagram: impl Into<Diagram<'a>>, size: (u32, u32)) -> Result<Vec<u8>, PlotError> {
    match diagram.into() {
        Diagram::TimeCurrent(plot) => png::png_of(plot, size),
        Diagram::Oscillogram(plot) => png::png_of(plot, size),
    }
}

/// Why a plot could not be made.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum PlotError {
    /// Nothing to draw.
    #[error("there is nothing to draw: {0}")]
    Empty(String),
    /// The drawing library refused.
    #[error("cannot draw the plot: {0}")]
    Drawing(String),
    /// The picture could not be rendered.
    #[error("cannot render the picture: {0}")]
    Rendering(String),
}
