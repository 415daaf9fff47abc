//! What a record holds, graded again by other settings, tolerances or rules, without testing.
//!
//! The events of the record are gone through in their order. A built-in procedure's point is graded
//! where it was graded in the run, from the injection that served it; a sequence is played once more
//! with what was seen in the place of the rig, as long as it puts out what was put out.

mod sequence;

use crate::grading::{Finding, Grade, PointId, Verdict};
use crate::plan::{Plan, Playable, ProcedureSettings};
use crate::procedure::{Answer, Bench, Method, Question, Served};
use crate::record::Event;
use crate::text::name::Name;
use std::collections::HashMap;
use std::sync::Arc;

/// Grades a record's points again.
pub struct Again<'a, S> {
    plan: &'a Plan,
    bench: Bench<'a>,
    scripts: &'a HashMap<Name, S>,
    /// The injections that may still serve a point: a reset ratio follows from a ramp up and one down,
    /// a class from resistance, ratio and excitation.
    seen: Vec<Injected>,
    /// What the present sequence put out, asked and was answered since it began.
    tape: Vec<Event>,
    /// Points of the record, by id, in the order in which they were graded first.
    grades: Vec<Grade>,
    places: HashMap<String, usize>,
    /// What was asked and answered so far.
    said: Vec<(Question, Answer)>,
}

/// An injection, and how many of its points are not graded yet.
struct Injected {
    served: Served,
    open: usize,
}

/// Whether two injections served a point together.
fn are_together(a: &Served, b: &Served) -> bool {
    a.points.iter().any(|id| b.serves(id))
}

impl<'a, S: Playable> Again<'a, S> {
    /// Grades by these settings.
    pub fn new(plan: &'a Plan, bench: Bench<'a>, scripts: &'a HashMap<Name, S>) -> Self {
        Self {
            plan,
            bench,
            scripts,
            seen: Vec::new(),
            tape: Vec::new(),
            grades: Vec::new(),
            places: HashMap::new(),
            said: Vec::new(),
        }
    }

    /// A built-in procedure with what its questions were answered.
    fn as_answered(&self, method: &Arc<dyn Method>) -> Arc<dyn Method> {
        method.answered(&self.said).unwrap_or_else(|| Arc::clone(method))
    }

    /// Takes the record's next event.
    pub fn take(&mut self, event: Event) {
        if let (Event::Answered { answer }, Some(Event::Asked(question))) =
            (&event, self.tape.last())
        {
            self.said.push((question.clone(), answer.clone()));
        }
        match event {
            Event::Observed { points, program, observation, test, warm } => {
                if self.scripts.contains_key(&test) {
                    self.tape.push(Event::Observed { points, program, observation, test, warm });
                } else {
                    let last = Served { points, program, observation };
                    if !self.seen.iter().any(|before| are_together(&before.served, &last)) {
                        self.complete();
                    }
                    // What served other points than this one, all of them graded, is over.
                    self.seen
                        .retain(|before| before.open > 0 || are_together(&before.served, &last));
                    self.seen.push(Injected { open: last.points.len(), served: last });
                }
            }
            Event::Graded(grade) => {
                for injected in self.seen.iter_mut().filter(|i| i.served.serves(&grade.point.id)) {
                    injected.open = injected.open.saturating_sub(1);
                }
                // A sequence's is replaced when its test has come to its end.
                if self.is_of_sequence(&grade.point.test) {
                    self.tape.push(Event::Graded(grade.clone()));
                    self.put(grade);
                } else {
                    let again = self.graded(&grade);
                    self.put(again);
                }
            }
            Event::Asked(_)
            | Event::Answered { .. }
            | Event::Set { .. }
            | Event::Sent { .. }
            | Event::Executed { .. } => self.tape.push(event),
            // What is repeated begins anew.
            Event::Repeated { .. } => self.tape.clear(),
            Event::TestEnded { test, .. } => {
                self.complete();
                self.seen.clear();
                self.replay(&test);
            }
            Event::Continued(continued) => {
                self.tape.clear();
                self.drop_tests(&continued.changed);
            }
            _ => {}
        }
    }

    /// The latest grade of every point.
    pub fn finish(mut self) -> Vec<Grade> {
        self.complete();
        // A sequence that was broken off has no end.
        let broken_off = self.tape.iter().find_map(|event| match event {
            Event::Observed { test, .. } => Some(test.clone()),
            _ => None,
        });
        if let Some(test) = broken_off {
            self.replay(&test);
        }
        self.grades
    }

