//! Insulation resistances that somebody reads from an instrument and types in.

use super::graded::{Part, Reading, Required, parts, typed};
use super::keys::InsulationResistanceTest;
use super::steps::put_on;
use super::{INDEX, RESISTANCE};
use crate::power::asset::PowerTransformer;
use std::sync::Arc;
use waltron_core::grading::{Finding, Grade, PointId, Values, Verdict};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{EARTHED_TIMES, Program};
use waltron_core::procedure::{
    Action, Also, Answer, Injection, Owed, Planned, PlannedPoint, Procedure, Question, SetupError,
    Wanted,
};
use waltron_core::quantity::{Dimension, Voltage, duration, seconds, significant, text};
use waltron_core::uncertainty::Accuracy;

/// The largest resistance that an instrument shows, in ohms: 100 TOhm.
const MOST_OHM: f64 = 1e14;

/// What is said once the voltage is on, where it is not put on, and where it was not yet.
const IT_IS_ON: &str = "it is on";
const LEFT_OUT: &str = "leave it out";
const NOT_ON: &str = "it is not on";

/// What comes before who has read.
const READ_BY: &str = "; read by ";

/// What comes next.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Next {
    /// The voltage of a part.
    PutOn(usize),
    /// A reading of a part: which, and after which of the times.
    Read(usize, usize),
    /// Who reads, once there is a first value: that of this part and time.
    Who(usize, usize),
    /// What a part comes to.
    Tell(usize),
    /// Whether a part's voltage is on, where it ends while that was asked for.
    IsOn(usize),
    /// Its charge.
    Earth(usize),
    Done,
}

/// Somebody is told what to put on, asked for each reading, and once who it is; each part is graded when it is read, so
/// that a stop loses none, and earthed for four times as long.
pub(super) struct Typed {
    parts: Vec<(Part, Required, Voltage)>,
    times_s: Vec<f64>,
    /// How well the instrument measures, where the plan says so.
    accuracy: Option<Accuracy>,
    chosen: Vec<bool>,
    read: Vec<Vec<Reading>>,
    who: Option<String>,
    /// The part that is charged, or may be: somebody was asked to put the voltage on.
    charged: Option<usize>,
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
            accuracy: test.accuracy,
            chosen: vec![true; count],
            read: vec![Vec::new(); count],
            who: None,
            charged: None,
            next: Next::PutOn(0),
        })
    }

    /// The next part that is chosen, from one on.
    fn from(&self, part: usize) -> Next {
        (part..self.parts.len()).find(|k| self.chosen[*k]).map_or(Next::Done, Next::PutOn)
    }

    /// What follows a reading.
    fn after(&self, part: usize, time: usize) -> Next {
        match time + 1 < self.times_s.len() {
            true => Next::Read(part, time + 1),
            false => Next::Tell(part),
        }
    }

    /// What is to be put on a part, and what must be so before.
    fn put_on(&self, part: usize) -> Question {
        let (Part { leads, .. }, _, volts) = &self.parts[part];
        let text = format!(
            "Put {} direct on {leads} from an instrument of your own; before, the transformer is dead, isolated and fenced off, and nobody is at the leads",
            text(*volts)
        );
        // Where nobody is there, nobody has put it on.
        Question::choose(text, [IT_IS_ON, LEFT_OUT]).or_else(LEFT_OUT)
    }

    /// What a part is charged with, and how it goes away.
    fn earthing(&self, part: usize) -> Owed {
        let time = seconds(self.times_s.last().copied().unwrap_or_default() * EARTHED_TIMES);
        let name = &self.parts[part].0.name;
        let text = format!(
            "Take the voltage off, earth `{name}` and leave it earthed for {}",
            duration(time)
        );
        Owed { text, wait: Some(time), by_rig: false }
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
        let ((_, required, _), read) = (&self.parts[part], &self.read[part]);
        match read.is_empty() {
            true => required.none(Verdict::NotTested, "nobody read it"),
            false => required.graded(read, &how),
        }
    }
}

impl Procedure for Typed {
    fn planned(&self) -> Vec<Planned> {
        let each = self.parts.iter().zip(&self.chosen).filter(|(_, is)| **is);
        let read = seconds(self.times_s.last().copied().unwrap_or_default());
        each.map(|((part, required, volts), _)| {
            let by_hand = Also::ByHand {
                what: "insulation voltage".into(),
                at: part.leads.clone(),
                voltage: *volts,
            };
            let first = PlannedPoint::certain(required.resistance.clone(), RESISTANCE);
            let index = required.index.iter().cloned();
            let index = index.map(|id| PlannedPoint::certain(id, INDEX));
            Planned {
                points: std::iter::once(first).chain(index).collect(),
                stimulus: Values::none().with("voltage", *volts),
                expected: Values::none(),
                limits: required.limits(),
                program: Arc::new(Program {
                    connection: Some(part.leads.as_str().into()),
                    ..Program::default()
                }),
                likely: read * (1.0 + EARTHED_TIMES),
                place: None,
                not_tested: None,
                is_exact: true,
                also: vec![by_hand],
            }
        })
        .collect()
    }

