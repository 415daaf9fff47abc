//! A plan set up for its asset and rig: what will be put out, cleared, and what stands in the way.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use waltron_core::asset::Asset;
use waltron_core::clearance::duty::Duty;
use waltron_core::clearance::{Refusal, clear};
use waltron_core::grading::{Finding, PointId, Rule};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::observation::{Ended, Observation, Span};
use waltron_core::injection::program::Segment;
use waltron_core::plan::selection::Selection;
use waltron_core::plan::{Plan, Playable, Test};
use waltron_core::procedure::{Also, Bench, Planned, PlannedPoint, Procedure, SetupError};
use waltron_core::quantity::{Time, seconds};
use waltron_core::record::{Chosen, Progress};
use waltron_core::text::name::Name;

/// A plan set up for its asset and rig, with every program cleared.
pub struct Prepared {
    pub(super) tests: Vec<(Name, Box<dyn Procedure>)>,
    planned: Vec<(Name, Planned)>,
    pub(super) rule: Rule,
    pub(super) may_execute: bool,
}

/// Why a test of the plan may not be run.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum Obstacle {
    /// It cannot be set up.
    #[error(transparent)]
    Setup(#[from] SetupError),
    /// What it would put out is refused.
    #[error("{point}{}: {refusal}", and_more(*.more))]
    Refused {
        /// The first refused point's id.
        point: String,
        /// How many more points are refused for the same cause.
        more: usize,
        /// Why.
        refusal: Refusal,
    },
}

/// A test with what stands in its way.
#[derive(Clone, Debug, PartialEq)]
pub struct Blocked {
    /// The test.
    pub test: Test,
    /// What stands in its way.
    pub obstacle: Obstacle,
}

/// Sets every test up and clears every program before anything is put out; `scripts` holds the
/// sequences by their test's id.
///
/// # Errors
/// Everything that stands in the way, of all tests.
pub fn prepare<S: Playable>(
    plan: &Plan,
    bench: Bench<'_>,
    scripts: &HashMap<Name, S>,
) -> Result<Prepared, Vec<Blocked>> {
    let prepared = set_up(plan, bench, scripts)?;
    let blocked = prepared.refused(plan, bench);
    if blocked.is_empty() { Ok(prepared) } else { Err(blocked) }
}

/// Sets every test up. What it would put out is not cleared yet, so that tests can be chosen before;
/// see [`Prepared::refused`].
///
/// # Errors
/// Every test that cannot be set up.
pub fn set_up<S: Playable>(
    plan: &Plan,
    bench: Bench<'_>,
    scripts: &HashMap<Name, S>,
) -> Result<Prepared, Vec<Blocked>> {
    let (mut tests, mut planned, mut blocked) = (Vec::new(), Vec::new(), Vec::new());
    for test in &plan.tests {
        let procedure: Result<Option<Box<dyn Procedure>>, SetupError> = match scripts.get(&test.id)
        {
            Some(script) => Ok(Some(script.begin())),
            None => test.procedure(bench),
        };
        match procedure {
            Err(error) => blocked.push(Blocked { test: test.clone(), obstacle: error.into() }),
            // A sequence whose script nobody has read: there is nothing to set up.
            Ok(None) => {}
            Ok(Some(procedure)) => {
                let of_test = procedure.planned();
                planned.extend(of_test.into_iter().map(|p| (test.id.clone(), p)));
                tests.push((test.id.clone(), procedure));
            }
        }
    }
    if !blocked.is_empty() {
        return Err(blocked);
    }
    Ok(Prepared { tests, planned, rule: plan.rule, may_execute: false })
}

fn and_more(more: usize) -> String {
    match more {
        0 => String::new(),
        1 => " and 1 more point".to_owned(),
        n => format!(" and {n} more points"),
    }
}

/// What may not be put out of a test's injections, one obstacle for each cause.
fn refused<'p>(planned: impl Iterator<Item = &'p Planned>, bench: Bench<'_>) -> Vec<Obstacle> {
    /// A cause: what it refuses first, how many points, the last injection counted.
    struct Cause(String, usize, usize, Refusal);
    let mut causes: Vec<Cause> = Vec::new();
    let mut before: Option<&Planned> = None;
    for (number, one) in planned.filter(|p| p.not_tested.is_none()).enumerate() {
        // Repeats share their program; what was cleared once need not be cleared again.
        let same = before.is_some_and(|b| Arc::ptr_eq(&b.program, &one.program));
        before = Some(one);
        if same && causes.is_empty() {
            continue;
        }
        let point = one.points.first().map(|p| p.point.id.clone());
        let mut id = one.place.clone().or(point).unwrap_or_default();
        if !one.is_exact {
            id.push_str(", at the most that can come of it");
        }
        let ratings = bench.asset.ratings_at(one.program.connection.as_ref());
        let cleared = clear(Arc::clone(&one.program), &ratings, bench.capability);
        for refusal in cleared.err().into_iter().flatten() {
            // A step of a sequence that serves no point stands for itself.
            let points = one.points.len().max(1);
            match causes.iter_mut().find(|cause| cause.3.is_same_kind(&refusal)) {
                // Two channels of the same injection count once.
                Some(Cause(_, _, last, _)) if *last == number => {}
                Some(Cause(_, count, last, _)) => (*count, *last) = (*count + points, number),
                None => causes.push(Cause(id.clone(), points, number, refusal)),
            }
        }
    }
    let obstacle =
        |Cause(point, points, _, refusal)| Obstacle::Refused { point, more: points - 1, refusal };
    causes.into_iter().map(obstacle).collect()
}

