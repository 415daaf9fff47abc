//! Insulation resistance by direct voltage, after 15 s, 1 min and 10 min, and the polarisation index; by the rig, or
//! read by somebody from an instrument of its own.

mod graded;
mod keys;
mod steps;
mod typed;

pub use keys::{InsulationResistanceKeys, InsulationResistanceTest};

use super::leads::{JOINED, NAMED, NOT_NAMED};
use crate::power::asset::PowerTransformer;
use waltron_core::grading::{Criterion, Finding, Grade};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::procedure::{Bench, Method, Procedure, SetupError};

/// The insulation resistance is high enough.
pub(crate) const RESISTANCE: Criterion = Criterion::named("insulation_resistance");

/// It goes on rising.
pub(crate) const INDEX: Criterion = Criterion::named("polarisation_index");

/// What the segments are called.
const HELD: &str = "insulation";

impl Method for InsulationResistanceTest {
    fn word(&self) -> &'static str {
        "insulation-resistance"
    }

    fn set_up(&self, bench: Bench<'_>) -> Result<Box<dyn Procedure>, SetupError> {
        let of: &PowerTransformer = bench.family()?;
        if self.is_by_hand(bench.capability) {
            return Ok(Box::new(typed::Typed::try_new(self, of)?));
        }
        Ok(Box::new(steps::joint(self, of, bench)?))
    }

    fn precautions(&self) -> Vec<String> {
        vec![
            JOINED.to_owned(),
            NAMED.to_owned(),
            NOT_NAMED.to_owned(),
            "After each measurement earth what was energised for four times as long: insulation keeps a charge".to_owned(),
        ]
    }

    fn injects(&self) -> bool {
        false
    }

    fn grade_again(
        &self,
        bench: Bench<'_>,
        measured: &Grade,
        served: &[(&Program, &Observation)],
    ) -> Result<Finding, String> {
        let of: &PowerTransformer = bench.family()?;
        if served.is_empty() {
            return typed::again(self, of, measured);
        }
        let joint = steps::joint(self, of, bench)?;
        joint.grade_again(measured, served)
    }
}
