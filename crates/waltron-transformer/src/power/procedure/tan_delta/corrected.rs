//! Losses at 20 °C, by the unit's own sweep and by table.

use super::keys::By;
use crate::material::{celsius, of_temperature};
use crate::power::asset::Insulation;
use crate::power::insulation::{Corrected, Energy, Loss, at_reference, fit};
use waltron_core::grading::Value;
use waltron_core::quantity::{Dimension, ELECTRONVOLT, Quantity, significant};
use waltron_core::uncertainty::{Cause, Estimate};

/// The energy that activates losses of oil and paper where it is not known, in eV, and what that is uncertain by.
const USUAL: Energy = Energy { ev: 0.9, u_ev: 0.06, is_fitted: false };

/// What losses are told at, in K, where no table says.
const REFERENCE_K: f64 = 293.15;

/// Losses at the reference temperature, by both ways as far as they go.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Both {
    pub(super) reference_k: f64,
    /// By the sweep, with the energy that it was told by.
    pub(super) sweep: Result<(Corrected, Energy), String>,
    /// Why an earlier sweep told no energy, where there is one.
    pub(super) unfit: Option<String>,
    /// By the table: the value, and by how much of itself it moves for a kelvin, in 1/K.
    pub(super) table: Result<(f64, f64), String>,
    rated_hz: f64,
}

fn hertz(si: f64) -> Quantity {
    Quantity { si, dimension: Dimension::FREQUENCY }
}

/// The energy of a part: fitted where an earlier sweep at another temperature is known, else stated, else assumed.
/// With it, why an earlier sweep did not tell one.
fn energy(of: &Insulation, part: &str, sweep: &[Loss], kelvin: f64) -> (Energy, Option<String>) {
    let stated = of.energy_ev.map_or(USUAL, |ev| Energy { ev, ..USUAL });
    let Some((earlier_k, earlier)) = of.known(part).and_then(|k| k.sweep.as_ref()) else {
        return (stated, None);
    };
    match fit((sweep, kelvin), (earlier, *earlier_k)) {
        Ok(energy) => (energy, None),
        Err(why) => (stated, Some(why)),
    }
}

impl Both {
    /// The losses of a part at rated frequency and its temperature, told at the reference.
    pub(super) fn of(
        of: &Insulation,
        part: &str,
        rated: Loss,
        sweep: Result<&[Loss], String>,
        kelvin: f64,
    ) -> Self {
        let table = of.correction.as_ref();
        let reference_k = table.map_or(REFERENCE_K, |(table, _)| table.reference_k);
        let mut unfit = None;
        let by_sweep = sweep.and_then(|sweep| {
            let (energy, why) = energy(of, part, sweep, kelvin);
            unfit = why;
            if let Some(loss) = sweep.iter().find(|l| l.tan_delta.is_nan() || l.tan_delta <= 0.0) {
                return Err(format!("the sweep shows no losses at {}", hertz(loss.hertz)));
            }
            let read = at_reference(sweep, rated.hertz, kelvin, reference_k, energy);
            let corrected = read.map_err(|beyond| {
                let (from, to) = beyond.reach_hz;
                format!(
                    "from {} it is read at {}, and the sweep goes from {} to {}",
                    celsius(kelvin),
                    hertz(beyond.wanted_hz),
                    hertz(from),
                    hertz(to)
                )
            })?;
            Ok((corrected, energy))
        });
        let by_table = match table {
            None => Err("the asset's file names no `correction`".to_owned()),
            Some((table, class)) => match class.factor(kelvin) {
                Ok(factor) => Ok((rated.tan_delta * factor, class.per_kelvin(kelvin))),
                Err((from, to)) => Err(format!(
                    "{} of {} goes from {} to {}",
                    class.id,
                    table.name,
                    celsius(from),
                    celsius(to)
                )),
            },
        };
        let rated_hz = rated.hertz;
        Self { reference_k, sweep: by_sweep, unfit, table: by_table, rated_hz }
    }

    /// The value that counts with what makes it uncertain, and how it was had, in words. `measured` gives tan δ at the
    /// frequency nearest to one, as it was measured.
    ///
    /// # Errors
    /// Why no way leads there.
    pub(super) fn chosen(
        &self,
        by: By,
        uncertainty_k: f64,
        measured: impl Fn(f64) -> Estimate,
    ) -> Result<(Estimate, String), String> {
        let told = |value: f64, hertz: f64, per_kelvin: f64| {
            let near = measured(hertz);
            let by_meters = near.clone().function(value, value / near.value);
            by_meters.with_beside(of_temperature(uncertainty_k), value * per_kelvin)
        };
        let at = celsius(self.reference_k);
        let sweep = self.sweep.as_ref().map(|(corrected, energy)| {
            let how = format!(
                "at {at} by the sweep, read at {}; {} eV {}, which makes {} % of it uncertain",
                hertz(corrected.hertz),
                significant(energy.ev, 3),
                match energy.is_fitted {
                    true => "by an earlier sweep",
                    false => "assumed",
                },
                significant(corrected.of_energy * 100.0, 2),
            );
            let value = corrected.tan_delta;
            let energy_u = Value::Plain(Quantity {
                si: energy.u_ev * ELECTRONVOLT,
                dimension: Dimension::ENERGY,
            });
            let slope = corrected.of_energy * value / energy_u.si().max(f64::MIN_POSITIVE);
            let estimate = told(value, corrected.hertz, corrected.per_kelvin)
                .with_beside(Cause::expanded("activation energy", energy_u), slope)
                .with_beside(
                    Cause::expanded("between frequencies", Value::Percent(corrected.of_bend)),
                    value,
                );
            (estimate, how)
        });
        let table = self.table.as_ref().map(|(value, per_kelvin)| {
            let how = format!("at {at} by table, whatever unit it is of");
            (told(*value, self.rated_hz, *per_kelvin), how)
        });
        let (first, second, word) = match by {
            By::Sweep => (sweep, table, "sweep"),
            By::Table => (table, sweep, "table"),
        };
        match (first, second) {
            (Ok(found), _) => Ok(found),
            (Err(why), Ok((value, how))) => Ok((value, format!("{how}; not by {word}: {why}"))),
            (Err(why), Err(other)) => Err(format!("{why}; {other}")),
        }
    }
}
