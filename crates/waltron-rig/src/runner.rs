//! Drives the procedures of a plan on a rig and emits what happens, as events.
//!
//! The runner prints nothing and writes nothing: the record, the live view and the JSON output
//! all consume its events. The final status is computed once, from counts.

use crate::attendant::Attendant;
use crate::rig::{Rig, RigError};
use std::collections::HashMap;
use std::error::Error;
use waltron_core::asset::Asset;
use waltron_core::clearance::{Cleared, Refusal, clear};
use waltron_core::grading::{Grade, Summary, Verdict};
use waltron_core::name::Name;
use waltron_core::plan::{Plan, Test};
use waltron_core::procedure::{Action, Answer, Bench, Planned, Procedure, SetupError};
use waltron_core::program::Program;
use waltron_core::quantity::{Time, seconds};
use waltron_core::record::{Event, Outcome, RunEnded};
use waltron_core::script::Loaded;

/// A plan set up for its asset and rig, with every program cleared.
pub struct Prepared {
    tests: Vec<(Name, Box<dyn Procedure>)>,
    planned: Vec<(Name, Planned)>,
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
pub fn prepare(
    plan: &Plan,
    bench: Bench<'_>,
    scripts: &HashMap<Name, Loaded>,
) -> Result<Prepared, Vec<Blocked>> {
    let (mut tests, mut planned, mut blocked) = (Vec::new(), Vec::new(), Vec::new());
    for test in &plan.tests {
        let mut block = |obstacle| blocked.push(Blocked { test: test.clone(), obstacle });
        let procedure: Result<Box<dyn Procedure>, SetupError> = match scripts.get(&test.id) {
            Some(script) => Ok(Box::new(script.procedure())),
            None => test.procedure(bench),
        };
        match procedure {
            Err(error) => block(error.into()),
            Ok(procedure) => {
                let of_test = procedure.planned();
                refused(&of_test, bench).into_iter().for_each(&mut block);
                planned.extend(of_test.into_iter().map(|p| (test.id.clone(), p)));
                tests.push((test.id.clone(), procedure));
            }
        }
    }
    if blocked.is_empty() { Ok(Prepared { tests, planned }) } else { Err(blocked) }
}

fn and_more(more: usize) -> String {
    match more {
        0 => String::new(),
        1 => " and 1 more point".to_owned(),
        n => format!(" and {n} more points"),
    }
}

/// What may not be put out of a test's injections, one obstacle for each cause.
fn refused(planned: &[Planned], bench: Bench<'_>) -> Vec<Obstacle> {
    let mut causes: Vec<(String, usize, Refusal)> = Vec::new();
    for one in planned.iter().filter(|p| p.not_tested.is_none()) {
        let point = one.points.first().map(|p| p.id.clone());
        let id = one.place.clone().or(point).unwrap_or_default();
        let cleared = clear(one.program.clone(), &bench.asset.ratings, bench.capability);
        for refusal in cleared.err().into_iter().flatten() {
            match causes.iter_mut().find(|(_, _, r)| r.is_same_kind(&refusal)) {
                // Two channels of the same point count once.
                Some((first, more, _)) => *more += usize::from(*first != id),
                None => causes.push((id.clone(), 0, refusal)),
            }
        }
    }
    let obstacle = |(point, more, refusal)| Obstacle::Refused { point, more, refusal };
    causes.into_iter().map(obstacle).collect()
}

impl Prepared {
    /// Every injection in order, with its test.
    pub fn planned(&self) -> &[(Name, Planned)] {
        &self.planned
    }

    /// What a test will do, in the sequence language.
    pub fn script(&self, test: &str) -> Option<String> {
        self.tests.iter().find(|(id, _)| id == test).map(|(_, p)| p.script())
    }

    /// Keeps one test only.
    pub fn keep_only(&mut self, test: &str) {
        self.tests.retain(|(id, _)| id == test);
        self.planned.retain(|(id, _)| id == test);
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

    /// The time the injections should take.
    pub fn likely_time(&self) -> Time {
        let tested = self.planned.iter().filter(|(_, p)| p.not_tested.is_none());
        tested.map(|(_, p)| p.likely).fold(seconds(0.0), |a, b| a + b)
    }
}

/// Where events go. An error stops the run: what cannot be recorded is not injected.
pub type Sink<'a> = dyn FnMut(&Event) -> Result<(), Box<dyn Error + Send + Sync>> + 'a;

/// What is left at the end of a run.
#[derive(Debug)]
pub struct Finished {
    /// Every grade in order.
    pub grades: Vec<Grade>,
    /// How it ended, as the last event says.
    pub ended: RunEnded,
    /// The rig's error, if that is what ended it.
    pub trouble: Option<RigError>,
}

/// Why a run broke off without its last event.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum RunError {
    /// Events can no longer be recorded.
    #[error("the run was stopped, outputs are off: {0}")]
    Sink(Box<dyn Error + Send + Sync>),
}

enum Halt {
    Stopped,
    Rig(RigError),
    Sink(Box<dyn Error + Send + Sync>),
}

struct Runner<'a> {
    asset: &'a Asset,
    rig: &'a mut dyn Rig,
    attendant: &'a mut dyn Attendant,
    sink: &'a mut Sink<'a>,
    grades: Vec<Grade>,
    injected: Time,
}

