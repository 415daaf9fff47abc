//! The transformer's part of the specimen file.

use super::{Burden, Terminal, TransformerTruth, Unit};
use crate::Noise;
use crate::iron::Magnetics;
use schemars::JsonSchema;
use serde::Deserialize;
use std::f64::consts::{SQRT_2, TAU};
use waltron_core::quantity::{Current, Dimension, Frequency, Measure, Ratio, Voltage};
use waltron_core::text::document::{
    AnyQuantityText, Field, Number, Problem, Problems, QuantityText,
};

/// A core with its winding as it truly is, told by the whole winding; inductances by their reactance at
/// `frequency`.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct TransformerForm {
    /// Its phase, where there are several: the first word of a place such as `A 1S1-1S2`.
    phase: Option<String>,
    /// Secondary over primary turns: 600 for 600:1, 0.0055 for 20 kV to 110 V.
    turns: Option<Number>,
    /// Terminals along the winding with the turns from the first one, instead of `turns`.
    taps: Option<Vec<TapForm>>,
    /// Whether the secondary is connected the wrong way round; false if not given.
    reversed: Option<bool>,
    /// The frequency of the reactances.
    frequency: QuantityText<Frequency>,
    /// Resistance of the secondary winding; of a voltage transformer, of its short circuit, unless its
    /// primary has its own.
    resistance: AnyQuantityText,
    /// Leakage reactance; none if not given.
    leakage: Option<AnyQuantityText>,
    /// Magnetising reactance, on the secondary side.
    magnetising: AnyQuantityText,
    /// The resistance beside it that stands for the core's eddy currents.
    losses: AnyQuantityText,
    /// The e.m.f. at `frequency`, RMS, at which the core saturates; it never does if not given.
    saturation: Option<QuantityText<Voltage>>,
    /// Over which share of its flux it begins to; `3 %` if not given.
    rounding: Option<QuantityText<Ratio>>,
    /// Magnetising reactance when it is saturated; a thousandth if not given.
    saturated: Option<AnyQuantityText>,
    /// The current that takes the flux back through zero: hysteresis; none if not given.
    coercive: Option<QuantityText<Current>>,
    /// Flux that an earlier fault or direct current left, as a share of saturation; none if not given.
    remanence: Option<QuantityText<Ratio>>,
    /// Resistance of what is connected to the secondary; open if neither is given.
    burden_resistance: Option<AnyQuantityText>,
    /// Reactance of what is connected to the secondary.
    burden_reactance: Option<AnyQuantityText>,
    /// Whether the burden was forgotten: it stays on whatever else is connected; false if not given.
    burden_left_on: Option<bool>,
    /// A bad joint in the lead to the winding.
    joint: Option<AnyQuantityText>,
    /// How many turns are shorted, in those of the primary.
    shorted_turns: Option<Number>,
    /// The resistance of the short circuit around them; that of a turn of the winding each if not given.
    short_circuit: Option<AnyQuantityText>,
    /// The resistance of a loop that closes the primary; it is open if not given.
    primary_loop: Option<AnyQuantityText>,
    /// Whether its secondary is left open while another core is tested; shorted if not given.
    left_open: Option<bool>,
    /// Whether the leads of the meters of primary and secondary voltage are swapped; false if not given.
    meters_swapped: Option<bool>,
    /// Resistance of the primary winding (voltage transformer).
    primary_resistance: Option<AnyQuantityText>,
    /// Leakage reactance of the primary winding (voltage transformer).
    primary_leakage: Option<AnyQuantityText>,
    /// What live neighbours induce into the primary, RMS.
    hum: Option<QuantityText<Voltage>>,
    /// By how much units like this one differ, standard deviation: of resistance, core and losses.
    spread: Option<QuantityText<Ratio>>,
}

/// A terminal along a winding.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct TapForm {
    /// What is written at it.
    at: String,
    /// Turns from the first terminal, over those of the primary.
    turns: Number,
}

impl TransformerForm {
    /// The truth of all cores; each gets its own draw of the spread.
    pub(crate) fn read(
        all: Vec<Self>,
        noise: Option<QuantityText<Ratio>>,
        seed: u64,
        problems: &mut Problems,
    ) -> Option<TransformerTruth> {
        let noise = noise.map_or(Some(0.0), |f| f.not_negative(problems).map(|r| r.value));
        let units: Vec<Option<Unit>> = all
            .into_iter()
            .enumerate()
            .map(|(k, form)| form.unit(&mut Noise::of_shot(seed, k as u64), problems))
            .collect();
        let units = units.into_iter().collect::<Option<Vec<_>>>()?;
        Some(TransformerTruth { units, noise: noise? })
    }

