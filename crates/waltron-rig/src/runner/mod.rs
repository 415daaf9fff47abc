//! Drives the procedures of a plan on a rig and emits what happens, as events.
//!
//! The runner prints nothing and writes nothing: the record, the live view and the JSON output
//! all consume its events. The final status is computed once, from counts.

mod prepare;

pub use prepare::{Blocked, Obstacle, Prepared, prepare};

use crate::attendant::{Attendant, Moment, Wish};
use crate::external;
use crate::rig::{Rig, RigError};
use std::collections::HashSet;
use std::error::Error;
use waltron_core::asset::Asset;
use waltron_core::clearance::clear;
use waltron_core::duty::Duty;
use waltron_core::grading::{Grade, PointId, Rule, Values, Verdict, guard, uncertainty};
use waltron_core::name::Name;
use waltron_core::procedure::{Action, Answer, Procedure};
use waltron_core::program::{Finish, Program};
use waltron_core::quantity::{Time, seconds, text};
use waltron_core::record::{Event, Outcome, RunEnded, Tally};

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

/// How a test goes on after an action.
enum Course {
    On,
    Over,
    Skip(String),
}

struct Runner<'a> {
    asset: &'a Asset,
    rig: &'a mut dyn Rig,
    attendant: &'a mut dyn Attendant,
    sink: &'a mut Sink<'a>,
    rule: Rule,
    tally: Tally,
    duty: Duty,
    grades: Vec<Grade>,
    injected: Time,
    /// Whether the last program left outputs on.
    held: bool,
    /// Whether sequences may run programs.
    may_execute: bool,
    /// What timing by the computer adds to the uncertainty of the last injection's times.
    host: Time,
}

/// Runs a prepared plan to its end, the attendant's stop or the rig's failure.
///
/// The caller emits the run's first event; every other one comes through `sink`. `tally` holds what
/// the record has already. Outputs are off when this returns, whatever happened.
///
/// # Errors
/// [`RunError`] when an event could not be recorded.
pub fn run<'a>(
    prepared: Prepared,
    asset: &'a Asset,
    rig: &'a mut dyn Rig,
    attendant: &'a mut dyn Attendant,
    tally: Tally,
    sink: &'a mut Sink<'a>,
) -> Result<Finished, RunError> {
    let points: Vec<PointId> = prepared.points().cloned().collect();
    let mut runner = Runner {
        asset,
        rig,
        attendant,
        sink,
        rule: prepared.rule,
        tally,
        duty: Duty::new(&asset.ratings),
        grades: Vec::with_capacity(points.len()),
        injected: seconds(0.0),
        held: false,
        may_execute: prepared.may_execute,
        host: seconds(0.0),
    };
    let mut of_tests = points.chunk_by(|a, b| a.test == b.test).peekable();
    let halt = prepared
        .tests
        .into_iter()
        .try_for_each(|(id, procedure)| {
            let of_test = of_tests.next_if(|points| points.first().is_some_and(|p| p.test == id));
            runner.test(&id, procedure, of_test.unwrap_or_default())
        })
        .err();
    let off = runner.rig.end_test();
    let (outcome, trouble) = match (halt, off) {
        (Some(Halt::Sink(error)), _) => return Err(RunError::Sink(error)),
        (Some(Halt::Rig(error)), _) | (_, Err(error)) => {
            (Outcome::RigTrouble(error.to_string()), Some(error))
        }
        (Some(Halt::Stopped), Ok(())) => (Outcome::Stopped, None),
        (None, Ok(())) => (Outcome::Completed, None),
    };
    let reached: HashSet<&str> = runner.grades.iter().map(|g| g.point.id.as_str()).collect();
    let not_reached = points.iter().filter(|p| !reached.contains(p.id.as_str())).count();
    let ended = RunEnded {
        summary: runner.tally.summary(),
        not_reached: if outcome == Outcome::Completed { 0 } else { not_reached },
        outcome,
        injected: runner.injected,
    };
    (runner.sink)(&Event::RunEnded(ended.clone())).map_err(RunError::Sink)?;
    Ok(Finished { grades: runner.grades, ended, trouble })
}

