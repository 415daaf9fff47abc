//! Samples: what is found in them, and recordings that are put out as they are.

mod clock;
mod recording;
pub mod spectrum;

pub use clock::PhaseClock;
pub use recording::{Recording, Track};
