//! What a plan says of a measurement of capacitance and tan δ.

use crate::power::asset::PowerTransformer;
use crate::power::procedure::joint::Stepped;
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::procedure::{FamilyKeys, Method, TestHead};
use waltron_core::quantity::{Frequency, Measure, Voltage};
use waltron_core::text::document::{
    AnyQuantityText, Field, Problem, Problems, QuantityText, Spannable,
};
use waltron_core::text::name::Name;

/// Capacitance and tan δ of the insulation between windings and tank, or of the bushings with a tap.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TanDeltaKeys {
    /// What is measured: `windings` (default) or `bushings`.
    of: Option<Spannable<OfForm>>,
    /// The temperature of oil and insulation, such as `28 degC`.
    temperature: AnyQuantityText,
    /// What that is uncertain by (k = 2), such as `2 K`; 1 K if not given.
    temperature_uncertainty: Option<AnyQuantityText>,
    /// What is put on, less on what carries less; the highest round voltage that each winding, its tap and the rig
    /// allow, 10 kV at most, if not given.
    voltage: Option<QuantityText<Voltage>>,
    /// Whether the losses are measured over frequency too, and told at 20 °C by that; true where the rig's output
    /// tells its frequencies.
    sweep: Option<Spannable<bool>>,
    /// The frequencies of the sweep; as far as 20 °C needs if not given.
    frequencies: Option<Spannable<Vec<QuantityText<Frequency>>>>,
    /// What is put on during the sweep, since higher frequencies take more current; 2 kV, or `voltage` where that
    /// is less, if not given.
    sweep_voltage: Option<QuantityText<Voltage>>,
    /// By what losses are told at 20 °C: the `sweep`, or a `table`; the other one if that cannot tell.
    correct_by: Option<By>,
}

/// What is measured.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub(super) enum OfForm {
    /// The insulation between windings and tank.
    #[default]
    Windings,
    /// The bushings with a tap.
    Bushings,
}

/// By what losses are told at another temperature.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub(super) enum By {
    /// The unit's own sweep over frequency.
    #[default]
    Sweep,
    /// A table.
    Table,
}

/// A measurement of capacitance and tan δ with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub struct TanDeltaTest {
    pub(super) test: Name,
    pub(super) of: OfForm,
    pub(super) temperature_k: f64,
    pub(super) temperature_u_k: f64,
    pub(super) voltage: Option<Voltage>,
    pub(super) sweeps: Sweeps,
    pub(super) sweep_voltage: Option<Voltage>,
    pub(super) by: By,
}

/// Over which frequencies losses are measured.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Sweeps {
    /// None.
    Not,
    /// As far as is needed and the rig goes; whether it was asked for.
    Needed(bool),
    /// These, in Hz.
    Over(Vec<f64>),
}

/// The temperatures that insulation has in a test, in K.
const BELIEVED: std::ops::RangeInclusive<f64> = 223.15..=393.15;

impl FamilyKeys for TanDeltaKeys {
    type Family = PowerTransformer;

    fn read_for(
        &self,
        head: TestHead<'_>,
        of: &PowerTransformer,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        let what = self.of.as_ref().map_or(OfForm::default(), |o| *o.get());
        if what == OfForm::Bushings && of.insulation.bushings.is_empty() {
            let place = self.of.as_ref().map_or_else(|| head.id.span(), Field::span);
            let message = "the transformer's file has no `[[bushing]]`";
            problems.push(Problem::new(place, message).help("each has `at = \"1U\"`, and `c1`"));
            return None;
        }
        let kelvin = crate::material::temperature(&self.temperature, problems)?;
        if !BELIEVED.contains(&kelvin) {
            let message = "oil and insulation are tested between -50 and 120 °C";
            problems.push(Problem::new(self.temperature.span(), message));
            return None;
        }
        let uncertainty = self.temperature_uncertainty.as_ref();
        let temperature_u_k = crate::material::temperature_uncertainty(uncertainty, problems)?;
        let volts = |text: &Option<QuantityText<Voltage>>, problems: &mut Problems| match text {
            Some(text) => text.positive(problems).map(Some),
            None => Some(None),
        };
        let voltage = volts(&self.voltage, problems)?;
        let sweep_voltage = volts(&self.sweep_voltage, problems)?;
        let sweeps = match (&self.sweep, &self.frequencies) {
            (Some(sweep), Some(list)) if !*sweep.get() => {
                let message = "without a sweep there is no use for `frequencies`";
                problems.push(Problem::new(list.span(), message));
                return None;
            }
            (_, Some(list)) => Sweeps::Over(frequencies(list, problems)?),
            (Some(sweep), None) if !*sweep.get() => Sweeps::Not,
            (asked, None) => Sweeps::Needed(asked.is_some()),
        };
        if sweeps == Sweeps::Not
            && let Some(text) = &self.sweep_voltage
        {
            let message = "without a sweep there is no use for `sweep_voltage`";
            problems.push(Problem::new(text.span(), message));
        }
        Some(Arc::new(Stepped(TanDeltaTest {
            test: head.name(),
            of: what,
            temperature_k: kelvin,
            temperature_u_k,
            voltage,
            sweeps,
            sweep_voltage,
            by: self.correct_by.unwrap_or_default(),
        })))
    }
}

fn frequencies(
    list: &Spannable<Vec<QuantityText<Frequency>>>,
    problems: &mut Problems,
) -> Option<Vec<f64>> {
    let read: Vec<Option<f64>> =
        list.get().iter().map(|f| f.positive(problems).map(Measure::si)).collect();
    let mut all: Vec<f64> = read.into_iter().collect::<Option<_>>()?;
    all.sort_by(f64::total_cmp);
    all.dedup();
    if !(2..=100).contains(&all.len()) {
        problems.push(Problem::new(list.span(), "a sweep has 2 to 100 different frequencies"));
        return None;
    }
    Some(all)
}