impl Prepared {
    /// What may not be put out of what is left of the plan.
    pub fn refused(&self, plan: &Plan, bench: Bench<'_>) -> Vec<Blocked> {
        let mut blocked = Vec::new();
        for test in &plan.tests {
            let of_test = self.planned.iter().filter(|(id, _)| *id == test.id).map(|(_, p)| p);
            let obstacles = refused(of_test, bench).into_iter();
            blocked.extend(obstacles.map(|obstacle| Blocked { test: test.clone(), obstacle }));
        }
        blocked
    }

    /// Whether a pattern fits a point, or a test.
    pub fn fits(&self, wanted: &Selection) -> bool {
        self.points().any(|p| wanted.matches(p))
            || self.tests.iter().any(|(id, _)| wanted.matches(&itself(id)))
    }

    /// Whether a test is left.
    pub fn has(&self, test: &str) -> bool {
        self.tests.iter().any(|(id, _)| id == test)
    }

    /// What is done besides putting something out, each once.
    pub fn also(&self) -> Vec<Also> {
        let mut all: Vec<Also> = Vec::new();
        for also in self.planned.iter().flat_map(|(_, p)| &p.also) {
            also.clone().join(&mut all);
        }
        all
    }

    /// Whether all that is put out is known before; else it stands at the most that it can be.
    pub fn is_exact(&self) -> bool {
        self.planned.iter().all(|(_, p)| p.is_exact || p.program.segments.is_empty())
    }

    /// Lets sequences run programs of the attendant's.
    pub fn allow_execution(&mut self) {
        self.may_execute = true;
    }

    /// Whether sequences may run programs of the attendant's.
    pub fn may_execute(&self) -> bool {
        self.may_execute
    }

    /// What its points come to where the asset does what its settings say, as far as that is known.
    pub fn foreseen(&self) -> Vec<Finding> {
        self.tests.iter().flat_map(|(_, procedure)| procedure.foreseen()).collect()
    }

    /// Every injection in order, with its test.
    pub fn planned(&self) -> &[(Name, Planned)] {
        &self.planned
    }

    /// What a test will do, in the sequence language.
    pub fn script(&self, test: &str) -> Option<String> {
        self.tests.iter().find(|(id, _)| id == test).and_then(|(_, p)| p.script())
    }

    /// Keeps one test only.
    pub fn keep_only(&mut self, test: &str) {
        self.tests.retain(|(id, _)| id == test);
        self.planned.retain(|(id, _)| id == test);
    }

    /// Keeps what is wanted; whole tests where their injections depend on each other.
    pub fn keep(&mut self, wanted: &Chosen) {
        self.filter(|point| wanted.wants(point), |test, points| wanted.wants_test(test, points));
    }

    /// Keeps what a record leaves open.
    pub fn keep_open(&mut self, progress: &Progress) {
        self.filter(
            |point| progress.is_open(point),
            |test, points| progress.is_test_open(test, points),
        );
    }

    /// Keeps what is wanted, and what a record leaves open.
    pub fn keep_with_open(&mut self, wanted: &Chosen, progress: &Progress) {
        self.filter(
            |point| wanted.wants(point) || progress.is_open(point),
            |test, points| wanted.wants_test(test, points) || progress.is_test_open(test, points),
        );
    }

    fn filter(
        &mut self,
        wants_point: impl Fn(&PointId) -> bool,
        wants_test: impl Fn(&str, &[&PointId]) -> bool,
    ) {
        let mut whole: HashSet<Name> = HashSet::new();
        for (id, procedure) in &mut self.tests {
            if procedure.stands_alone() {
                procedure.retain(&wants_point);
                // What is left says itself what it needs: steps that grade nothing are among it.
                let left = procedure.planned().into_iter();
                let left: Vec<_> = left.map(|p| (id.clone(), p)).collect();
                let at = self.planned.iter().position(|(test, _)| test == id);
                let at = at.unwrap_or(self.planned.len());
                self.planned.retain(|(test, _)| test != id);
                self.planned.splice(at..at, left);
                continue;
            }
            let of_test = self.planned.iter().filter(|(test, _)| test == id);
            let points = of_test.flat_map(|(_, p)| &p.points);
            let points: Vec<&PointId> = points.map(|p| &p.point).collect();
            // A sequence that grades nothing is still a test of its own.
            let itself = itself(id);
            let points = if points.is_empty() { vec![&itself] } else { points };
            if wants_test(id.as_str(), &points) {
                whole.insert(id.clone());
            }
        }
        let wanted = |p: &PlannedPoint| wants_point(&p.point);
        let some = |(_, planned): &&(Name, Planned)| planned.points.iter().any(wanted);
        whole.extend(self.planned.iter().filter(some).map(|(id, _)| id.clone()));
        self.planned.retain(|(id, _)| whole.contains(id));
        self.tests.retain(|(id, _)| whole.contains(id));
    }

