//! The true supply of a specimen's file.

use super::SupplyTruth;
use schemars::JsonSchema;
use serde::Deserialize;
use waltron_core::quantity::{Current, Dimension, Measure, Ratio, Time, Voltage};
use waltron_core::text::document::{AnyQuantityText, Problems, QuantityText};

/// A supply as it truly is.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct SupplyForm {
    /// Set voltage at first.
    voltage: QuantityText<Voltage>,
    /// Time constant with which it settles.
    settling: QuantityText<Time>,
    /// The load on it.
    load: AnyQuantityText,
    /// More current at switching on, decaying as it settles; none if not given.
    inrush: Option<QuantityText<Current>>,
    /// The current that it limits to; none if not given.
    limit: Option<QuantityText<Current>>,
    /// Output against set value; 100 % if not given.
    gain: Option<QuantityText<Ratio>>,
}

impl SupplyForm {
    /// The truth; problems are noted.
    pub(crate) fn read(
        self,
        noise: Option<QuantityText<Ratio>>,
        problems: &mut Problems,
    ) -> Option<SupplyTruth> {
        let noise = noise.map_or(Some(0.0), |f| f.not_negative(problems).map(|r| r.value));
        let voltage = self.voltage.positive(problems);
        let settling = self.settling.positive(problems);
        let load = self.load.positive_of(Dimension::RESISTANCE, problems);
        let inrush = self.inrush.map_or(Some(0.0), |f| f.not_negative(problems).map(|i| i.si()));
        let limit =
            self.limit.map_or(Some(f64::INFINITY), |f| f.positive(problems).map(|i| i.si()));
        let gain = self.gain.map_or(Some(1.0), |f| f.positive(problems).map(|r| r.value));
        Some(SupplyTruth {
            voltage_v: voltage?.si(),
            settling_s: settling?.si(),
            load_ohm: load?.si,
            inrush_a: inrush?,
            limit_a: limit?,
            gain: gain?,
            noise: noise?,
        })
    }
}
