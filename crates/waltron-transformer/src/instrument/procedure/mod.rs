//! How instrument transformers are tested.

mod burden;
mod class;
mod cores;
mod demagnetise;
mod errors;
mod excitation;
mod excite;
mod places;
mod plausible;
mod primary;
mod ratio;
mod remanence;
mod resistance;
mod staged;
mod voltage;

pub use burden::{BurdenKeys, BurdenTest};
pub use class::{ClassKeys, ClassTest};
pub use cores::{CoresKeys, CoresTest};
pub use demagnetise::{DemagnetiseKeys, DemagnetiseTest};
pub use errors::{ErrorsKeys, ErrorsTest};
pub use excitation::{ExcitationKeys, ExcitationTest};
pub use excite::Resolution;
pub(crate) use excite::{Curve, read_curve};
pub use ratio::{RatioKeys, RatioTest};
pub use resistance::{ResistanceKeys, ResistanceTest};
