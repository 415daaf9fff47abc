//! Measurement uncertainty in verdicts (JCGM 106:2012, 8.3; ILAC-G8:09/2019, 4.2).

use super::judge::WITHIN;
use super::{Finding, Grade, Value, Verdict};
use crate::quantity::Quantity;
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

/// Turns a pass that is nearer to a limit than its uncertainty into an inconclusive verdict; whether it did. What was
/// told of it stays, behind why.
pub fn guard(grade: &mut Finding) -> bool {
    let measured = grade.measured.iter().next().map(|(_, v)| v);
    let (Some(value), Some(u)) = (measured, grade.uncertainty.get("u")) else { return false };
    if grade.verdict != Verdict::Pass {
        return false;
    }
    let with = |si: f64| match value {
        Value::Plain(q) => Value::Plain(Quantity { si, ..q }),
        Value::Percent(_) => Value::Percent(si),
        Value::Minutes(_) => Value::Minutes(si),
    };
    let below = grade.limits.upper().map(|upper| upper - value.si());
    let above = grade.limits.lower().map(|lower| value.si() - lower);
    let Some(inside) = [below, above].into_iter().flatten().reduce(f64::min) else { return false };
    if inside >= u {
        return false;
    }
    grade.verdict = Verdict::Inconclusive;
    let why = format!(
        "inside the limit by {}, less than the uncertainty of {}",
        with(inside.max(0.0)),
        with(u)
    );
    let told = std::mem::take(&mut grade.reason);
    // That it lies within its limits is said by the other words.
    let told = match told.strip_prefix(WITHIN) {
        Some(rest) if rest.is_empty() || rest.starts_with(BEHIND) => rest,
        _ => &told,
    };
    let told = told.trim_start_matches(BEHIND);
    grade.reason = if told.is_empty() { why } else { format!("{why}{BEHIND}{told}") };
    true
}

/// What stands between why a pass is withheld and what was told of it.
const BEHIND: &str = "; ";

impl Grade {
    /// What it was before its uncertainty bore on it, with what was told besides.
    #[must_use]
    pub fn before_guard(&self) -> Self {
        if !self.guarded {
            return self.clone();
        }
        let told = self.reason.split_once(BEHIND).map_or("", |(_, told)| told);
        Self { verdict: Verdict::Pass, reason: told.to_owned(), guarded: false, ..self.clone() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::grading::{Criterion, Limits, PointId, Values, judge_limits};
    use crate::quantity::amperes;
    use proptest::prelude::*;

    fn pickup(measured: f64) -> Finding {
        let judged = judge_limits(amperes(measured), amperes(1.176), amperes(1.224));
        let values = Values::none().with("current", amperes(measured));
        Finding {
            point: PointId { id: "p".into(), test: "p".into(), element: None, fault_loop: None },
            criterion: Criterion::VALUE,
            stimulus: Values::none(),
            expected: Values::none().with("current", amperes(1.2)),
            uncertainty: Values::none().with("u", amperes(1.2e-3)),
            measured: values,
            deviation: Values::none(),
            limits: Limits::Between {
                lower: Some(Value::of(amperes(1.176))),
                upper: Some(Value::of(amperes(1.224))),
            },
            verdict: judged.verdict,
            reason: judged.reason,
        }
    }

    #[test]
    fn a_pass_within_the_guard_band_is_inconclusive_and_says_by_how_much() {
        let mut near = pickup(1.2232);
        guard(&mut near);
        assert_eq!(near.verdict, Verdict::Inconclusive);
        assert!(
            near.reason.contains("0.8 mA") && near.reason.contains("1.2 mA"),
            "{}",
            near.reason
        );
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
