//! Injections that grade points of their own, and some further ones together: the differences between
//! phases, what several readings say of each other.

use crate::power::asset::PowerTransformer;
use std::fmt::Debug;
use std::sync::Arc;
use waltron_core::grading::{Finding, Grade, Limits, PointId, Values};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::procedure::{
    Action, Answer, Bench, Grader, Injection, Method, Planned, PlannedPoint, Procedure, SetupError,
};
use waltron_core::quantity::Time;

/// A test that is a list of steps, with what they grade together.
pub(super) trait Stepwise: Debug + Send + Sync + PartialEq + 'static {
    /// Its procedure's name as written in plans.
    const WORD: &'static str;

    /// What the person at the panel must see to before outputs come on, a line each.
    const SEE_TO: &'static [&'static str] = &[];

    /// Its steps for a transformer on a rig.
    fn joint(&self, of: &PowerTransformer, bench: Bench<'_>) -> Result<Joint, SetupError>;
}

/// Such a test, as a procedure that plans can name.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Stepped<T>(pub(super) T);

impl<T: Stepwise> Method for Stepped<T> {
    fn word(&self) -> &'static str {
        T::WORD
    }

    fn set_up(&self, bench: Bench<'_>) -> Result<Box<dyn Procedure>, SetupError> {
        Ok(Box::new(self.0.joint(bench.family()?, bench)?))
    }

    fn precautions(&self) -> Vec<String> {
        T::SEE_TO.iter().map(|line| (*line).to_owned()).collect()
    }

    fn grade_again(
        &self,
        bench: Bench<'_>,
        measured: &Grade,
        served: &[(&Program, &Observation)],
    ) -> Result<Finding, String> {
        self.0.joint(bench.family()?, bench)?.grade_again(measured, served)
    }
}

/// One injection with the points that it grades alone.
#[derive(Clone)]
pub(super) struct Step {
    pub(super) planned: Planned,
    pub(super) grade: Grader,
    /// Whether it comes only if what was seen before calls for it.
    pub(super) is_called_for: Option<Wanted>,
}

impl Step {
    /// An injection that grades nothing by itself.
    pub(super) fn of(program: Program, stimulus: Values, likely: Time) -> Self {
        let planned = Planned {
            points: Vec::new(),
            stimulus,
            expected: Values::none(),
            limits: Limits::None,
            program: Arc::new(program),
            likely,
            place: None,
            not_tested: None,
            is_exact: true,
            also: Vec::new(),
        };
        Self { planned, grade: Arc::new(|_: &Observation| Vec::new()), is_called_for: None }
    }
}

/// Whether an injection is called for by what the steps have shown so far.
pub(super) type Wanted = Arc<dyn Fn(&[Option<&Observation>]) -> bool + Send + Sync>;

/// Grades points by what several steps have shown, in their order; `None` of one that did not come.
type GradeTogether = Arc<dyn Fn(&[Option<&Observation>]) -> Vec<Finding> + Send + Sync>;

/// Points that several steps grade together.
#[derive(Clone)]
pub(super) struct Group {
    pub(super) points: Vec<PlannedPoint>,
    /// The steps, in order; it is graded after the last one of them.
    pub(super) of: Vec<usize>,
    pub(super) grade: GradeTogether,
}

/// Steps with their groups.
pub(super) struct Joint {
    steps: Vec<Step>,
    groups: Vec<Group>,
    /// Which steps are done at all.
    chosen: Vec<bool>,
    seen: Vec<Option<Observation>>,
    at: usize,
}

impl Joint {
    pub(super) fn new(steps: Vec<Step>, groups: Vec<Group>) -> Self {
        let (chosen, seen) = (vec![true; steps.len()], vec![None; steps.len()]);
        let mut joint = Self { steps, groups, chosen, seen, at: 0 };
        joint.pass_by();
        joint
    }

    fn seen(&self) -> Vec<Option<&Observation>> {
        self.seen.iter().map(Option::as_ref).collect()
    }

    /// Goes on to the next step that is chosen and called for.
    fn pass_by(&mut self) {
        while let Some(step) = self.steps.get(self.at) {
            let is_wanted = step.is_called_for.as_ref().is_none_or(|wanted| wanted(&self.seen()));
            if self.chosen[self.at] && is_wanted {
                return;
            }
            self.at += 1;
        }
    }

    /// The points that a step serves: its own, and those of its groups.
    fn points(&self, at: usize) -> Vec<&PlannedPoint> {
        let Some(step) = self.steps.get(at) else { return Vec::new() };
        let groups = self.groups.iter().filter(|group| group.of.contains(&at));
        step.planned.points.iter().chain(groups.flat_map(|group| &group.points)).collect()
    }

    /// What is graded once a step is over, as far as it is the last of its group that still comes.
    fn leave(&mut self, mut found: Vec<Finding>) -> Vec<Finding> {
        let left = self.at;
        self.at += 1;
        self.pass_by();
        // The next one tells which groups are over: those with no step from there on.
        let next = self.at;
        for group in &self.groups {
            let is_over =
                group.of.contains(&left) || group.of.iter().any(|k| (left..next).contains(k));
            let comes = |k: &usize| *k >= next && self.chosen[*k];
            if is_over && !group.of.iter().any(comes) {
                let seen: Vec<_> = group.of.iter().map(|k| self.seen[*k].as_ref()).collect();
                found.extend((group.grade)(&seen));
            }
        }
        found
    }

