//! The turns ratio: one winding fed at low voltage, phase by phase, the other one read; with it the vector
//! group and the exciting currents.

mod graded;
mod keys;
mod steps;

pub use keys::{TurnsRatioKeys, TurnsRatioTest};

use super::joint::Joint;
use super::transformer;
use std::any::Any;
use waltron_core::grading::{Criterion, Finding, Grade};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::procedure::{Bench, Method, Procedure, SetupError};

/// The ratio lies within its tolerance.
pub(crate) const RATIO: Criterion = Criterion::named("turns_ratio");

/// The windings are connected as the nameplate says.
pub(crate) const GROUP: Criterion = Criterion::CONDITION;

/// What the segments are called.
const MEASURED: &str = "ratio";
const FINDING: &str = "find the group";

impl TurnsRatioTest {
    fn joint(&self, bench: Bench<'_>) -> Result<Joint, SetupError> {
        steps::joint(self, transformer(bench.asset)?, bench)
    }
}

impl Method for TurnsRatioTest {
    fn word(&self) -> &'static str {
        "turns-ratio"
    }

    fn set_up(&self, bench: Bench<'_>) -> Result<Box<dyn Procedure>, SetupError> {
        Ok(Box::new(self.joint(bench)?))
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
