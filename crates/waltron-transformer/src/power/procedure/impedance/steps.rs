//! The measurements in their order, and what they grade.

use super::graded::{Probes, Required, ZeroRequired};
use super::keys::{ImpedanceTest, SequenceForm};
use super::{ALIKE, IMPEDANCE, SHORTED, TOGETHER, ZERO};
use crate::measure::{point, probe, voltage};
use crate::power::asset::{PowerTransformer, Stand};
use crate::power::identify::LINES;
use crate::power::pairs::{Pair, Terminal};
use crate::power::procedure::joint::{Group, Joint, Step};
use crate::power::procedure::positions::{as_stands, prefix};
use crate::power::procedure::round_below;
use crate::power::vector_group::Connection;
use std::sync::Arc;
use waltron_core::grading::Values;
use waltron_core::injection::measuring::Property;
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Program, Segment};
use waltron_core::procedure::{Bench, PlannedPoint, SetupError};
use waltron_core::quantity::{Measure, Voltage, seconds, text};

/// How long a reading takes.
const TIME_S: f64 = 1.0;

/// What is taken for the impedance where the nameplate says nothing, as a share: less would drive more current.
const LEAST: f64 = 0.03;

/// How much of what output and meter can is used.
const USED: f64 = 0.8;

/// The least share of an output's range that it sets well.
const LEAST_SHARE: f64 = 1e-3;

/// The most that is fed where the plan does not say, in V.
const MOST_V: f64 = 250.0;

/// The test with what follows from asset and rig.
struct Setting<'a> {
    test: &'a ImpedanceTest,
    of: &'a PowerTransformer,
    bench: Bench<'a>,
    probes: Probes,
    volts: Voltage,
}

/// All steps and what they grade together.
pub(super) fn joint(
    test: &ImpedanceTest,
    of: &PowerTransformer,
    bench: Bench<'_>,
) -> Result<Joint, SetupError> {
    let setting = Setting::new(test, of, bench)?;
    let (mut steps, mut groups) = (Vec::new(), Vec::new());
    for stand in test.positions.stands(of) {
        match test.sequence {
            SequenceForm::Zero => steps.push(setting.zero(&stand)?),
            SequenceForm::ShortCircuit => {
                let first = steps.len();
                for line in LINES {
                    steps.push(setting.line(&stand, line)?);
                }
                groups.push(setting.together(&stand, (first..steps.len()).collect()));
            }
        }
    }
    Ok(Joint::new(steps, groups))
}

impl<'a> Setting<'a> {
    fn new(
        test: &'a ImpedanceTest,
        of: &'a PowerTransformer,
        bench: Bench<'a>,
    ) -> Result<Self, SetupError> {
        let rig = bench.capability;
        let sides = ["test voltage", "test current"];
        let probes = Probes {
            impedance: probe(rig, &sides, Property::Phasor)?,
            volts: probe(rig, &sides[..1], Property::Phasor)?,
            amps: probe(rig, &sides[1..], Property::Phasor)?,
        };
        let output = rig.voltages.iter().find(|c| c.meaning == *"test voltage");
        let range = output.map_or(MOST_V, |c| c.range.si());
        let meter = rig.meters.iter().find(|m| m.meaning == *"test current");
        let rated =
            of.winding(test.winding).map_or(f64::NAN, crate::power::asset::Winding::current_a);
        let amps = [output.and_then(|c| c.ability.compliance), meter.map(|m| m.range)];
        let amps = amps.into_iter().flatten().fold(rated, f64::min) * USED;
        let stands = test.positions.stands(of);
        let base =
            stands.iter().map(|s| of.base_ohm(test.winding, s)).fold(f64::INFINITY, f64::min);
        let share = match test.sequence {
            SequenceForm::ShortCircuit => known(of, test.winding, test.shorted.unwrap_or(0)),
            // A delta beside makes it hardly less.
            SequenceForm::Zero => of.any_impedance(test.winding).map(|share| 0.6 * share),
        };
        let share = share.unwrap_or(LEAST);
        // Between two lines there are two phases; three together are a third of one.
        let ohm = base * share * if test.sequence == SequenceForm::Zero { 1.0 / 3.0 } else { 2.0 };
        let most = range.min(MOST_V);
        let volts = match test.voltage {
            Some(volts) if volts.si() > range => {
                return Err(SetupError::Unknown(format!(
                    "{} is more than the rig puts out: {} at most",
                    text(volts),
                    text(Voltage::from_si(range))
                )));
            }
            Some(volts) => volts,
            None => Voltage::from_si(round_below(most.min(amps * ohm), &[5.0, 2.5, 2.0, 1.0])),
        };
        // A short circuit takes what the nameplate says, whatever the output would give.
        if volts.si() / ohm > rated * (1.0 + 1e-9) {
            return Err(SetupError::Unknown(format!(
                "{} would drive about {} through winding {}, which is rated for {}: {} at most",
                text(volts),
                text(waltron_core::quantity::Current::from_si(volts.si() / ohm)),
                test.winding,
                text(waltron_core::quantity::Current::from_si(rated)),
                text(Voltage::from_si(rated * ohm))
            )));
        }
        if volts.si() < LEAST_SHARE * range {
            return Err(SetupError::Unknown(format!(
                "{} would drive {} through winding {}, and are less than the output sets: feed another winding, or take a source of more current",
                text(volts),
                text(waltron_core::quantity::Current::from_si(volts.si() / ohm)),
                test.winding
            )));
        }
        Ok(Self { test, of, bench, probes, volts })
    }

