//! Judging one value against what was required of it.

use super::Verdict;
use crate::characteristic::Acceptance;
use crate::quantity::{Measure, Quantity, Time, text};

/// Why a value passes.
pub(super) const WITHIN: &str = "within tolerance";

/// A verdict with its reason.
#[derive(Clone, Debug, PartialEq)]
pub struct Judgement {
    /// The outcome.
    pub verdict: Verdict,
    /// One sentence, without a final stop.
    pub reason: String,
}

impl Judgement {
    /// A verdict and why.
    pub fn new(verdict: Verdict, reason: impl Into<String>) -> Self {
        Self { verdict, reason: reason.into() }
    }
}

/// What happened after inception.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum TripOutcome {
    /// The contact operated after this time.
    Operated(Time),
    /// It had not operated when the injection ended after this time.
    Waited(Time),
}

/// Judges a trip time, or its absence, against an acceptance band.
pub fn judge_trip_time(band: &Acceptance, outcome: TripOutcome) -> Judgement {
    use TripOutcome::{Operated, Waited};
    use Verdict::{Fail, Inconclusive, Pass};
    match (outcome, band.earliest, band.latest) {
        (Operated(t) | Waited(t), ..) if t.si().is_nan() => {
            Judgement::new(Inconclusive, "the time is no number")
        }
        (Operated(t), None, _) => {
            Judgement::new(Fail, format!("operated after {} below pickup", text(t)))
        }
        (Operated(t), Some(earliest), _) if t < earliest => {
            Judgement::new(Fail, format!("{} too early", text(earliest - t)))
        }
        (Operated(t), _, Some(latest)) if t > latest => {
            Judgement::new(Fail, format!("{} too late", text(t - latest)))
        }
        (Operated(_), _, Some(_)) => Judgement::new(Pass, "within the band"),
        (Operated(_), _, None) => {
            Judgement::new(Pass, "not before the earliest time; no latest time so near pickup")
        }
        (Waited(t), None, _) => Judgement::new(Pass, format!("no operation for {}", text(t))),
        (Waited(t), Some(_), Some(latest)) if t > latest => {
            Judgement::new(Fail, format!("no operation within {}", text(t)))
        }
        (Waited(t), Some(_), Some(latest)) => Judgement::new(
            Inconclusive,
            format!("waited {} only, operation is allowed up to {}", text(t), text(latest)),
        ),
        (Waited(t), Some(_), None) => Judgement::new(
            Pass,
            format!("no operation for {}, none is required so near pickup", text(t)),
        ),
    }
}

/// Judges a value against a lower and an upper limit, both inclusive.
pub fn judge_limits<Q: Measure>(value: Q, lower: Q, upper: Q) -> Judgement {
    judge_between(Quantity::of(value), lower.si(), upper.si())
}

/// What is larger is a factor, and no share of something.
const LARGEST_SHARE: f64 = 2.0;