    /// A point of a record, graded by the injections that served it.
    ///
    /// # Errors
    /// Why there is no verdict to be had of it.
    pub(super) fn grade_again(
        &self,
        measured: &Grade,
        served: &[(&Program, &Observation)],
    ) -> Result<Finding, String> {
        let id = &measured.point.id;
        let last_of = |step: &Step| {
            let same = |(program, _): &&(&Program, &Observation)| {
                let own = &step.planned.program;
                program.connection == own.connection
                    && program.stands == own.stands
                    && program.segments.first().map(|s| &s.name)
                        == own.segments.first().map(|s| &s.name)
            };
            served.iter().rfind(same).map(|(_, seen)| *seen)
        };
        let has = |points: &[PlannedPoint]| points.iter().any(|p| p.point.id == *id);
        let found = match self.groups.iter().find(|group| has(&group.points)) {
            Some(group) => {
                let seen: Vec<_> = group.of.iter().map(|k| last_of(&self.steps[*k])).collect();
                (group.grade)(&seen)
            }
            None => {
                let step = self.steps.iter().find(|step| has(&step.planned.points));
                let step = step.ok_or("these settings make no such point")?;
                let (_, seen) = served.last().ok_or("nothing was injected for it")?;
                (step.grade)(seen)
            }
        };
        let found = found.into_iter().find(|finding| finding.point.id == *id);
        found.ok_or_else(|| "these settings do not grade it".to_owned())
    }
}

impl Procedure for Joint {
    fn planned(&self) -> Vec<Planned> {
        let mut all: Vec<Planned> = Vec::new();
        for (k, step) in self.steps.iter().enumerate().filter(|(k, _)| self.chosen[*k]) {
            let mut planned = step.planned.clone();
            planned.is_exact = step.is_called_for.is_none();
            // What is graded together is told where it is graded.
            // Told with the last step that comes for certain: others may not be called for.
            let is_certain =
                |k: &&usize| self.chosen[**k] && self.steps[**k].is_called_for.is_none();
            let ends = |group: &&Group| group.of.iter().rfind(is_certain) == Some(&k);
            let groups = self.groups.iter().filter(ends);
            planned.points.extend(groups.flat_map(|group| group.points.iter().cloned()));
            all.push(planned);
        }
        all
    }

    fn next(&mut self) -> Action {
        match self.steps.get(self.at) {
            Some(step) => Action::Inject(Arc::clone(&step.planned.program)),
            None => Action::Done,
        }
    }

    fn injection(&self) -> Injection {
        let serves: Vec<String> =
            self.points(self.at).into_iter().map(|p| p.point.id.clone()).collect();
        let step = self.steps.get(self.at);
        let part =
            step.and_then(|s| s.planned.program.segments.first()).map(|s| s.name.to_string());
        let own = step.and_then(|s| s.planned.points.first()).map(|p| p.point.id.clone());
        let leads = step.and_then(|s| s.planned.program.connection.clone());
        // What grades nothing of its own is told apart by where its leads are.
        let part = match (&own, leads) {
            (None, Some(place)) => format!("{} {place}", part.unwrap_or_default()),
            _ => part.unwrap_or_default(),
        };
        Injection { point: own.or_else(|| serves.first().cloned()), part, serves }
    }

    fn observe(&mut self, observation: &Observation) -> Vec<Finding> {
        let Some(step) = self.steps.get(self.at) else { return Vec::new() };
        let found = (step.grade)(observation);
        self.seen[self.at] = Some(observation.clone());
        self.leave(found)
    }

    fn refuse(&mut self, reason: &str) -> Vec<Finding> {
        let Some(step) = self.steps.get(self.at) else { return Vec::new() };
        let own = step.planned.points.iter().map(|p| {
            let why = format!("it was not put out: {reason}");
            Finding::not_tested(p.point.clone(), p.criterion.clone(), Values::none(), why)
        });
        let own = own.collect();
        self.seen[self.at] = None;
        self.leave(own)
    }

    fn answer(&mut self, _answer: Answer) {}

    fn stands_alone(&self) -> bool {
        true
    }

    fn retain(&mut self, wanted: &dyn Fn(&PointId) -> bool) {
        for k in 0..self.steps.len() {
            self.chosen[k] = self.points(k).iter().any(|p| wanted(&p.point));
        }
        self.groups.retain(|group| group.points.iter().any(|p| wanted(&p.point)));
        self.at = 0;
        self.pass_by();
    }

    fn repeat(&mut self) {
        // Back to the step before, of those that came.
        let before = (0..self.at).rfind(|k| self.seen[*k].is_some());
        self.at = before.unwrap_or(0);
        if let Some(seen) = self.seen.get_mut(self.at) {
            *seen = None;
        }
        self.pass_by();
    }
}
