//! Tests of a breaker as tasks: before each it is seen to that the breaker is in the state to begin with;
//! what has no limit is put to somebody who assesses it.

use super::counter::COUNTED;
use super::grade::{LIMIT, Missing, Setup, UNASSESSED, Wanted};
use super::step::{Operation, Step, look, seen_contacts};
use crate::circuit_breaker::analysis::contact::{operations, spread};
use crate::circuit_breaker::asset::{CircuitBreaker, Measurand};
use std::fmt::Debug;
use std::sync::Arc;
use waltron_core::grading::{Finding, Grade, Judgement, Limits, PointId, Values, Verdict};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::procedure::{
    Action, Answer, Bench, Carried, Injection, Method, Planned, PlannedPoint, Procedure, Question,
    SetupError, Ungraded, Wanted as Asked,
};
use waltron_core::quantity::{Dimension, Measure, Time, seconds};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::Estimate;

/// What a task's injection has shown.
type Grader = Arc<dyn Fn(&Observation) -> Vec<Finding> + Send + Sync>;

/// One injection, with the state that it begins with.
#[derive(Clone)]
pub(super) struct Task {
    /// What its points begin with.
    pub(super) label: String,
    /// Whether the breaker is closed before; any state if not given.
    pub(super) begins_closed: Option<bool>,
    pub(super) points: Vec<Wanted>,
    pub(super) stimulus: Values,
    pub(super) likely: Time,
    pub(super) program: Arc<Program>,
    pub(super) grade: Grader,
    /// Which tasks' opening times are compared once this one is done, by their labels; its last point is
    /// what they differ by.
    pub(super) compared: Vec<String>,
}

/// A test that is a list of tasks.
pub(super) trait Breaking: Debug + Send + Sync + PartialEq + 'static {
    /// Its procedure's name as written in plans.
    const WORD: &'static str;

    fn test(&self) -> &Name;

    /// Its tasks for a breaker on a rig.
    fn tasks(&self, setup: &Setup, bench: Bench<'_>) -> Result<Vec<Task>, SetupError>;

    /// Whether nothing may be moved before it.
    fn is_first(&self) -> bool {
        false
    }

    /// What must be seen to before outputs come on.
    fn first_see_to(&self) -> Vec<String> {
        Vec::new()
    }

    fn setup(&self, bench: Bench<'_>) -> Result<Setup, SetupError> {
        let of = bench.family::<CircuitBreaker>()?.clone();
        let hertz = bench.asset.ratings.frequency.map(Measure::si);
        Ok(Setup { test: self.test().clone(), of, rig: bench.capability.clone(), hertz })
    }
}

/// What brings a breaker to open, or to closed, where the rig has the command for it.
fn brings(setup: &Setup, bench: Bench<'_>, closes: bool) -> Option<Arc<Program>> {
    let coil = setup.of.coils(closes).find(|c| setup.rig.switches(&c.command()))?;
    let step = Step {
        operation: if closes { Operation::Close } else { Operation::Open },
        trip: (!closes).then(|| coil.clone()),
        close: closes.then(|| coil.clone()),
        share: 1.0,
        turn: 1,
        label: String::new(),
        pause: seconds(0.3),
        pulse: seconds(0.2),
    };
    let program = step.program(&setup.of, &setup.rig, bench.frequency().ok()?).ok()?;
    Some(Arc::new(Program { captures: Vec::new(), ..program }))
}

/// A test that is made of tasks, as a procedure that plans can name.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Tested<T>(pub(super) T);

