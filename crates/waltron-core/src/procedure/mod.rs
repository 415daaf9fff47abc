//! Procedures: ways of testing, as state machines without I/O.
//!
//! A [`Procedure`] hands out the next [`Action`] and is told what came of it. It never sees a rig,
//! a clock or a file, so it is tested by feeding it observations, and a recorded run is graded
//! again by feeding it the recorded ones.
//!
//! The order of calls: [`Procedure::take_over`], and [`Procedure::take_up`] where there is something;
//! [`Procedure::next`]; after [`Action::Inject`] exactly one
//! [`Procedure::observe`], or [`Procedure::refuse`]; after [`Action::Ask`] exactly one [`Procedure::answer`]; until
//! [`Action::Done`]. Where [`Procedure::owed`] still names something then, or it ends early (skipped, stopped, the rig
//! lost): [`Procedure::restore`], and [`Procedure::next`] until [`Action::Done`] once more.

mod also;
mod contact;
mod family;
mod method;
mod served;
mod setup;
mod shots;
mod ungraded;

pub use also::{Also, Span};
pub use contact::{closed_already, seen_trip};
pub use family::{FamilyKeys, of_family};
pub(crate) use method::schema_of;
pub use method::{Method, Registration, TestHead, TestKeys};
pub use served::Served;
pub use setup::{Bench, SetupError};
pub use shots::{Grader, Measuring, Shot, Shots};
pub use ungraded::Ungraded;

use crate::grading::{Criterion, Finding, Limits, PointId, Values};
use crate::injection::capability::ParameterValue;
use crate::injection::observation::Observation;
use crate::injection::program::Program;
use crate::text::name::Name;
use std::sync::Arc;

/// What a procedure wants done next.
#[derive(Clone, Debug, PartialEq)]
pub enum Action {
    /// Put this program out, then call [`Procedure::observe`].
    Inject(Arc<Program>),
    /// Ask the attendant, then call [`Procedure::answer`].
    Ask(Question),
    /// Tell the attendant, and go on.
    Tell(String),
    /// Set a parameter of the rig besides its outputs, and go on.
    Set(Name, ParameterValue),
    /// Send an instrument a message of its own, then call [`Procedure::answer`].
    Send {
        /// The instrument.
        to: Name,
        /// The message.
        text: String,
        /// Whether it answers.
        answers: bool,
    },
    /// Run a program of the attendant's, then call [`Procedure::answer`] with its output.
    Execute {
        /// The program.
        program: String,
        /// Its arguments.
        args: Vec<String>,
        /// How long it may take.
        most: crate::quantity::Time,
    },
    /// Switch all outputs off, and go on.
    Off,
    /// Have what is charged earthed for as long as it takes, and go on.
    Earth(Owed),
    /// These points are graded without injecting anything, usually as not tested.
    Conclude(Vec<Finding>),
    /// Nothing more to do.
    Done,
}

/// Something the person at the panel must do or decide.
#[derive(Clone, Debug, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct Question {
    /// What to do or to tell, as one sentence.
    pub text: String,
    /// What is answered.
    #[serde(skip_serializing_if = "Wanted::is_confirmation", default)]
    pub wanted: Wanted,
}

/// What tests of a run hand on to later ones, and a run to the one that resumes it: numbers by name.
pub type Carried = std::collections::BTreeMap<String, f64>;

/// Something that was undone for a test, such as a function that was defeated, and must be put back whatever ends
/// the test.
#[derive(Clone, Debug, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct Owed {
    /// What is to be done, as one sentence.
    pub text: String,
    /// How long it then takes, with nothing touched: the time that insulation stays earthed.
    #[serde(
        rename = "wait_s",
        skip_serializing_if = "Option::is_none",
        default,
        with = "crate::quantity::edge::si_option"
    )]
    pub wait: Option<crate::quantity::Time>,
    /// Whether it is the rig's own doing, so that a rig that can do it does it by itself.
    #[serde(skip_serializing_if = "crate::grading::is_false", default)]
    pub by_rig: bool,
}

impl Owed {
    /// Something that is over once somebody has done it.
    pub fn new(text: impl Into<String>) -> Self {
        Self { text: text.into(), wait: None, by_rig: false }
    }
}

/// What is answered where a quantity is not known; also where nobody is asked.
pub const UNKNOWN: &str = "unknown";