    fn unit(self, draw: &mut Noise, problems: &mut Problems) -> Option<Unit> {
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
        let share = |field: &Option<QuantityText<Ratio>>, usual: f64, problems: &mut Problems| {
            field.as_ref().map_or(Some(usual), |f| f.not_negative(problems).map(|r| r.value))
        };
        let volts = |field: &Option<QuantityText<Voltage>>, problems: &mut Problems| match field {
            None => Some(None),
            Some(field) => field.not_negative(problems).map(|v| Some(v.si())),
        };
        let turns = self.turned(problems);
        let resistance = ohms(&self.resistance, problems);
        let leakage = perhaps(&self.leakage, problems);
        let magnetising = ohms(&self.magnetising, problems);
        let losses = ohms(&self.losses, problems);
        let saturation = volts(&self.saturation, problems);
        let rounding = share(&self.rounding, 0.03, problems);
        let saturated = perhaps(&self.saturated, problems);
        let coercive = match &self.coercive {
            None => Some(0.0),
            Some(field) => field.not_negative(problems).map(Measure::si),
        };
        let remanence = share(&self.remanence, 0.0, problems);
        let burden_r = perhaps(&self.burden_resistance, problems);
        let burden_x = perhaps(&self.burden_reactance, problems);
        let joint = perhaps(&self.joint, problems);
        let shorted = match &self.shorted_turns {
            None => Some(None),
            Some(turns) => turns.positive(problems).map(Some),
        };
        let short_circuit = perhaps(&self.short_circuit, problems);
        let primary_loop = perhaps(&self.primary_loop, problems);
        let primary_r = perhaps(&self.primary_resistance, problems);
        let primary_x = perhaps(&self.primary_leakage, problems);
        let hum = volts(&self.hum, problems);
        let spread = share(&self.spread, 0.0, problems)?;
        let mut spread = move || 1.0 + draw.draw(spread);
        let hertz = hertz?;
        let w = TAU * hertz;
        let turns = turns?;
        let n = turns.last().map_or(1.0, |(_, n)| *n);
        let resistance = resistance? * spread();
        let magnetising = magnetising? * spread();
        let flux = saturation?.map_or(f64::INFINITY, |v| v * SQRT_2 / (w * n) * spread());
        let magnetics = Magnetics {
            reluctance: n * n * w / magnetising,
            saturation: flux,
            rounding: rounding?,
            air: n * n * w / saturated?.unwrap_or(magnetising / 1000.0),
            coercive: coercive? * n * spread(),
            eddy: n * n / (losses? * spread()),
        };
        let burden = match (burden_r?, burden_x?) {
            (None, None) => None,
            (r, x) => Some(Burden {
                resistance_ohm: r.unwrap_or(0.0),
                inductance_h: x.unwrap_or(0.0) / w,
            }),
        };
        let of_a_turn = resistance / n;
        let short_circuit = short_circuit?;
        let terminals = turns.into_iter().map(|(name, turns)| Terminal {
            name,
            turns,
            resistance_ohm: resistance * turns / n,
        });
        Some(Unit {
            phase: self.phase,
            terminals: terminals.collect(),
            reversed: self.reversed.unwrap_or(false),
            leakage_h: leakage?.unwrap_or(0.0) / w,
            magnetics,
            remanence: if flux.is_finite() { remanence? } else { 0.0 },
            burden,
            burden_stays: self.burden_left_on.unwrap_or(false),
            joint_ohm: joint?.unwrap_or(0.0),
            shorted: shorted?.map(|k| (k, short_circuit.unwrap_or(of_a_turn * k))),
            primary_loop_ohm: primary_loop?,
            left_open: self.left_open.unwrap_or(false),
            swapped: self.meters_swapped.unwrap_or(false),
            primary: (primary_r?.unwrap_or(0.0), primary_x?.unwrap_or(0.0) / w),
            hum: (hum?.unwrap_or(0.0), hertz),
        })
    }

    /// The terminals with their turns.
    fn turned(&self, problems: &mut Problems) -> Option<Vec<(String, f64)>> {
        match (&self.turns, &self.taps) {
            (Some(turns), None) => {
                let whole = turns.positive(problems)?;
                Some(vec![(String::new(), 0.0), (String::new(), whole)])
            }
            (None, Some(taps)) if taps.len() >= 2 => {
                let read = |tap: &TapForm, problems: &mut Problems| {
                    let turns = tap.turns.read(problems)?;
                    if turns < 0.0 || !turns.is_finite() {
                        let message = "turns count from the first terminal, from 0 on";
                        problems.push(Problem::new(tap.turns.span(), message));
                        return None;
                    }
                    Some((tap.at.clone(), turns))
                };
                let all: Vec<_> = taps.iter().map(|tap| read(tap, problems)).collect();
                all.into_iter().collect()
            }
            _ => {
                let message = "a winding needs its `turns`, or `taps` with at least two terminals";
                problems.push(Problem::new(self.resistance.span(), message));
                None
            }
        }
    }
}
