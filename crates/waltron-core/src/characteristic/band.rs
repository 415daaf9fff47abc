//! The acceptance band of a trip time: current and time tolerance carried through the curve.

use super::Characteristic;
use crate::quantity::tolerance::Tolerance;
use crate::quantity::{Current, Measure, Time};

/// What a trip time must satisfy at one current.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Acceptance {
    /// The characteristic's own time; `None` where it does not operate.
    pub expected: Option<Time>,
    /// Operation before this is too early; `None` where no operation at all is allowed.
    pub earliest: Option<Time>,
    /// Operation after this is too late; `None` where operation is not required.
    pub latest: Option<Time>,
}

/// The acceptance band of one element at a current.
///
/// Seen from the relay: its true pickup may lie anywhere in the tolerance band of the setting, and
/// its time follows from that true pickup. The earliest time belongs to the lowest true pickup, and
/// so to the tolerance *below*; the latest to the highest, and so to the tolerance *above*. A pickup
/// that is low by some amount acts like a current that is high by as much: above the setting earliest is the time at
/// `I + below(I)` less the time tolerance, latest that at `I − above(I)` plus it. (IEC 60255-151,
/// 5.2 and 6.3, states both errors, of the pickup and of the time, for one direction at a time.) The
/// time tolerance is taken at the time it is applied to. Where `I − above(I)` does not operate there
/// is no latest time. No operation at all is allowed only below the lowest true pickup.
pub fn acceptance(
    characteristic: &Characteristic,
    pickup: Current,
    current: Current,
    current_tolerance: &Tolerance<Current>,
    time_tolerance: &Tolerance<Time>,
) -> Acceptance {
    let time_at = |i: Current| characteristic.operate_time((i / pickup).value);
    let lowest = current_tolerance.lower(pickup);
    let (below, above) =
        (current - current_tolerance.lower(current), current_tolerance.upper(current) - current);
    // Up to its setting a relay may operate by its lowest true pickup alone, which is taken as it is: so near to
    // where a curve begins, the current that stands for it would be much too late, or none at all.
    let earliest = match current <= pickup && lowest.si() > 0.0 {
        true => characteristic.operate_time((current / lowest).value),
        false => time_at(current + below),
    };
    Acceptance {
        expected: time_at(current),
        earliest: earliest.map(|t| time_tolerance.lower(t).max(Time::default())),
        latest: time_at(current - above).map(|t| time_tolerance.upper(t)),
    }
}

/// How far the expected time moves if the current is off by a share either way; only what operates
/// counts.
pub fn spread(expected_at: impl Fn(f64) -> Option<Time>, share: f64) -> Time {
    let Some(expected) = expected_at(1.0) else { return Time::default() };
    [1.0 - share, 1.0 + share]
        .into_iter()
        .filter_map(expected_at)
        .map(|t| (t - expected).abs())
        .fold(Time::default(), Time::max)
}

/// The band of several elements that share one contact: the earliest of them operates.
pub fn earliest_of(bands: impl IntoIterator<Item = Acceptance>) -> Acceptance {
    let earlier = |a: Option<Time>, b: Option<Time>| match (a, b) {
        (Some(a), Some(b)) => Some(a.min(b)),
        (a, b) => a.or(b),
    };
    let nothing = Acceptance { expected: None, earliest: None, latest: None };
    bands.into_iter().fold(nothing, |all, one| Acceptance {
        expected: earlier(all.expected, one.expected),
        earliest: earlier(all.earliest, one.earliest),
        latest: earlier(all.latest, one.latest),
    })
}
