//! The readings of a ratio test in their order, and what they grade.

use super::graded;
use super::keys::{RatioForm, TurnsRatioTest};
use super::{FINDING, GROUP, MEASURED, RATIO};
use crate::measure::{between, point, probe, voltage};
use crate::power::asset::{PowerTransformer, Stand};
use crate::power::identify::LINES;
use crate::power::pairs::{Pair, Shot, Terminal};
use crate::power::procedure::arising::{arising, refuse_beyond, shown_up_to};
use crate::power::procedure::exciting::{Exciting, is_of_two};
use crate::power::procedure::joint::{Group, Joint, Step};
use crate::power::procedure::positions::{as_stands, prefix};
use crate::power::procedure::round_below;
use crate::power::vector_group::{Connection, Side, VectorGroup};
use std::sync::Arc;
use waltron_core::grading::Values;
use waltron_core::injection::measuring::{Probe, Property};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Program, Segment};
use waltron_core::procedure::{Also, Bench, PlannedPoint, SetupError};
use waltron_core::quantity::{Dimension, Measure, Quantity, Voltage};

/// The most that is fed where the plan does not say, in V: more would tell nothing more, and is deadly on
/// the way.
const MOST_V: f64 = 250.0;

/// How much of the short-circuit impedance is the fed winding's at most.
const LEAKS_AT_MOST: f64 = 2.0 / 3.0;

/// The share of its rated voltage that a winding is fed with at most, so that its core stays far from
/// saturation.
const MOST_SHARE: f64 = 0.5;

/// What is read of a phase.
#[derive(Clone, Debug)]
pub(super) struct Probes {
    pub(super) fed: Probe,
    pub(super) current: Probe,
    pub(super) induced: Probe,
    pub(super) ratio: Probe,
}

/// The test with everything that follows from asset and rig.
struct Setting<'a> {
    test: &'a TurnsRatioTest,
    of: &'a PowerTransformer,
    bench: Bench<'a>,
    shots: [Shot; 3],
    group: VectorGroup,
    probes: Probes,
    volts: Voltage,
    /// What arises on the other windings.
    also: Vec<Also>,
}

/// The share of a winding's line voltage that the turns of a phase have.
fn of_turns(side: Side) -> f64 {
    match side.connection {
        Connection::Star => 1.0 / 3f64.sqrt(),
        Connection::Delta => 1.0,
        // Two halves, of which each has a third of the line voltage.
        Connection::Zigzag => 2.0 / 3.0,
    }
}

/// All steps and what they grade together.
pub(super) fn joint(
    test: &TurnsRatioTest,
    of: &PowerTransformer,
    bench: Bench<'_>,
) -> Result<Joint, SetupError> {
    let setting = Setting::new(test, of, bench)?;
    let stands = test.positions.stands(of);
    let (mut steps, mut groups) = (Vec::new(), Vec::new());
    let mut places: Vec<(usize, usize)> = Vec::new();
    let first = (0..3).map(|phase| (0, phase));
    let rest: Vec<(usize, usize)> = match bench.capability.switches_leads {
        // The tap changer is moved least.
        true => (1..stands.len()).flat_map(|at| (0..3).map(move |phase| (at, phase))).collect(),
        // The leads are taken along least: up with the phase where they are, down with the next.
        false => {
            let up = (1..stands.len()).map(|at| (at, 2));
            let down = (1..stands.len()).rev().map(|at| (at, 1));
            let again = (1..stands.len()).map(|at| (at, 0));
            up.chain(down).chain(again).collect()
        }
    };
    for (at, phase) in first {
        places.push((at, phase));
        steps.push(setting.step(&stands[at], phase)?);
    }
    let begin = steps.len();
    if test.finds {
        for phase in 0..3 {
            for line in LINES {
                steps.push(setting.finding(&stands[0], phase, line, begin)?);
            }
        }
    }
    let found: Vec<usize> = (0..steps.len()).collect();
    for (at, phase) in rest {
        places.push((at, phase));
        steps.push(setting.step(&stands[at], phase)?);
    }
    groups.push(setting.group(&stands[0], found));
    let index = |at: usize, phase: usize| {
        let k = places.iter().position(|place| *place == (at, phase)).unwrap_or_default();
        if k < begin { k } else { k + if test.finds { 9 } else { 0 } }
    };
    for (at, stand) in stands.iter().enumerate() {
        groups.push(setting.exciting(stand, (0..3).map(|phase| index(at, phase)).collect()));
    }
    Ok(Joint::new(steps, groups))
}

