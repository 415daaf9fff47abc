//! Time-current diagrams: what is drawn ([`TimeCurrent`]) apart from how ([`svg()`], [`png()`]).

mod draw;
mod model;
mod png;
mod svg;

pub use model::{Mark, Outcome, Stage, TimeCurrent};
pub use png::png;
pub use svg::svg;

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
