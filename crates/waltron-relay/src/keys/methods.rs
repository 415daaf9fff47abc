//! What plans can do with the procedures of protection elements.

use crate::pickup::{self, PICKUP, Pickup, PickupSettings, RESET_RATIO};
use crate::trip_time::{self, TripTime, TripTimeSettings};
use waltron_core::grading::{Finding, Grade};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::procedure::Method;
use waltron_core::procedure::{Bench, Procedure, SetupError};
use waltron_core::text::name::Name;

impl Method for PickupSettings {
    fn word(&self) -> &'static str {
        "pickup"
    }

    fn set_up(&self, bench: Bench<'_>) -> Result<Box<dyn Procedure>, SetupError> {
        Ok(Box::new(Pickup::try_new(self, bench)?))
    }

    fn element(&self) -> Option<&Name> {
        Some(&self.element)
    }

    fn grade_again(
        &self,
        bench: Bench<'_>,
        measured: &Grade,
        served: &[(&Program, &Observation)],
    ) -> Result<Finding, String> {
        let (Some(first), Some(last)) = (served.first(), served.last()) else {
            return Err("nothing was injected for it".to_owned());
        };
        // The pickup itself stands on the ramp up alone.
        let up = if measured.criterion == PICKUP { *last } else { *first };
        let down = served.get(1).filter(|_| measured.criterion == RESET_RATIO).copied();
        pickup::grade_again(self, bench, measured, up, down)
    }
}

impl Method for TripTimeSettings {
    fn word(&self) -> &'static str {
        "trip-time"
    }

    fn set_up(&self, bench: Bench<'_>) -> Result<Box<dyn Procedure>, SetupError> {
        Ok(Box::new(TripTime::try_new(self, bench)?))
    }

    fn element(&self) -> Option<&Name> {
        Some(&self.element)
    }

    fn precautions(&self) -> Vec<String> {
        let latches = self.ask_reset.then(|| "Reset latched contacts and indications".to_owned());
        latches.into_iter().collect()
    }

    fn grade_again(
        &self,
        bench: Bench<'_>,
        measured: &Grade,
        served: &[(&Program, &Observation)],
    ) -> Result<Finding, String> {
        let last = served.last().ok_or("nothing was injected for it")?;
        trip_time::grade_again(self, bench, &measured.point, *last)
    }
}
