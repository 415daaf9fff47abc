//! Waveforms: samples made from programs, and phasors and harmonics found in samples.
//!
//! [`synthesis`] turns a program into the samples that are put out; [`spectrum`] measures what
//! samples contain; [`Recording`] is a waveform that is put out as it is.

mod clock;
mod recording;
mod reference;
pub mod spectrum;
pub mod synthesis;
#[cfg(test)]
mod tests;
mod zeros;

pub use clock::PhaseClock;
pub use recording::{Recording, Track};
pub use reference::Reference;
pub use synthesis::{Piece, TooLong, Waveform, WaveformChannel, pieces, render, settled};
pub use zeros::next_zeros;
