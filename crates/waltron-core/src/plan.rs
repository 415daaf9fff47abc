//! The plan: the list of tests for an asset.

use crate::document::Source;
use crate::grading::Rule;
use crate::name::Name;
use crate::procedure::{
    Bench, Pickup, PickupSettings, Procedure, SetupError, TripTime, TripTimeSettings,
};
use crate::quantity::Quantity;
use std::ops::Range;

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
    /// Pickup and reset ratio.
    Pickup(PickupSettings),
    /// Trip times.
    TripTime(TripTimeSettings),
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

impl Test {
    /// Sets a built-in procedure up for an asset on a rig. A sequence is set up from its script,
    /// see [`crate::script`]; here it has no points.
    ///
    /// # Errors
    /// [`SetupError`] where the test makes no sense for this asset or cannot be seen on this rig.
    pub fn procedure(&self, bench: Bench<'_>) -> Result<Box<dyn Procedure>, SetupError> {
        Ok(match &self.procedure {
            ProcedureSettings::Pickup(settings) => Box::new(Pickup::try_new(settings, bench)?),
            ProcedureSettings::TripTime(settings) => Box::new(TripTime::try_new(settings, bench)?),
            ProcedureSettings::Sequence(_) => Box::new(TripTime::without_points()),
        })
    }

    /// The element under test, where it is one.
    pub fn element(&self) -> Option<&Name> {
        match &self.procedure {
            ProcedureSettings::Pickup(settings) => Some(&settings.element),
            ProcedureSettings::TripTime(settings) => Some(&settings.element),
            ProcedureSettings::Sequence(_) => None,
        }
    }

    /// The procedure's name as written in plans.
    pub fn procedure_name(&self) -> &'static str {
        match &self.procedure {
            ProcedureSettings::Pickup(_) => "pickup",
            ProcedureSettings::TripTime(_) => "trip-time",
            ProcedureSettings::Sequence(_) => "sequence",
        }
    }
}

/// Lines that the connection sheet has besides its own.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Precautions {
    /// Before everything else.
    pub first: Vec<String>,
    /// Last, before outputs come on.
    pub before: Vec<String>,
    /// Afterwards, before the tripping circuits are closed.
    pub after: Vec<String>,
}
