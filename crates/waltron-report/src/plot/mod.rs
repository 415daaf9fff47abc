//! Pictures of charts ([`svg()`], [`png()`]), and charts of what is put out and of waveforms.

mod draw;
mod frame;
mod png;
mod style;
mod svg;
mod symbol;
mod trace;
mod waves;

pub use png::png;
pub use svg::svg;
pub use waves::{of_program, of_waveform};

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
