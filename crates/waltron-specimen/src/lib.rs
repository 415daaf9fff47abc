//! Simulated assets on the virtual rig, each with its own hidden truth.
//!
//! A specimen has its own file and never sees the asset's settings: it is told what is put out
//! over time and closes its contacts by its own true pickups, curves, delays and noise. What it
//! shares with the grader is the standards' formulas and nothing else.
//!
//! Specimens are event-driven: a long inverse time costs as little as a short one.

#![forbid(unsafe_code)]
#![warn(clippy::unwrap_used)]

pub mod breaker;
pub mod dc_breaker;
mod form;
mod history;
mod iron;
mod noise;
pub mod power_transformer;
pub mod relay;
pub mod supply;
pub mod transformer;
pub mod trip_unit;
mod wave;

pub use form::SpecimenForm;
pub use noise::Noise;

use waltron_core::asset::readback::ReadSetting;
use waltron_core::injection::capability::{Capability, ParameterValue};
use waltron_core::injection::observation::Edge;
use waltron_core::injection::program::Stand;
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::Time;
use waltron_core::text::name::Name;

/// Moments at which something is looked at, counted from the last [`Specimen::begin`].
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Window {
    /// The first one, in s.
    pub start_s: f64,
    /// How many a second.
    pub rate_hz: f64,
    /// How many.
    pub count: usize,
}

/// Something of the rig that the specimen has nothing for.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("the specimen has nothing called `{meaning}`{}", listed(.has))]
pub struct Unconnected {
    /// The meaning.
    pub meaning: Name,
    /// What could stand there instead.
    pub has: Vec<&'static str>,
}

fn listed(has: &[&str]) -> String {
    if has.is_empty() { String::new() } else { format!("; it has {}", has.join(", ")) }
}

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

    /// Says what the rig's outputs, meters and switches are connected to. Outputs are called by their
    /// channels here; a specimen that has no use for names of its own takes any.
    ///
    /// # Errors
    /// A meter or a switch, or an output by its meaning, that it has nothing for.
    fn connect(&mut self, rig: &Capability) -> Result<(), Unconnected> {
        let meters = rig.meters.iter().map(|m| &m.meaning);
        match meters.chain(rig.switches.iter().map(|s| &s.meaning)).next() {
            Some(meaning) => Err(Unconnected { meaning: meaning.clone(), has: Vec::new() }),
            None => Ok(()),
        }
    }

    /// Takes the leads to a place of it, such as `A 1S1-1S3`, or, without a name, to where the connection
    /// sheet has them; what has one place only takes any.
    ///
    /// # Errors
    /// A place that it does not have.
    fn lead(&mut self, _place: &Name) -> Result<(), Unconnected> {
        Ok(())
    }

    /// Moves something that is moved by hand, such as a tap changer, to a place.
    ///
    /// # Errors
    /// Something, or a place, that it does not have.
    fn stand(&mut self, stand: &Stand) -> Result<(), Unconnected> {
        Err(Unconnected { meaning: stand.of.clone(), has: Vec::new() })
    }

    /// Somebody was asked to move something by hand now, and does so in their own time. What there is
    /// nothing of is not moved.
    fn hand(&mut self, _to: &Stand) {}

    /// What a meter sees, sample by sample, in SI; `None` where it is not connected. The window must not
    /// reach beyond the present.
    fn samples(&self, _of: &Name, _window: Window) -> Option<Vec<f64>> {
        None
    }

    /// The mean of what a meter sees, where that is had with less trouble than sample by sample.
    fn mean(&self, _of: &Name, _window: Window) -> Option<f64> {
        None
    }

    /// Closes or opens one of the rig's switches.
    fn switch(&mut self, _meaning: &Name, _closed: bool) {}

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
