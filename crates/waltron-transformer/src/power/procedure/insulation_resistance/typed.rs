//! Insulation resistances that somebody reads from an instrument and types in.

use super::graded::{Part, Reading, Required, parts};
use super::keys::InsulationResistanceTest;
use super::steps::put_on;
use super::{INDEX, RESISTANCE};
use crate::power::asset::PowerTransformer;
use std::sync::Arc;
use waltron_core::grading::{Finding, Grade, PointId, Values, Verdict};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::procedure::{
    Action, Answer, Injection, Planned, PlannedPoint, Procedure, Question, SetupError, Wanted,
};
use waltron_core::quantity::{Dimension, seconds, significant};

/// The largest resistance that an instrument shows, in ohms: 100 TOhm.
const MOST_OHM: f64 = 1e14;

/// What comes before who has read.
const READ_BY: &str = "; read by ";

/// What comes next.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Next {
    /// A reading of a part: which, and after which of the times.
    Read(usize, usize),
    /// Who reads, once there is a first value: that of this part and time.
    Who(usize, usize),
    /// What a part comes to.
    Tell(usize),
    Done,
}

/// Somebody is asked for each reading, and once who it is; each part is graded when it is read, so that a stop loses none.
pub(super) struct Typed {
    parts: Vec<(Part, Required)>,
    times_s: Vec<f64>,
    chosen: Vec<bool>,
    read: Vec<Vec<Reading>>,
    who: Option<String>,
    next: Next,
}

impl Typed {
    /// # Errors
    /// Where no part carries the plan's voltage.
    pub(super) fn try_new(
        test: &InsulationResistanceTest,
        of: &PowerTransformer,
    ) -> Result<Self, SetupError> {
        let parts = required(test, of)?;
        let count = parts.len();
        Ok(Self {
            parts,
            times_s: test.times_s.clone(),
            chosen: vec![true; count],
            read: vec![Vec::new(); count],
            who: None,
            next: Next::Read(0, 0),
        })
    }

    /// The next part that is chosen, from one on.
    fn from(&self, part: usize) -> Next {
        (part..self.parts.len()).find(|k| self.chosen[*k]).map_or(Next::Done, |k| Next::Read(k, 0))
    }

    /// What follows a reading.
    fn after(&self, part: usize, time: usize) -> Next {
        match time + 1 < self.times_s.len() {
            true => Next::Read(part, time + 1),
            false => Next::Tell(part),
        }
    }

    fn question(&self, part: usize, time: usize) -> Question {
        let time = self.times_s[time];
        let after = match time {
            t if t >= 120.0 => format!("{} min", significant(t / 60.0, 3)),
            t => format!("{} s", significant(t, 3)),
        };
        let text = format!("Insulation resistance {} after {after}", self.parts[part].0.leads);
        Question {
            text,
            wanted: Wanted::Quantity {
                kind: "a resistance".to_owned(),
                exponents: Dimension::RESISTANCE.exponents(),
                default_si: None,
                bounds: Some([1.0, MOST_OHM]),
                may_be_unknown: true,
            },
        }
    }

    fn findings(&self, part: usize) -> Vec<Finding> {
        let who = self.who.as_deref().filter(|who| !who.trim().is_empty());
        let how = format!("{READ_BY}{}", who.unwrap_or("hand"));
        let ((_, required), read) = (&self.parts[part], &self.read[part]);
        match read.is_empty() {
            true => required.none(Verdict::NotTested, "nobody read it"),
            false => required.graded(read, &how),
        }
    }
}

impl Procedure for Typed {
    fn planned(&self) -> Vec<Planned> {
        let each = self.parts.iter().zip(&self.chosen).filter(|(_, is)| **is);
        each.map(|((_, required), _)| {
            let first = PlannedPoint::certain(required.resistance.clone(), RESISTANCE);
            let index = required.index.iter().cloned();
            let index = index.map(|id| PlannedPoint::certain(id, INDEX));
            Planned {
                points: std::iter::once(first).chain(index).collect(),
                stimulus: Values::none(),
                expected: Values::none(),
                limits: required.limits(),
                program: Arc::new(Program::default()),
                likely: seconds(0.0),
                place: None,
                not_tested: None,
                is_exact: true,
                also: Vec::new(),
            }
        })
        .collect()
    }

