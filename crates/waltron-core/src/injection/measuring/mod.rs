//! Measuring: what can be measured, what with, and what is worked out from several readings.
//!
//! What was put out is never called a measurement: a [`Reading`] comes from a [`Meter`], from an
//! instrument, or from the rig's own look at one of its outputs.

mod capture;
mod lack;
mod meter;
mod parse;
mod probe;
mod reading;
mod signal;
pub mod words;
mod worth;

pub use capture::{Capture, Captured, CapturedTrack, MOST_CAPTURED, Part, digest_of};
pub use lack::Lack;
pub use meter::{Coupling, Meter};
pub use probe::{Probe, Property};
pub use reading::{Place, Read, Reading, When};
pub use signal::{Signal, Worked};
pub use worth::{Worth, work_out};