impl Runner<'_> {
    fn emit(&mut self, event: &Event) -> Result<(), Halt> {
        (self.sink)(event).map_err(Halt::Sink)
    }

    fn graded(&mut self, grades: &mut [Grade]) -> Result<(), Halt> {
        for grade in grades {
            let capability = self.rig.capability();
            grade.uncertainty =
                uncertainty(grade.criterion, &grade.measured, capability, self.host);
            if self.rule == Rule::Guarded {
                guard(grade);
            }
            grade.attempt = self.tally.note(&grade.point.id, grade.verdict);
            self.emit(&Event::Graded(grade.clone()))?;
            self.grades.push(grade.clone());
        }
        Ok(())
    }

    fn tell(&mut self, text: String) -> Result<(), Halt> {
        self.attendant.tell(&text);
        self.emit(&Event::Told { text })
    }

    fn test(
        &mut self,
        id: &Name,
        mut procedure: Box<dyn Procedure>,
        points: &[PointId],
    ) -> Result<(), Halt> {
        let first = self.grades.len();
        self.host = seconds(0.0);
        let mut last: Vec<Grade> = Vec::new();
        loop {
            if self.attendant.wants_to_stop() {
                return Err(Halt::Stopped);
            }
            let moment = Moment { test: id, last: &last, held: self.held };
            let mut course = Course::On;
            match self.attendant.wish(&moment) {
                Wish::GoOn => {}
                Wish::Stop => return Err(Halt::Stopped),
                Wish::Skip(reason) => course = Course::Skip(reason),
                Wish::Repeat => {
                    self.off()?;
                    procedure.repeat();
                }
            }
            if matches!(course, Course::On) {
                course = self.step(id, &mut *procedure, &mut last)?;
            }
            match course {
                Course::On => continue,
                Course::Over => {}
                Course::Skip(reason) => {
                    self.off()?;
                    let done: HashSet<&str> =
                        self.grades[first..].iter().map(|g| g.point.id.as_str()).collect();
                    let open = points.iter().filter(|p| !done.contains(p.id.as_str()));
                    let mut skipped: Vec<Grade> = open.map(|p| skipped(p, &reason)).collect();
                    self.graded(&mut skipped)?;
                }
            }
            // A test leaves nothing on for the next one.
            self.held = false;
            self.rig.end_test().map_err(Halt::Rig)?;
            return self.emit(&Event::TestEnded { test: id.clone() });
        }
    }

    fn off(&mut self) -> Result<(), Halt> {
        self.held = false;
        self.rig.off().map_err(Halt::Rig)
    }

    fn step(
        &mut self,
        id: &Name,
        procedure: &mut dyn Procedure,
        last: &mut Vec<Grade>,
    ) -> Result<Course, Halt> {
        match procedure.next() {
            Action::Done => return Ok(Course::Over),
            Action::Conclude(mut grades) => {
                self.graded(&mut grades)?;
                *last = grades;
            }
            Action::Tell(text) => self.tell(text)?,
            Action::Set(parameter, value) => {
                self.rig.set(&parameter, value).map_err(Halt::Rig)?;
                self.emit(&Event::Set { parameter, value })?;
            }
            Action::Off => self.off()?,
            Action::Send { to, text, answers } => {
                let answer = match self.rig.send(&to, &text, answers) {
                    Ok(reply) => reply.map_or(Answer::Confirmed, Answer::Text),
                    Err(error) => Answer::Failed(error.to_string()),
                };
                self.emit(&Event::Sent { to, text, answer: answer.clone() })?;
                procedure.answer(answer);
            }
            Action::Execute { program, args, most } => {
                let answer = match self.may_execute {
                    true => external::run(&program, &args, most, self.attendant),
                    false => Err("running programs was not allowed (--allow-exec)".to_owned()),
                };
                let answer = answer.map_or_else(Answer::Failed, Answer::Text);
                let command = std::iter::once(program).chain(args).collect();
                self.emit(&Event::Executed { command, answer: answer.clone() })?;
                procedure.answer(answer);
            }
            Action::Ask(question) => {
                self.emit(&Event::Asked(question.clone()))?;
                let answer = self.attendant.ask(&question);
                self.emit(&Event::Answered { answer: answer.clone() })?;
                match answer {
                    Answer::Stop => return Err(Halt::Stopped),
                    Answer::Skip(reason) => return Ok(Course::Skip(reason)),
                    answer => procedure.answer(answer),
                }
            }
            Action::Inject(program) => {
                let mut grades = self.inject(id, procedure, program)?;
                self.graded(&mut grades)?;
                *last = grades;
            }
        }
        Ok(Course::On)
    }

    /// Lets the asset cool until a program's heat has room.
    fn cool_for(&mut self, program: &Program) -> Result<(), Halt> {
        let rest = self.duty.rest_before(program);
        if rest > seconds(0.0) {
            self.off()?;
            self.tell(format!(
                "Outputs stay off for {} so that the asset cools: earlier injections have used up its short-time rating",
                text(rest)
            ))?;
            self.rig.rest(rest, self.attendant).map_err(Halt::Rig)?;
            self.duty.cool(rest);
            self.emit(&Event::Rested { time: rest })?;
        }
        Ok(())
    }

    fn inject(
        &mut self,
        id: &Name,
        procedure: &mut dyn Procedure,
        program: Program,
    ) -> Result<Vec<Grade>, Halt> {
        let cleared = match clear(program.clone(), &self.asset.ratings, self.rig.capability()) {
            Ok(cleared) => cleared,
            // Cleared before by its worst case; a follow-up that exceeds it is not put out.
            Err(refusals) => {
                let reason = refusals.first().map_or_else(String::new, ToString::to_string);
                return Ok(refused(procedure, &reason));
            }
        };
        self.cool_for(&program)?;
        if self.attendant.wants_to_stop() {
            return Err(Halt::Stopped);
        }
        self.held = program.finish == Finish::Keep;
        let observation = self.rig.play(&cleared, self.attendant).map_err(Halt::Rig)?;
        self.injected += observation.length();
        // A later step of the same test may grade a time that was taken here.
        self.host = self.host.max(observation.host_timing.unwrap_or_default());
        self.duty.put_out(&program, &observation);
        self.emit(&Event::Observed {
            test: id.clone(),
            program,
            observation: observation.clone(),
        })?;
        if observation.aborted() {
            if let Some(stop) = self.rig.capability().emergency_stop.clone()
                && observation.is_closed_at_end(&stop.signal) == stop.when_closed
            {
                self.tell(format!("Emergency stop: `{}`; outputs are off", stop.signal))?;
            }
            return Err(Halt::Stopped);
        }
        Ok(procedure.observe(&observation))
    }
}

/// Grades the points of a refused injection as not tested.
fn refused(procedure: &mut dyn Procedure, reason: &str) -> Vec<Grade> {
    let mut grades = procedure.observe(&Default::default());
    for grade in &mut grades {
        grade.verdict = Verdict::NotTested;
        grade.reason = reason.to_owned();
    }
    grades
}

/// A point that the attendant does not want tested.
fn skipped(point: &PointId, reason: &str) -> Grade {
    Grade {
        point: point.clone(),
        attempt: 1,
        criterion: waltron_core::grading::Criterion::Condition,
        stimulus: Values::none(),
        expected: Values::none(),
        measured: Values::none(),
        deviation: Values::none(),
        limits: Values::none(),
        uncertainty: Values::none(),
        verdict: Verdict::NotTested,
        reason: format!("skipped: {reason}"),
    }
}