    fn next(&mut self) -> Action {
        match self.next {
            Next::PutOn(part) => {
                self.charged = Some(part);
                Action::Ask(self.put_on(part))
            }
            Next::IsOn(part) => {
                let leads = &self.parts[part].0.leads;
                let text = format!("Is the voltage on {leads} by now");
                Action::Ask(Question::choose(text, [IT_IS_ON, NOT_ON]))
            }
            Next::Read(part, time) => Action::Ask(self.question(part, time)),
            Next::Who(..) => Action::Ask(Question {
                text: "Who reads, and on which instrument".to_owned(),
                wanted: Wanted::Text,
            }),
            Next::Tell(part) => {
                self.next = match self.charged {
                    Some(_) => Next::Earth(part),
                    None => self.from(part + 1),
                };
                Action::Conclude(self.findings(part))
            }
            Next::Earth(part) => {
                // Whoever has it earthed answers for it from here on.
                self.charged = None;
                self.next = self.from(part + 1);
                Action::Earth(self.earthing(part))
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
            (Next::PutOn(part), Answer::Text(said)) if said == IT_IS_ON => {
                self.next = Next::Read(part, 0);
            }
            (Next::PutOn(part), _) => (self.charged, self.next) = (None, Next::Tell(part)),
            (Next::IsOn(part), Answer::Text(said)) if said == IT_IS_ON => {
                self.next = Next::Earth(part);
            }
            (Next::IsOn(_), _) => (self.charged, self.next) = (None, Next::Done),
            (Next::Read(part, time), answer) => {
                self.next = self.after(part, time);
                if let Answer::Si(ohm) = answer {
                    self.read[part].push((self.times_s[time], typed(ohm, self.accuracy)));
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

    fn owed(&self) -> Vec<Owed> {
        self.charged.iter().map(|part| self.earthing(*part)).collect()
    }

    fn restore(&mut self) {
        self.chosen.iter_mut().for_each(|is_chosen| *is_chosen = false);
        self.next = match (self.next, self.charged) {
            (Next::PutOn(part), Some(_)) => Next::IsOn(part),
            (_, charged) => charged.map_or(Next::Done, Next::Earth),
        };
    }

    fn stands_alone(&self) -> bool {
        true
    }

    fn retain(&mut self, wanted: &dyn Fn(&PointId) -> bool) {
        for (k, (_, required, _)) in self.parts.iter().enumerate() {
            let mut points = std::iter::once(&required.resistance).chain(&required.index);
            self.chosen[k] = points.any(wanted);
        }
        self.next = self.from(0);
    }

    fn repeat(&mut self) {
        self.read.iter_mut().for_each(Vec::clear);
        self.next = self.charged.map_or_else(|| self.from(0), |part| Next::Read(part, 0));
    }
}

/// The parts, what each must have, and what is put on it.
fn required(
    test: &InsulationResistanceTest,
    of: &PowerTransformer,
) -> Result<Vec<(Part, Required, Voltage)>, SetupError> {
    let parts = parts(of);
    let put_on = put_on(test, &parts, f64::INFINITY)?;
    let with = |part: Part| {
        let volts = put_on.on(part.most_v);
        let required = Required::new(test, of, &part, Some(volts));
        (part, required, volts)
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
    let mut all = required(test, of)?.into_iter().map(|(_, required, _)| required);
    let fits =
        |r: &Required| r.resistance.id == *id || r.index.as_ref().is_some_and(|i| i.id == *id);
    let required = all.find(fits).ok_or("these settings make no such point")?;
    let value = |name: &str| measured.measured.get(name);
    let times =
        [("after_15s", 15.0), ("after_30s", 30.0), ("resistance", 60.0), ("after_600s", 600.0)];
    let readings: Vec<Reading> = times
        .into_iter()
        .filter_map(|(name, t)| Some((t, typed(value(name)?, test.accuracy))))
        .collect();
    // Whoever reads stands last, in words of their own.
    let how = measured.reason.find(READ_BY).map_or("", |at| &measured.reason[at..]);
    let found = required.graded(&readings, how).into_iter().find(|f| f.point.id == *id);
    found.ok_or_else(|| "these settings do not grade it".to_owned())
}
