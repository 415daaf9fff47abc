//! What a rig can put out and see. Planning checks against it before anything is energised.

use crate::name::Name;
use crate::quantity::{Current, Time, Voltage};
use crate::tolerance::Tolerance;

/// A rig's outputs, inputs and accuracy.
#[derive(Clone, Debug, PartialEq)]
pub struct Capability {
    /// Current outputs.
    pub currents: Vec<Channel<Current>>,
    /// Voltage outputs.
    pub voltages: Vec<Channel<Voltage>>,
    /// Binary inputs.
    pub inputs: Vec<Input>,
    /// Smallest difference between two contact times that it can tell.
    pub timing_resolution: Time,
    /// Accuracy of a measured time.
    pub timing_accuracy: Tolerance<Time>,
}

/// One analog output.
#[derive(Clone, Debug, PartialEq)]
pub struct Channel<Q> {
    /// Its id, such as `ia`.
    pub id: Name,
    /// The largest RMS value it puts out.
    pub range: Q,
    /// Accuracy of what it puts out.
    pub accuracy: Tolerance<Q>,
}

/// One binary input.
#[derive(Clone, Debug, PartialEq)]
pub struct Input {
    /// Its id on the rig, such as `BI1`.
    pub id: Name,
    /// What its closing means, such as `trip`.
    pub meaning: Name,
    /// Changes shorter than this are ignored; the time reported is that of the first contact.
    pub debounce: Time,
}

impl Capability {
    /// Whether an input is wired to a contact of this meaning.
    pub fn sees(&self, meaning: &Name) -> bool {
        self.inputs.iter().any(|i| i.meaning == *meaning)
    }
}
