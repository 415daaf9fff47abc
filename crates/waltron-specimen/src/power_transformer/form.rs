//! The power transformer's part of the specimen file.

use super::dielectric::Insulation;
use super::insulation_form::InsulationForm;
use super::limbs::MOST_LOOPS;
use super::network::{Edge, loops};
use super::truth::{Changer, CoilTruth, PowerTruth, Way, Winding};
use crate::Noise;
use crate::iron::Magnetics;
use schemars::JsonSchema;
use serde::Deserialize;
use std::f64::consts::{SQRT_2, TAU};
use waltron_core::quantity::{Current, Dimension, Frequency, Measure, Ratio, Time, Voltage};
use waltron_core::text::document::{
    AnyQuantityText, Field, Number, Problem, Problems, QuantityText, Spannable,
};

/// Its core, and what goes for all of it. Ampere-turns are told as currents around one turn.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct PowerForm {
    /// The frequency of reactances and of the volts of a turn.
    frequency: QuantityText<Frequency>,
    /// Volts of a turn in operation, RMS: what the flux is told by.
    volts_per_turn: QuantityText<Voltage>,
    /// Ampere-turns, RMS, that take the middle limb to that flux.
    exciting: QuantityText<Current>,
    /// More ampere-turns of each outer limb, for its share of the yokes.
    yoke: QuantityText<Current>,
    /// Ampere-turns at that flux and `frequency` that stand for eddy currents.
    losses: QuantityText<Current>,
    /// The flux at which it saturates, as a share of that in operation.
    saturation: QuantityText<Ratio>,
    /// Over which share of its flux it begins to; `4 %` if not given.
    rounding: Option<QuantityText<Ratio>>,
    /// How many times more ampere-turns more flux takes once it is saturated; 2000 if not given.
    saturated: Option<Number>,
    /// The ampere-turns that take the flux back through zero: hysteresis; none if not given.
    coercive: Option<QuantityText<Current>>,
    /// Ampere-turns between the yokes that drive the flux of a limb in operation through air and tank; 2000
    /// times `exciting` if not given.
    tank: Option<QuantityText<Current>>,
    /// Flux that was left in the limbs, as shares of saturation; none if not given.
    remanence: Option<Vec<Number>>,
    /// Temperature of the windings; `20 degC` if not given.
    temperature: Option<AnyQuantityText>,
    /// Temperature of oil and insulation; that of the windings if not given.
    oil_temperature: Option<AnyQuantityText>,
    /// Whether the lead that guards a winding is off, so that it floats; false if not given.
    guard_off: Option<bool>,
    /// Turns that are shorted in themselves.
    shorted: Option<Spannable<ShortedForm>>,
    /// After how long under direct current a lead of the source falls off; it never does if not given.
    lead_off_after: Option<QuantityText<Time>>,
    /// The voltage against a current that goes on while the rig's source is off; `6 V` if not given.
    off_drop: Option<QuantityText<Voltage>>,
    /// The resistance of its way there; `1 Ohm` if not given.
    off_path: Option<AnyQuantityText>,
    /// By how much units like this one differ, standard deviation: of resistances and of each limb's
    /// ampere-turns.
    spread: Option<QuantityText<Ratio>>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct ShortedForm {
    /// The limb: 1, 2 or 3.
    limb: usize,
    /// How many turns.
    turns: Number,
    /// Resistance of the short circuit with the turns.
    resistance: AnyQuantityText,
}

/// A winding with its coils.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct PowerWindingForm {
    /// Turns of each of its coils, where the tap changer stands at its principal position.
    turns: Number,
    /// Resistance of each coil there, at 20 °C.
    resistance: AnyQuantityText,
    /// Leakage reactance of each coil; none if not given.
    leakage: Option<AnyQuantityText>,
    /// What it is made of; copper if not given.
    aluminium: Option<bool>,
    /// Its coils.
    coils: Vec<CoilForm>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct CoilForm {
    /// Where it begins and ends, such as `1U-1N`; other names than those of terminals are inside.
    at: Spannable<String>,
    /// The limb: 1, 2 or 3, with 2 in the middle.
    limb: Spannable<usize>,
    /// Its turns, where they are not the winding's.
    turns: Option<Number>,
    /// Its resistance, where it is not the winding's.
    resistance: Option<AnyQuantityText>,
    /// Its leakage reactance, where it is not the winding's: it has moved.
    leakage: Option<AnyQuantityText>,
}

