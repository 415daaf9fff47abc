//! The specimen file of a low-voltage breaker with its trip unit.

use super::{Acts, TripFunction, TripUnitTruth};
use schemars::JsonSchema;
use serde::Deserialize;
use std::collections::BTreeMap;
use waltron_core::quantity::{Current, Dimension, Measure, Quantity, Ratio, Time};
use waltron_core::text::document::{
    AnyQuantityText, Field, Problem, Problems, QuantityText, Text, optional,
};

/// A low-voltage breaker as it truly is.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct TripUnitForm {
    /// Its poles; `["L1", "L2", "L3"]` if not given.
    poles: Option<Vec<Text>>,
    /// The plug that is really in it: pickups are multiples of it.
    plug: QuantityText<Current>,
    /// From the release to the contacts parting; 25 ms if not given.
    opening: Option<QuantityText<Time>>,
    /// Resistance of a pole with the leads to it.
    resistance: AnyQuantityText,
    /// Its reactance at the frequency that is put out.
    reactance: AnyQuantityText,
    /// The time constant with which the thermal memory forgets; 4 min if not given.
    memory: Option<QuantityText<Time>>,
    /// Whether somebody discharges the memory between two injections; true if not given.
    discharged: Option<bool>,
    /// Whether its auxiliary contact follows; true if not given.
    auxiliary_follows: Option<bool>,
    /// Whether the sensor in the neutral is the wrong way round; false if not given.
    neutral_reversed: Option<bool>,
    /// What stands at its test port for the plug's current: a current or a voltage; it has none if not given.
    port: Option<AnyQuantityText>,
    /// Whether somebody resets and closes it between two injections; true if not given.
    reset: Option<bool>,
}

/// A function of a trip unit.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct FunctionForm {
    /// What it does.
    id: FunctionKind,
    /// The level above which it acts, as a multiple of the plug.
    pickup: QuantityText<Ratio>,
    /// How long it waits; 10 ms if not given.
    delay: Option<QuantityText<Time>>,
    /// The multiple of the plug at which its delay holds, where it follows I²t; it is definite if not given.
    at: Option<QuantityText<Ratio>>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum FunctionKind {
    /// Long time.
    LongTime,
    /// Short time.
    ShortTime,
    /// Instantaneous.
    Instantaneous,
    /// Ground fault.
    GroundFault,
}

impl TripUnitForm {
    pub(crate) fn read(
        self,
        functions: Vec<FunctionForm>,
        display: &BTreeMap<String, String>,
        noise: Option<QuantityText<Ratio>>,
        problems: &mut Problems,
    ) -> Option<TripUnitTruth> {
        let usual = || ["L1", "L2", "L3"].map(str::to_owned).to_vec();
        let poles = self.poles.as_ref();
        let poles = poles.map_or_else(usual, |p| p.iter().map(|t| t.as_str().to_owned()).collect());
        let plug = self.plug.positive(problems);
        let ohm = |field: &AnyQuantityText, problems: &mut Problems| {
            field.of(Dimension::RESISTANCE, problems).map(|q| q.si)
        };
        let (resistance, reactance) =
            (ohm(&self.resistance, problems), ohm(&self.reactance, problems));
        let time = |field: &Option<QuantityText<Time>>, usual: f64, problems: &mut Problems| {
            let given = optional(field.as_ref().map(|f| f.positive(problems)))?;
            Some(given.map_or(usual, Measure::si))
        };
        let opening = time(&self.opening, 0.025, problems);
        let memory = time(&self.memory, 240.0, problems);
        let noise = optional(noise.map(|n| n.not_negative(problems)));
        let plug = plug?.si();
        let mut all = Vec::new();
        for form in functions {
            let pickup = form.pickup.positive(problems)?.value * plug;
            let delay = time(&form.delay, 0.010, problems)?;
            let at = optional(form.at.as_ref().map(|at| at.positive(problems)))?;
            let acts = match form.id {
                FunctionKind::LongTime => Acts::LongTime,
                FunctionKind::ShortTime => Acts::ShortTime,
                FunctionKind::Instantaneous => Acts::Instantaneous,
                FunctionKind::GroundFault => Acts::GroundFault,
            };
            if acts == Acts::Instantaneous && at.is_some() {
                let message = "what is instantaneous has no `at`";
                problems.push(Problem::new(form.pickup.span(), message));
            }
            let at_a = at.map(|at| at.value * plug);
            all.push(TripFunction { acts, pickup_a: pickup, delay_s: delay, at_a });
        }
        let port = match &self.port {
            None => None,
            Some(field) => {
                let at = field.read(problems)?;
                let fits = matches!(at.dimension, Dimension::CURRENT | Dimension::VOLTAGE);
                if !fits || at.si <= 0.0 {
                    let message = "a current or a voltage stands for the plug's current";
                    problems.push(Problem::new(field.span(), message));
                    return None;
                }
                Some(at.si / plug)
            }
        };
        let mut shown = Vec::new();
        for (name, text) in display {
            match Quantity::parse(text) {
                Ok(value) => shown.push((name.clone(), value.si)),
                Err(error) => problems.push(Problem::new(0..0, format!("`{name}`: {error}"))),
            }
        }
        let (resistance, reactance) = (resistance?, reactance?);
        if resistance <= 0.0 || reactance < 0.0 {
            problems.push(Problem::new(self.resistance.span(), "a pole has a positive resistance"));
            return None;
        }
        Some(TripUnitTruth {
            poles,
            functions: all,
            opening_s: opening?,
            resistance_ohm: resistance,
            reactance_ohm: reactance,
            memory_s: memory?,
            is_discharged: self.discharged.unwrap_or(true),
            auxiliary_follows: self.auxiliary_follows.unwrap_or(true),
            neutral_reversed: self.neutral_reversed.unwrap_or(false),
            noise: noise?.map_or(0.0, |n| n.value),
            port,
            is_reset: self.reset.unwrap_or(true),
            display: shown,
        })
    }
}
