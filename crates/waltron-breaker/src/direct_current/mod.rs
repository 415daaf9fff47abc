//! High-speed direct-current breakers, tested by pulses of current from a source with a store.

mod analysis;
mod asset;
mod form;
mod procedure;
mod scaffold;
mod shown;

pub use asset::{DcBreaker, Joint};
pub use form::DcBreakerForm;
pub use procedure::{JointResistanceKeys, MakingKeys, OpeningTimeKeys, TripLevelKeys};
pub(crate) use scaffold::{asset as new_asset, tests as new_tests};
pub(crate) use shown::{charts, sections};
