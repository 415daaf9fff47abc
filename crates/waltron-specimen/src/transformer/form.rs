//! The transformer's part of the specimen file.

use super::{Burden, TransformerTruth};
use schemars::JsonSchema;
use serde::Deserialize;
use std::f64::consts::TAU;
use waltron_core::quantity::{Dimension, Frequency, Measure, Ratio};
use waltron_core::text::document::{
    AnyQuantityText, Field, Number, Problem, Problems, QuantityText,
};

/// A transformer as it truly is; inductances are told by their reactance at `frequency`.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct TransformerForm {
    /// Secondary over primary turns: 600 for 600:1, 0.0055 for 20 kV to 110 V.
    turns: Number,
    /// Whether the secondary is connected the wrong way round; false if not given.
    reversed: Option<bool>,
    /// The frequency of the reactances.
    frequency: QuantityText<Frequency>,
    /// Resistance of the secondary winding; of a voltage transformer, of its short circuit.
    resistance: AnyQuantityText,
    /// Leakage reactance; none if not given.
    leakage: Option<AnyQuantityText>,
    /// Magnetising reactance, on the secondary side.
    magnetising: AnyQuantityText,
    /// The resistance beside it that stands for the core's losses.
    losses: AnyQuantityText,
    /// Resistance of what is connected to the secondary; open if neither is given.
    burden_resistance: Option<AnyQuantityText>,
    /// Reactance of what is connected to the secondary.
    burden_reactance: Option<AnyQuantityText>,
}

impl TransformerForm {
    pub(crate) fn read(
        self,
        noise: Option<QuantityText<Ratio>>,
        problems: &mut Problems,
    ) -> Option<TransformerTruth> {
        let turns = self.turns.positive(problems);
        let hertz = self.frequency.positive(problems).map(Measure::si);
        let ohms = |field: &AnyQuantityText, problems: &mut Problems| {
            field.positive_of(Dimension::RESISTANCE, problems).map(|q| q.si)
        };
        let perhaps = |field: &Option<AnyQuantityText>, problems: &mut Problems| {
            let Some(field) = field else { return Some(None) };
            let si = field.of(Dimension::RESISTANCE, problems)?.si;
            if si >= 0.0 {
                return Some(Some(si));
            }
            problems.push(Problem::new(field.span(), "this must not be negative"));
            None
        };
        let resistance = ohms(&self.resistance, problems);
        let leakage = perhaps(&self.leakage, problems);
        let magnetising = ohms(&self.magnetising, problems);
        let losses = ohms(&self.losses, problems);
        let burden_r = perhaps(&self.burden_resistance, problems);
        let burden_x = perhaps(&self.burden_reactance, problems);
        let noise = noise.map_or(Some(0.0), |f| f.not_negative(problems).map(|r| r.value));
        let w = TAU * hertz?;
        let burden = match (burden_r?, burden_x?) {
            (None, None) => None,
            (r, x) => Some(Burden {
                resistance_ohm: r.unwrap_or(0.0),
                inductance_h: x.unwrap_or(0.0) / w,
            }),
        };
        Some(TransformerTruth {
            turns: turns?,
            reversed: self.reversed.unwrap_or(false),
            resistance_ohm: resistance?,
            leakage_h: leakage?.unwrap_or(0.0) / w,
            magnetising_h: magnetising? / w,
            losses_ohm: losses?,
            burden,
            noise: noise?,
        })
    }
}
