//! One test of a plan, from its first action to what it leaves behind.

use super::{Halt, Runner, left_out};
use crate::attendant::{Moment, Wish};
use crate::external;
use std::collections::HashSet;
use waltron_core::grading::Grade;
use waltron_core::procedure::{Action, Answer, PlannedPoint, Procedure, Question};
use waltron_core::record::Event;
use waltron_core::text::name::Name;

/// How a test goes on after an action.
enum Course {
    On,
    Over,
    Skip(String),
}

/// What a test must know of itself.
struct Attempt {
    /// How many grades there were when it began, or was repeated last.
    first: usize,
    /// Where earlier attempts went wrong: those of a record, and of this run before a repeat.
    places: Vec<PlannedPoint>,
}

impl Runner<'_> {
    pub(super) fn test(
        &mut self,
        id: &Name,
        mut procedure: Box<dyn Procedure>,
        points: &[PlannedPoint],
    ) -> Result<(), Halt> {
        let first = self.grades.len();
        self.repeats = 0;
        self.short_rests = false;
        let mut attempt = Attempt { first, places: self.tally.places(id.as_str()) };
        procedure.take_over(&self.carried);
        self.take_up(id, &mut *procedure)?;
        let gone = self.go_through(id, &mut *procedure, &mut attempt);
        if let Err(Halt::Sink(error)) = gone {
            return Err(Halt::Sink(error));
        }
        // A test leaves nothing on for the next one, however it ended.
        let off = self.end_test_after(gone.as_ref().err());
        let restored = self.restore(&mut *procedure);
        let skipped = gone?;
        off?;
        restored?;
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
            (None, None) => {
                let again: HashSet<&str> =
                    self.grades[attempt.first..].iter().map(|g| g.point.id.as_str()).collect();
                let is_past = |p: &PlannedPoint| {
                    !again.contains(p.point.id.as_str()) && procedure.came_past(p)
                };
                attempt.places.retain(is_past);
                self.came_past(&attempt.places)?;
            }
        }
        if skipped.is_none() {
            self.tally.note_end(id.as_str());
        }
        self.ended.insert(id.clone());
        self.rig.rest(self.asset.settling(), self.attendant).map_err(Halt::Rig)?;
        self.emit(&Event::TestEnded { test: id.clone(), skipped: skipped.is_some() })
    }

    /// Grades what was seen before the run was cut, where it cannot be put out again.
    fn take_up(&mut self, id: &Name, procedure: &mut dyn Procedure) -> Result<(), Halt> {
        let Some(seen) = self.ungraded.take_if(|seen| seen.test == *id) else { return Ok(()) };
        let mut found = procedure.take_up(&seen);
        found.retain(|found| seen.points.contains(&found.point.id));
        if let Some(first) = found.first() {
            let id = &first.point.id;
            self.tell(format!(
                "{id}: graded by what the record holds, it was seen before the run was cut"
            ))?;
            self.found(found)?;
        }
        Ok(())
    }

    /// Every action of a test up to its last one; why the rest was skipped, if it was.
    fn go_through(
        &mut self,
        id: &Name,
        procedure: &mut dyn Procedure,
        attempt: &mut Attempt,
    ) -> Result<Option<String>, Halt> {
        let mut last: Vec<Grade> = Vec::new();
        loop {
            if self.attendant.wants_to_stop() {
                return Err(Halt::Stopped);
            }
            let moment = Moment { test: id, last: &last, held: self.held };
            match self.attendant.wish(&moment) {
                Wish::GoOn => {}
                Wish::Stop => return Err(Halt::Stopped),
                Wish::Skip(reason) => return self.reason(reason).map(Some),
                Wish::Repeat => {
                    self.off()?;
                    self.repeats += 1;
                    procedure.repeat();
                    attempt.places = self.tally.places(id.as_str());
                    attempt.first = self.grades.len();
                    self.emit(&Event::Repeated { test: id.clone() })?;
                }
            }
            match self.step(id, procedure, &mut last)? {
                Course::On => {}
                Course::Over => return Ok(None),
                Course::Skip(reason) => return Ok(Some(reason)),
            }
        }
    }

    /// Why a test is skipped: what was said, or what is asked once outputs are off and nothing is charged.
    fn reason(&mut self, said: String) -> Result<String, Halt> {
        self.off()?;
        if !said.is_empty() {
            return Ok(said);
        }
        self.attendant.reason().ok_or(Halt::Stopped)
    }

    /// Asks, with question and answer in the record.
    pub(super) fn ask(&mut self, question: &Question) -> Result<Answer, Halt> {
        self.emit(&Event::Asked(question.clone()))?;
        let answer = match self.attendant.ask(question) {
            Answer::Skip(said) => match self.reason(said) {
                Ok(reason) => Answer::Skip(reason),
                Err(Halt::Stopped) => Answer::Stop,
                Err(halt) => return Err(halt),
            },
            answer => answer,
        };
        self.emit(&Event::Answered { answer: answer.clone() })?;
        Ok(answer)
    }

    fn step(
        &mut self,
        id: &Name,
        procedure: &mut dyn Procedure,
        last: &mut Vec<Grade>,
    ) -> Result<Course, Halt> {
        let action = procedure.next();
        // What is about to be undone is in the record before anybody is asked to.
        self.note_owed(procedure)?;
        match action {
            Action::Done => return Ok(Course::Over),
            Action::Ask(question) => match self.ask(&question)? {
                Answer::Stop => return Err(Halt::Stopped),
                Answer::Skip(reason) => return Ok(Course::Skip(reason)),
                answer => {
                    procedure.answer(answer);
                    self.note_handed_on(procedure)?;
                }
            },
            Action::Inject(program) => *last = self.inject(id, procedure, program)?,
            action => self.act(action, procedure, last)?,
        }
        self.note_owed(procedure)?;
        Ok(Course::On)
    }

    /// What is done without anybody, and without putting anything out.
    pub(super) fn act(
        &mut self,
        action: Action,
        procedure: &mut dyn Procedure,
        last: &mut Vec<Grade>,
    ) -> Result<(), Halt> {
        match action {
            Action::Conclude(found) => *last = self.found(found)?,
            Action::Tell(text) => self.tell(text)?,
            Action::Set(parameter, value) => {
                self.rig.set(&parameter, value).map_err(Halt::Rig)?;
                self.emit(&Event::Set { parameter, value })?;
            }
            Action::Off => self.off()?,
            Action::Earth(charged) => self.earth_it(charged)?,
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
            // Whoever steps through a procedure sees to these.
            Action::Done | Action::Ask(_) | Action::Inject(_) => {}
        }
        Ok(())
    }
}
