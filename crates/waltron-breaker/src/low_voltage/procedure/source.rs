//! The source of the big current: which output, how much it drives, and what the connection lets through.

use waltron_core::injection::capability::{Capability, Channel};
use waltron_core::injection::measuring::{Probe, Property, Signal, Worked};
use waltron_core::injection::stimulus::{Drive, Stimulus};
use waltron_core::procedure::SetupError;
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::{Current, Dimension, Frequency, Measure, degrees};

/// What the outputs, and the meters at a pole, are called.
pub(crate) const CURRENT: &str = "pole current";
pub(super) const VOLTAGE: &str = "pole voltage";
/// The rig's own look at its current, and the breaker's auxiliary contact.
pub(crate) const FLOWS: &str = "current flows";
pub(crate) const AUXILIARY: &str = "52a";
/// What blocks the ground-fault function while it is closed.
pub(super) const DEFEAT: &str = "ground-fault defeat";

/// The smallest output that puts a current out; the largest where none does.
pub(super) fn output(rig: &Capability, amps: f64) -> Result<&Channel<Current>, SetupError> {
    let mut all: Vec<_> = rig.currents.iter().filter(|c| c.meaning == *CURRENT).collect();
    all.sort_by(|a, b| a.range.si().total_cmp(&b.range.si()));
    let fits = all.iter().find(|c| c.range.si() >= amps * (1.0 - 1e-9));
    fits.or(all.last()).copied().ok_or_else(|| SetupError::Lacks {
        lacks: format!("no output for `{CURRENT}`"),
        what: "outputs",
    })
}

/// A current from the output for the most of a test, so that its leads stay where they are; switched on where it
/// goes through zero, so that it has no direct component.
pub(super) fn current(
    rig: &Capability,
    amps: f64,
    most: f64,
    frequency: Frequency,
) -> Result<Stimulus, SetupError> {
    let channel = output(rig, most)?;
    let phasor = Phasor::new(Current::from_si(amps), degrees(-90.0));
    let drive = Drive::sine(channel.id.clone(), phasor, frequency);
    Ok(Stimulus { currents: vec![drive], voltages: Vec::new() })
}

/// The impedance of the connection: voltage by current.
pub(super) fn impedance(rig: &Capability) -> Result<Probe, SetupError> {
    for meaning in [CURRENT, VOLTAGE] {
        if rig.meter(meaning).is_none() {
            let lacks = format!("no meter for `{meaning}`");
            return Err(SetupError::Lacks { lacks, what: "meters" });
        }
    }
    let of = Worked::Quotient([Signal::from(VOLTAGE), Signal::from(CURRENT)]).into();
    let mut probe = Probe { of, what: Property::Phasor, dimension: Dimension::RESISTANCE };
    rig.restore(&mut probe);
    Ok(probe)
}

/// The current that still flows.
pub(super) fn flowing(rig: &Capability) -> Option<Probe> {
    rig.meter(CURRENT)?;
    let of = Signal::from(CURRENT);
    let mut probe = Probe { of, what: Property::Rms, dimension: Dimension::CURRENT };
    rig.restore(&mut probe);
    Some(probe)
}

/// The most that an output drives through an impedance, in A.
pub(super) fn reach(channel: &Channel<Current>, ohm: f64) -> f64 {
    let range = channel.range.si();
    channel.ability.compliance.map_or(range, |volts| range.min(volts / ohm.max(1e-12)))
}
