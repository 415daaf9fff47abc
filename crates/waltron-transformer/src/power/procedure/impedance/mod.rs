//! Impedances at low voltage: short-circuit impedance between two windings, line by line, at positions of the tap
//! changer; and the zero-sequence impedance of a star with its neutral.

mod graded;
mod keys;
mod steps;

pub use keys::{ImpedanceKeys, ImpedanceTest};

use super::joint::Joint;
use super::transformer;
use std::any::Any;
use waltron_core::grading::{Criterion, Finding, Grade};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::procedure::{Bench, Method, Procedure, SetupError};

/// The short-circuit impedance is the nameplate's.
pub(crate) const IMPEDANCE: Criterion = Criterion::named("short_circuit_impedance");

/// The lines are alike.
pub(crate) const ALIKE: Criterion = Criterion::named("impedance_difference");

/// The zero-sequence impedance.
pub(crate) const ZERO: Criterion = Criterion::named("zero_sequence_impedance");

/// What the segments are called.
const SHORTED: &str = "short circuit";
const TOGETHER: &str = "zero sequence";

impl ImpedanceTest {
    fn joint(&self, bench: Bench<'_>) -> Result<Joint, SetupError> {
        steps::joint(self, transformer(bench.asset)?, bench)
    }
}

impl Method for ImpedanceTest {
    fn word(&self) -> &'static str {
        "impedance"
    }

    fn set_up(&self, bench: Bench<'_>) -> Result<Box<dyn Procedure>, SetupError> {
        Ok(Box::new(self.joint(bench)?))
    }

    fn precautions(&self) -> Vec<String> {
        vec![
            "Short-circuit with straps as heavy as the winding's leads, at the bushings: what they have is measured too".to_owned(),
            "Take the voltage at the bushings by leads of its own".to_owned(),
        ]
    }

    fn grade_again(
        &self,
        bench: Bench<'_>,
        measured: &Grade,
        served: &[(&Program, &Observation)],
    ) -> Result<Finding, String> {
        self.joint(bench).map_err(|e| e.to_string())?.grade_again(measured, served)
    }

    fn as_any(&self) -> &dyn Any {
        self
    }

    fn is_same(&self, other: &dyn Method) -> bool {
        other.as_any().downcast_ref() == Some(self)
    }
}
