//! How power transformers are tested.

mod arising;
mod core_demagnetisation;
mod exciting;
mod exciting_current;
mod impedance;
mod insulation_resistance;
mod joint;
mod leads;
mod positions;
mod put_on;
mod tan_delta;
mod turns_ratio;
mod winding_resistance;

pub use core_demagnetisation::{CoreDemagnetisationKeys, CoreDemagnetisationTest};
pub(crate) use exciting::EXCITING;
pub use exciting_current::{ExcitingCurrentKeys, ExcitingCurrentTest};
pub(crate) use impedance::{ALIKE, IMPEDANCE, ZERO};
pub use impedance::{ImpedanceKeys, ImpedanceTest};
pub(crate) use insulation_resistance::{INDEX, RESISTANCE as INSULATION_RESISTANCE};
pub use insulation_resistance::{InsulationResistanceKeys, InsulationResistanceTest};
pub(crate) use tan_delta::{CAPACITANCE, LOSSES, Read, SUM, over_frequency};
pub use tan_delta::{TanDeltaKeys, TanDeltaTest};
pub(crate) use turns_ratio::RATIO;
pub use turns_ratio::{TurnsRatioKeys, TurnsRatioTest};
pub(crate) use winding_resistance::{CHANGE, DIFFERENCE, RESISTANCE, can, traced};
pub use winding_resistance::{WindingResistanceKeys, WindingResistanceTest};

use super::asset::PowerTransformer;
use super::pairs::Pair;
use waltron_core::procedure::{SetupError, TestHead};
use waltron_core::quantity::{Measure, Voltage, text};
use waltron_core::text::document::{Field, Problem, Problems, Spannable};

/// The winding that a key names by its number.
fn winding(
    of: &PowerTransformer,
    field: Option<&Spannable<u8>>,
    usual: u8,
    head: &TestHead<'_>,
    problems: &mut Problems,
) -> Option<u8> {
    let number = field.map_or(usual, |n| *n.get());
    if of.winding(number).is_some() {
        return Some(number);
    }
    let place = field.map_or_else(|| head.id.span(), Field::span);
    let message =
        format!("there is no winding {number}; the transformer has {}", of.windings.len());
    problems.push(Problem::new(place, message));
    None
}

/// The voltage of a pair: the one that is asked for, or the highest round one of what is allowed and usual, in V.
///
/// # Errors
/// More is asked for than is allowed.
fn volts(
    asked: Option<Voltage>,
    most: f64,
    usual: f64,
    pair: &Pair,
) -> Result<Voltage, SetupError> {
    match asked {
        Some(volts) if volts.si() > most * (1.0 + 1e-9) => Err(SetupError::Unknown(format!(
            "{} is more than {pair} and the rig allow: {} at most",
            text(volts),
            text(Voltage::from_si(most))
        ))),
        Some(volts) => Ok(volts),
        None => Ok(Voltage::from_si(round_below(most.min(usual), &[5.0, 2.5, 2.0, 1.0]))),
    }
}

/// The next round number below: one of these times a power of ten, the largest first.
pub(in crate::power) fn round_below(value: f64, steps: &[f64]) -> f64 {
    let decade = 10f64.powf(value.log10().floor());
    let mut round = steps.iter().map(|s| s * decade);
    round.find(|v| *v <= value * (1.0 + 1e-9)).unwrap_or(value)
}

/// A voltage in words, to three digits.
fn volts_text(si: f64) -> String {
    let digits = 10f64.powf(2.0 - si.abs().max(1e-12).log10().floor());
    text(Voltage::from_si((si * digits).round() / digits))
}