    fn next(&mut self) -> Action {
        match self.next {
            Next::Read(part, time) => Action::Ask(self.question(part, time)),
            Next::Who(..) => Action::Ask(Question {
                text: "Who reads, and on which instrument".to_owned(),
                wanted: Wanted::Text,
            }),
            Next::Tell(part) => {
                self.next = self.from(part + 1);
                Action::Conclude(self.findings(part))
            }
            Next::Done => Action::Done,
        }
    }

    fn injection(&self) -> Injection {
        Injection { point: None, part: "read".to_owned(), serves: Vec::new() }
    }

    fn observe(&mut self, _observation: &Observation) -> Vec<Finding> {
        Vec::new()
    }

    fn refuse(&mut self, _reason: &str) -> Vec<Finding> {
        Vec::new()
    }

    fn answer(&mut self, answer: Answer) {
        match (self.next, answer) {
            (Next::Read(part, time), answer) => {
                self.next = self.after(part, time);
                if let Answer::Si(ohm) = answer {
                    self.read[part].push((self.times_s[time], ohm, None));
                    if self.who.is_none() {
                        self.next = Next::Who(part, time);
                    }
                }
            }
            (Next::Who(part, time), answer) => {
                // Nobody is asked twice.
                self.who = Some(match answer {
                    Answer::Text(who) => who,
                    _ => String::new(),
                });
                self.next = self.after(part, time);
            }
            _ => {}
        }
    }

    fn stands_alone(&self) -> bool {
        true
    }

    fn retain(&mut self, wanted: &dyn Fn(&PointId) -> bool) {
        for (k, (_, required)) in self.parts.iter().enumerate() {
            let mut points = std::iter::once(&required.resistance).chain(&required.index);
            self.chosen[k] = points.any(wanted);
        }
        self.next = self.from(0);
    }

    fn repeat(&mut self) {
        self.read.iter_mut().for_each(Vec::clear);
        self.next = self.from(0);
    }
}

/// The parts, and what each must have. What the instrument puts on is known where the plan tells it.
fn required(
    test: &InsulationResistanceTest,
    of: &PowerTransformer,
) -> Result<Vec<(Part, Required)>, SetupError> {
    let parts = parts(of);
    let put_on = put_on(test, &parts, f64::INFINITY)?;
    let with = |part: Part| {
        let volts = test.voltage.map(|_| put_on.on(part.most_v));
        let required = Required::new(test, of, &part, volts);
        (part, required)
    };
    Ok(parts.into_iter().map(with).collect())
}

/// What was typed in, graded again: the values stay what they were.
///
/// # Errors
/// Why there is no verdict to be had of it.
pub(super) fn again(
    test: &InsulationResistanceTest,
    of: &PowerTransformer,
    measured: &Grade,
) -> Result<Finding, String> {
    let id = &measured.point.id;
    let mut all = required(test, of)?.into_iter().map(|(_, required)| required);
    let fits =
        |r: &Required| r.resistance.id == *id || r.index.as_ref().is_some_and(|i| i.id == *id);
    let required = all.find(fits).ok_or("these settings make no such point")?;
    let value = |name: &str| measured.measured.get(name);
    let times =
        [("after_15s", 15.0), ("after_30s", 30.0), ("resistance", 60.0), ("after_600s", 600.0)];
    let readings: Vec<Reading> =
        times.into_iter().filter_map(|(name, t)| Some((t, value(name)?, None))).collect();
    // Whoever reads stands last, in words of their own.
    let how = measured.reason.find(READ_BY).map_or("", |at| &measured.reason[at..]);
    let found = required.graded(&readings, how).into_iter().find(|f| f.point.id == *id);
    found.ok_or_else(|| "these settings do not grade it".to_owned())
}
