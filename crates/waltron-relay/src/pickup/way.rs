//! How an element can be seen to pick up: on which contact, in stairs or in pulses.

use crate::Overcurrent;
use waltron_core::asset::{Asset, Element};
use waltron_core::procedure::{Bench, SetupError};
use waltron_core::quantity::fault_loop::FaultLoop;
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::{Current, Measure, Time, seconds};
use waltron_core::text::name::Name;

/// How the element can be seen to pick up on a loop.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Way {
    /// A stair, watching a contact; the time on each level may be longer than asked.
    Stairs { signal: Name, dwell: Time },
    /// Pulses, watching the trip contact: each longer than this stage needs, shorter than others.
    Pulses { signal: Name, pulse: Time, rest: Time },
    /// No contact tells this element's pickup from another's.
    Hidden(String),
}

/// Chooses how to see the element pick up, between two phase current levels.
pub(super) fn way(
    dwell: Option<Time>,
    bench: Bench<'_>,
    element: &Element<Overcurrent>,
    fault_loop: FaultLoop,
    [from, to]: [Current; 2],
) -> Result<Way, SetupError> {
    // A level that is shorter than the contact's own time would be told as the one after it.
    let dwell = dwell.unwrap_or_else(|| element.start_dwell());
    let dwell = dwell.max(element.start_time.unwrap_or_default());
    let at = |i: Current| fault_loop.currents(i).map(Phasor::complex);
    // Functions of voltage or frequency see nothing of a current alone.
    let others = |asset: &Asset, same: &dyn Fn(&Element<Overcurrent>) -> bool| {
        let active = asset.enabled().filter(|e| e.id != element.id).filter_map(Element::of);
        let rivals = active.filter(|e| same(e) && e.may_pick_up(at(to)));
        rivals.collect::<Vec<Element<Overcurrent>>>()
    };
    let start = element.start.as_ref().filter(|s| bench.capability.sees(s));
    if let Some(signal) = start
        && others(bench.asset, &|e| e.start.as_ref() == Some(signal)).is_empty()
    {
        return Ok(Way::Stairs { signal: signal.clone(), dwell });
    }
    if !bench.capability.sees(&element.trip) {
        let signal = element.start.clone().unwrap_or_else(|| element.trip.clone());
        return Err(SetupError::NotWired { element: element.id.clone(), signal });
    }
    let signal = element.trip.clone();
    // The slowest the element may be at any level where it must operate.
    let certain = element.tolerances.current.upper(element.pickup) * 1.001;
    let needs = element
        .characteristic
        .operate_time((certain / element.pickup).value)
        .map(|t| element.tolerances.time.upper(t) + seconds(0.02));
    let rivals = others(bench.asset, &|e| e.trip == element.trip);
    let Some(needs) = needs.filter(|t| t.si() <= 10.0) else {
        return Ok(Way::Hidden(format!(
            "no input is wired to a pickup contact of {} alone, and its trip is too slow near \
             pickup to ramp on",
            element.id
        )));
    };
    if rivals.is_empty() {
        return Ok(Way::Stairs { signal, dwell: dwell.max(needs) });
    }
    let rival_earliest = rivals
        .iter()
        .flat_map(|e| [e.acceptance(at(from)).earliest, e.acceptance(at(to)).earliest])
        .flatten()
        .fold(seconds(f64::INFINITY), Time::min);
    let rest = rivals.iter().map(|e| e.characteristic.reset_time()).fold(seconds(0.5), Time::max);
    let pulse =
        if rival_earliest.si().is_finite() { (needs + rival_earliest) / 2.0 } else { needs };
    if needs < rival_earliest {
        Ok(Way::Pulses { signal, pulse: pulse.min(needs * 2.0), rest })
    } else {
        let names: Vec<&str> = rivals.iter().map(|e| e.id.as_str()).collect();
        Ok(Way::Hidden(format!(
            "{} would trip before {} on the same contact `{signal}`",
            names.join(", "),
            element.id
        )))
    }
}
