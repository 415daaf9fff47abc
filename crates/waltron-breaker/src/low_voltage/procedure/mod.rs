//! How low-voltage breakers are tested: by current through one pole after the other.

mod instantaneous;
mod no_trip;
mod shots;
mod source;
mod timed;

pub use instantaneous::InstantaneousKeys;
pub use no_trip::NoTripKeys;
pub(crate) use shots::CONNECTION;
pub use timed::TimedKeys;
pub(crate) use timed::{GroundFaultKeys, LongTimeKeys, ShortTimeKeys};