/// A tap changer of the power transformer.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct ChangerForm {
    /// What it is called: `OLTC`.
    id: String,
    /// The number of the winding that it acts on.
    winding: Spannable<usize>,
    /// What its positions are called; their numbers if not given.
    labels: Option<Vec<String>>,
    /// How many positions it has, where they have no names.
    positions: Option<usize>,
    /// The number of the principal one.
    principal: Spannable<usize>,
    /// Turns of a step: the first position has the most.
    step: Number,
    /// Positions, by number, that have the turns of the one before.
    same: Option<Vec<usize>>,
    /// Where it stands at the beginning, by number; at the principal position if not given.
    at: Option<usize>,
    /// From being asked to the contacts that change over; `5 s` if not given.
    takes: Option<QuantityText<Time>>,
    /// What its motor takes while it runs, direct; none if not given.
    motor: Option<QuantityText<Current>>,
    /// The transition resistor of each half of the diverter switch; none if not given.
    resistor: Option<AnyQuantityText>,
    /// How long each of its three stages lasts: one resistor, both, the other one; `15 ms` each if not given.
    stages: Option<Vec<QuantityText<Time>>>,
    /// A limb whose circuit is open for a time when a position is left.
    interrupted: Option<InterruptedForm>,
    /// A limb whose transition resistors are worn.
    worn: Option<WornForm>,
    /// The position, by number, from which it goes two positions further in place of one.
    oversteps: Option<usize>,
    /// Two positions that were exchanged on a limb.
    crossed: Option<CrossedForm>,
    /// A bad joint at a position of a limb.
    joint: Option<JointForm>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct CrossedForm {
    /// The limb: 1, 2 or 3.
    limb: usize,
    /// The two positions, by number.
    positions: [usize; 2],
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct InterruptedForm {
    /// The limb: 1, 2 or 3.
    limb: usize,
    /// The position that is left, by number.
    position: usize,
    /// For how long.
    time: QuantityText<Time>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct WornForm {
    /// The limb: 1, 2 or 3.
    limb: usize,
    /// Their resistance.
    resistance: AnyQuantityText,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct JointForm {
    /// The limb: 1, 2 or 3.
    limb: usize,
    /// The position, by number.
    position: usize,
    /// Its resistance.
    resistance: AnyQuantityText,
}

/// All tables of a power transformer.
pub(crate) struct PowerParts {
    pub(crate) head: PowerForm,
    pub(crate) windings: Vec<PowerWindingForm>,
    pub(crate) changers: Vec<ChangerForm>,
    pub(crate) insulation: Vec<InsulationForm>,
    pub(crate) noise: Option<QuantityText<Ratio>>,
}

fn ohms(field: &AnyQuantityText, problems: &mut Problems) -> Option<f64> {
    field.positive_of(Dimension::RESISTANCE, problems).map(|q| q.si)
}

/// How many closed ways coils make by themselves.
fn closed_ways(windings: &[Winding]) -> usize {
    let mut nodes: Vec<&String> = Vec::new();
    let mut node = |name| match nodes.iter().position(|n| *n == name) {
        Some(at) => at,
        None => {
            nodes.push(name);
            nodes.len() - 1
        }
    };
    let coils = windings.iter().flat_map(|w| &w.coils);
    let edges: Vec<Edge> =
        coils.map(|c| Edge { from: node(&c.ends[0]), to: node(&c.ends[1]) }).collect();
    loops(&edges).len()
}

/// The limb of a number that counts from 1.
fn limb(number: usize, place: std::ops::Range<usize>, problems: &mut Problems) -> Option<usize> {
    let found = number.checked_sub(1).filter(|limb| *limb < 3);
    if found.is_none() {
        problems.push(Problem::new(place, "the limbs are 1, 2 and 3"));
    }
    found
}

impl PowerParts {
    /// The truth of all tables.
    pub(crate) fn read(self, seed: u64, problems: &mut Problems) -> Option<PowerTruth> {
        let head = self.head;
        let share = |field: &Option<QuantityText<Ratio>>, usual: f64, problems: &mut Problems| {
            field.as_ref().map_or(Some(usual), |f| f.not_negative(problems).map(|r| r.value))
        };
        let noise = share(&self.noise, 0.0, problems);
        let spread = share(&head.spread, 0.0, problems);
        let rounding = share(&head.rounding, 0.04, problems);
        let hertz = head.frequency.positive(problems)?.si();
        let volts = head.volts_per_turn.positive(problems)?.si();
        let flux = volts * SQRT_2 / (TAU * hertz);
        let exciting = head.exciting.positive(problems)?.si() * SQRT_2;
        let yoke = head.yoke.positive(problems)?.si() * SQRT_2;
        let losses = head.losses.positive(problems)?.si();
        let saturation = head.saturation.positive(problems)?.value * flux;
        let times = head.saturated.map_or(Some(2000.0), |n| n.positive(problems))?;
        let coercive =
            head.coercive.map_or(Some(0.0), |c| c.not_negative(problems).map(Measure::si))?;
        let tank =
            head.tank.map_or(Some(exciting * 2000.0), |c| c.positive(problems).map(Measure::si))?;
        let kelvin = match &head.temperature {
            Some(text) => text.positive_of(Dimension::TEMPERATURE, problems)?.si,
            None => 293.15,
        };
        let oil_k = match &head.oil_temperature {
            Some(text) => text.positive_of(Dimension::TEMPERATURE, problems)?.si,
            None => kelvin,
        };
        let lead_off = head.lead_off_after;
        let lead_off_s =
            lead_off.map_or(Some(f64::INFINITY), |t| t.positive(problems).map(Measure::si))?;
        let off_ohm = head.off_path.map_or(Some(1.0), |text| ohms(&text, problems))?;
        let drop = head.off_drop.map_or(Some(6.0), |v| v.positive(problems).map(Measure::si))?;
        let (noise, spread, rounding) = (noise?, spread?, rounding?);
        let mut draw = Noise::of_shot(seed, 0);
        let mut differs = |value: f64| value * (1.0 + draw.draw(spread)).max(0.5);
        // An outer limb is longer by its share of the yokes.
        let limbs = [1.0 + yoke / exciting, 1.0, 1.0 + yoke / exciting].map(|long| Magnetics {
            reluctance: differs(exciting / flux * long),
            saturation,
            rounding,
            air: exciting / flux * times,
            coercive: differs(coercive * long),
            eddy: differs(losses / volts * long),
        });
        let mut remanence = [0.0; 3];
        for (k, number) in head.remanence.iter().flatten().enumerate() {
            let share = number.read(problems)?;
            if k >= 3 || share.abs() >= 1.0 {
                let message = "remanence is a share below 1 of each of three limbs";
                problems.push(Problem::new(number.span(), message));
                return None;
            }
            remanence[k] = share;
        }
        let shorted = match &head.shorted {
            None => None,
            Some(form) => {
                let of = form.get();
                let limb = limb(of.limb, form.span(), problems)?;
                Some((limb, of.turns.positive(problems)?, ohms(&of.resistance, problems)?))
            }
        };
        let mut windings = Vec::new();
        for form in &self.windings {
            windings.push(form.read(hertz, kelvin, &mut differs, problems)?);
        }
        let mut changers = Vec::new();
        for form in &self.changers {
            changers.push(form.read(windings.len(), problems)?);
        }
        let mut parts = Vec::new();
        for form in &self.insulation {
            parts.push(form.read(problems)?);
        }
        let guard_off = head.guard_off.unwrap_or(false);
        if closed_ways(&windings) + usize::from(shorted.is_some()) > MOST_LOOPS - 2 {
            let message =
                "the coils close too many ways: a delta has one, and no more than four are solved";
            problems.push(Problem::new(0..0, message));
            return None;
        }
        let vanishes = |c: &&Changer| c.turns.iter().any(|t| windings[c.winding].turns + t <= 0.0);
        if let Some(changer) = changers.iter().find(vanishes) {
            let message =
                format!("`{}` has positions that leave its winding no turns", changer.name);
            problems.push(Problem::new(0..0, message));
            return None;
        }
        Some(PowerTruth {
            limbs,
            remanence,
            tank: flux / tank,
            windings,
            changers,
            insulation: Insulation { parts, kelvin: oil_k, guard_off },
            shorted,
            off: (drop, off_ohm),
            lead_off_s,
            noise,
        })
    }
}

impl PowerWindingForm {
    fn read(
        &self,
        hertz: f64,
        kelvin: f64,
        differs: &mut dyn FnMut(f64) -> f64,
        problems: &mut Problems,
    ) -> Option<Winding> {
        let turns = self.turns.positive(problems)?;
        let resistance = ohms(&self.resistance, problems)?;
        let leakage = self.leakage.as_ref().map_or(Some(0.0), |text| ohms(text, problems))?;
        let vanishes = if self.aluminium == Some(true) { 225.0 } else { 235.0 };
        let warm = (vanishes + kelvin - 273.15) / (vanishes + 20.0);
        let mut coils = Vec::new();
        for form in &self.coils {
            let ends = form.at.get().split_once('-');
            let ends = ends.filter(|(a, b)| !a.is_empty() && !b.is_empty() && a != b);
            let Some((from, to)) = ends else {
                let message = "a coil lies between two ends, such as `1U-1N`";
                problems.push(Problem::new(form.at.span(), message));
                return None;
            };
            let own = |text: &Option<AnyQuantityText>, problems: &mut Problems| {
                text.as_ref().map_or(Some(resistance), |text| ohms(text, problems))
            };
            let own_turns = form.turns.as_ref().map_or(Some(turns), |n| n.positive(problems))?;
            coils.push(CoilTruth {
                ends: [from.to_owned(), to.to_owned()],
                limb: limb(*form.limb.get(), form.limb.span(), problems)?,
                turns: own_turns,
                ohm: differs(own(&form.resistance, problems)? * warm),
                henry: form.leakage.as_ref().map_or(Some(leakage), |text| ohms(text, problems))?
                    / (TAU * hertz),
            });
        }
        Some(Winding { turns, coils })
    }
}

impl ChangerForm {
    fn way(&self, problems: &mut Problems) -> Option<Way> {
        let usual = Way::default();
        let takes = self.takes.as_ref().map(|t| t.positive(problems).map(Measure::si));
        let resistor = self.resistor.as_ref().map(|text| ohms(text, problems));
        let mut stages_s = usual.stages_s;
        if let Some(stages) = &self.stages {
            let read: Vec<_> = stages.iter().map(|t| t.positive(problems)).collect();
            let read: Option<Vec<f64>> = read.into_iter().map(|t| t.map(Measure::si)).collect();
            let Ok(three) = <[f64; 3]>::try_from(read?) else {
                problems.push(Problem::new(self.winding.span(), "a change has three stages"));
                return None;
            };
            stages_s = three;
        }
        let interrupted = match &self.interrupted {
            Some(i) => {
                let limb = limb(i.limb, self.winding.span(), problems)?;
                Some((limb, i.position - 1, i.time.positive(problems)?.si()))
            }
            None => None,
        };
        let worn = match &self.worn {
            Some(w) => {
                let limb = limb(w.limb, self.winding.span(), problems)?;
                Some((limb, ohms(&w.resistance, problems)?))
            }
            None => None,
        };
        let motor = self.motor.as_ref().map(|c| c.positive(problems).map(Measure::si));
        Some(Way {
            takes_s: takes.unwrap_or(Some(usual.takes_s))?,
            motor_a: waltron_core::text::document::optional(motor)?,
            resistor_ohm: resistor.unwrap_or(Some(usual.resistor_ohm))?,
            stages_s,
            interrupted,
            worn,
            oversteps: self.oversteps.map(|n| n - 1),
        })
    }

    fn read(&self, windings: usize, problems: &mut Problems) -> Option<Changer> {
        let mut refuse = |message: &str| {
            problems.push(Problem::new(self.winding.span(), message.to_owned()));
        };
        let winding = *self.winding.get();
        if winding == 0 || winding > windings {
            refuse("there is no such winding; they are numbered from 1");
            return None;
        }
        let labels = match (&self.labels, self.positions) {
            (Some(labels), None) => labels.clone(),
            (None, Some(count)) if count <= 200 => (1..=count).map(|k| k.to_string()).collect(),
            _ => {
                refuse("a tap changer has either `labels` or a number of `positions`, 200 at most");
                return None;
            }
        };
        let count = labels.len();
        let at = self.at.unwrap_or(*self.principal.get());
        let crossed = self.crossed.as_ref().map(|c| (c.limb, c.positions[0], c.positions[1]));
        let mut numbers = vec![*self.principal.get(), at];
        numbers.extend(self.same.iter().flatten());
        numbers.extend(crossed.iter().flat_map(|(_, a, b)| [*a, *b]));
        numbers.extend(self.joint.as_ref().map(|j| j.position));
        numbers.extend(self.interrupted.as_ref().map(|i| i.position));
        numbers.extend(self.oversteps);
        if numbers.iter().any(|n| *n == 0 || *n > count) {
            let message = format!("positions are numbered from 1 to {count}");
            problems.push(Problem::new(self.principal.span(), message));
            return None;
        }
        let step = self.step.positive(problems)?;
        let same = self.same.clone().unwrap_or_default();
        let place = |k: usize| k as f64 - same.iter().filter(|s| **s - 1 <= k).count() as f64;
        let principal = *self.principal.get() - 1;
        let turns = (0..count).map(|k| (place(principal) - place(k)) * step).collect();
        let crossed = match crossed {
            Some((of, a, b)) => Some((limb(of, self.winding.span(), problems)?, a - 1, b - 1)),
            None => None,
        };
        let joint = match &self.joint {
            Some(j) => {
                let limb = limb(j.limb, self.winding.span(), problems)?;
                Some((limb, j.position - 1, ohms(&j.resistance, problems)?))
            }
            None => None,
        };
        let way = self.way(problems)?;
        let name = self.id.clone();
        Some(Changer { name, winding: winding - 1, labels, turns, crossed, joint, at: at - 1, way })
    }
}
