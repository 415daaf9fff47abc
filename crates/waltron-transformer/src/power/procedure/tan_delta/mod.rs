//! Capacitance and tan δ of insulation: each winding energised in turn, what flows measured to the tank, to the
//! other winding, or to both; the bushings by their taps. With a sweep over frequency the losses are told at
//! 20 °C by the unit's own behaviour.

mod corrected;
mod graded;
mod keys;
mod parts;
mod steps;

pub(crate) use graded::{Read, over_frequency};
pub use keys::{TanDeltaKeys, TanDeltaTest};

use super::joint::{Joint, Stepwise};
use super::leads::{JOINED, NAMED, NOT_NAMED};
use crate::power::asset::PowerTransformer;
use waltron_core::grading::Criterion;
use waltron_core::procedure::{Bench, SetupError};

/// tan δ lies below its limit.
pub(crate) const LOSSES: Criterion = Criterion::named("dissipation_factor");

/// The capacitance is the one that is known.
pub(crate) const CAPACITANCE: Criterion = Criterion::named("capacitance");

/// What was measured together is the sum of what was measured apart.
pub(crate) const SUM: Criterion = Criterion::named("sum_of_parts");

/// What the segments are called.
const MEASURED: &str = "tan delta";
const SWEEP: &str = "sweep";

impl Stepwise for TanDeltaTest {
    const WORD: &'static str = "tan-delta";
    const SEE_TO: &'static [&'static str] = &[
        JOINED,
        NAMED,
        NOT_NAMED,
        "Clean and dry the bushings: what creeps over them is measured as losses",
    ];

    fn joint(&self, of: &PowerTransformer, bench: Bench<'_>) -> Result<Joint, SetupError> {
        steps::joint(self, of, bench)
    }
}