    fn step(&self, name: &str, stand: &Stand, leads: &str) -> Result<Step, SetupError> {
        let frequency = self.bench.frequency()?;
        let out = voltage(self.bench.capability, "test voltage", self.volts, frequency)?;
        let mut program = Program::of(vec![Segment::hold(name, out, seconds(TIME_S))]);
        let Probes { impedance, volts, amps } = self.probes.clone();
        program.reads = vec![impedance, volts, amps];
        program.connection = Some(leads.into());
        program.shorts = self.test.shorted.map(|n| straps(n).as_str().into());
        program.stands = as_stands(self.of, stand);
        let stimulus = Values::none().with("voltage", self.volts);
        Ok(Step::of(program, stimulus, seconds(TIME_S)))
    }

    /// The terminals of the winding that is shorted, in words of places.
    fn shorted(&self) -> String {
        let of = |n: u8| format!(" / {} shorted", straps(n));
        self.test.shorted.map(of).unwrap_or_default()
    }

    fn line(&self, stand: &Stand, (a, b): (u8, u8)) -> Result<Step, SetupError> {
        let pair = Pair::of(self.test.winding, Terminal::Phase(a), Terminal::Phase(b));
        self.step(SHORTED, stand, &format!("{pair}{}", self.shorted()))
    }

    fn required(&self, stand: &Stand) -> Required {
        let (of, test) = (self.of, self.test);
        let id = |what: &str| point(&test.test, &format!("{}{what}", prefix(of, stand)));
        // The nameplate speaks of the principal position.
        let nameplate = known(of, test.winding, test.shorted.unwrap_or(0));
        let is_principal = *stand == of.principal();
        Required {
            impedance: id("impedance"),
            alike: id("difference"),
            stimulus: Values::none().with("voltage", self.volts),
            base_ohm: of.base_ohm(test.winding, stand),
            known: nameplate.filter(|_| is_principal),
            tolerance: of.allowed.impedance,
            is_star: of.group.sides[usize::from(test.winding) - 1].connection == Connection::Star,
        }
    }

    fn together(&self, stand: &Stand, of: Vec<usize>) -> Group {
        let required = self.required(stand);
        let points = vec![
            PlannedPoint::certain(required.impedance.clone(), IMPEDANCE),
            PlannedPoint::certain(required.alike.clone(), ALIKE),
        ];
        let probes = self.probes.clone();
        let grade = move |seen: &[Option<&Observation>]| required.graded(seen, &probes);
        Group { points, of, grade: Arc::new(grade) }
    }

    fn zero(&self, stand: &Stand) -> Result<Step, SetupError> {
        let n = self.test.winding;
        let leads = format!("{n}N-{n}U+{n}V+{n}W{}", self.shorted());
        let mut step = self.step(TOGETHER, stand, &leads)?;
        let required = ZeroRequired {
            point: point(&self.test.test, &format!("{}zero", prefix(self.of, stand))),
            stimulus: Values::none().with("voltage", self.volts),
            base_ohm: self.of.base_ohm(n, stand),
            short_circuit: self.of.any_impedance(n),
        };
        step.planned.points = vec![PlannedPoint::certain(required.point.clone(), ZERO)];
        let probes = self.probes.clone();
        step.grade = Arc::new(move |seen: &Observation| vec![required.graded(seen, &probes)]);
        Ok(step)
    }
}

/// The impedance that a winding's ratings make, in ohms.
/// The nameplate's impedance of two windings, as a share.
fn known(of: &PowerTransformer, a: u8, b: u8) -> Option<f64> {
    let fits = |(x, y, _): &&(u8, u8, f64)| (*x, *y) == (a, b) || (*x, *y) == (b, a);
    of.impedances.iter().find(fits).map(|i| i.2)
}

/// The terminals of a winding that straps join.
fn straps(n: u8) -> String {
    format!("{n}U+{n}V+{n}W")
}
