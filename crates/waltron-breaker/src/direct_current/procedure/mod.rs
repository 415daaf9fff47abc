//! How high-speed direct-current breakers are tested: by pulses of a source with a store.

mod firing;
mod joints;
mod judging;
mod making;
mod opening;
mod source;
mod trip_level;

pub use joints::JointResistanceKeys;
pub(crate) use judging::{CIRCUIT, JOINT, LEVEL, MAKING, OPENING, SETTING};
pub use making::MakingKeys;
pub use opening::OpeningTimeKeys;
pub(crate) use opening::passing;
pub(crate) use source::{MAIN_A, MAIN_V};
pub use trip_level::TripLevelKeys;
pub(crate) use trip_level::level_on;

use super::analysis::pulse::{Pulse, Shown};
use super::asset::DcBreaker;
use waltron_core::procedure::Served;

/// The samples of an injection of a record, where they are there.
pub(crate) fn told_of(served: &Served) -> Option<Pulse<'_>> {
    source::samples(&served.observation)
}

/// What a breaker did on an injection of a record.
pub(crate) fn shown_on(of: &DcBreaker, served: &Served) -> Option<Shown> {
    Some(told_of(served)?.shown(trip_level::WINDOW_S.min(0.002), source::floor(of)))
}