impl<'a> Setting<'a> {
    fn new(
        test: &'a TurnsRatioTest,
        of: &'a PowerTransformer,
        bench: Bench<'a>,
    ) -> Result<Self, SetupError> {
        let rig = bench.capability;
        let (from, to) = (usize::from(test.from) - 1, usize::from(test.to) - 1);
        let none = || SetupError::Unknown("these windings have no pairs to be measured".to_owned());
        let shots = of.limbs().shots(test.from, test.to).ok_or_else(none)?;
        let group = of.group.between(from, to).ok_or_else(none)?;
        let sides = ["test voltage", "induced voltage"];
        let probes = Probes {
            fed: probe(rig, &sides[..1], Property::Phasor)?,
            current: probe(rig, &["test current"], Property::Phasor)?,
            induced: probe(rig, &sides[1..], Property::Phasor)?,
            ratio: probe(rig, &sides, Property::Phasor)?,
        };
        let output = rig.voltages.iter().find(|c| c.meaning == *"test voltage");
        let range = output.map_or(MOST_V, |c| c.range.si());
        // Of all positions the one with the least voltage bounds it, and of all phases alike.
        let stands = test.positions.stands(of);
        let rated = stands.iter().map(|s| of.volts(test.from, s)).fold(f64::INFINITY, f64::min);
        let most = rated * shots[0].fed_share * MOST_SHARE;
        // What is read of the other winding must be within its meter's range, too.
        let meter = rig.meter("induced voltage").map_or(f64::INFINITY, |meter| meter.range);
        let sides = (test.from, test.to);
        let shown = shown_up_to(of, &stands, sides, (&shots, test.finds), meter);
        let volts = match test.voltage {
            Some(volts) if volts.si() > most => {
                let of = |si| Quantity { si, dimension: Dimension::VOLTAGE };
                return Err(SetupError::Unknown(format!(
                    "{} is more than half of what {} is rated for: {} at most",
                    of(volts.si()),
                    shots[0].fed,
                    of(most)
                )));
            }
            Some(volts) => {
                refuse_beyond(volts, shown, &shots[0].measured, meter)?;
                volts
            }
            None => {
                let most = range.min(MOST_V).min(most).min(shown);
                Voltage::from_si(round_below(most, &[5.0, 2.5, 2.0, 1.0]))
            }
        };
        let also = arising(of, &stands, (test.from, &shots), volts);
        Ok(Self { test, of, bench, shots, group, probes, volts, also })
    }

    fn program(
        &self,
        name: &str,
        stand: &Stand,
        fed: &Pair,
        read: &Pair,
    ) -> Result<Program, SetupError> {
        let frequency = self.bench.frequency()?;
        let out = voltage(self.bench.capability, "test voltage", self.volts, frequency)?;
        let mut program = Program::of(vec![Segment::hold(name, out, self.test.time)]);
        let Probes { fed: v, current, induced, ratio } = self.probes.clone();
        program.reads = vec![v, current, induced, ratio];
        program.connection = Some(format!("{fed} / {read}").as_str().into());
        program.stands = as_stands(self.of, stand);
        Ok(program)
    }

    fn blank(&self, program: Program) -> Step {
        let mut step =
            Step::of(program, Values::none().with("voltage", self.volts), self.test.time);
        step.planned.also.clone_from(&self.also);
        step
    }

