//! How low-voltage breakers are tested: by current through one pole after the other, or by what stands for it at the
//! trip unit's test port.

mod course;
mod instantaneous;
mod no_trip;
mod read_back;
mod shots;
mod source;
mod timed;
mod unit;
mod way;

pub use instantaneous::InstantaneousKeys;
pub use no_trip::NoTripKeys;
pub use read_back::ReadBackKeys;
pub(crate) use shots::CONNECTION;
pub(crate) use source::CURRENT;
pub use timed::TimedKeys;
pub(crate) use timed::{GroundFaultKeys, LongTimeKeys, ShortTimeKeys};
pub(crate) use way::PORT;
