//! What was measured of a trip time, graded by other settings.

use super::{FAULT, Level, Shot, TripTimeSettings, body};
use crate::setup::{switched_off, tested};
use std::sync::Arc;
use waltron_core::grading::{Finding, PointId};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Profile, Program};
use waltron_core::procedure::Bench;

/// Grades by other settings what was measured of a point: its current is the one that was put out,
/// whatever multiple of the pickup it is now.
///
/// # Errors
/// Why these settings make no point of it.
pub(crate) fn grade_again(
    settings: &TripTimeSettings,
    bench: Bench<'_>,
    point: &PointId,
    (program, observation): (&Program, &Observation),
) -> Result<Finding, String> {
    let (element, fault_loop) = tested(bench.asset, point)?;
    let fault = program.position(FAULT).and_then(|i| program.segments.get(i));
    let Some(Profile::Hold(fault)) = fault.map(|f| &f.profile) else {
        return Err("the record tells of no fault that was put out".to_owned());
    };
    let seen = element.measures.value(fault.complex_phase_currents());
    let body = body(settings, bench, &element, fault_loop, Level::Absolute(seen))
        .map_err(|error| error.to_string())?;
    let shot = Shot { point: point.clone(), body: Arc::new(body) };
    if let Some(why) = switched_off(&element).or_else(|| shot.body.ambiguous.clone()) {
        return Ok(shot.not_tested(&why));
    }
    Ok(shot.grade_of(program, observation, &element.trip, bench.capability))
}
