//! Drives the procedures of a plan on a rig and emits what happens, as events.
//!
//! The runner prints nothing and writes nothing: the record, the live view and the JSON output
//! all consume its events. The final status is computed once, from counts.

mod places;
mod prepare;

pub use prepare::{Blocked, Obstacle, Prepared, prepare, set_up};

use crate::attendant::{Attendant, Moment, Wish};
use crate::external;
use crate::rig::{Announced, Rig, RigError};
use std::collections::HashSet;
use std::error::Error;
use std::sync::Arc;
use waltron_core::asset::Asset;
use waltron_core::clearance::duty::{Duty, Warm};
use waltron_core::clearance::{Cleared, clear};
use waltron_core::grading::{Criterion, Finding, Grade, Judgement, Rule, Values, Verdict};
use waltron_core::injection::program::{Finish, Program, Stand};
use waltron_core::procedure::{Action, Answer, Carried, PlannedPoint, Procedure};
use waltron_core::quantity::{Dimension, Quantity, Time, seconds, text};
use waltron_core::record::{Event, Outcome, RunEnded, Tally};
use waltron_core::text::name::Name;

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

/// What a record holds already when a run begins or goes on.
#[derive(Clone, Debug, Default)]
pub struct SoFar {
    /// The latest verdicts.
    pub tally: Tally,
    /// How warm earlier injections left the asset.
    pub warm: Warm,
    /// Time that it has had to cool since.
    pub cooled: Time,
    /// The ids of points that were wanted before, are not graded, and are not chosen now.
    pub left_open: Vec<String>,
}

/// A rest that is worth a line each time: somebody would wonder why nothing happens.
const LONG_REST_S: f64 = 5.0;

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
    /// The tests that came to their end, or were skipped.
    ended: HashSet<Name>,
    /// How often the present test was begun again.
    repeats: u32,
    injected: Time,
    /// Whether a short rest was told in the present test.
    short_rests: bool,
    /// Whether the last program left outputs on.
    held: bool,
    /// The program that was put out last.
    cleared: Option<Cleared>,
    /// What tests hand on to later ones.
    carried: Carried,
    /// Where somebody has taken the leads.
    leads: Option<Name>,
    /// Where what is moved by hand stands, as far as it is known.
    stands: Vec<Stand>,
    /// Whether sequences may run programs.
    may_execute: bool,
    /// The most that is put out of each channel, as it was told before the run.
    told: Vec<(Name, f64, bool)>,
}