/// Runs a prepared plan to its end, the attendant's stop or the rig's failure.
///
/// The caller emits the run's first event; every other one comes through `sink`. Outputs are off
/// when this returns, whatever happened.
///
/// # Errors
/// [`RunError`] when an event could not be recorded.
pub fn run<'a>(
    prepared: Prepared,
    asset: &'a Asset,
    rig: &'a mut dyn Rig,
    attendant: &'a mut dyn Attendant,
    sink: &'a mut Sink<'a>,
) -> Result<Finished, RunError> {
    let points = prepared.point_count();
    let grades = Vec::with_capacity(points);
    let mut runner = Runner { asset, rig, attendant, sink, grades, injected: seconds(0.0) };
    let halt = prepared.tests.into_iter().try_for_each(|(id, p)| runner.test(&id, p)).err();
    let off = runner.rig.off();
    let (outcome, trouble) = match (halt, off) {
        (Some(Halt::Sink(error)), _) => return Err(RunError::Sink(error)),
        (Some(Halt::Rig(error)), _) | (_, Err(error)) => {
            (Outcome::RigTrouble(error.to_string()), Some(error))
        }
        (Some(Halt::Stopped), Ok(())) => (Outcome::Stopped, None),
        (None, Ok(())) => (Outcome::Completed, None),
    };
    let summary = Summary::of(runner.grades.iter().map(|g| g.verdict));
    let ended = RunEnded {
        outcome,
        summary,
        not_reached: points.saturating_sub(summary.total()),
        injected: runner.injected,
    };
    (runner.sink)(&Event::RunEnded(ended.clone())).map_err(RunError::Sink)?;
    Ok(Finished { grades: runner.grades, ended, trouble })
}

impl Runner<'_> {
    fn emit(&mut self, event: &Event) -> Result<(), Halt> {
        (self.sink)(event).map_err(Halt::Sink)
    }

    fn graded(&mut self, grades: Vec<Grade>) -> Result<(), Halt> {
        for grade in grades {
            self.emit(&Event::Graded(grade.clone()))?;
            self.grades.push(grade);
        }
        Ok(())
    }

    fn test(&mut self, id: &Name, mut procedure: Box<dyn Procedure>) -> Result<(), Halt> {
        loop {
            if self.attendant.wants_to_stop() {
                return Err(Halt::Stopped);
            }
            match procedure.next() {
                // A test leaves nothing on for the next one.
                Action::Done => return self.rig.off().map_err(Halt::Rig),
                Action::Conclude(grades) => self.graded(grades)?,
                Action::Tell(text) => {
                    self.attendant.tell(&text);
                    self.emit(&Event::Told { text })?;
                }
                Action::Set(parameter, value) => {
                    self.rig.set(&parameter, value).map_err(Halt::Rig)?;
                    self.emit(&Event::Set { parameter, value })?;
                }
                Action::Off => self.rig.off().map_err(Halt::Rig)?,
                Action::Ask(question) => {
                    self.emit(&Event::Asked(question.clone()))?;
                    let answer = self.attendant.ask(&question);
                    self.emit(&Event::Answered { answer: answer.clone() })?;
                    if answer == Answer::Stop {
                        return Err(Halt::Stopped);
                    }
                    procedure.answer(answer);
                }
                Action::Inject(program) => {
                    let grades = self.inject(id, &mut *procedure, program)?;
                    self.graded(grades)?;
                }
            }
        }
    }

    fn inject(
        &mut self,
        id: &Name,
        procedure: &mut dyn Procedure,
        program: Program,
    ) -> Result<Vec<Grade>, Halt> {
        let cleared: Cleared =
            match clear(program.clone(), &self.asset.ratings, self.rig.capability()) {
                Ok(cleared) => cleared,
                // Cleared before by its worst case; a follow-up that exceeds it is not put out.
                Err(refusals) => {
                    let reason = refusals.first().map_or_else(String::new, ToString::to_string);
                    return Ok(self.refused(procedure, &reason));
                }
            };
        let observation = self.rig.play(&cleared, self.attendant).map_err(Halt::Rig)?;
        self.injected += observation.length();
        self.emit(&Event::Observed {
            test: id.clone(),
            program,
            observation: observation.clone(),
        })?;
        if observation.aborted() {
            return Err(Halt::Stopped);
        }
        Ok(procedure.observe(&observation))
    }

    /// Grades the points of a refused injection as not tested.
    fn refused(&mut self, procedure: &mut dyn Procedure, reason: &str) -> Vec<Grade> {
        let mut grades = procedure.observe(&Default::default());
        for grade in &mut grades {
            grade.verdict = Verdict::NotTested;
            grade.reason = reason.to_owned();
        }
        grades
    }
}
