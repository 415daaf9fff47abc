//! Tests that take several injections at each place, each by what the ones before have shown; what they
//! came to is graded when the last one is in.

use crate::instrument::asset::Spot;
use std::fmt::Debug;
use std::sync::Arc;
use waltron_core::grading::{Finding, Grade, PointId, Values};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::procedure::Question;
use waltron_core::procedure::{Action, Also, Answer, Injection, Planned, PlannedPoint, Procedure};

/// What was put out and what was seen.
pub(super) type Seen<'a> = (&'a Program, &'a Observation);

/// How a place is tested, stage by stage.
pub(super) trait Course: Debug + Send + Sync {
    /// What the attendant must be asked before anything is put out.
    fn asks(&self) -> Option<Question> {
        None
    }

    /// The course with what was answered; `None` where that changes nothing.
    fn answered(&self, _answer: &Answer) -> Option<Arc<dyn Course>> {
        None
    }

    /// What is graded at a place, with the most that may be put out.
    fn planned(&self, spot: &Spot) -> Planned;

    /// The next program at a place; `None` when there is nothing more to do.
    fn next(&self, spot: &Spot, seen: &[Seen<'_>]) -> Option<Program>;

    /// What came of it.
    fn grade(&self, spot: &Spot, seen: &[Seen<'_>]) -> Vec<Finding>;
}

/// A course through places.
pub(super) struct Staged {
    course: Arc<dyn Course>,
    spots: Vec<Spot>,
    at: usize,
    seen: Vec<(Arc<Program>, Observation)>,
    next: Option<Arc<Program>>,
    question: Option<Question>,
}

impl Staged {
    pub(super) fn new(course: Arc<dyn Course>, spots: Vec<Spot>) -> Self {
        let question = course.asks();
        Self { course, spots, at: 0, seen: Vec::new(), next: None, question }
    }

    fn ask(&self, spot: &Spot) -> Option<Program> {
        let seen: Vec<Seen<'_>> = self.seen.iter().map(|(p, o)| (&**p, o)).collect();
        let program = self.course.next(spot, &seen)?;
        let connection = program.connection.clone().or_else(|| spot.connection.clone());
        Some(Program { connection, ..program })
    }

    fn leave(&mut self) -> Vec<Finding> {
        let Some(spot) = self.spots.get(self.at) else { return Vec::new() };
        let seen: Vec<Seen<'_>> = self.seen.iter().map(|(p, o)| (&**p, o)).collect();
        let found = self.course.grade(spot, &seen);
        self.at += 1;
        self.seen.clear();
        self.next = None;
        found
    }

    fn points(&self) -> Vec<PlannedPoint> {
        let spot = self.spots.get(self.at);
        spot.map(|spot| self.course.planned(spot).points).unwrap_or_default()
    }
}

/// A point of a record graded again: the course's own grading of the injections that served it.
///
/// # Errors
/// Why there is no verdict to be had.
pub(super) fn grade_again(
    course: &dyn Course,
    spots: &[Spot],
    measured: &Grade,
    served: &[Seen<'_>],
) -> Result<Finding, String> {
    let id = &measured.point.id;
    let has = |spot: &&Spot| course.planned(spot).points.iter().any(|p| p.point.id == *id);
    let spot = spots.iter().find(has).ok_or("these settings make no such point")?;
    let found = course.grade(spot, served).into_iter().find(|f| f.point.id == *id);
    found.ok_or_else(|| "these settings do not grade it".to_owned())
}

/// All points of the place that injections were of, by their leads.
pub(super) fn all_again(
    course: &dyn Course,
    spots: &[Spot],
    served: &[Seen<'_>],
) -> Option<Vec<Finding>> {
    // A stage may have leads of its own; the first one has the place's.
    let (program, _) = served.first()?;
    let spot = spots.iter().find(|spot| spot.connection == program.connection)?;
    Some(course.grade(spot, served))
}

impl Procedure for Staged {
    fn planned(&self) -> Vec<Planned> {
        let mut all: Vec<Planned> =
            self.spots.iter().map(|spot| self.course.planned(spot)).collect();
        if let (Some(first), Some(question)) = (all.first_mut(), &self.question) {
            first.also.push(Also::Asks { question: question.clone(), is_exact: true });
        }
        all
    }

    fn next(&mut self) -> Action {
        let Some(spot) = self.spots.get(self.at) else { return Action::Done };
        if let Some(question) = &self.question {
            return Action::Ask(question.clone());
        }
        if self.next.is_none() {
            self.next = self.ask(spot).map(Arc::new);
        }
        match &self.next {
            Some(program) => Action::Inject(Arc::clone(program)),
            None => Action::Conclude(self.leave()),
        }
    }

    fn injection(&self) -> Injection {
        let serves: Vec<String> = self.points().into_iter().map(|p| p.point.id).collect();
        let stage = self.next.as_ref().and_then(|p| p.segments.first());
        let part = stage.map(|segment| segment.name.to_string()).unwrap_or_default();
        Injection { point: serves.first().cloned(), part, serves }
    }

    fn observe(&mut self, observation: &Observation) -> Vec<Finding> {
        let Some(spot) = self.spots.get(self.at) else { return Vec::new() };
        if let Some(program) = self.next.take() {
            self.seen.push((program, observation.clone()));
        }
        // The place is graded as soon as nothing more comes.
        self.next = self.ask(spot).map(Arc::new);
        if self.next.is_none() { self.leave() } else { Vec::new() }
    }

    fn refuse(&mut self, reason: &str) -> Vec<Finding> {
        let why = format!("it was not put out: {reason}");
        let found = self
            .points()
            .into_iter()
            .map(|p| Finding::not_tested(p.point, p.criterion, Values::none(), why.clone()));
        let found = found.collect();
        self.at += 1;
        self.seen.clear();
        self.next = None;
        found
    }

    fn answer(&mut self, answer: Answer) {
        self.question = None;
        if let Some(course) = self.course.answered(&answer) {
            self.course = course;
        }
    }

    fn stands_alone(&self) -> bool {
        true
    }

    fn retain(&mut self, wanted: &dyn Fn(&PointId) -> bool) {
        let course = Arc::clone(&self.course);
        self.spots.retain(|spot| course.planned(spot).points.iter().any(|p| wanted(&p.point)));
    }

    fn repeat(&mut self) {
        // In the middle of a place it is begun again, else the one before.
        if self.seen.is_empty() {
            self.at = self.at.saturating_sub(1);
        }
        self.seen.clear();
        self.next = None;
    }
}
