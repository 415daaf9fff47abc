//! The person at the panel, as the runner and the rig see them.

use std::fmt;
use waltron_core::grading::Grade;
use waltron_core::injection::program::Stand;
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::procedure::{Answer, Question};
use waltron_core::quantity::{Measure, Quantity, Time, text};
use waltron_core::text::name::Name;

/// Answers prompts and can stop the run.
pub trait Attendant {
    /// Asks and waits for the answer.
    fn ask(&mut self, question: &Question) -> Answer;

    /// Why the rest of a test is skipped, asked with outputs off; `None` to stop instead.
    fn reason(&mut self) -> Option<String> {
        Some("no reason given".to_owned())
    }

    /// Tells the attendant something; no answer is waited for.
    fn tell(&mut self, _text: &str) {}

    /// What is wanted between two injections; a pause ends in here.
    fn wish(&mut self, _moment: &Moment<'_>) -> Wish {
        Wish::GoOn
    }

    /// Whether a mark was set since the last call, to end a step that waits for one.
    fn mark(&mut self) -> bool {
        false
    }

    /// Whether what the computer watches outside the rig holds at present.
    fn outside(&mut self) -> bool {
        false
    }

    /// Tells what is injected next, in words: where, and which stage of how many seconds at most.
    fn begins(&mut self, _stage: &str) {}

    /// Tells which contacts what is injected next waits for.
    fn awaits(&mut self, _contacts: &[Name]) {}

    /// Tells that something is to be moved now, such as a tap changer under load.
    fn moves(&mut self, _to: &Stand) {}

    /// Tells that every output is off now.
    fn goes_off(&mut self) {}

    /// Tells that outputs are off, and that what was charged is being discharged: nothing may be touched,
    /// and nothing stops that.
    fn drains(&mut self) {}

    /// Tells that nothing is charged any more, and after how long.
    fn discharged(&mut self, _after: Time) {}

    /// Whether somebody insists on leaving although something is still charged; asked while it is discharged.
    fn abandons(&self) -> bool {
        false
    }

    /// Whether [`Attendant::sees`] is worth the trouble of measuring.
    fn is_watching(&self) -> bool {
        false
    }

    /// Shows what is put out and seen at present.
    fn sees(&mut self, _present: &Present<'_>) {}

    /// Shows what is waited for: a measured value on its way to where it ends the stage.
    fn waits(&mut self, _waiting: &Waiting) {}

    /// Whether the run shall stop; asked often, also while outputs are on.
    fn wants_to_stop(&self) -> bool;
}

/// A moment between two injections.
#[derive(Clone, Copy, Debug)]
pub struct Moment<'a> {
    /// The test.
    pub test: &'a Name,
    /// What the last injection graded; empty before the first one.
    pub last: &'a [Grade],
    /// Whether outputs stay on meanwhile.
    pub held: bool,
}

/// What the attendant wants between two injections.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Wish {
    /// The next one.
    GoOn,
    /// The last point once more; the whole test where its steps depend on each other.
    Repeat,
    /// No more of this test, for this reason; empty where it is asked for once outputs are off.
    Skip(String),
    /// No more at all.
    Stop,
}

/// What is put out and seen at a moment of an injection.
#[derive(Clone, Copy, Debug)]
pub struct Present<'a> {
    /// Time since the injection's start.
    pub now: Time,
    /// What is out.
    pub out: &'a Stimulus,
    /// The contacts that are closed, by meaning.
    pub closed: &'a [Name],
}

/// A measured value on its way.
#[derive(Clone, Debug, PartialEq)]
pub struct Waiting {
    /// What is measured.
    pub of: String,
    /// Its value now.
    pub value: Quantity,
    /// Where it must get.
    pub towards: Quantity,
    /// How long that takes if it goes on as it does, where it goes there at all.
    pub left: Option<Time>,
}

impl Waiting {
    /// How long it takes, in words: at the pace that is seen, since iron that saturates lets a current come all the
    /// sooner.
    pub fn time_left(&self) -> String {
        match self.left {
            Some(left) if left.si() >= 1.0 => {
                format!("{} left at this pace", text(Time::from_si(left.si().round())))
            }
            Some(_) => "almost there".to_owned(),
            None => "it does not rise".to_owned(),
        }
    }
}

impl fmt::Display for Waiting {
    /// `winding current 3.210 A of 4.900 A`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {:.3} of {:.3}", self.of, self.value, self.towards)
    }
}

/// Confirms everything and never stops: for unattended runs and tests.
#[derive(Clone, Copy, Debug, Default)]
pub struct Unattended;

impl Attendant for Unattended {
    fn ask(&mut self, question: &Question) -> Answer {
        question.default_answer().unwrap_or(Answer::Stop)
    }

    fn wants_to_stop(&self) -> bool {
        false
    }
}
