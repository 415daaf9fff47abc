//! What a plan says of a measurement of insulation resistance.

use crate::power::asset::PowerTransformer;
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::injection::capability::Capability;
use waltron_core::procedure::{FamilyKeys, Method, TestHead};
use waltron_core::quantity::{Dimension, Measure, Time, Voltage};
use waltron_core::text::document::{
    AccuracyText, AnyQuantityText, Field, Problem, Problems, QuantityText, Spannable,
};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::{Accuracy, Means};

/// Insulation resistance of each winding to the others and the tank, and between windings, with the polarisation
/// index. Where the rig has no output `insulation voltage`, somebody is asked what an instrument shows.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct InsulationResistanceKeys {
    /// The temperature of oil and insulation, such as `28 degC`.
    temperature: AnyQuantityText,
    /// What that is uncertain by (k = 2), such as `0.5 K`; 1 K if not given.
    temperature_uncertainty: Option<AnyQuantityText>,
    /// How well the instrument measures that somebody reads, such as `5 %`; without it, what is typed in has no U.
    accuracy: Option<AccuracyText>,
    /// The direct voltage, less on what carries less; 5 kV, or what a winding and the rig allow, if not given.
    voltage: Option<QuantityText<Voltage>>,
    /// When it is read, of 15 s, 30 s, 60 s and 600 s; after 15 s, 60 s and 600 s if not given. The resistance is that after 60 s, the polarisation
    /// index that after 600 s over it.
    times: Option<Spannable<Vec<QuantityText<Time>>>>,
    /// Whether somebody reads an instrument; true where the rig has no output for it, else false, if not given.
    by_hand: Option<bool>,
}

/// A measurement of insulation resistance with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub struct InsulationResistanceTest {
    pub(super) test: Name,
    pub(super) temperature_k: f64,
    pub(super) temperature_u_k: f64,
    /// How well an instrument measures that somebody reads.
    pub(super) accuracy: Option<Accuracy>,
    pub(super) voltage: Option<Voltage>,
    /// In s, rising, with 60 s among them.
    pub(super) times_s: Vec<f64>,
    by_hand: Option<bool>,
}

/// When the resistance is told, and what the polarisation index holds against it, in s.
pub(super) const MINUTE_S: f64 = 60.0;
pub(super) const TEN_S: f64 = 600.0;

/// When it can be read, in s.
const TOLD_S: [f64; 4] = [15.0, 30.0, MINUTE_S, TEN_S];

/// When it is read where the plan does not say, in s.
const USUAL_S: [f64; 3] = [15.0, MINUTE_S, TEN_S];

impl InsulationResistanceTest {
    /// Whether somebody reads an instrument.
    pub(super) fn is_by_hand(&self, rig: &Capability) -> bool {
        let has = rig.voltages.iter().any(|c| c.meaning == *"insulation voltage");
        self.by_hand.unwrap_or(!has)
    }
}

impl FamilyKeys for InsulationResistanceKeys {
    type Family = PowerTransformer;

    fn read_for(
        &self,
        head: TestHead<'_>,
        _of: &PowerTransformer,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        let kelvin = crate::material::temperature(&self.temperature, problems)?;
        let uncertainty = self.temperature_uncertainty.as_ref();
        let temperature_u_k = crate::material::temperature_uncertainty(uncertainty, problems)?;
        let accuracy = match &self.accuracy {
            Some(text) => Some(text.read(Dimension::RESISTANCE, Means::Limit, problems)?),
            None => None,
        };
        let voltage = match &self.voltage {
            Some(text) => Some(text.positive(problems)?),
            None => None,
        };
        let times_s = match &self.times {
            None => USUAL_S.to_vec(),
            Some(list) => {
                let read: Vec<_> =
                    list.get().iter().map(|t| t.positive(problems).map(Measure::si)).collect();
                let mut all: Vec<f64> = read.into_iter().collect::<Option<_>>()?;
                all.sort_by(f64::total_cmp);
                all.dedup();
                let is_told = |t: &f64| TOLD_S.contains(t);
                if !all.contains(&MINUTE_S) || !all.iter().all(is_told) {
                    let message = "times are 15 s, 30 s, 60 s and 600 s, with 60 s among them: the resistance is told then";
                    problems.push(Problem::new(list.span(), message));
                    return None;
                }
                all
            }
        };
        Some(Arc::new(InsulationResistanceTest {
            test: head.name(),
            temperature_k: kelvin,
            temperature_u_k,
            accuracy,
            voltage,
            times_s,
            by_hand: self.by_hand,
        }))
    }
}