    /// The reading of a phase.
    fn step(&self, stand: &Stand, phase: usize) -> Result<Step, SetupError> {
        let (of, test, shot) = (self.of, self.test, self.shots[phase]);
        // From what is read to the ratio that is told.
        let told = match test.ratio {
            RatioForm::Nameplate => 1.0,
            RatioForm::Turns => {
                let side = |winding: u8| of_turns(of.group.sides[usize::from(winding) - 1]);
                side(test.from) / side(test.to)
            }
        };
        let expected = of.ratio(test.from, test.to, stand) * told;
        let scale = told / shot.factor;
        let limits = of.ratio_limits(test.from, test.to, stand, expected);
        let limits = between(limits, Dimension::NUMBER);
        let letter = Terminal::Phase(phase as u8).letter();
        let id = point(&test.test, &format!("{}{letter}", prefix(of, stand)));
        let program = self.program(MEASURED, stand, &shot.fed, &shot.measured)?;
        let mut step = self.blank(program);
        let planned = &mut step.planned;
        planned.points = vec![PlannedPoint::certain(id.clone(), RATIO)];
        planned.expected = Values::none().with_quantity("ratio", Quantity::number(expected));
        planned.limits = limits;
        let required = graded::Required {
            point: id,
            stimulus: planned.stimulus.clone(),
            expected,
            limits: planned.limits.clone(),
            scale,
            leakage_ohm: of
                .any_impedance(shot.fed.winding)
                .map(|share| LEAKS_AT_MOST * share * of.base_ohm(shot.fed.winding, stand)),
            phase: test.phase,
            elsewhere: self.elsewhere(stand, told),
        };
        let probes = self.probes.clone();
        step.grade = Arc::new(move |seen: &Observation| vec![required.graded(seen, &probes)]);
        Ok(step)
    }

    /// The limits that the ratio has at the other positions, each with its label: a wrong tap is told by them.
    fn elsewhere(&self, stand: &Stand, told: f64) -> Vec<(String, (f64, f64))> {
        let (of, test) = (self.of, self.test);
        let mut all = Vec::new();
        for winding in [test.from, test.to] {
            let Some((k, changer)) = of.changer_of(winding) else { continue };
            for (position, at) in changer.positions.iter().enumerate() {
                let mut other = stand.clone();
                other.0[k] = position;
                if other != *stand {
                    let ratio = of.ratio(test.from, test.to, &other) * told;
                    // Halfway to its neighbours would be as much of them.
                    let near = (ratio * 0.998, ratio * 1.002);
                    all.push((format!("{} {}", changer.name, at.label), near));
                }
            }
        }
        all
    }

    /// A reading that looks for the group: a line of the other winding.
    fn finding(
        &self,
        stand: &Stand,
        phase: usize,
        (a, b): (u8, u8),
        first: usize,
    ) -> Result<Step, SetupError> {
        let line = Pair::of(self.test.to, Terminal::Phase(a), Terminal::Phase(b));
        let program = self.program(FINDING, stand, &self.shots[phase].fed, &line)?;
        let (probes, scales) = (self.probes.clone(), self.scales(stand));
        let called = move |seen: &[Option<&Observation>]| {
            let seen = &seen[..first.min(seen.len())];
            // What was not put out says nothing.
            seen.iter().all(Option::is_some) && !graded::fits(seen, &probes, scales)
        };
        Ok(Step { is_called_for: Some(Arc::new(called)), ..self.blank(program) })
    }

    /// What each reading is multiplied by to be 1 where it is as expected.
    fn scales(&self, stand: &Stand) -> [f64; 3] {
        let ratio = self.of.ratio(self.test.from, self.test.to, stand);
        self.shots.map(|shot| 1.0 / (shot.factor * ratio))
    }

    /// The vector group, from the readings of the first position and those that look for it.
    fn group(&self, stand: &Stand, of: Vec<usize>) -> Group {
        let id = point(&self.test.test, "vector-group");
        let group = graded::GroupRequired {
            point: id.clone(),
            nameplate: self.group.clone(),
            fed: self.shots.map(|shot| Pair { winding: 1, ..shot.fed }),
            scales: self.scales(stand),
            finds: self.test.finds,
            stimulus: Values::none().with("voltage", self.volts),
        };
        let probes = self.probes.clone();
        let grade = move |seen: &[Option<&Observation>]| vec![group.graded(seen, &probes)];
        Group { points: vec![PlannedPoint::certain(id, GROUP)], of, grade: Arc::new(grade) }
    }

    /// The exciting currents of the phases at a position.
    fn exciting(&self, stand: &Stand, of: Vec<usize>) -> Group {
        let id = point(&self.test.test, &format!("{}exciting", prefix(self.of, stand)));
        let stimulus = Values::none().with("voltage", self.volts);
        let is_of_two = is_of_two(&self.of.limbs(), &self.shots);
        let exciting = Exciting::new(id, stimulus, self.of.allowed.exciting, is_of_two);
        exciting.group(of, self.probes.current.clone())
    }
}
