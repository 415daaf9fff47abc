//! Measurement uncertainty in verdicts (JCGM 106:2012, 8.3; ILAC-G8:09/2019, 4.2).

use super::{Criterion, Grade, Value, Values, Verdict};
use crate::capability::{Capability, Channel};
use crate::quantity::{Dimension, Measure, Quantity, Time};
use serde::{Deserialize, Serialize};

/// How uncertainty bears on a verdict.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Rule {
    /// A value inside its limits passes (simple acceptance).
    #[default]
    Simple,
    /// A value passes if it is inside by at least its uncertainty (guard band w = U).
    Guarded,
}

impl Rule {
    /// Whether it is simple acceptance.
    pub fn is_simple(&self) -> bool {
        *self == Self::Simple
    }
}

/// The expanded uncertainty (k = 2) of a point's measured value, from the rig's stated accuracy at
/// the value measured; `host` is what timing by the computer adds to times. Empty where the rig
/// states none for such a value.
pub fn uncertainty(
    criterion: Criterion,
    measured: &Values,
    capability: &Capability,
    host: Time,
) -> Values {
    let Some((_, value)) = measured.iter().next() else { return Values::none() };
    let current = |si: f64| half_width(&capability.currents, si);
    match value {
        Value::Plain(q) => {
            let si = match q.dimension {
                Dimension::TIME => {
                    let time = Time::from_si(q.si);
                    let stated = capability.timing_accuracy.upper(time) - time;
                    Some((stated + host).si())
                }
                Dimension::CURRENT => current(q.si),
                Dimension::VOLTAGE => half_width(&capability.voltages, q.si),
                _ => None,
            };
            let uncertainty = si.map(|si| Quantity { si, ..q });
            uncertainty.map_or_else(Values::none, |u| Values::none().with_quantity("u", u))
        }
        // A ratio of two currents of the same source, each with its own relative uncertainty.
        Value::Percent(ratio) if criterion == Criterion::ResetRatio => {
            let dropout = measured.get("current").filter(|i| *i > 0.0);
            let relative = dropout.and_then(|i| Some(current(i)? / i));
            let share = relative.map(|r| ratio * r * std::f64::consts::SQRT_2);
            share.map_or_else(Values::none, |s| Values::none().with_percent("u", s))
        }
        Value::Percent(_) => Values::none(),
    }
}

/// The widest stated accuracy of some channels at a value, in SI.
fn half_width<Q: Measure>(channels: &[Channel<Q>], si: f64) -> Option<f64> {
    let value = Q::from_si(si.abs());
    let width = |c: &Channel<Q>| c.accuracy.upper(value).si() - value.si();
    channels.iter().map(width).reduce(f64::max)
}

