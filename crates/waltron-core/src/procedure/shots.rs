//! Procedures of injections that stand alone: each measures, and grades its points by what it measured.

use super::{Action, Answer, Bench, Injection, Planned, Procedure, SetupError};
use crate::grading::{Finding, Grade, PointId, Values};
use crate::injection::observation::Observation;
use crate::injection::program::Program;
use crate::procedure::Method;
use std::sync::Arc;

/// Grades an injection's points by what was observed.
pub type Grader = Arc<dyn Fn(&Observation) -> Vec<Finding> + Send + Sync>;

/// One injection with the points that it serves.
#[derive(Clone)]
pub struct Shot {
    /// What will be put out, and what is expected.
    pub planned: Planned,
    /// What is graded of it.
    pub grade: Grader,
}

impl std::fmt::Debug for Shot {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_tuple("Shot").field(&self.planned.points).finish()
    }
}

impl Shot {
    fn serves(&self, id: &str) -> bool {
        self.planned.points.iter().any(|p| p.point.id == id)
    }

    fn not_tested(&self, reason: &str) -> Vec<Finding> {
        let points = self.planned.points.iter();
        let one = points.map(|p| {
            let (point, criterion) = (p.point.clone(), p.criterion.clone());
            Finding::not_tested(point, criterion, Values::none(), reason)
        });
        one.collect()
    }
}

/// Injections in their order. Without any, there is nothing to do.
#[derive(Clone, Debug)]
pub struct Shots {
    shots: Vec<Shot>,
    at: usize,
}

impl Shots {
    /// These, in order.
    pub fn new(shots: Vec<Shot>) -> Self {
        Self { shots, at: 0 }
    }

    /// A point of a record, graded by the last injection that served it.
    ///
    /// # Errors
    /// Why there is no verdict to be had of it.
    pub fn grade_again(&self, measured: &Grade, seen: &Observation) -> Result<Finding, String> {
        let id = &measured.point.id;
        let shot = self.shots.iter().find(|shot| shot.serves(id));
        let shot = shot.ok_or("these settings make no such point")?;
        let found = (shot.grade)(seen).into_iter().find(|finding| finding.point.id == *id);
        found.ok_or_else(|| "these settings do not grade it".to_owned())
    }
}

/// A test that is a list of shots: all that a plan can do with it follows from them.
pub trait Measuring: std::fmt::Debug + Send + Sync + PartialEq + 'static {
    /// Its procedure's name as written in plans.
    const WORD: &'static str;

    /// Its shots for an asset on a rig.
    ///
    /// # Errors
    /// [`SetupError`] where it makes no sense for this asset or cannot be done on this rig.
    fn shots(&self, bench: Bench<'_>) -> Result<Shots, SetupError>;

    /// What the person at the panel must see to before outputs come on, a line each.
    fn first_see_to(&self) -> Vec<String> {
        Vec::new()
    }
}

impl<T: Measuring> Method for T {
    fn word(&self) -> &'static str {
        T::WORD
    }

    fn set_up(&self, bench: Bench<'_>) -> Result<Box<dyn Procedure>, SetupError> {
        Ok(Box::new(self.shots(bench)?))
    }

    fn precautions(&self) -> Vec<String> {
        self.first_see_to()
    }

    fn grade_again(
        &self,
        bench: Bench<'_>,
        measured: &Grade,
        served: &[(&Program, &Observation)],
    ) -> Result<Finding, String> {
        let (_, seen) = served.last().ok_or("nothing was injected for it")?;
        self.shots(bench)?.grade_again(measured, seen)
    }
}

impl Procedure for Shots {
    fn planned(&self) -> Vec<Planned> {
        self.shots.iter().map(|shot| shot.planned.clone()).collect()
    }

    fn next(&mut self) -> Action {
        let Some(shot) = self.shots.get(self.at) else { return Action::Done };
        match &shot.planned.not_tested {
            None => Action::Inject(Arc::clone(&shot.planned.program)),
            Some(why) => {
                let findings = shot.not_tested(why);
                self.at += 1;
                Action::Conclude(findings)
            }
        }
    }

    fn injection(&self) -> Injection {
        let points = self.shots.get(self.at).map(|shot| shot.planned.points.as_slice());
        let serves: Vec<String> =
            points.unwrap_or_default().iter().map(|p| p.point.id.clone()).collect();
        Injection { point: serves.first().cloned(), part: String::new(), serves }
    }

    fn observe(&mut self, observation: &Observation) -> Vec<Finding> {
        let Some(shot) = self.shots.get(self.at) else { return Vec::new() };
        self.at += 1;
        (shot.grade)(observation)
    }

    fn refuse(&mut self, reason: &str) -> Vec<Finding> {
        let Some(shot) = self.shots.get(self.at) else { return Vec::new() };
        self.at += 1;
        shot.not_tested(&format!("it was not put out: {reason}"))
    }

    fn answer(&mut self, _answer: Answer) {}

    fn stands_alone(&self) -> bool {
        true
    }

    fn retain(&mut self, wanted: &dyn Fn(&PointId) -> bool) {
        self.shots.retain(|shot| shot.planned.points.iter().any(|p| wanted(&p.point)));
    }

    fn repeat(&mut self) {
        self.at = self.at.saturating_sub(1);
    }
}
