//! Insulation in the power transformer's specimen file.

use super::dielectric::{Dielectric, Loss};
use schemars::JsonSchema;
use serde::Deserialize;
use waltron_core::quantity::{Dimension, ELECTRONVOLT, Ratio};
use waltron_core::text::document::{
    AnyQuantityText, Field, Number, Problem, Problems, QuantityText, Spannable,
};

/// What lies between two electrodes. Losses are told at 20 °C and 50 Hz.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct InsulationForm {
    /// The electrodes: `["H", "L"]`, `["H", "tank"]`, `["H", "1U-tap"]`.
    between: Spannable<Vec<String>>,
    /// Its capacitance.
    capacitance: AnyQuantityText,
    /// tan δ by what polarises.
    polarisation: QuantityText<Ratio>,
    /// The power of frequency that those losses fall by; 0.3 if not given.
    power: Option<Number>,
    /// tan δ by what conducts; none if not given.
    conduction: Option<QuantityText<Ratio>>,
    /// The energy that activates both; `0.9 eV` if not given.
    activation: Option<AnyQuantityText>,
    /// That of conduction, where it is another one.
    conduction_activation: Option<AnyQuantityText>,
    /// How many times higher its losses are than when it was dry; 1 if not given.
    wet: Option<Number>,
}

/// An energy in eV.
fn electronvolts(text: &AnyQuantityText, problems: &mut Problems) -> Option<f64> {
    text.positive_of(Dimension::ENERGY, problems).map(|q| q.si / ELECTRONVOLT)
}

impl InsulationForm {
    pub(super) fn read(&self, problems: &mut Problems) -> Option<Dielectric> {
        let [a, b] = self.between.get().as_slice() else {
            let message = "insulation lies between two electrodes, such as `[\"H\", \"tank\"]`";
            problems.push(Problem::new(self.between.span(), message));
            return None;
        };
        let is_plain = |name: &String| !name.is_empty() && !name.contains([' ', '+', ':', ',']);
        if a == b || !is_plain(a) || !is_plain(b) {
            let message = "two different electrodes without spaces, `+`, `:` and `,`";
            problems.push(Problem::new(self.between.span(), message));
            return None;
        }
        let farad = self.capacitance.positive_of(Dimension::CAPACITANCE, problems)?.si;
        let power = self.power.as_ref().map_or(Some(0.3), |n| n.positive(problems))?;
        if power >= 1.0 {
            let message = "losses by polarisation fall by a power below 1";
            problems.push(Problem::new(self.between.span(), message));
            return None;
        }
        let wet = self.wet.as_ref().map_or(Some(1.0), |n| n.positive(problems))?;
        let activation =
            self.activation.as_ref().map_or(Some(0.9), |text| electronvolts(text, problems))?;
        let of_conduction = self.conduction_activation.as_ref();
        let of_conduction =
            of_conduction.map_or(Some(activation), |text| electronvolts(text, problems))?;
        let conduction = self.conduction.as_ref();
        let conduction =
            conduction.map_or(Some(0.0), |r| r.not_negative(problems).map(|r| r.value))?;
        let polarisation = self.polarisation.positive(problems)?.value;
        let loss =
            |tan_delta: f64, activation_ev| Loss { tan_delta: tan_delta * wet, activation_ev };
        Some(Dielectric {
            between: [a.clone(), b.clone()],
            farad,
            polarises: (loss(polarisation, activation), power),
            conducts: loss(conduction, of_conduction),
        })
    }
}
