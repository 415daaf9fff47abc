//! Waveforms: the samples that a program puts out.

mod reference;
mod stream;
pub mod synthesis;
#[cfg(test)]
mod tests;
mod zeros;

pub use reference::Reference;
pub use stream::Stream;
pub use synthesis::{Piece, TooLong, Waveform, WaveformChannel, pieces, render, settled};
pub use zeros::next_zeros;