    /// Whether nothing is left to be done.
    pub fn is_empty(&self) -> bool {
        self.tests.is_empty()
    }

    /// All that is left, for choosing the same again.
    pub fn chosen(&self) -> Chosen {
        let points = self.points().map(|p| p.id.clone()).collect();
        let tests = self.tests.iter().map(|(id, _)| id.to_string()).collect();
        Chosen::Graded { points, tests }
    }

    /// The ids of all points, in order.
    pub fn points(&self) -> impl Iterator<Item = &PointId> {
        self.planned.iter().flat_map(|(_, p)| &p.points).map(|p| &p.point)
    }

    /// The points that come up for certain, in order.
    pub fn certain(&self) -> impl Iterator<Item = &PointId> {
        let points = self.planned.iter().flat_map(|(_, p)| &p.points);
        points.filter(|p| !p.conditional).map(|p| &p.point)
    }

    /// The points of a test, in order.
    pub(super) fn points_of(&self, test: &str) -> Vec<PlannedPoint> {
        let of_test = self.planned.iter().filter(|(id, _)| id == test);
        of_test.flat_map(|(_, p)| p.points.clone()).collect()
    }

    /// The points that a record leaves open and that are not chosen here.
    pub fn left_open(&self, progress: &Progress) -> Vec<PointId> {
        let open = |id: &Name, p: &PlannedPoint| match self.tests.iter().find(|(t, _)| t == id) {
            Some((_, procedure)) if !procedure.stands_alone() => {
                !p.conditional && progress.is_test_open(id.as_str(), &[&p.point])
            }
            _ => progress.is_open(&p.point),
        };
        let all = self.planned.iter().flat_map(|(id, p)| p.points.iter().map(move |p| (id, p)));
        all.filter(|(id, p)| open(id, p)).map(|(_, p)| p.point.clone()).collect()
    }

    /// Number of points that will be graded.
    pub fn point_count(&self) -> usize {
        self.planned.iter().map(|(_, p)| p.points.len()).sum()
    }

    /// The largest RMS value of each channel over the whole plan: (channel, value in A or V, is
    /// current), in the order of their names.
    pub fn maxima(&self) -> Vec<(Name, f64, bool)> {
        let mut all: Vec<(Name, f64, bool)> = Vec::new();
        let tested = self.planned.iter().filter(|(_, p)| p.not_tested.is_none());
        for (channel, rms, is_current) in tested.flat_map(|(_, p)| p.program.maxima()) {
            match all.iter_mut().find(|(c, _, _)| *c == channel) {
                Some(found) => found.1 = found.1.max(rms),
                None => all.push((channel, rms, is_current)),
            }
        }
        all.sort_by(|a, b| a.0.cmp(&b.0));
        all
    }

    /// The time that it should take: the injections, the rests in which the asset cools, the time that what was
    /// charged stays earthed, and the rests after each test.
    pub fn likely_time(&self, asset: &Asset, rig: &Capability) -> Time {
        let tested = || self.planned.iter().filter(|(_, p)| p.not_tested.is_none());
        let mut duty = Duty::new(&asset.ratings, rig);
        let mut sum = seconds(0.0);
        for (_, planned) in tested() {
            duty.rate(&asset.ratings_at(planned.program.connection.as_ref()), rig);
            let rest = duty.rest_before(&planned.program);
            duty.cool(rest);
            duty.put_out(&planned.program, &likely(planned));
            sum += rest + planned.likely;
            // What was charged stays earthed before anything else is done.
            let longest = |_: usize, segment: &Segment| segment.longest().unwrap_or_default();
            if let Some(earthed) = planned.program.earthed_for(longest) {
                duty.cool(earthed);
                sum += earthed;
            }
        }
        let mut tests: Vec<&Name> = tested().map(|(id, _)| id).collect();
        tests.dedup();
        sum + asset.settling() * tests.len() as f64
    }
}

/// What stands for a test that has no points.
fn itself(test: &Name) -> PointId {
    PointId { id: test.to_string(), test: test.clone(), element: None, fault_loop: None }
}

/// What should be seen of an injection: its segments as long as they may be, up to its likely time.
fn likely(planned: &Planned) -> Observation {
    let (mut start, mut left) = (seconds(0.0), planned.likely);
    let spans = planned.program.segments.iter().map(|segment| {
        let lasts = segment.longest().unwrap_or(left).min(left);
        let span = Span { start, end: start + lasts, ended: Ended::Finished };
        start += lasts;
        left -= lasts;
        span
    });
    Observation { segments: spans.collect(), ..Observation::default() }
}
