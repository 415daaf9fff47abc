//! What a procedure found: what was required, measured and judged.

use crate::uncertainty::{Estimate, Part, combined};

use super::{Criterion, Grade, Judgement, Limits, PointId, Rule, Values, Verdict, guard};

/// What adds less than this share of the whole to it is not told: together with the rest it is not to be seen.
const TOLD: f64 = 1e-3;

/// What a procedure found of a point. How often the point was tested, and how uncertainty bears on the
/// verdict, is the business of who runs the procedure: see [`Finding::graded`].
#[derive(Clone, Debug, PartialEq)]
pub struct Finding {
    /// The point.
    pub point: PointId,
    /// What kind of requirement it is.
    pub criterion: Criterion,
    /// What was put out.
    pub stimulus: Values,
    /// What the settings say.
    pub expected: Values,
    /// What was seen; empty where nothing was.
    pub measured: Values,
    /// Measured less expected.
    pub deviation: Values,
    /// What was required.
    pub limits: Limits,
    /// Expanded uncertainty (k = 2) of what was measured, where the rig states its accuracy.
    pub uncertainty: Values,
    /// What that is made of, the largest part first.
    pub budget: Vec<Part>,
    /// The outcome.
    pub verdict: Verdict,
    /// Why, in one sentence.
    pub reason: String,
}

impl Finding {
    /// A point of which nothing is known, and why.
    pub fn not_tested(
        point: PointId,
        criterion: Criterion,
        stimulus: Values,
        reason: impl Into<String>,
    ) -> Self {
        Self {
            point,
            criterion,
            stimulus,
            expected: Values::none(),
            measured: Values::none(),
            deviation: Values::none(),
            limits: Limits::None,
            uncertainty: Values::none(),
            budget: Vec::new(),
            verdict: Verdict::NotTested,
            reason: reason.into(),
        }
    }

    /// What a grade says, without how often it was tested.
    pub fn of(grade: Grade) -> Self {
        let Grade { point, criterion, stimulus, expected, measured, deviation, limits, .. } = grade;
        let Grade { uncertainty, budget, verdict, reason, .. } = grade;
        Self {
            point,
            criterion,
            stimulus,
            expected,
            measured,
            deviation,
            limits,
            uncertainty,
            budget,
            verdict,
            reason,
        }
    }

    /// The same with what its first measured value is uncertain by; nothing where nothing is stated. What drops out of
    /// a difference is stated, and nothing.
    #[must_use]
    pub fn uncertain(self, estimate: &Estimate) -> Self {
        let mut parts = estimate.parts();
        let least = TOLD * combined(&parts);
        parts.retain(|part| part.contribution() >= least);
        let Some((_, value)) = self.measured.iter().next().filter(|_| estimate.is_stated()) else {
            return self;
        };
        let u = value.with_si(2.0 * combined(&parts));
        Self { uncertainty: Values::none().with_value("u", u), budget: parts, ..self }
    }

    /// The same with another outcome.
    #[must_use]
    pub fn judged(self, judged: Judgement) -> Self {
        Self { verdict: judged.verdict, reason: judged.reason, ..self }
    }

    /// The grade of the first attempt: the verdict under a rule.
    pub fn graded(mut self, rule: Rule) -> Grade {
        let guarded = guard(&mut self, rule);
        let Self { point, criterion, stimulus, expected, measured, deviation, .. } = self;
        Grade {
            point,
            attempt: 1,
            criterion,
            verdict: self.verdict,
            stimulus,
            expected,
            measured,
            deviation,
            limits: self.limits,
            uncertainty: self.uncertainty,
            budget: self.budget,
            reason: self.reason,
            skipped: false,
            guarded,
        }
    }
}
