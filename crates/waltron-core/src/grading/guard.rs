//! Measurement uncertainty in verdicts (JCGM 106:2012, 8.3; ILAC-G8:09/2019, 4.2).

use super::judge::WITHIN;
use super::{Finding, Grade, Verdict};
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

/// Turns a pass that its uncertainty does not bear out into an inconclusive verdict; whether it did. What was told of
/// it stays, behind why.
///
/// By any rule U must not be more than the tolerance, half of the room between two limits: of two values that far apart
/// nobody could tell which is the better one (ILAC-G8:09/2019, 4.3). By the guarded rule a value must be inside by U at
/// least, and one without a stated U proves nothing.
pub fn guard(grade: &mut Finding, rule: Rule) -> bool {
    let measured = grade.measured.iter().next().map(|(_, v)| v);
    let Some(value) = measured.filter(|_| grade.verdict == Verdict::Pass) else { return false };
    let [lower, upper] = [grade.limits.lower(), grade.limits.upper()];
    let inside = [upper.map(|upper| upper - value.si()), lower.map(|lower| value.si() - lower)];
    let Some(inside) = inside.into_iter().flatten().reduce(f64::min) else { return false };
    let tolerance = lower.zip(upper).map(|(lower, upper)| (upper - lower) / 2.0);
    // What is no number is no statement.
    let u = grade.uncertainty.get("u").filter(|u| !u.is_nan());
    let why = match (u, rule) {
        (None, Rule::Simple) => return false,
        (None, Rule::Guarded) => "no uncertainty is stated".to_owned(),
        (Some(u), _) if tolerance.is_some_and(|tolerance| u > tolerance) => format!(
            "its uncertainty of {} is more than the tolerance of {}",
            value.with_si(u),
            value.with_si(tolerance.unwrap_or_default())
        ),
        (Some(u), Rule::Guarded) if inside < u => format!(
            "inside the limit by {}, less than the uncertainty of {}",
            value.with_si(inside.max(0.0)),
            value.with_si(u)
        ),
        (Some(_), _) => return false,
    };
    grade.verdict = Verdict::Inconclusive;
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

/// What share of the tolerance, half of the room between two limits, U is; `None` where there is no U, or no room.
pub fn share_of_tolerance(found: &Finding) -> Option<f64> {
    let (lower, upper) = (found.limits.lower()?, found.limits.upper()?);
    let u = found.uncertainty.get("u")?;
    Some(u / ((upper - lower) / 2.0)).filter(|share| share.is_finite())
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
    use crate::grading::{Criterion, Limits, PointId, Value, Values, judge_limits};
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
            budget: Vec::new(),
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
        guard(&mut near, Rule::Guarded);
        assert_eq!(near.verdict, Verdict::Inconclusive);
        assert!(
            near.reason.contains("0.8 mA") && near.reason.contains("1.2 mA"),
            "{}",
            near.reason
        );
        let mut clear = pickup(1.22);
        guard(&mut clear, Rule::Guarded);
        assert_eq!(clear.verdict, Verdict::Pass);
    }

    #[test]
    fn without_an_uncertainty_or_with_one_beyond_its_tolerance_nothing_is_proved() {
        let told = |u: Option<f64>, limits: Limits, rule: Rule| {
            let uncertainty = Values::none().with_some("u", u.map(amperes));
            let mut found = Finding { uncertainty, limits, ..pickup(1.2) };
            let did = guard(&mut found, rule);
            assert_eq!(did, found.verdict == Verdict::Inconclusive);
            did.then_some(found.reason)
        };
        let both = || pickup(1.2).limits;
        assert_eq!(told(None, both(), Rule::Simple), None);
        assert_eq!(told(None, both(), Rule::Guarded).unwrap(), "no uncertainty is stated");
        // What has no limits to be near to needs none.
        assert_eq!(told(None, Limits::None, Rule::Guarded), None);
        for rule in [Rule::Simple, Rule::Guarded] {
            let why = told(Some(0.0241), both(), rule).unwrap();
            assert_eq!(why, "its uncertainty of 24.1 mA is more than the tolerance of 24 mA");
        }
        assert_eq!(told(Some(0.0239), both(), Rule::Simple), None);
        assert_eq!(
            told(Some(f64::NAN), both(), Rule::Guarded).unwrap(),
            "no uncertainty is stated"
        );
        assert_eq!(told(Some(0.0), both(), Rule::Guarded), None, "what is exact is sure");
        let above = Limits::Between { lower: Some(Value::of(amperes(1.0))), upper: None };
        assert_eq!(told(Some(0.1), above.clone(), Rule::Guarded), None);
        assert_eq!(told(Some(5.0), above, Rule::Simple), None, "one limit alone has no tolerance");
    }

    proptest! {
        /// A guard band never makes anything pass, never changes a failure, and what passes it
        /// would still pass anywhere within its uncertainty.
        #[test]
        fn guarding_only_withholds(measured in 1.1f64..1.3) {
            let before = pickup(measured);
            let mut after = before.clone();
            guard(&mut after, Rule::Guarded);
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