/// Judges a value against limits in SI, both inclusive; an infinite one is none.
///
/// A billionth of slack keeps a value that lies on its limit by design from failing by the last
/// bit of a double.
pub fn judge_between(value: Quantity, lower: f64, upper: f64) -> Judgement {
    let size = if upper.is_finite() { upper.abs() } else { lower.abs() };
    // What is infinite is beyond every limit, and no slack brings it back.
    let slack = 1e-9 * value.si.abs().max(size);
    let slack = if slack.is_finite() { slack } else { 0.0 };
    let show = |si: f64| {
        // The narrow shares of a reset ratio read better in percent; a factor does not.
        let quantity = Quantity { si, ..value };
        if value.dimension == crate::quantity::Dimension::NUMBER && size < LARGEST_SHARE {
            super::Value::Percent(si).to_string()
        } else {
            quantity.to_string()
        }
    };
    if value.si < lower - slack {
        let by = show(lower - value.si);
        Judgement::new(Verdict::Fail, format!("{by} below the lower limit"))
    } else if value.si > upper + slack {
        let by = show(value.si - upper);
        Judgement::new(Verdict::Fail, format!("{by} above the upper limit"))
    } else if value.si >= lower - slack && value.si <= upper + slack {
        Judgement::new(Verdict::Pass, WITHIN)
    } else {
        // What is no number lies neither within its limits nor beyond them.
        Judgement::new(
            Verdict::Inconclusive,
            "what was measured, or what is required, is no number",
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::{Dimension, amperes, seconds};
    use proptest::prelude::*;

    fn band(expected: Option<f64>, earliest: Option<f64>, latest: Option<f64>) -> Acceptance {
        Acceptance {
            expected: expected.map(seconds),
            earliest: earliest.map(seconds),
            latest: latest.map(seconds),
        }
    }

    #[test]
    fn every_case_of_a_trip_time() {
        use TripOutcome::{Operated, Waited};
        let normal = band(Some(4.0), Some(3.6), Some(4.4));
        let near_pickup = band(Some(200.0), Some(30.0), None);
        let below = band(None, None, None);
        let cases = [
            (normal, Operated(seconds(4.1)), Verdict::Pass, "within the band"),
            (normal, Operated(seconds(3.6)), Verdict::Pass, "within the band"),
            (normal, Operated(seconds(3.5)), Verdict::Fail, "100 ms too early"),
            (normal, Operated(seconds(4.5)), Verdict::Fail, "100 ms too late"),
            (normal, Waited(seconds(5.0)), Verdict::Fail, "no operation within 5 s"),
            (normal, Waited(seconds(4.2)), Verdict::Inconclusive, "waited 4.2 s only"),
            (near_pickup, Waited(seconds(60.0)), Verdict::Pass, "none is required"),
            (near_pickup, Operated(seconds(60.0)), Verdict::Pass, "no latest time"),
            (near_pickup, Operated(seconds(20.0)), Verdict::Fail, "10 s too early"),
            (below, Waited(seconds(20.0)), Verdict::Pass, "no operation for 20 s"),
            (below, Operated(seconds(1.0)), Verdict::Fail, "below pickup"),
        ];
        for (band, outcome, verdict, reason) in cases {
            let judged = judge_trip_time(&band, outcome);
            assert_eq!(judged.verdict, verdict, "{outcome:?}");
            assert!(judged.reason.contains(reason), "{}", judged.reason);
        }
    }

    #[test]
    fn limits_are_inclusive_and_say_by_how_much() {
        let judge = |v: f64| judge_limits(amperes(v), amperes(1.164), amperes(1.236));
        assert_eq!(judge(1.164).verdict, Verdict::Pass);
        assert_eq!(judge(1.236).verdict, Verdict::Pass);
        assert!(judge(1.26).reason.contains("24 mA above"));
        assert!(judge(1.1).reason.contains("64 mA below"));
        let nothing = |t| judge_trip_time(&band(Some(4.0), Some(3.6), Some(4.4)), t).verdict;
        assert_eq!(nothing(TripOutcome::Operated(seconds(f64::NAN))), Verdict::Inconclusive);
        assert_eq!(nothing(TripOutcome::Waited(seconds(f64::NAN))), Verdict::Inconclusive);
    }

    proptest! {
        /// Whatever stands for a value or a limit, of no number too: only what lies between its limits passes, and
        /// what fails lies beyond one of them.
        #[test]
        fn only_what_is_within_passes(
            value in prop::num::f64::ANY, a in prop::num::f64::ANY, b in prop::num::f64::ANY,
            of_time: bool, lower: bool, upper: bool,
        ) {
            let limit = |is: bool, v: f64, none: f64| if is { v } else { none };
            let (low, high) = (limit(lower, a, f64::NEG_INFINITY), limit(upper, b, f64::INFINITY));
            let dimension = if of_time { Dimension::TIME } else { Dimension::NUMBER };
            let judged = judge_between(Quantity { si: value, dimension }, low, high).verdict;
            let size = value.abs().max(a.abs()).max(b.abs());
            let slack = if size.is_finite() { 1e-8 * size } else { 0.0 };
            match judged {
                Verdict::Pass => prop_assert!(low - slack <= value && value <= high + slack),
                Verdict::Fail => prop_assert!(value < low || value > high),
                Verdict::Inconclusive => prop_assert!([value, low, high].iter().any(|v| v.is_nan())),
                other => prop_assert!(false, "{other:?}"),
            }
        }
    }
}
