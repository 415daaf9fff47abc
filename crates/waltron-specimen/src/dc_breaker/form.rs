//! The specimen file of a high-speed direct-current breaker.

use super::DcBreakerTruth;
use schemars::JsonSchema;
use serde::Deserialize;
use waltron_core::quantity::{Current, Dimension, Measure, Ratio, Time, Voltage};
use waltron_core::text::document::{
    AnyQuantityText, Field, Problem, Problems, QuantityText, Text, optional,
};

/// A direct-current breaker in its circuit, as it truly is.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct DcBreakerForm {
    /// The current at which its release lets go when it rises slowly.
    setting: QuantityText<Current>,
    /// By how much its release lags behind the current: eddy currents; none if not given.
    lag: Option<QuantityText<Time>>,
    /// From the release to the contacts parting.
    opening: QuantityText<Time>,
    /// From the close command to the contacts touching; 80 ms if not given.
    closing: Option<QuantityText<Time>>,
    /// The arc's voltage once it is long.
    arc: QuantityText<Voltage>,
    /// The time constant with which it grows; 3 ms if not given.
    arc_growth: Option<QuantityText<Time>>,
    /// Resistance of the circuit: source, leads, breaker.
    resistance: AnyQuantityText,
    /// The time constant of the circuit, inductance by resistance.
    time_constant: QuantityText<Time>,
    /// Places whose resistance is measured, each with its own: `main contacts`, `joint 1`.
    place: Vec<PlaceForm>,
    /// The voltage of the full store.
    store: QuantityText<Voltage>,
    /// What a second of a kiloampere takes of it; 10 % if not given.
    drain: Option<QuantityText<Ratio>>,
    /// The time constant with which it is charged again; 4 s if not given.
    recharge: Option<QuantityText<Time>>,
    /// By how much levels and times scatter, standard deviation as a share.
    scatter: Option<QuantityText<Ratio>>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct PlaceForm {
    /// What it is called.
    at: Text,
    /// Its resistance.
    resistance: AnyQuantityText,
}

impl DcBreakerForm {
    pub(crate) fn read(
        self,
        noise: Option<QuantityText<Ratio>>,
        problems: &mut Problems,
    ) -> Option<DcBreakerTruth> {
        let ohm = |field: &AnyQuantityText, problems: &mut Problems| {
            field.positive_of(Dimension::RESISTANCE, problems).map(|q| q.si)
        };
        let time = |field: &Option<QuantityText<Time>>, usual: f64, problems: &mut Problems| {
            let given = optional(field.as_ref().map(|f| f.positive(problems)))?;
            Some(given.map_or(usual, Measure::si))
        };
        let share = |field: &Option<QuantityText<Ratio>>, usual: f64, problems: &mut Problems| {
            let given = optional(field.as_ref().map(|f| f.not_negative(problems)))?;
            Some(given.map_or(usual, |r| r.value))
        };
        let resistance_ohm = ohm(&self.resistance, problems)?;
        let mut places = Vec::new();
        for place in &self.place {
            places.push((place.at.as_str().to_owned(), ohm(&place.resistance, problems)?));
        }
        if places.is_empty() {
            problems
                .push(Problem::new(self.resistance.span(), "a breaker has at least one `place`"));
            return None;
        }
        let lag = optional(self.lag.as_ref().map(|f| f.not_negative(problems)))?;
        Some(DcBreakerTruth {
            setting_a: self.setting.positive(problems)?.si(),
            lag_s: lag.map_or(0.0, Measure::si),
            opening_s: self.opening.positive(problems)?.si(),
            closing_s: time(&self.closing, 0.08, problems)?,
            arc_v: self.arc.positive(problems)?.si(),
            arc_s: time(&self.arc_growth, 0.003, problems)?,
            resistance_ohm,
            henry: self.time_constant.positive(problems)?.si() * resistance_ohm,
            places,
            store_v: self.store.positive(problems)?.si(),
            drain: share(&self.drain, 0.1, problems)?,
            recharge_s: time(&self.recharge, 4.0, problems)?,
            scatter: share(&self.scatter, 0.0, problems)?,
            noise: share(&noise, 0.0, problems)?,
        })
    }
}