/// Runs a prepared plan to its end, the attendant's stop or the rig's failure.
///
/// The caller emits the run's first event; every other one comes through `sink`. Outputs are off when
/// this returns, whatever happened.
///
/// # Errors
/// [`RunError`] when an event could not be recorded.
pub fn run<'a>(
    prepared: Prepared,
    asset: &'a Asset,
    rig: &'a mut dyn Rig,
    attendant: &'a mut dyn Attendant,
    so_far: SoFar,
    sink: &'a mut Sink<'a>,
) -> Result<Finished, RunError> {
    let planned: Vec<Vec<PlannedPoint>> =
        prepared.tests.iter().map(|(id, _)| prepared.points_of(id.as_str())).collect();
    let told = prepared.maxima();
    let mut duty = Duty::new(&asset.ratings, rig.capability()).warmed(&so_far.warm);
    duty.cool(so_far.cooled);
    let mut runner = Runner {
        asset,
        rig,
        attendant,
        sink,
        rule: prepared.rule,
        tally: so_far.tally,
        duty,
        grades: Vec::with_capacity(planned.iter().map(Vec::len).sum()),
        ended: HashSet::new(),
        repeats: 0,
        injected: seconds(0.0),
        short_rests: false,
        held: false,
        cleared: None,
        carried: Carried::new(),
        leads: None,
        stands: Vec::new(),
        may_execute: prepared.may_execute,
        told,
    };
    let tests = prepared.tests.into_iter().zip(&planned);
    let halt = tests
        .into_iter()
        .try_for_each(|((id, procedure), points)| runner.test(&id, procedure, points));
    let halt = halt.err();
    runner.tell_of_discharge();
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
    // What a test that came to its end did not grade was not called for.
    let missed = planned.iter().flatten().filter(|p| {
        !runner.ended.contains(&p.point.test) && !reached.contains(p.point.id.as_str())
    });
    let mut open = so_far.left_open;
    open.extend(missed.map(|p| p.point.id.clone()));
    let ended = RunEnded {
        summary: runner.tally.summary(),
        not_reached: open.len(),
        open,
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

    /// Grades what was found: under the plan's rule, with the number of the attempt.
    fn found(&mut self, found: Vec<Finding>) -> Result<Vec<Grade>, Halt> {
        let grades = found.into_iter().map(|found| found.graded(self.rule)).collect();
        self.graded(grades)
    }

    fn graded(&mut self, grades: Vec<Grade>) -> Result<Vec<Grade>, Halt> {
        let mut told = Vec::with_capacity(grades.len());
        for mut grade in grades {
            grade.attempt = self.tally.note(&grade);
            // Events own what they tell; it is had back rather than copied.
            let event = Event::Graded(grade);
            self.emit(&event)?;
            if let Event::Graded(grade) = event {
                self.grades.push(grade.clone());
                told.push(grade);
            }
        }
        Ok(told)
    }

    fn tell(&mut self, text: String) -> Result<(), Halt> {
        self.attendant.tell(&text);
        self.emit(&Event::Told { text })
    }

    fn test(
        &mut self,
        id: &Name,
        mut procedure: Box<dyn Procedure>,
        points: &[PlannedPoint],
    ) -> Result<(), Halt> {
        let first = self.grades.len();
        self.repeats = 0;
        self.short_rests = false;
        let mut last: Vec<Grade> = Vec::new();
        procedure.carry(&mut self.carried);
        let skipped = loop {
            if self.attendant.wants_to_stop() {
                return Err(Halt::Stopped);
            }
            let moment = Moment { test: id, last: &last, held: self.held };
            match self.attendant.wish(&moment) {
                Wish::GoOn => {}
                Wish::Stop => return Err(Halt::Stopped),
                Wish::Skip(reason) => break Some(reason),
                Wish::Repeat => {
                    self.off()?;
                    self.repeats += 1;
                    procedure.repeat();
                    self.emit(&Event::Repeated { test: id.clone() })?;
                }
            }
            match self.step(id, &mut *procedure, &mut last)? {
                Course::On => {}
                Course::Over => break None,
                Course::Skip(reason) => break Some(reason),
            }
        };
        procedure.carry(&mut self.carried);
        // A test leaves nothing on for the next one, and lets the asset come to rest.
        self.tell_of_discharge();
        self.held = false;
        self.rig.end_test().map_err(Halt::Rig)?;
        let graded: HashSet<String> =
            self.grades[first..].iter().map(|g| g.point.id.clone()).collect();
        let open = points.iter().filter(|p| !graded.contains(&p.point.id));
        match (&skipped, procedure.broken_off()) {
            (Some(reason), _) => self.skip(open, reason)?,
            (None, Some(why)) => {
                let why = format!("not reached: {why}");
                let due = open.filter(|p| !p.conditional);
                let found = due.map(|p| left_out(p, &why)).collect();
                self.found(found)?;
            }
            (None, None) => self.came_past(id)?,
        }
        if skipped.is_none() {
            self.tally.note_end(id.as_str());
        }
        self.ended.insert(id.clone());
        self.rig.rest(self.asset.settling(), self.attendant).map_err(Halt::Rig)?;
        self.emit(&Event::TestEnded { test: id.clone(), skipped: skipped.is_some() })
    }

    /// Notes that points are left out. What was measured before stands until it is measured again.
    fn skip<'p>(
        &mut self,
        open: impl Iterator<Item = &'p PlannedPoint>,
        reason: &str,
    ) -> Result<(), Halt> {
        let measured = |verdict| verdict != Verdict::NotTested;
        let (stands, open): (Vec<&PlannedPoint>, Vec<&PlannedPoint>) =
            open.partition(|p| self.tally.verdict(&p.point.id).is_some_and(measured));
        if !stands.is_empty() {
            let ids: Vec<&str> = stands.iter().map(|p| p.point.id.as_str()).collect();
            self.tell(format!(
                "Skipped ({reason}); what was measured before stands: {}",
                ids.join(", ")
            ))?;
        }
        let due = open.into_iter().filter(|p| !p.conditional);
        let why = format!("skipped: {reason}");
        let skipped = |p| Grade { skipped: true, ..left_out(p, &why).graded(self.rule) };
        let grades: Vec<Grade> = due.map(skipped).collect();
        self.graded(grades).map(drop)
    }

    /// A test that came to its end has come past the places where it broke off before.
    fn came_past(&mut self, id: &Name) -> Result<(), Halt> {
        let places = self.tally.broken_off(id.as_str()).into_iter();
        let passed = places.map(|point| {
            let point = PlannedPoint::certain(point, Criterion::COMPLETION);
            let why = "the sequence came to its end this time";
            left_out(&point, why).judged(Judgement::new(Verdict::Pass, why))
        });
        let passed = passed.collect();
        self.found(passed).map(drop)
    }

    /// What a program puts out beyond what was told before the run, if so.
    fn beyond(&self, program: &Program) -> Option<String> {
        program.maxima().into_iter().find_map(|(channel, si, is_current)| {
            let told =
                self.told.iter().find(|(id, ..)| *id == channel).map_or(0.0, |(_, si, _)| *si);
            let dimension = if is_current { Dimension::CURRENT } else { Dimension::VOLTAGE };
            let text = |si| Quantity { si, dimension };
            (si > told * (1.0 + 1e-9) + 1e-9).then(|| {
                format!(
                    "{} on {channel} is more than the {} that was told before",
                    text(si),
                    text(told)
                )
            })
        })
    }

    /// Tells that what is held may have charged something, which is waited for once it is off.
    fn tell_of_discharge(&mut self) {
        if self.held && self.rig.capability().discharge.is_some() {
            self.attendant.drains();
        }
    }

    fn off(&mut self) -> Result<(), Halt> {
        self.tell_of_discharge();
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
            Action::Conclude(found) => *last = self.found(found)?,
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
                let found = self.inject(id, procedure, program)?;
                *last = self.found(found)?;
            }
        }
        Ok(Course::On)
    }

    /// Lets the asset cool until a program's heat has room.
    fn cool_for(&mut self, program: &Program) -> Result<(), Halt> {
        let rest = self.duty.rest_before(program);
        if rest > seconds(0.0) {
            self.off()?;
            // Of many short rests in a row the first is told; the record holds each of them.
            if rest > seconds(LONG_REST_S) || !self.short_rests {
                self.short_rests = rest <= seconds(LONG_REST_S);
                let more =
                    if self.short_rests { "; further ones as short are not told" } else { "" };
                self.tell(format!(
                    "Outputs stay off for {} so that the asset cools: earlier injections have used up its short-time rating{more}",
                    text(rest)
                ))?;
            }
            self.rig.rest(rest, self.attendant).map_err(Halt::Rig)?;
            self.duty.cool(rest);
            self.emit(&Event::Rested { time: rest })?;
        }
        Ok(())
    }

    /// A program that may be put out, or why it may not.
    fn permitted(&self, program: &Arc<Program>) -> Result<Cleared, String> {
        let cleared = clear(Arc::clone(program), &self.asset.ratings, self.rig.capability());
        // Cleared before by its worst case; a follow-up that exceeds it is not put out.
        let cleared = cleared
            .map_err(|refusals| refusals.first().map_or_else(String::new, ToString::to_string))?;
        // What was confirmed is the most that may come; a test that asks for more is mistaken.
        self.beyond(program).map_or(Ok(cleared), Err)
    }

    fn inject(
        &mut self,
        id: &Name,
        procedure: &mut dyn Procedure,
        program: Arc<Program>,
    ) -> Result<Vec<Finding>, Halt> {
        // A point that is injected again is the same program.
        let before = self.cleared.take().filter(|cleared| cleared.is_of(&program));
        let cleared = match before.map_or_else(|| self.permitted(&program), Ok) {
            Ok(cleared) => cleared,
            Err(reason) => return Ok(procedure.refuse(&reason)),
        };
        for go in [Self::lead, Self::stand] {
            if let Some(skipped) = go(self, &program)? {
                return Ok(procedure.refuse(&skipped));
            }
        }
        self.cool_for(&program)?;
        if self.attendant.wants_to_stop() {
            return Err(Halt::Stopped);
        }
        self.held = program.finish == Finish::Keep;
        let injection = procedure.injection();
        let times_before = match &injection.point {
            Some(point) => self.tally.attempts(point),
            None => self.tally.ended(id.as_str()) + self.repeats,
        };
        let serves = injection.serves;
        let words = format!("{} {}", injection.point.unwrap_or_default(), injection.part);
        self.attendant.begins(&stage(&program, &injection.part));
        self.rig.announce(&Announced { test: id.as_str(), injection: &words, times_before });
        let observation = self.rig.play(&cleared, self.attendant).map_err(Halt::Rig)?;
        self.cleared = Some(cleared);
        self.injected += observation.length();
        self.note_moves(&program, &observation);
        // A later step of the same test may grade a time that was taken here.
        self.duty.put_out(&program, &observation);
        let warm = self.duty.warm();
        let event =
            Event::Observed { test: id.clone(), points: serves, program, observation, warm };
        self.emit(&event)?;
        let Event::Observed { observation, .. } = event else { return Ok(Vec::new()) };
        if let Some(left) = observation.discharge.filter(|left| !left.is_done) {
            return Err(Halt::Rig(RigError::StillCharged(left.left())));
        }
        if observation.aborted() {
            if let Some(stop) = self.rig.capability().emergency_stop.clone()
                && stop.has_stopped(&observation)
            {
                self.tell(format!("Emergency stop: `{}`; outputs are off", stop.signal))?;
            }
            return Err(Halt::Stopped);
        }
        Ok(procedure.observe(&observation))
    }
}

/// What is injected, in words: the place where there are several, and the stage.
fn stage(program: &Program, part: &str) -> String {
    let place = program.connection.as_ref().map(Name::as_str);
    let last = program.segments.last().map(|s| s.name.as_str());
    let stage = if part.is_empty() { last } else { Some(part) };
    place.into_iter().chain(stage).collect::<Vec<_>>().join(" · ")
}

/// A point that was not injected.
fn left_out(planned: &PlannedPoint, reason: &str) -> Finding {
    Finding::not_tested(planned.point.clone(), planned.criterion.clone(), Values::none(), reason)
}
