//! The acceptance band of a trip time: current and time tolerance carried through the curve.

use super::Characteristic;
use crate::quantity::{Current, Time};
use crate::tolerance::Tolerance;

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
/// Earliest: the time at `I·(1+tol)` less the time tolerance. Latest: the time at `I·(1−tol)` plus
/// it. The time tolerance is taken at the time it is applied to. Where `I·(1−tol)` does not
/// operate, there is no latest time; where `I·(1+tol)` does not, no operation is allowed.
pub fn acceptance(
    characteristic: &Characteristic,
    pickup: Current,
    current: Current,
    current_tolerance: &Tolerance<Current>,
    time_tolerance: &Tolerance<Time>,
) -> Acceptance {
    let time_at = |i: Current| characteristic.operate_time((i / pickup).value);
    let floor = Time::default();
    Acceptance {
        expected: time_at(current),
        earliest: time_at(current_tolerance.upper(current))
            .map(|t| time_tolerance.lower(t).max(floor)),
        latest: time_at(current_tolerance.lower(current)).map(|t| time_tolerance.upper(t)),
    }
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
