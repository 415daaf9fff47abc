//! Low-voltage breakers with their trip units, tested by current through their poles.

mod asset;
pub mod band;
mod form;
mod procedure;
mod scaffold;
mod shown;

pub use asset::{Acts, LvBreaker, TripFunction};
pub use form::LvBreakerForm;
pub(crate) use form::band_file;
pub(crate) use procedure::{GroundFaultKeys, LongTimeKeys, ShortTimeKeys};
pub use procedure::{InstantaneousKeys, NoTripKeys, ReadBackKeys, TimedKeys};
pub(crate) use scaffold::{asset as new_asset, tests as new_tests};
pub(crate) use shown::{charts, sections};