/// What kind of answer is wanted.
#[derive(Clone, Debug, Default, PartialEq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Wanted {
    /// That it is done.
    #[default]
    Confirmation,
    /// That outputs may come on, or what must be seen to before they do: *yes*, or the run stops.
    Permission,
    /// One of several.
    Choice {
        /// The answers.
        of: Vec<String>,
        /// The answer where nobody is asked.
        #[serde(skip_serializing_if = "Option::is_none", default)]
        default: Option<String>,
    },
    /// A quantity.
    Quantity {
        /// What it measures, in words: `a resistance`.
        kind: String,
        /// Exponents of A, V, s, rad, K.
        exponents: [i8; 5],
        /// The answer where nobody is asked, in SI.
        #[serde(skip_serializing_if = "Option::is_none", default)]
        default_si: Option<f64>,
        /// The least and the largest answer, in SI.
        #[serde(skip_serializing_if = "Option::is_none", default)]
        bounds: Option<[f64; 2]>,
        /// Whether it may be left [`UNKNOWN`].
        #[serde(skip_serializing_if = "std::ops::Not::not", default)]
        may_be_unknown: bool,
    },
    /// Free text.
    Text,
}

impl Wanted {
    fn is_confirmation(&self) -> bool {
        *self == Self::Confirmation
    }
}

impl Question {
    /// Something to confirm.
    pub fn confirm(text: impl Into<String>) -> Self {
        Self { text: text.into(), wanted: Wanted::Confirmation }
    }

    /// Something that must be so before outputs come on: yes, or the run stops.
    pub fn permit(text: impl Into<String>) -> Self {
        Self { text: text.into(), wanted: Wanted::Permission }
    }

    /// One of several answers to choose; where nobody is asked there is none.
    pub fn choose<T: ToString>(text: impl Into<String>, of: impl IntoIterator<Item = T>) -> Self {
        let of = of.into_iter().map(|answer| answer.to_string()).collect();
        Self { text: text.into(), wanted: Wanted::Choice { of, default: None } }
    }

    /// The same with an answer of a choice where nobody is asked.
    #[must_use]
    pub fn or_else(mut self, answer: &str) -> Self {
        if let Wanted::Choice { default, .. } = &mut self.wanted {
            *default = Some(answer.to_owned());
        }
        self
    }

    /// The answer where nobody is asked: confirmed, the default of a choice or a quantity, that it is not
    /// known. `None` where there is none.
    pub fn default_answer(&self) -> Option<Answer> {
        match &self.wanted {
            Wanted::Confirmation | Wanted::Permission => Some(Answer::Confirmed),
            Wanted::Choice { default, .. } => default.clone().map(Answer::Text),
            Wanted::Quantity { default_si, may_be_unknown, .. } => {
                let unknown = || may_be_unknown.then(|| Answer::Text(UNKNOWN.to_owned()));
                default_si.map(Answer::Si).or_else(unknown)
            }
            Wanted::Text => None,
        }
    }
}

/// What the attendant said.
#[derive(Clone, Debug, PartialEq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Answer {
    /// Done, go on.
    Confirmed,
    /// A choice, or free text.
    Text(String),
    /// A value in SI.
    Si(f64),
    /// Stop the run.
    Stop,
    /// What was sent or run did not work, for this reason.
    Failed(String),
    /// Skip the rest of this test, for this reason; empty where it is asked for once outputs are off.
    Skip(String),
}

/// A point before it is injected: what will be put out, and what is expected.
#[derive(Clone, Debug, PartialEq)]
pub struct Planned {
    /// The points that the program serves.
    pub points: Vec<PlannedPoint>,
    /// What will be put out, in short.
    pub stimulus: Values,
    /// What is expected, in short.
    pub expected: Values,
    /// What is required, in short.
    pub limits: Limits,
    /// The program, or the largest and longest that it may become.
    pub program: Arc<Program>,
    /// The time it should take if the asset does what its settings say.
    pub likely: crate::quantity::Time,
    /// Where a script says so, such as `line 4`.
    pub place: Option<String>,
    /// Why it will not be injected, where that is known already.
    pub not_tested: Option<String>,
    /// Whether the program is what will be put out; else it is the most that it can become.
    pub is_exact: bool,
    /// What is done besides.
    pub also: Vec<Also>,
}

