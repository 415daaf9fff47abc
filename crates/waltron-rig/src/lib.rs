//! What injects and measures, and the runner that drives procedures on it.
//!
//! [`Rig`] is the seam: it plays a cleared program and says what it saw. [`virtual_rig`] plays in
//! virtual time on a simulated specimen; [`scpi_rig`] drives a test set over TCP, and [`test_set`] is
//! such a test set, simulated. [`runner`] drives the procedures of a plan and emits
//! events; [`writer`] puts them into the run record, chained and flushed.

#![forbid(unsafe_code)]
#![warn(clippy::unwrap_used)]

pub mod attendant;
pub mod clock;
mod description;
mod external;
mod form;
pub mod instruments;
mod live;
mod player;
pub mod reader;
mod rig;
pub mod runner;
pub mod scpi_rig;
pub mod stand_in;
pub mod test_set;
pub mod virtual_rig;
pub mod writer;

pub use description::Description;
pub use form::{RigFile, RigForm, RigKind};
pub use rig::{Rig, RigError};