impl<T: Breaking> Method for Tested<T> {
    fn word(&self) -> &'static str {
        T::WORD
    }

    fn set_up(&self, bench: Bench<'_>) -> Result<Box<dyn Procedure>, SetupError> {
        let setup = self.0.setup(bench)?;
        let tasks = self.0.tasks(&setup, bench)?;
        let brings = [false, true].map(|closes| brings(&setup, bench, closes));
        Ok(Box::new(Tasks {
            setup,
            tasks,
            brings,
            is_first: self.0.is_first(),
            at: 0,
            closed: None,
            doing: Doing::Looking,
            has_brought: false,
            operations: [0; 2],
            operations_before: [0.0; 2],
            opened: Vec::new(),
            held: Vec::new(),
            question: None,
            verdict: None,
        }))
    }

    fn precautions(&self) -> Vec<String> {
        self.0.first_see_to()
    }

    fn grade_again(
        &self,
        bench: Bench<'_>,
        measured: &Grade,
        served: &[(&Program, &Observation)],
    ) -> Result<Finding, String> {
        let setup = self.0.setup(bench)?;
        let tasks = self.0.tasks(&setup, bench)?;
        let id = &measured.point.id;
        let found = tasks.iter().find_map(|task| {
            let is_it = |w: &&Wanted| setup.point(&task.label, w).id == *id;
            Some((task, task.points.iter().find(is_it)?))
        });
        let (task, wanted) = found.ok_or("these settings make no such point")?;
        let kept = Finding {
            measured: measured.measured.clone(),
            uncertainty: measured.uncertainty.clone(),
            budget: measured.budget.clone(),
            ..Finding::not_tested(measured.point.clone(), LIMIT, measured.stimulus.clone(), "")
        };
        // What somebody assessed stays as it was said, while there is no limit for it.
        let was_assessed = setup.of.limit(wanted.what, &wanted.of, wanted.share).is_none()
            && matches!(measured.verdict, Verdict::Pass | Verdict::Fail)
            && measured.limits.is_none()
            && !measured.measured.is_empty();
        if was_assessed {
            return Ok(kept.judged(Judgement::new(measured.verdict, measured.reason.clone())));
        }
        let (_, seen) = served.last().ok_or("nothing was injected for it")?;
        let again = (task.grade)(seen).into_iter().find(|f| f.point.id == *id);
        // Samples are not in the record, nor are other injections: what they came to is.
        let is_told = again.as_ref().is_some_and(|again| !again.measured.is_empty());
        let again = again.unwrap_or_else(|| kept.clone());
        match (!is_told, measured.measured.get("value")) {
            (true, Some(value)) => {
                Ok(setup.judged(kept, wanted, Ok(Estimate::of_parts(value, &measured.budget))))
            }
            _ => Ok(again),
        }
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Doing {
    /// In which state it is.
    Looking,
    /// Brings it into the state that the operation begins with.
    Bringing,
    Operating,
}

/// The procedure: before each operation it sees to it that the breaker is in the state to begin with.
struct Tasks {
    setup: Setup,
    tasks: Vec<Task>,
    /// What opens it, and what closes it.
    brings: [Option<Arc<Program>>; 2],
    is_first: bool,
    at: usize,
    /// Whether it is closed, where that is known.
    closed: Option<Result<bool, String>>,
    doing: Doing,
    /// Whether it was tried to bring it into the state to begin with.
    has_brought: bool,
    /// How often it was closed and opened in this test, and in the run before it.
    operations: [u32; 2],
    operations_before: [f64; 2],
    /// The opening times that were seen, of each task and contact.
    opened: Vec<(String, String, f64)>,
    /// Points that wait for somebody's assessment.
    held: Vec<Finding>,
    question: Option<Question>,
    /// What was said, while the reason is asked for.
    verdict: Option<Verdict>,
}

/// Under which name an opening time is handed on.
fn opened_at(test: &Name, label: &str, contact: &str) -> String {
    format!("cb opened {test}/{label}/{contact}")
}

/// What is asked of a value that has no limit.
const IN_ORDER: &str = "in order";
const NOT_IN_ORDER: &str = "not in order";
const NOT_ASSESSED: &str = "not assessed";

impl Tasks {
    /// The state of the main contacts when an injection ended.
    fn state(&self, seen: &Observation) -> Result<bool, String> {
        let contacts = seen_contacts(&self.setup.of, &self.setup.rig);
        let states: Vec<(&Name, bool)> =
            contacts.iter().map(|(_, name)| (name, seen.is_closed_at_end(name))).collect();
        let names = |closed: bool| {
            let all = states.iter().filter(|(_, is)| *is == closed);
            all.map(|(name, _)| name.as_str()).collect::<Vec<_>>().join(", ")
        };
        match states.iter().filter(|(_, closed)| *closed).count() {
            0 => Ok(false),
            n if n == states.len() => Ok(true),
            _ => Err(format!(
                "{} closed, {} open: the poles do not agree",
                names(true),
                names(false)
            )),
        }
    }

    fn skip(&mut self, why: &str, verdict: Verdict) -> Vec<Finding> {
        let Some(task) = self.tasks.get(self.at) else { return Vec::new() };
        let all = task.points.iter().map(|wanted| {
            let point = self.setup.point(&task.label, wanted);
            let found = Finding::not_tested(point, LIMIT, task.stimulus.clone(), "");
            found.judged(Judgement::new(verdict, why))
        });
        let all = all.collect();
        self.leave();
        all
    }

    /// What is put out as things stand; nothing while it is looked at.
    fn program(&self) -> Option<&Program> {
        let task = self.tasks.get(self.at)?;
        match self.doing {
            Doing::Looking => None,
            Doing::Bringing => self.brings[usize::from(task.begins_closed?)].as_deref(),
            Doing::Operating => Some(&task.program),
        }
    }

    fn leave(&mut self) {
        self.at += 1;
        self.has_brought = false;
        // Poles that did not agree may do so by now.
        if self.closed.as_ref().is_some_and(Result::is_err) {
            self.closed = None;
        }
    }

    /// Why the operation cannot be made as the breaker is.
    fn obstacle(&self, begins_closed: bool) -> Option<String> {
        let word = |closed: bool| if closed { "closed" } else { "open" };
        match &self.closed {
            Some(Err(why)) if self.has_brought || self.is_first => Some(why.clone()),
            Some(Ok(is)) if *is != begins_closed => {
                let (is, must) = (word(*is), word(begins_closed));
                if self.is_first {
                    Some(format!(
                        "it is {is}: its first operation after the rest was made already, or is another one"
                    ))
                } else if self.has_brought {
                    Some(format!(
                        "it stayed {is} and must be {must} before: spring, local operation, under-voltage release, blocking coil"
                    ))
                } else {
                    None
                }
            }
            _ => None,
        }
    }

    /// Holds what needs somebody's assessment back; asks for it.
    fn assess(&mut self, found: Vec<Finding>) -> Vec<Finding> {
        let needs = |f: &Finding| f.reason.ends_with(UNASSESSED) && !f.measured.is_empty();
        let (held, sure): (Vec<_>, Vec<_>) = found.into_iter().partition(needs);
        if !held.is_empty() {
            let values = held.iter().map(|f| {
                let what = f.reason.trim_end_matches(UNASSESSED).trim_end_matches(": ");
                let value = f.measured.iter().next().map(|(_, v)| v.to_string());
                format!("{what} {}", value.unwrap_or_default())
            });
            let values = values.collect::<Vec<_>>().join("; ");
            let text = format!("No limit in the file: {values}");
            let answers = [NOT_ASSESSED, IN_ORDER, NOT_IN_ORDER];
            self.question = Some(Question::choose(text, answers).or_else(NOT_ASSESSED));
        }
        self.held = held;
        sure
    }

    /// By how much trip coils differ, once the last of them has tripped.
    fn compared(&self, task: &Task) -> Option<Finding> {
        let wanted = task.points.last().filter(|w| w.what == Measurand::CoilSpread)?;
        let point = self.setup.point(&task.label, wanted);
        let found = Finding::not_tested(point, LIMIT, task.stimulus.clone(), "");
        let contacts = self.opened.iter().map(|(_, contact, _)| contact);
        let most = contacts.filter_map(|contact| {
            let of = |label: &String| {
                let is_it = |(l, c, _): &&(String, String, f64)| l == label && c == contact;
                self.opened.iter().rfind(is_it).map(|(.., time)| *time)
            };
            spread(&task.compared.iter().map(of).collect::<Option<Vec<f64>>>()?)
        });
        // Of two openings that one input saw: what it is late by drops out, and each is rounded by itself.
        let input = seen_contacts(&self.setup.of, &self.setup.rig).into_iter().next();
        let both = [input.as_ref().map(|(_, name)| name); 2];
        let timed = |value: f64| self.setup.rig.timed_between(seconds(value), both, None);
        let untold = || Missing::Untold("not every trip coil has opened it in this run".to_owned());
        let value = most.reduce(f64::max).map(timed).ok_or_else(untold);
        Some(self.setup.judged(found, wanted, value))
    }

    fn assessed(&mut self, verdict: Verdict, why: &str) {
        for found in &mut self.held {
            let what = found.reason.trim_end_matches(UNASSESSED).trim_end_matches(": ").to_owned();
            let word = if verdict == Verdict::Pass { IN_ORDER } else { NOT_IN_ORDER };
            (found.verdict, found.reason) = (verdict, format!("{what}: assessed as {word}: {why}"));
            found.limits = Limits::None;
        }
    }
}

impl Procedure for Tasks {
    /// The times, in the middle of what is allowed.
    fn foreseen(&self) -> Vec<Finding> {
        let of_task = |task: &Task| -> Vec<Finding> {
            let times = task.points.iter().filter(|w| w.what.dimension() == Dimension::TIME);
            let found = times.filter_map(|wanted| {
                let span = self.setup.of.limit(wanted.what, &wanted.of, wanted.share)?;
                let time = seconds(f64::midpoint(span.min?, span.max?));
                let end = Name::from(wanted.of.as_str());
                let timed = self.setup.rig.timed_between(time, [None, Some(&end)], None);
                let fed = task.stimulus.clone();
                Some(self.setup.finding(&task.label, wanted, fed, Ok(timed)))
            });
            found.collect()
        };
        self.tasks.iter().flat_map(of_task).collect()
    }

    fn planned(&self) -> Vec<Planned> {
        let plan = |task: &Task| {
            let points = task.points.iter();
            let points =
                points.map(|w| PlannedPoint::certain(self.setup.point(&task.label, w), LIMIT));
            Planned {
                points: points.collect(),
                stimulus: task.stimulus.clone(),
                expected: Values::none(),
                limits: Limits::None,
                program: Arc::clone(&task.program),
                likely: task.likely,
                place: None,
                not_tested: None,
                is_exact: true,
                also: Vec::new(),
            }
        };
        // What may bring it into the state to begin with is put out, too.
        let needs = |closed: bool| self.tasks.iter().any(|t| t.begins_closed == Some(closed));
        let brings = [false, true].into_iter().filter(|closed| needs(*closed) && !self.is_first);
        let brings = brings.filter_map(|closed| self.brings[usize::from(closed)].clone());
        let beside = brings.map(|program| Planned {
            points: Vec::new(),
            stimulus: Values::none(),
            expected: Values::none(),
            limits: Limits::None,
            program,
            likely: seconds(0.0),
            place: None,
            not_tested: None,
            is_exact: true,
            also: Vec::new(),
        });
        beside.chain(self.tasks.iter().map(plan)).collect()
    }

    fn next(&mut self) -> Action {
        if let Some(question) = &self.question {
            return Action::Ask(question.clone());
        }
        if !self.held.is_empty() {
            return Action::Conclude(std::mem::take(&mut self.held));
        }
        let Some(task) = self.tasks.get(self.at) else { return Action::Done };
        let Some(begins_closed) = task.begins_closed else {
            self.doing = Doing::Operating;
            return Action::Inject(Arc::clone(&task.program));
        };
        let Some(closed) = &self.closed else {
            self.doing = Doing::Looking;
            return Action::Inject(Arc::new(look()));
        };
        if let Some(why) = self.obstacle(begins_closed) {
            return Action::Conclude(self.skip(&why, Verdict::Inconclusive));
        }
        if *closed == Ok(begins_closed) {
            self.doing = Doing::Operating;
            return Action::Inject(Arc::clone(&task.program));
        }
        match &self.brings[usize::from(begins_closed)] {
            Some(brings) => {
                self.doing = Doing::Bringing;
                Action::Inject(Arc::clone(brings))
            }
            None => {
                let must = if begins_closed { "closed" } else { "open" };
                let why =
                    format!("it must be {must} before, and no coil of the file brings it there");
                Action::Conclude(self.skip(&why, Verdict::Inconclusive))
            }
        }
    }

    fn injection(&self) -> Injection {
        let Some(task) = self.tasks.get(self.at) else {
            return Injection { point: None, part: String::new(), serves: Vec::new() };
        };
        let ids = task.points.iter().map(|w| self.setup.point(&task.label, w).id);
        let part = match self.doing {
            Doing::Looking => "look".to_owned(),
            Doing::Bringing => format!("before {}", task.label),
            Doing::Operating => String::new(),
        };
        let is_of_points = self.doing == Doing::Operating;
        let serves = if is_of_points { ids.clone().collect() } else { Vec::new() };
        Injection { point: ids.clone().next(), part, serves }
    }

    fn observe(&mut self, observation: &Observation) -> Vec<Finding> {
        let state = self.state(observation);
        if let Some((_, contact)) = seen_contacts(&self.setup.of, &self.setup.rig).first() {
            let (closings, openings) = operations(observation, contact);
            self.operations[0] += closings;
            self.operations[1] += openings;
        }
        self.closed = Some(state);
        match self.doing {
            Doing::Looking => Vec::new(),
            Doing::Bringing => {
                self.has_brought = true;
                Vec::new()
            }
            Doing::Operating => {
                let Some(task) = self.tasks.get(self.at) else { return Vec::new() };
                let mut found = (task.grade)(observation);
                for wanted in task.points.iter().filter(|w| w.what == Measurand::OpeningTime) {
                    let id = self.setup.point(&task.label, wanted).id;
                    let time = found.iter().find(|f| f.point.id == id);
                    let time = time.and_then(|f| f.measured.get("value"));
                    let seen = time.map(|time| (task.label.clone(), wanted.of.clone(), time));
                    self.opened.extend(seen);
                }
                found.extend(self.compared(task));
                self.leave();
                self.assess(found)
            }
        }
    }

    fn refuse(&mut self, reason: &str) -> Vec<Finding> {
        self.skip(&format!("it was not put out: {reason}"), Verdict::NotTested)
    }

    fn answer(&mut self, answer: Answer) {
        self.question = None;
        match (self.verdict.take(), answer) {
            (None, Answer::Text(text)) if text == IN_ORDER || text == NOT_IN_ORDER => {
                let verdict = if text == IN_ORDER { Verdict::Pass } else { Verdict::Fail };
                self.verdict = Some(verdict);
                self.question = Some(Question { text: format!("Why {text}"), wanted: Asked::Text });
            }
            (Some(verdict), Answer::Text(why)) => self.assessed(verdict, &why),
            _ => {}
        }
    }

    fn take_over(&mut self, carried: &Carried) {
        self.operations_before = COUNTED.map(|count| count.made(carried).sure);
        // What a run that is resumed has seen is compared with what this one sees.
        let contacts = seen_contacts(&self.setup.of, &self.setup.rig);
        for label in self.tasks.iter().flat_map(|task| &task.compared) {
            for (_, contact) in &contacts {
                let time =
                    carried.get(&opened_at(&self.setup.test, label, contact.as_str())).copied();
                let seen = time.map(|time| (label.clone(), contact.to_string(), time));
                self.opened.extend(seen);
            }
        }
    }

    fn take_up(&mut self, seen: &Ungraded) -> Vec<Finding> {
        // Everything else is made once more.
        if !self.is_first {
            return Vec::new();
        }
        let is_of = |task: &Task| {
            let mut ids = task.points.iter().map(|w| self.setup.point(&task.label, w).id);
            task.program == seen.program && ids.any(|id| seen.points.contains(&id))
        };
        let Some(at) = self.tasks.iter().position(is_of) else { return Vec::new() };
        (self.at, self.doing) = (at, Doing::Operating);
        let found = self.observe(&seen.observation);
        // It is done; its operations are counted already, and how it was left need not be how it is.
        self.tasks.remove(at);
        (self.at, self.operations, self.closed) = (0, [0; 2], None);
        let is_open = |id: &String| seen.points.contains(id);
        self.held.retain(|held| is_open(&held.point.id));
        if self.held.is_empty() {
            self.question = None;
        }
        found
    }

    fn hand_on(&self, carried: &mut Carried) {
        let made = self.operations_before.into_iter().zip(self.operations);
        for (count, (before, here)) in COUNTED.into_iter().zip(made) {
            count.note(before + f64::from(here), carried);
        }
        let compared = |label: &String| self.tasks.iter().any(|t| t.compared.contains(label));
        for (label, contact, time) in self.opened.iter().filter(|(label, ..)| compared(label)) {
            carried.insert(opened_at(&self.setup.test, label, contact), *time);
        }
    }

    fn hand_on_if_cut(&self, carried: &mut Carried) {
        self.hand_on(carried);
        let Some(program) = self.program() else { return };
        for (count, closes) in COUNTED.into_iter().zip([true, false]) {
            count.note_unsure(self.setup.commands(program, closes), carried);
        }
    }

    fn stands_alone(&self) -> bool {
        true
    }

    fn retain(&mut self, wanted: &dyn Fn(&PointId) -> bool) {
        let setup = self.setup.clone();
        self.tasks.retain(|task| task.points.iter().any(|w| wanted(&setup.point(&task.label, w))));
    }

    fn repeat(&mut self) {
        self.at = self.at.saturating_sub(1);
        self.has_brought = false;
    }
}
