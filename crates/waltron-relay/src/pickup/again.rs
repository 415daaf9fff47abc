//! What was measured of a pickup, graded by other settings.

use super::{DOWN, PICKUP, Pickup, PickupSettings, Turn, UP, Way};
use crate::setup::tested;
use waltron_core::grading::{Finding, Grade, PointId};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Condition, Profile, Program};
use waltron_core::procedure::Bench;
use waltron_core::quantity::{Current, Measure, Time, text};
use waltron_core::text::name::Name;

/// Grades by other settings what was measured of a point: the ramp is the one that was put out.
///
/// # Errors
/// Why these settings make no point of it.
pub(crate) fn grade_again(
    settings: &PickupSettings,
    bench: Bench<'_>,
    measured: &Grade,
    up: (&Program, &Observation),
    down: Option<(&Program, &Observation)>,
) -> Result<Finding, String> {
    let point = &measured.point;
    let (element, fault_loop) = tested(bench.asset, point)?;
    let put_out = |name: &str| measured.stimulus.get(name).map(Current::from_si);
    let (Some(from), Some(to), Some(step)) =
        (put_out("from_current"), put_out("to_current"), put_out("step_current"))
    else {
        return Err("the record tells no ramp of this point".to_owned());
    };
    let settings = PickupSettings {
        loops: vec![fault_loop],
        from: (from / element.pickup).value,
        to: (to / element.pickup).value,
        step: Some(step),
        ..settings.clone()
    };
    let pickup = Pickup::try_new(&settings, bench).map_err(|error| error.to_string())?;
    let ramp = pickup.ramps.first().ok_or("there is no ramp to grade")?;
    let hidden = |why: String| {
        let grade =
            Finding::not_tested(point.clone(), measured.criterion.clone(), ramp.values(), why);
        Ok(grade)
    };
    if let Some(why) = pickup.why_not(ramp) {
        return hidden(why);
    }
    let watched = contact(up.0, UP).ok_or("the record tells of no ramp that was put out")?;
    let (Way::Stairs { signal, .. } | Way::Pulses { signal, .. }) = &ramp.way else {
        return hidden(String::new());
    };
    if *signal != watched {
        return hidden(format!(
            "the ramp was seen on `{watched}`; by these settings `{signal}` tells"
        ));
    }
    if let Some((was, dwell)) = dwell(up.0).zip(ramp.dwell())
        && was < dwell * 0.999
    {
        let (was, dwell) = (text(was), text(dwell));
        return hidden(format!("each level lasted {was}; by these settings {dwell} are needed"));
    }
    let (grade, turn) = pickup.grade_pickup_of(ramp, Some((up.0.clone(), watched)), up.1);
    if measured.criterion == PICKUP {
        return Ok(Finding { point: point.clone(), ..grade });
    }
    let Some(turn) = turn else { return Ok(pickup.reset_grade(ramp, point.clone())) };
    if element.reset_ratio.is_none() {
        return hidden("the asset declares no reset ratio".to_owned());
    }
    Ok(match down {
        Some(down) => reset(&pickup, point, &turn, down),
        None => {
            Finding { reason: super::ON_PULSES.into(), ..pickup.reset_grade(ramp, point.clone()) }
        }
    })
}

fn reset(
    pickup: &Pickup,
    point: &PointId,
    turn: &Turn,
    (program, seen): (&Program, &Observation),
) -> Finding {
    let put_out = contact(program, DOWN).map(|signal| (program.clone(), signal));
    pickup.grade_reset_of(&pickup.ramps[0], point.clone(), turn, put_out, seen)
}

/// How long each level of a ramp up lasted.
fn dwell(program: &Program) -> Option<Time> {
    match &program.segments.get(program.position(UP)?)?.profile {
        Profile::Stairs(stairs) => Some(stairs.dwell),
        _ => None,
    }
}

/// The contact that ends a ramp.
fn contact(program: &Program, name: &str) -> Option<Name> {
    let segment = program.segments.get(program.position(name)?)?;
    segment.stops.iter().find_map(|stop| match &stop.when {
        Condition::Contact { signal, .. } => Some(signal.clone()),
        _ => None,
    })
}
