//! What a procedure is given, and why it may be impossible to set up.

use crate::asset::Asset;
use crate::injection::capability::Capability;
use crate::quantity::Frequency;
use crate::quantity::fault_loop::FaultLoop;
use crate::text::name::Name;

/// The asset and the rig's capability that a test is set up for.
#[derive(Clone, Copy, Debug)]
pub struct Bench<'a> {
    /// The asset with its settings.
    pub asset: &'a Asset,
    /// What the rig can do and what is wired to it.
    pub capability: &'a Capability,
}

impl Bench<'_> {
    /// The asset's nominal frequency.
    ///
    /// # Errors
    /// Where its file gives none.
    pub fn frequency(&self) -> Result<Frequency, SetupError> {
        let none = || {
            let message =
                "the asset's file gives no nominal frequency; add `frequency` to its ratings";
            SetupError::Unknown(message.to_owned())
        };
        self.asset.ratings.frequency.ok_or_else(none)
    }
}

impl From<SetupError> for String {
    fn from(error: SetupError) -> Self {
        error.to_string()
    }
}

/// Why a test cannot be set up at all.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum SetupError {
    /// The loop does not contain what the element measures.
    #[error("{element} measures {measures} current, which loop {fault_loop} does not contain")]
    NotOnLoop {
        /// The element.
        element: Name,
        /// What it measures.
        measures: &'static str,
        /// The loop.
        fault_loop: FaultLoop,
    },
    /// No input sees the element operate.
    #[error("no input of the rig is wired to {element}'s contact `{signal}`")]
    NotWired {
        /// The element.
        element: Name,
        /// Its contact's meaning.
        signal: Name,
    },
    /// A ramp of more levels than anybody waits for.
    #[error(
        "the ramp from {from} to {to} by {step} has more than {most} levels; take a larger step"
    )]
    TooManyLevels {
        /// Its first level.
        from: String,
        /// Its last one.
        to: String,
        /// Its step.
        step: String,
        /// How many there may be.
        most: u32,
    },
    /// The rig lacks an output, an input or a meter that the test needs.
    #[error("the rig has {lacks}; the test needs it: give one of the rig's {what} this `meaning`")]
    Lacks {
        /// What there is none of: `no meter for `primary voltage``.
        lacks: String,
        /// Where it would stand: `outputs`, `meters`.
        what: &'static str,
    },
    /// The asset's file does not say what the test needs to know.
    #[error("{0}")]
    Unknown(String),
    /// The same point twice.
    #[error("`{point}` is listed twice; use `repeat` to test a point several times")]
    Twice {
        /// The level as written.
        point: String,
    },
}