/// What an injection is of, in its test.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Injection {
    /// The point's id, where injections stand alone.
    pub point: Option<String>,
    /// Which of the point's, or of the test's, injections it is.
    pub part: String,
    /// The ids of the points that are graded by it, as far as they are known before.
    pub serves: Vec<String>,
}

/// A point that is to be graded.
#[derive(Clone, Debug, PartialEq)]
pub struct PlannedPoint {
    /// Which.
    pub point: PointId,
    /// What kind of requirement it checks.
    pub criterion: Criterion,
    /// Whether it depends on what is measured before that the point comes up at all.
    pub conditional: bool,
}

impl PlannedPoint {
    /// A point that comes up for certain.
    pub fn certain(point: PointId, criterion: Criterion) -> Self {
        Self { point, criterion, conditional: false }
    }
}

impl Planned {
    /// What the first of its points requires; `None` where there are none.
    pub fn criterion(&self) -> Option<Criterion> {
        self.points.first().map(|p| p.criterion.clone())
    }
}

/// A way of testing.
pub trait Procedure {
    /// Every injection in order, with the worst case of those that depend on earlier outcomes.
    fn planned(&self) -> Vec<Planned>;

    /// What its points come to where the asset does what its settings say, with what makes that uncertain; as far as it
    /// is known before.
    fn foreseen(&self) -> Vec<Finding> {
        Vec::new()
    }

    /// What it will do, in the sequence language: run as a sequence, it gives the same verdicts. `None`
    /// where the language has no words for it.
    fn script(&self) -> Option<String> {
        None
    }

    /// The next action; asking again without telling the outcome gives the same action.
    fn next(&mut self) -> Action;

    /// What the injection that was handed out is of: the same whenever the same thing is injected
    /// again, in whatever order and company.
    fn injection(&self) -> Injection;

    /// Why it came to its end before its end, if it did.
    fn broken_off(&self) -> Option<String> {
        None
    }

    /// Whether it has come past a place at which an earlier attempt went wrong: what stands there was done this
    /// time, and nothing went wrong at it again. Asked after its last action, where it did not break off.
    fn came_past(&self, place: &PlannedPoint) -> bool {
        place.criterion == Criterion::COMPLETION
    }

    /// Takes the outcome of an injection and returns the points it graded, possibly none yet.
    fn observe(&mut self, observation: &Observation) -> Vec<Finding>;

    /// Takes that an injection was not put out, and why; its points are not tested.
    fn refuse(&mut self, reason: &str) -> Vec<Finding>;

    /// Takes the attendant's answer.
    fn answer(&mut self, answer: Answer);

    /// Takes what earlier tests handed on, also those of a run that is resumed; called once, before its first
    /// action.
    fn take_over(&mut self, _carried: &Carried) {}

    /// Takes an injection that an earlier run has seen and not graded to its end, and returns what it grades; for
    /// what cannot be put out a second time. What is returned of points that are graded already is left out. Called
    /// at most once, after [`Procedure::take_over`].
    fn take_up(&mut self, _seen: &Ungraded) -> Vec<Finding> {
        Vec::new()
    }

    /// Hands on what later tests, or the run that resumes this one, shall know as things stand: asked after every
    /// observation and answer. Asked twice it hands on the same.
    fn hand_on(&self, _carried: &mut Carried) {}

    /// The same for an injection that was handed out and is not seen to its end: the worst that it may have done.
    fn hand_on_if_cut(&self, carried: &mut Carried) {
        self.hand_on(carried);
    }

    /// What it has undone and not put back, as things stand; asked after every action.
    fn owed(&self) -> Vec<Owed> {
        Vec::new()
    }

    /// Ends it early: from here on [`Procedure::next`] hands out only what puts back what was undone, until
    /// [`Action::Done`]. Nothing is injected any more. Called however a test ended, also after its last action.
    fn restore(&mut self) {}

    /// Whether every injection stands alone, beginning and ending with outputs off, so that single
    /// points can be chosen, and a broken-off test goes on where it was.
    fn stands_alone(&self) -> bool;

    /// Leaves out the points that are not wanted; does nothing where injections depend on each
    /// other. Before the first [`Procedure::next`] only.
    fn retain(&mut self, wanted: &dyn Fn(&PointId) -> bool);

    /// Goes back to before the point that was graded last; to the beginning where injections depend
    /// on each other.
    fn repeat(&mut self);
}
