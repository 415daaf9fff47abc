//! Winding resistances by direct current: charged, waited for until nothing is left to come, tap by tap under
//! current where the tap changer allows it, discharged.

mod course;
mod graded;
mod keys;
mod places;
mod programs;

pub(crate) use graded::traced;
pub use keys::{WindingResistanceKeys, WindingResistanceTest};
pub(crate) use programs::can;

use crate::power::asset::PowerTransformer;
use course::Course;
use places::Places;
use programs::Programs;
use waltron_core::grading::{Criterion, Finding, Grade};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::procedure::{Bench, Method, Procedure, SetupError};

/// The resistance is the maker's, at the reference temperature.
pub(crate) const RESISTANCE: Criterion = Criterion::named("winding_resistance");

/// The phases are alike.
pub(crate) const DIFFERENCE: Criterion = Criterion::named("phase_difference");

/// The current is not gone while a tap is changed.
pub(crate) const CHANGE: Criterion = Criterion::named("tap_change");

/// What the segments are called.
const CHARGE: &str = "charge";
const MOVE: &str = "change of tap";
const OVER: &str = "contacts change over";
const HOLD: &str = "hold";
const DISCHARGE: &str = "discharge";

impl WindingResistanceTest {
    fn set(&self, bench: Bench<'_>) -> Result<(Places, Programs), SetupError> {
        let of: &PowerTransformer = bench.family()?;
        let places = Places::new(self, of)?;
        let programs = Programs::new(self, of, bench)?;
        Ok((places, programs))
    }
}

impl Method for WindingResistanceTest {
    fn word(&self) -> &'static str {
        "winding-resistance"
    }

    fn set_up(&self, bench: Bench<'_>) -> Result<Box<dyn Procedure>, SetupError> {
        let (places, programs) = self.set(bench)?;
        Ok(Box::new(Course::new(places, programs, self.confirms)))
    }

    fn precautions(&self) -> Vec<String> {
        let mut all = vec![
            "While a resistance is measured short no winding that is tested, and join its neutral to nothing: the current must flow through that winding alone".to_owned(),
        ];
        all.extend(self.advice.clone());
        all
    }

    fn grade_again(
        &self,
        bench: Bench<'_>,
        measured: &Grade,
        served: &[(&Program, &Observation)],
    ) -> Result<Finding, String> {
        let (places, programs) = self.set(bench)?;
        graded::again(&places, &programs, measured, served)
    }
}
