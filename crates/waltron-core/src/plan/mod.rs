//! The plan: the list of tests for an asset, its file, and what must be connected for it.

mod answers;
mod entries;
mod form;
pub mod hookup;
pub mod selection;

pub use answers::{Answers, AnswersForm};
pub use form::PlanForm;

use crate::asset::Precautions;
use crate::grading::Rule;
use crate::procedure::Method;
use crate::procedure::{Bench, Procedure, SetupError};
use crate::quantity::Quantity;
use crate::text::document::Source;
use crate::text::name::Name;
use std::convert::Infallible;
use std::ops::Range;
use std::sync::Arc;

/// A plan, checked against its asset.
#[derive(Clone, Debug, PartialEq)]
pub struct Plan {
    /// What the job is called.
    pub title: String,
    /// Who tests, where the file says so.
    pub tester: Option<String>,
    /// Why the job is done.
    pub reason: Option<String>,
    /// Conditions on site, as name and text.
    pub ambient: Vec<(String, String)>,
    /// Values by name, for the sequences of this plan.
    pub lets: Vec<(Name, Quantity)>,
    /// How measurement uncertainty bears on verdicts.
    pub rule: Rule,
    /// What the person at the panel must see to, besides what follows from the tests.
    pub hookup: Precautions,
    /// The tests in order.
    pub tests: Vec<Test>,
}

/// One entry of a plan.
#[derive(Clone, Debug, PartialEq)]
pub struct Test {
    /// Its id, unique in the plan.
    pub id: Name,
    /// Where it stands in the plan's text.
    pub span: Range<usize>,
    /// The procedure with its parameters.
    pub procedure: ProcedureSettings,
}

/// A procedure with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub enum ProcedureSettings {
    /// One that a wing has registered.
    Built(Arc<dyn Method>),
    /// A script.
    Sequence(SequenceSettings),
}

/// A hand-written sequence.
#[derive(Clone, Debug, PartialEq)]
pub struct SequenceSettings {
    /// Where its text is.
    pub script: ScriptPlace,
}

/// Where a script's text is.
#[derive(Clone, Debug, PartialEq)]
pub enum ScriptPlace {
    /// In a file, named relative to the plan, at this place of the plan.
    File(String, Range<usize>),
    /// In the plan itself.
    Inline(Source),
}

/// A sequence that has been read and checked for its asset and rig.
pub trait Playable {
    /// It at its beginning.
    fn begin(&self) -> Box<dyn Procedure>;
}

/// Of a plan without sequences.
impl Playable for Infallible {
    fn begin(&self) -> Box<dyn Procedure> {
        match *self {}
    }
}

impl Test {
    /// Sets a registered procedure up for an asset on a rig; `None` of a sequence, which is set up from
    /// its script, see [`Playable`].
    ///
    /// # Errors
    /// [`SetupError`] where the test makes no sense for this asset or cannot be seen on this rig.
    pub fn procedure(&self, bench: Bench<'_>) -> Result<Option<Box<dyn Procedure>>, SetupError> {
        match &self.procedure {
            ProcedureSettings::Built(method) => method.set_up(bench).map(Some),
            ProcedureSettings::Sequence(_) => Ok(None),
        }
    }

    /// The element under test, where it is one.
    pub fn element(&self) -> Option<&Name> {
        match &self.procedure {
            ProcedureSettings::Built(method) => method.element(),
            ProcedureSettings::Sequence(_) => None,
        }
    }

    /// The procedure's name as written in plans.
    pub fn procedure_name(&self) -> &'static str {
        match &self.procedure {
            ProcedureSettings::Built(method) => method.word(),
            ProcedureSettings::Sequence(_) => "sequence",
        }
    }

    /// What the person at the panel must see to because of it.
    pub fn precautions(&self) -> Vec<String> {
        match &self.procedure {
            ProcedureSettings::Built(method) => method.precautions(),
            ProcedureSettings::Sequence(_) => Vec::new(),
        }
    }
}