/// Turns a pass that is nearer to a limit than its uncertainty into an inconclusive verdict.
pub fn guard(grade: &mut Grade) {
    let measured = grade.measured.iter().next().map(|(_, v)| v);
    let (Some(value), Some(u)) = (measured, grade.uncertainty.get("u")) else { return };
    if grade.verdict != Verdict::Pass {
        return;
    }
    let si = |v: Value| match v {
        Value::Plain(q) => q.si,
        Value::Percent(share) => share,
    };
    let with = |si: f64| match value {
        Value::Plain(q) => Value::Plain(Quantity { si, ..q }),
        Value::Percent(_) => Value::Percent(si),
    };
    let limit = |a: &str, b: &str| grade.limits.get(a).or_else(|| grade.limits.get(b));
    let below = limit("upper", "latest").map(|upper| upper - si(value));
    let above = limit("lower", "earliest").map(|lower| si(value) - lower);
    let Some(inside) = [below, above].into_iter().flatten().reduce(f64::min) else { return };
    if inside < u {
        grade.verdict = Verdict::Inconclusive;
        grade.reason = format!(
            "inside the limit by {}, less than the uncertainty of {}",
            with(inside.max(0.0)),
            with(u)
        );
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::grading::{PointId, judge_limits};
    use crate::quantity::{amperes, seconds};
    use crate::tolerance::Tolerance;
    use proptest::prelude::*;

    fn capability() -> Capability {
        let accuracy = Tolerance::parse("0.1 % or 1 mA").unwrap();
        Capability {
            currents: vec![Channel { id: "ia".into(), range: amperes(32.0), accuracy }],
            timing_accuracy: Tolerance::parse("0.01 % + 100 us").unwrap(),
            ..Capability::none()
        }
    }

    fn pickup(measured: f64) -> Grade {
        let judged = judge_limits(amperes(measured), amperes(1.176), amperes(1.224));
        let values = Values::none().with("current", amperes(measured));
        Grade {
            point: PointId { id: "p".into(), test: "p".into(), element: None, fault_loop: None },
            attempt: 1,
            criterion: Criterion::Pickup,
            stimulus: Values::none(),
            expected: Values::none().with("current", amperes(1.2)),
            uncertainty: uncertainty(Criterion::Pickup, &values, &capability(), seconds(0.0)),
            measured: values,
            deviation: Values::none(),
            limits: Values::none().with("lower", amperes(1.176)).with("upper", amperes(1.224)),
            verdict: judged.verdict,
            reason: judged.reason,
            skipped: false,
        }
    }

    /// By hand: 0.1 % of 1.2 A is 1.2 mA; 0.01 % of 2 s + 100 us is 300 us, + 20 ms of the host.
    #[test]
    fn the_stated_accuracy_gives_the_uncertainty() {
        let u = |criterion, values: &Values, host| {
            uncertainty(criterion, values, &capability(), seconds(host)).get("u")
        };
        let near = |a: Option<f64>, b: f64| (a.unwrap() - b).abs() < 1e-12;
        let current = Values::none().with("current", amperes(1.2));
        assert!(near(u(Criterion::Pickup, &current, 0.0), 1.2e-3));
        let small = Values::none().with("current", amperes(0.2));
        assert!(near(u(Criterion::Pickup, &small, 0.0), 1e-3));
        let time = Values::none().with("time", seconds(2.0));
        assert!(near(u(Criterion::TripTime, &time, 0.0), 300e-6));
        assert!(near(u(Criterion::TripTime, &time, 0.02), 20.3e-3));
        let ratio = Values::none().with_percent("reset_ratio", 0.95).with("current", amperes(2.0));
        assert!(near(u(Criterion::ResetRatio, &ratio, 0.0), 0.95e-3 * 2f64.sqrt()));
        assert_eq!(u(Criterion::Condition, &Values::none(), 0.0), None);
    }

    #[test]
    fn a_pass_within_the_guard_band_is_inconclusive_and_says_by_how_much() {
        let mut near = pickup(1.2232);
        guard(&mut near);
        assert_eq!(near.verdict, Verdict::Inconclusive);
        assert!(near.reason.contains("0.8 mA") && near.reason.contains("1.223"), "{}", near.reason);
        let mut clear = pickup(1.22);
        guard(&mut clear);
        assert_eq!(clear.verdict, Verdict::Pass);
    }

    proptest! {
        /// A guard band never makes anything pass, never changes a failure, and what passes it
        /// would still pass anywhere within its uncertainty.
        #[test]
        fn guarding_only_withholds(measured in 1.1f64..1.3) {
            let before = pickup(measured);
            let mut after = before.clone();
            guard(&mut after);
            match (before.verdict, after.verdict) {
                (Verdict::Pass, Verdict::Pass) => {
                    let u = after.uncertainty.get("u").unwrap();
                    prop_assert!(measured - u >= 1.176 && measured + u <= 1.224);
                }
                (Verdict::Pass, verdict) => prop_assert_eq!(verdict, Verdict::Inconclusive),
                (before, after) => prop_assert_eq!(before, after),
            }
        }
    }
}
