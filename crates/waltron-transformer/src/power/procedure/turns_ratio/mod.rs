//! The turns ratio: one winding fed at low voltage, phase by phase, the other one read; with it the vector
//! group and the exciting currents.

mod graded;
mod keys;
mod steps;

pub use keys::{TurnsRatioKeys, TurnsRatioTest};

use super::joint::{Joint, Stepwise};
use crate::power::asset::PowerTransformer;
use waltron_core::grading::Criterion;
use waltron_core::procedure::{Bench, SetupError};

/// The ratio lies within its tolerance.
pub(crate) const RATIO: Criterion = Criterion::named("turns_ratio");

/// The windings are connected as the nameplate says.
pub(crate) const GROUP: Criterion = Criterion::CONDITION;

/// What the segments are called.
const MEASURED: &str = "ratio";
const FINDING: &str = "find the group";

impl Stepwise for TurnsRatioTest {
    const WORD: &'static str = "turns-ratio";

    fn joint(&self, of: &PowerTransformer, bench: Bench<'_>) -> Result<Joint, SetupError> {
        steps::joint(self, of, bench)
    }
}