    /// Injections that served points together are all seen: what other settings make of them takes the
    /// place of what was graded then.
    fn complete(&mut self) {
        let Some(last) = self.seen.last().map(|last| &last.served) else { return };
        let points = last.points.clone();
        let of = |grade: &&Grade| points.contains(&grade.point.id);
        // Only what was graded in the record is graded again.
        let Some(first) = self.grades.iter().position(|grade| of(&grade)) else { return };
        let attempt = self.grades[first].attempt;
        let test = self.grades[first].point.test.clone();
        let Some(test) = self.plan.tests.iter().find(|t| t.id == test) else { return };
        let ProcedureSettings::Built(method) = &test.procedure else { return };
        let together = self.seen.iter().map(|s| &s.served).filter(|s| are_together(s, last));
        let served: Vec<_> = together.map(|s| (&*s.program, &s.observation)).collect();
        let Some(found) = self.as_answered(method).all_again(self.bench, &served) else { return };
        let rule = self.plan.rule;
        let grades = found.into_iter().map(|found| Grade { attempt, ..found.graded(rule) });
        let stays = |grade: &Grade| !of(&grade);
        let mut all: Vec<Grade> = Vec::with_capacity(self.grades.len());
        let mut fresh = Some(grades);
        for grade in std::mem::take(&mut self.grades) {
            if stays(&grade) {
                all.push(grade);
            } else if let Some(grades) = fresh.take() {
                all.extend(grades);
            }
        }
        self.grades = all;
        self.index();
    }

    /// Notes anew where each grade stands.
    fn index(&mut self) {
        let places = self.grades.iter().enumerate();
        self.places = places.map(|(at, grade)| (grade.point.id.clone(), at)).collect();
    }

    fn is_of_sequence(&self, test: &Name) -> bool {
        self.scripts.contains_key(test)
    }

    fn put(&mut self, grade: Grade) {
        match self.places.get(&grade.point.id) {
            Some(at) => self.grades[*at] = grade,
            None => {
                self.places.insert(grade.point.id.clone(), self.grades.len());
                self.grades.push(grade);
            }
        }
    }

    fn drop_tests(&mut self, tests: &[Name]) {
        self.grades.retain(|grade| !tests.contains(&grade.point.test));
        self.index();
    }

    /// A built-in procedure's point, from the injection that served it.
    fn graded(&self, measured: &Grade) -> Grade {
        // What was left out, or could not be told before, was not measured.
        if measured.verdict == Verdict::NotTested {
            return measured.clone();
        }
        let measured = &measured.before_guard();
        let again = self.by_settings(measured).unwrap_or_else(|why| Finding {
            measured: measured.measured.clone(),
            uncertainty: measured.uncertainty.clone(),
            budget: measured.budget.clone(),
            ..Finding::not_tested(
                measured.point.clone(),
                measured.criterion.clone(),
                measured.stimulus.clone(),
                format!("not graded again: {why}"),
            )
        });
        Grade { attempt: measured.attempt, ..again.graded(self.plan.rule) }
    }

    fn by_settings(&self, measured: &Grade) -> Result<Finding, String> {
        let test = self.plan.tests.iter().find(|test| test.id == measured.point.test);
        let test = test.ok_or("the plan has no such test")?;
        let seen = self.seen.iter().map(|injected| &injected.served);
        let serving = seen.filter(|seen| seen.serves(&measured.point.id));
        let serving: Vec<_> = serving.map(|seen| (&*seen.program, &seen.observation)).collect();
        let is_injected = match &test.procedure {
            ProcedureSettings::Built(method) => method.injects(),
            ProcedureSettings::Sequence(_) => true,
        };
        if serving.is_empty() && is_injected {
            // What was given up without a measurement proves nothing by other settings either.
            if measured.verdict == Verdict::Inconclusive && measured.measured.is_empty() {
                return Ok(Finding::of(measured.clone()));
            }
            return Err("the record does not tell which injection served it".to_owned());
        }
        match &test.procedure {
            ProcedureSettings::Built(method) => {
                self.as_answered(method).grade_again(self.bench, measured, &serving)
            }
            ProcedureSettings::Sequence(_) => Err("it was no sequence when it was tested".into()),
        }
    }

    /// Plays a sequence once more with what was seen.
    fn replay(&mut self, test: &Name) {
        let tape = std::mem::take(&mut self.tape);
        let Some(script) = self.scripts.get(test) else { return };
        let played = sequence::replay(script.begin(), &tape);
        let rule = self.plan.rule;
        let mut known: HashMap<String, Finding> = HashMap::new();
        let mut order = Vec::new();
        for found in played.found {
            order.push(found.point.id.clone());
            known.insert(found.point.id.clone(), found);
        }
        for grade in self.grades.iter_mut().filter(|grade| grade.point.test == *test) {
            match known.remove(&grade.point.id) {
                Some(again) => {
                    *grade = Grade { attempt: grade.attempt, ..again.graded(rule) };
                }
                None if grade.verdict == Verdict::NotTested => {}
                None => {
                    grade.verdict = Verdict::NotTested;
                    grade.reason = format!("not graded again: {}", played.ended);
                }
            }
        }
        for found in order.iter().filter_map(|id| known.remove(id)) {
            self.put(found.graded(rule));
        }
    }
}

/// A point's id and its two verdicts, where they differ.
pub fn changed<'g>(
    before: &'g [Grade],
    after: &'g [Grade],
) -> Vec<(&'g PointId, Option<Verdict>, &'g Grade)> {
    let known: HashMap<&str, Verdict> =
        before.iter().map(|grade| (grade.point.id.as_str(), grade.verdict)).collect();
    let with_both = after
        .iter()
        .map(|grade| (&grade.point, known.get(grade.point.id.as_str()).copied(), grade));
    with_both.filter(|(_, then, grade)| *then != Some(grade.verdict)).collect()
}
