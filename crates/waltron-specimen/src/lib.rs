//! Simulated assets on the virtual rig, each with its own hidden truth.
//!
//! A specimen has its own file and never sees the asset's settings: it is told what is put out
//! over time and closes its contacts by its own true pickups, curves, delays and noise. What it
//! shares with the grader is the standards' formulas and nothing else.
//!
//! Specimens are event-driven: a long inverse time costs as little as a short one.

#![forbid(unsafe_code)]
#![warn(clippy::unwrap_used)]

mod form;
mod noise;
pub mod relay;
pub mod supply;

pub use form::SpecimenForm;
pub use noise::Noise;

use waltron_core::capability::ParameterValue;
use waltron_core::name::Name;
use waltron_core::observation::Edge;
use waltron_core::quantity::Time;
use waltron_core::readback::ReadSetting;
use waltron_core::stimulus::Stimulus;

/// A simulated asset in virtual time. Times count from the last [`Specimen::begin`].
///
/// The order of calls: `begin`, then any number of `apply` at the present time, each followed by
/// `advance` until it returns `None`.
pub trait Specimen: Send {
    /// Starts a new injection, the `shot`-th of the run: time becomes zero, the state stays.
    /// Noise depends on the seed and `shot` only.
    fn begin(&mut self, shot: u64);

    /// Puts a stimulus out from now on.
    fn apply(&mut self, stimulus: &Stimulus);

    /// Lets time pass up to `to` or to the first contact change, which is returned.
    fn advance(&mut self, to: Time) -> Option<Edge>;

    /// The contacts that are closed now.
    fn closed(&self) -> Vec<Name>;

    /// A value that can be measured on it now, in SI; `None` where it has none of this name.
    fn reading(&self, _name: &str) -> Option<f64> {
        None
    }

    /// The settings that it tells when it is asked; none where it cannot tell any.
    fn settings(&self) -> Vec<ReadSetting> {
        Vec::new()
    }

    /// Sets one of its parameters; false where it has none of this name and kind.
    fn set(&mut self, _name: &str, _value: ParameterValue) -> bool {
        false
    }
}
