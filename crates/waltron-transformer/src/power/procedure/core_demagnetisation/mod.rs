//! Takes the remanence away that direct current left in the core: direct currents of either sign, each smaller than
//! the one before, phase by phase; exciting currents before and after show that it worked.

mod inrush;
mod keys;
mod steps;

pub use keys::{CoreDemagnetisationKeys, CoreDemagnetisationTest};

use super::joint::Joint;
use super::transformer;
use std::any::Any;
use waltron_core::grading::{Finding, Grade};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::procedure::{Bench, Method, Procedure, SetupError};

impl CoreDemagnetisationTest {
    fn joint(&self, bench: Bench<'_>) -> Result<Joint, SetupError> {
        steps::joint(self, transformer(bench.asset)?, bench)
    }
}

impl Method for CoreDemagnetisationTest {
    fn word(&self) -> &'static str {
        "core-demagnetisation"
    }

    fn set_up(&self, bench: Bench<'_>) -> Result<Box<dyn Procedure>, SetupError> {
        Ok(Box::new(self.joint(bench)?))
    }

    fn precautions(&self) -> Vec<String> {
        vec![
            "All other windings carry up to half of their rated voltage while this one is excited: fence them off".to_owned(),
            "Leave all other windings open: what flows in them keeps the core from being demagnetised"
                .to_owned(),
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
