//! Waveforms: samples made from programs, and phasors and harmonics found in samples.
//!
//! [`synthesis`] turns a program into the samples that are put out; [`spectrum`] measures what
//! samples contain; [`Recording`] is a waveform that is put out as it is.

mod recording;
pub mod spectrum;
pub mod synthesis;
#[cfg(test)]
mod tests;

pub use recording::{Recording, Track};
pub use synthesis::{Piece, TooLong, Waveform, WaveformChannel, next_zeros, pieces, render};
