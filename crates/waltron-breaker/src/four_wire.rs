//! A resistance by four wires: a direct current through it, the voltage inside of the current's leads.

use waltron_core::injection::capability::{Capability, Channel};
use waltron_core::injection::measuring::{Probe, Property, Signal, Worked};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::stimulus::{Dc, Drive};
use waltron_core::procedure::SetupError;
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::{Current, Dimension, Frequency, Measure, Quantity, degrees};
use waltron_core::text::document::{Field, Problem, Problems, QuantityText};
use waltron_core::uncertainty::Estimate;

/// The least current that tells a contact resistance (IEC 62271-1, 7.4.4).
const LEAST_A: f64 = 50.0;

/// What is fed in where the plan does not say, in A.
pub(crate) const USUAL_A: f64 = 100.0;

fn amps(si: f64) -> Quantity {
    Quantity { si, dimension: Dimension::CURRENT }
}

/// The current that a plan asks for: enough to tell a resistance, and no more than the breaker carries.
pub(crate) fn current(
    field: Option<&QuantityText<Current>>,
    rated_a: f64,
    problems: &mut Problems,
) -> Option<Option<Current>> {
    let Some(field) = field else { return Some(None) };
    let wanted = field.positive(problems)?;
    let why = if wanted.si() < LEAST_A {
        "less than 50 A does not tell a contact resistance (IEC 62271-1)".to_owned()
    } else if wanted.si() > rated_a {
        format!("the breaker carries {}", amps(rated_a))
    } else {
        return Some(Some(wanted));
    };
    problems.push(Problem::new(field.span(), why));
    None
}

/// The output that feeds what is measured.
///
/// # Errors
/// The rig has none.
pub(crate) fn output<'r>(
    rig: &'r Capability,
    meaning: &str,
) -> Result<&'r Channel<Current>, SetupError> {
    let lacks =
        || SetupError::Lacks { lacks: format!("no output for `{meaning}`"), what: "outputs" };
    rig.currents.iter().find(|c| c.meaning == *meaning).ok_or_else(lacks)
}

/// The current that is fed in: what is asked for, else what breaker and rig allow.
///
/// # Errors
/// The rig gives less than tells a contact resistance.
pub(crate) fn fed(
    wanted: Option<Current>,
    output: &Channel<Current>,
    rated_a: f64,
) -> Result<f64, SetupError> {
    let range = output.range.si();
    let fed = wanted.map_or(USUAL_A.min(range).min(rated_a), Measure::si);
    if fed < LEAST_A {
        let range = amps(range);
        return Err(SetupError::Unknown(format!(
            "the rig's {range} do not tell a contact resistance: it takes at least 50 A (IEC 62271-1)"
        )));
    }
    Ok(fed)
}

/// A direct value from an output; what frequency it does not have is of no matter.
pub(crate) fn direct<Q: Measure>(output: &Channel<Q>, si: f64, frequency: Frequency) -> Drive<Q> {
    let nothing = Phasor::new(Q::from_si(0.0), degrees(0.0));
    let mut drive = Drive::sine(output.id.clone(), nothing, frequency);
    drive.dc = Some(Dc::constant(Q::from_si(si)));
    drive
}

/// Voltage by current at two meters.
///
/// # Errors
/// The rig has not both, or they do not show DC.
pub(crate) fn quotient(
    rig: &Capability,
    voltage: &str,
    current: &str,
) -> Result<Probe, SetupError> {
    for meaning in [current, voltage] {
        if rig.meter(meaning).is_none_or(|m| !m.coupling.is_dc()) {
            let lacks = format!("no meter for `{meaning}` that shows DC");
            return Err(SetupError::Lacks { lacks, what: "meters" });
        }
    }
    let of = Worked::Quotient([Signal::from(voltage), Signal::from(current)]).into();
    let mut probe = Probe { of, what: Property::Dc, dimension: Dimension::RESISTANCE };
    rig.restore(&mut probe);
    Ok(probe)
}

/// The resistance that a probe showed at the end, with what makes it uncertain; why it showed none. There is none
/// that is less than what the meters are uncertain by, or less than nothing: no contact is without resistance.
pub(crate) fn reading(seen: &Observation, probe: &Probe) -> Result<Estimate, String> {
    let read = seen.at_end(probe).ok_or_else(|| format!("`{probe}` was not measured"))?;
    let ohm = match (&read.lacks, read.value.get("value")) {
        (Some(lack), _) => return Err(format!("no value: {lack}")),
        (None, None) => return Err(format!("`{probe}` shows nothing")),
        (None, Some(value)) => value,
    };
    let u = read.uncertainty.get("value").unwrap_or(0.0);
    let shows = |si| Quantity { si, dimension: Dimension::RESISTANCE };
    if !ohm.is_finite() {
        Err(format!("`{probe}` shows no number"))
    } else if ohm > u && ohm > 0.0 {
        Ok(Estimate::of_parts(ohm, &read.parts))
    } else if ohm < -u {
        Err(format!("it shows {}: turn the voltage's leads", shows(ohm)))
    } else {
        Err(format!(
            "it shows {}, no more than its meters are uncertain by: a lead of the voltage is off, or both are at one place",
            shows(ohm)
        ))
    }
}
