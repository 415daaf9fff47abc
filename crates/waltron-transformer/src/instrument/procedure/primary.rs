//! A current through the primary of a current transformer: with its secondary open the whole of it magnetises the core,
//! and the secondary's voltage kills. A small current shows first that the secondary carries its share.

use crate::measure::{current, probe};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::Property;
use waltron_core::injection::observation::{Ended, Observation};
use waltron_core::injection::program::{Condition, Program, Relation, Segment, Stop, Then};
use waltron_core::procedure::SetupError;
use waltron_core::quantity::{Current, Frequency, Time, seconds};

/// The share of the current that shows whether the secondary is closed, and for how long it is out at most, in s.
const LOOK: (f64, f64) = (0.05, 0.5);

/// The share of what the secondary should carry from which on it is closed.
const CARRIES: f64 = 0.5;

/// What the first segment is called.
const LOOKS: &str = "secondary closed";

/// A current through the primary for a time, after a small one that the secondary must carry its share of.
pub(super) fn fed(
    rig: &Capability,
    (name, amps, time): (&str, Current, Time),
    ratio: f64,
    frequency: Frequency,
) -> Result<Program, SetupError> {
    let small = amps * LOOK.0;
    let carries = Condition::Reading {
        probe: probe(rig, &["secondary current"], Property::Rms)?,
        relation: Relation::AtLeast,
        limit_si: small.value / ratio * CARRIES,
    };
    let out = current(rig, "primary current", small, frequency)?;
    let mut look =
        Segment::hold(LOOKS, out, seconds(LOOK.1)).until(Stop { when: carries, then: Then::Next });
    // No current by then: nothing more comes.
    if let Some(last) = look.stops.last_mut() {
        last.then = Then::Off;
    }
    let out = current(rig, "primary current", amps, frequency)?;
    Ok(Program::of(vec![look, Segment::hold(name, out, time)]))
}

/// Why nothing was measured, where the secondary carried no current.
pub(super) fn open_secondary(program: &Program, seen: &Observation) -> Option<String> {
    let looks = program.segments.first().is_some_and(|segment| segment.name == *LOOKS);
    let carries = seen.segments.first().map(|span| span.ended) == Some(Ended::Stop(0));
    (looks && !carries).then(|| {
        "the secondary carries no current, outputs off at once: it is OPEN; close it over its burden before the primary is fed"
            .to_owned()
    })
}
