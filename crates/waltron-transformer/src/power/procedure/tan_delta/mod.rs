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

use super::joint::Joint;
use super::transformer;
use std::any::Any;
use waltron_core::grading::{Criterion, Finding, Grade};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::procedure::{Bench, Method, Procedure, SetupError};

/// tan δ lies below its limit.
pub(crate) const LOSSES: Criterion = Criterion::named("dissipation_factor");

/// The capacitance is the one that is known.
pub(crate) const CAPACITANCE: Criterion = Criterion::named("capacitance");

/// What was measured together is the sum of what was measured apart.
pub(crate) const SUM: Criterion = Criterion::named("sum_of_parts");

/// What the segments are called.
const MEASURED: &str = "tan delta";
const SWEEP: &str = "sweep";

impl TanDeltaTest {
    fn joint(&self, bench: Bench<'_>) -> Result<Joint, SetupError> {
        steps::joint(self, transformer(bench.asset)?, bench)
    }
}

impl Method for TanDeltaTest {
    fn word(&self) -> &'static str {
        "tan-delta"
    }

    fn set_up(&self, bench: Bench<'_>) -> Result<Box<dyn Procedure>, SetupError> {
        Ok(Box::new(self.joint(bench)?))
    }

    fn precautions(&self) -> Vec<String> {
        let all = [
            "Join all terminals of a winding, its neutral too, so that the whole winding has one potential",
            "H, L and T are the windings, the high-voltage one first; tank is what is earthed",
            "Clean and dry the bushings: what creeps over them is measured as losses",
        ];
        all.map(str::to_owned).to_vec()
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
