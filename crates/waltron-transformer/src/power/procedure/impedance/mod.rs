//! Impedances at low voltage: short-circuit impedance between two windings, line by line, at positions of the tap
//! changer; and the zero-sequence impedance of a star with its neutral.

mod graded;
mod keys;
mod steps;

pub use keys::{ImpedanceKeys, ImpedanceTest};

use super::joint::{Joint, Stepwise};
use crate::power::asset::PowerTransformer;
use waltron_core::grading::Criterion;
use waltron_core::procedure::{Bench, SetupError};

/// The short-circuit impedance is the nameplate's.
pub(crate) const IMPEDANCE: Criterion = Criterion::named("short_circuit_impedance");

/// The lines are alike.
pub(crate) const ALIKE: Criterion = Criterion::named("impedance_difference");

/// The zero-sequence impedance.
pub(crate) const ZERO: Criterion = Criterion::named("zero_sequence_impedance");

/// What the segments are called.
const SHORTED: &str = "short circuit";
const TOGETHER: &str = "zero sequence";

impl Stepwise for ImpedanceTest {
    const WORD: &'static str = "impedance";
    const SEE_TO: &'static [&'static str] = &[
        "Short-circuit with straps as heavy as the winding's leads, at the bushings: what they have is measured too",
        "Take the voltage at the bushings by leads of its own",
    ];

    fn joint(&self, of: &PowerTransformer, bench: Bench<'_>) -> Result<Joint, SetupError> {
        steps::joint(self, of, bench)
    }
}
