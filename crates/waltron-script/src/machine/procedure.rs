//! A sequence as a procedure.

use super::super::expectation::ended;
use super::super::labels::Labels;
use super::{PuttingBack, Sequence, Waiting};
use std::sync::Arc;
use waltron_core::grading::{Criterion, Finding, PointId, Verdict};
use waltron_core::injection::observation::Observation;
use waltron_core::procedure::{Action, Answer, Owed, Planned, PlannedPoint, Procedure};
use waltron_core::quantity::Quantity;
use waltron_core::text::expression::{Type, Value};

impl Procedure for Sequence {
    fn script(&self) -> Option<String> {
        Some(self.scene.context.text.to_string())
    }

    fn planned(&self) -> Vec<Planned> {
        self.foreseen.planned.clone()
    }

    fn foreseen(&self) -> Vec<Finding> {
        self.foreseen.findings.clone()
    }

    fn next(&mut self) -> Action {
        // What was handed out and not answered is asked for again.
        match &self.waiting {
            Some(Waiting::Injection { built, .. }) if self.ready.is_empty() => {
                Action::Inject(built.program.clone().into())
            }
            _ => self.run(),
        }
    }

    fn observe(&mut self, observation: &Observation) -> Vec<Finding> {
        if let Some(Waiting::Injection { built, read }) = self.waiting.take()
            && let Err(problem) = self.take(&built, read, observation)
        {
            self.not_done(&problem);
        }
        Vec::new()
    }

    /// Nothing that follows a step that was not put out would make sense: the sequence ends there.
    fn refuse(&mut self, reason: &str) -> Vec<Finding> {
        let Some(Waiting::Injection { built, .. }) = self.waiting.take() else { return Vec::new() };
        let offset = built.parts.first().map_or(0, |p| p.span.start);
        let line = self.scene.context.line(offset);
        let point = self.place(offset);
        self.ready.clear();
        self.ready.push_back(Action::Off);
        self.end();
        self.broken_off = Some(format!("line {line} was not put out"));
        vec![ended(point, Verdict::NotTested, format!("it was not put out: {reason}"))]
    }

    fn injection(&self) -> waltron_core::procedure::Injection {
        let part = self.shots.to_string();
        waltron_core::procedure::Injection { point: None, part, serves: self.graded_next() }
    }

    fn broken_off(&self) -> Option<String> {
        self.broken_off.clone()
    }

    fn came_past(&self, place: &PlannedPoint) -> bool {
        let context = &self.scene.context;
        // An attempt that came to its end has come past whatever ended an earlier one.
        place.criterion == Criterion::COMPLETION
            || self.steps.done().any(|line| Labels::is_place(context, line, &place.point.id))
    }

    fn owed(&self) -> Vec<Owed> {
        match self.putting_back {
            PuttingBack::Due | PuttingBack::Begun => self.owed.to_vec(),
            PuttingBack::NotDue | PuttingBack::Done => Vec::new(),
        }
    }

    fn restore(&mut self) {
        if let Some(at) = self.code.finally.filter(|_| self.putting_back != PuttingBack::Done) {
            self.ready.clear();
            (self.waiting, self.done, self.pc) = (None, false, at);
        }
    }

    fn stands_alone(&self) -> bool {
        false
    }

    fn retain(&mut self, _wanted: &dyn Fn(&PointId) -> bool) {}

    fn repeat(&mut self) {
        *self = Self::start(
            Arc::clone(&self.code),
            Arc::clone(&self.scene.context),
            Arc::clone(&self.foreseen),
            Arc::clone(&self.owed),
        );
    }

    fn answer(&mut self, answer: Answer) {
        let waiting = self.waiting.take();
        if let Some(Waiting::Reply { name, line }) = waiting {
            match (answer, name) {
                (Answer::Failed(why), _) => {
                    self.end_with(line, Verdict::Inconclusive, format!("line {line}: {why}"));
                }
                (Answer::Text(text), Some(name)) => {
                    self.scene.names.define(name.as_str(), Value::Text(text));
                }
                _ => {}
            }
            return;
        }
        if let Some(Waiting::Answer { name: Some(name), kind, bounds }) = waiting {
            let value = match (answer, kind) {
                (Answer::Text(text), _) => Value::Text(text),
                (Answer::Si(si), Type::Quantity(dimension)) => {
                    let given = Quantity { si, dimension };
                    match bounds {
                        Some([low, high]) if !(low..=high).contains(&si) => {
                            let why = format!("the answer {given} is none that is allowed");
                            Value::missing(Type::Quantity(dimension), false, why)
                        }
                        _ => Value::from(given),
                    }
                }
                _ => return,
            };
            self.scene.names.define(name.as_str(), value);
        }
    }
}
