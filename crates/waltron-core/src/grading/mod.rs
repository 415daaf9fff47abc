//! Grading: measured beside expected, deviation, limits, verdict with its reason.
//!
//! Grading is a pure function of what was required and what was observed; it never looks at the
//! rig. The functions here judge single values; procedures put them together into [`Grade`]s.

mod criterion;
mod finding;
mod guard;
mod judge;
mod limits;
mod values;
pub mod words;

pub use criterion::Criterion;
pub use finding::Finding;
pub use guard::{Rule, guard, share_of_tolerance};
pub use judge::{Judgement, TripOutcome, judge_between, judge_limits, judge_trip_time};
pub use limits::Limits;
pub(crate) use values::short;
pub use values::{Value, Values};

use crate::quantity::fault_loop::FaultLoop;
use crate::text::name::Name;
use crate::uncertainty::Part;
use serde::{Deserialize, Serialize};
use std::fmt;

/// The outcome of a point.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Verdict {
    /// Within its limits.
    Pass,
    /// Outside its limits.
    Fail,
    /// Measured, but proves neither.
    Inconclusive,
    /// Measured, and nothing is required of it.
    Measured,
    /// Not injected at all.
    NotTested,
}

impl Verdict {
    /// The word shown to people.
    pub fn word(self) -> &'static str {
        match self {
            Self::Pass => "pass",
            Self::Fail => "FAIL",
            Self::Inconclusive => "inconclusive",
            Self::Measured => "measured",
            Self::NotTested => "not tested",
        }
    }
}

impl fmt::Display for Verdict {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.word())
    }
}

/// Which point of a plan a grade belongs to.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct PointId {
    /// Unique within the plan: `51P-times/A-N/2x`.
    pub id: String,
    /// The test's id.
    pub test: Name,
    /// The element under test.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub element: Option<Name>,
    /// The fault loop.
    #[serde(rename = "loop", skip_serializing_if = "Option::is_none", default)]
    pub fault_loop: Option<FaultLoop>,
}

/// One graded point, as it stands in records, JSON and reports.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Grade {
    /// The point.
    #[serde(flatten)]
    pub point: PointId,
    /// 1 for the first time the point was tested in this record, 2 for its repeat, …
    pub attempt: u32,
    /// What kind of requirement it is.
    pub criterion: Criterion,
    /// The outcome. Written before what it follows from, so that it is found at once.
    pub verdict: Verdict,
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
    #[serde(skip_serializing_if = "Values::is_empty", default)]
    pub uncertainty: Values,
    /// What that is made of, the largest part first.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub budget: Vec<Part>,
    /// Why, in one sentence.
    pub reason: String,
    /// Whether the attendant left it out, so that it is offered again.
    #[serde(skip_serializing_if = "is_false", default)]
    pub skipped: bool,
    /// Whether it would have passed but for its uncertainty, see [`Rule::Guarded`].
    #[serde(skip_serializing_if = "is_false", default)]
    pub guarded: bool,
}

#[allow(clippy::trivially_copy_pass_by_ref, reason = "the serializer wants it so")]
pub(crate) fn is_false(value: &bool) -> bool {
    !value
}

#[allow(clippy::trivially_copy_pass_by_ref, reason = "the serializer wants it so")]
fn is_zero(n: &usize) -> bool {
    *n == 0
}

/// Counts of verdicts, from which a run's status is computed once.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Summary {
    /// Points that pass.
    pub pass: usize,
    /// Points outside their limits.
    pub fail: usize,
    /// Points that prove neither.
    pub inconclusive: usize,
    /// Points that are measured, of which nothing is required.
    #[serde(skip_serializing_if = "is_zero", default)]
    pub measured: usize,
    /// Points not injected.
    pub not_tested: usize,
}

impl Summary {
    /// Counts verdicts.
    pub fn of(verdicts: impl IntoIterator<Item = Verdict>) -> Self {
        let mut summary = Self::default();
        for verdict in verdicts {
            *match verdict {
                Verdict::Pass => &mut summary.pass,
                Verdict::Fail => &mut summary.fail,
                Verdict::Inconclusive => &mut summary.inconclusive,
                Verdict::Measured => &mut summary.measured,
                Verdict::NotTested => &mut summary.not_tested,
            } += 1;
        }
        summary
    }

    /// All points counted.
    pub fn total(self) -> usize {
        self.pass + self.fail + self.inconclusive + self.measured + self.not_tested
    }

    /// The verdict of the whole: any failure fails it, and it passes only if every point does of which
    /// something is required. Nothing counted is nothing tested.
    pub fn verdict(self) -> Verdict {
        match self {
            s if s.fail > 0 => Verdict::Fail,
            s if s.inconclusive > 0 => Verdict::Inconclusive,
            s if s.not_tested > 0 || s.pass + s.measured == 0 => Verdict::NotTested,
            s if s.pass == 0 => Verdict::Measured,
            _ => Verdict::Pass,
        }
    }
}
