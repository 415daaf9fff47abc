//! What changes of contacts, coil currents and travel say: pure calculation from what was seen.

pub mod coil;
pub mod contact;
pub mod dynamic;
pub mod scatter;
pub mod travel;
