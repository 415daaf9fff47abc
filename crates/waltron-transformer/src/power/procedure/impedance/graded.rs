//! What the readings of impedances come to.

use super::{ALIKE, IMPEDANCE, ZERO};
use crate::measure::{injected, shown};
use crate::power::pairs::Terminal;
use waltron_core::grading::{
    Finding, Judgement, Limits, PointId, Value, Values, Verdict, judge_between,
};
use waltron_core::injection::measuring::Probe;
use waltron_core::injection::observation::Observation;
use waltron_core::quantity::tolerance::AnyTolerance;
use waltron_core::quantity::{Dimension, Quantity, significant};
use waltron_core::uncertainty::Estimate;

/// By how much the lines of a winding may differ from their mean (IEEE C57.152: 3 %).
const APART: f64 = 0.03;

/// The lines of a winding.
const LINES: [&str; 3] = ["U-V", "V-W", "W-U"];

/// What is read.
#[derive(Clone, Debug)]
pub(super) struct Probes {
    pub(super) impedance: Probe,
    pub(super) volts: Probe,
    pub(super) amps: Probe,
}

/// An impedance as it was measured, in ohms.
#[derive(Clone, Debug)]
struct Read {
    ohm: Estimate,
    angle: f64,
}

fn ohms(si: f64) -> Quantity {
    Quantity { si, dimension: Dimension::RESISTANCE }
}

fn percent(share: f64) -> String {
    format!("{} %", significant(share * 100.0, 4))
}

fn read(seen: Option<&Observation>, probes: &Probes) -> Result<Read, String> {
    let seen = seen.ok_or("not every line was measured")?;
    let amps = shown(seen, &probes.amps)?;
    if amps.u.is_some_and(|u| amps.value < 10.0 * u) {
        let of = Quantity { si: amps.value, dimension: Dimension::CURRENT };
        return Err(format!("{of} flow, which is nothing: the short circuit or a lead is off"));
    }
    let volts = shown(seen, &probes.volts)?;
    if volts.u.is_some_and(|u| volts.value < 10.0 * u) {
        return Err("no voltage is there: what is fed is shorted itself".to_owned());
    }
    let read = shown(seen, &probes.impedance)?;
    let angle = read.angle.ok_or("the impedance has no angle")?;
    Ok(Read { ohm: read.estimate(), angle })
}

/// What the short-circuit impedance must be.
#[derive(Clone, Debug)]
pub(super) struct Required {
    pub(super) impedance: PointId,
    pub(super) alike: PointId,
    pub(super) stimulus: Values,
    pub(super) base_ohm: f64,
    /// That of the nameplate, as a share, where it speaks of this position.
    pub(super) known: Option<f64>,
    pub(super) tolerance: AnyTolerance,
    /// Whether a line is two phases, as in a star.
    pub(super) is_star: bool,
}

impl Required {
    /// The lines U-V, V-W, W-U.
    pub(super) fn graded(&self, seen: &[Option<&Observation>], probes: &Probes) -> Vec<Finding> {
        let mean = injected(self.impedance.clone(), IMPEDANCE, &self.stimulus);
        let alike = injected(self.alike.clone(), ALIKE, &self.stimulus);
        let line = |(k, s): (usize, &Option<&Observation>)| {
            let read = read(*s, probes)?;
            Ok(Read { ohm: read.ohm.of_injection(LINES[k % 3]), ..read })
        };
        let all: Result<Vec<Read>, String> = seen.iter().enumerate().map(line).collect();
        let all = match all {
            Ok(all) if all.len() == 3 => all,
            Ok(_) => return self.neither(mean, alike, "not every line was measured"),
            Err(why) => return self.neither(mean, alike, &why),
        };
        // Between two lines lie two phases (IEEE C57.152: the mean of the three, over two).
        let phase: Vec<Estimate> = all.iter().map(|r| r.ohm.clone().times(0.5)).collect();
        let sum = phase.iter().fold(Estimate::exact(0.0), |sum, ohm| sum.plus(ohm));
        let mean_ohm = sum.times(1.0 / 3.0);
        let middle = mean_ohm.value;
        let share = middle / self.base_ohm;
        let react = all.iter().map(|r| r.ohm.value / 2.0 * r.angle.sin()).sum::<f64>() / 3.0;
        let measured = Values::none()
            .with_percent("impedance", share)
            .with_quantity("ohms", ohms(middle))
            .with_quantity("reactance", ohms(react))
            .with_quantity("line_uv", ohms(all[0].ohm.value))
            .with_quantity("line_vw", ohms(all[1].ohm.value))
            .with_quantity("line_wu", ohms(all[2].ohm.value));
        let mean =
            Finding { measured, ..mean }.uncertain(&mean_ohm.clone().times(1.0 / self.base_ohm));
        vec![self.against_nameplate(mean, share), self.differs(alike, &phase, &mean_ohm)]
    }

    fn neither(&self, mean: Finding, alike: Finding, why: &str) -> Vec<Finding> {
        let judged = || Judgement::new(Verdict::Inconclusive, why.to_owned());
        vec![mean.judged(judged()), alike.judged(judged())]
    }

    fn against_nameplate(&self, found: Finding, share: f64) -> Finding {
        let Some(known) = self.known else {
            let why = "the nameplate says nothing of this position";
            return found.judged(Judgement::new(Verdict::Measured, why));
        };
        let (low, high) = self.tolerance.limits(known);
        let end = |share| Some(Value::Percent(share));
        let found = Finding {
            expected: Values::none().with_percent("impedance", known),
            deviation: Values::none().with_percent("impedance", share / known - 1.0),
            limits: Limits::Between { lower: end(low), upper: end(high) },
            ..found
        };
        found.judged(judge_between(Quantity::number(share), low, high))
    }

    fn differs(&self, found: Finding, phase: &[Estimate], middle: &Estimate) -> Finding {
        let off: Vec<f64> = phase.iter().map(|ohm| ohm.value / middle.value - 1.0).collect();
        let worst = (0..3).max_by(|a, b| off[*a].abs().total_cmp(&off[*b].abs())).unwrap_or(0);
        let widest = off[worst].abs();
        let found = Finding {
            measured: Values::none().with_percent("difference", widest),
            limits: Limits::Between { lower: None, upper: Some(Value::Percent(APART)) },
            ..found
        };
        let found = found.uncertain(&phase[worst].clone().over(middle));
        let mut told = format!("{} is {} from the mean", LINES[worst], percent(off[worst]));
        if self.is_star {
            // What two lines have in common less what the third one has: a phase of its own.
            let of_phase = |k: usize| off[k] + off[(k + 2) % 3] - off[(k + 1) % 3];
            let phase = (0..3)
                .max_by(|a, b| of_phase(*a).abs().total_cmp(&of_phase(*b).abs()))
                .unwrap_or(0);
            let letter = Terminal::Phase(phase as u8).letter();
            told = format!("{told}, phase {letter} {}", percent(of_phase(phase)));
        }
        let (verdict, why) = match widest <= APART {
            true => (Verdict::Pass, told),
            false => (
                Verdict::Fail,
                format!("{told}: a winding has moved, turns are shorted, or the straps are loose"),
            ),
        };
        found.judged(Judgement::new(verdict, why))
    }
}

/// What is told of the zero-sequence impedance.
#[derive(Clone, Debug)]
pub(super) struct ZeroRequired {
    pub(super) point: PointId,
    pub(super) stimulus: Values,
    pub(super) base_ohm: f64,
    /// The nameplate's short-circuit impedance, as a share.
    pub(super) short_circuit: Option<f64>,
}

impl ZeroRequired {
    pub(super) fn graded(&self, seen: &Observation, probes: &Probes) -> Finding {
        let found = injected(self.point.clone(), ZERO, &self.stimulus);
        let read = match read(Some(seen), probes) {
            Ok(read) => read,
            Err(why) => return found.judged(Judgement::new(Verdict::Inconclusive, why)),
        };
        // Three phases side by side take three times the current of one (IEC 60076-1, 11.6).
        let ohm = 3.0 * read.ohm.value;
        let share = ohm / self.base_ohm;
        let found = Finding {
            measured: Values::none()
                .with_percent("impedance", share)
                .with_quantity("ohms", ohms(ohm))
                .with_quantity("reactance", ohms(ohm * read.angle.sin())),
            ..found
        };
        let found = found.uncertain(&read.ohm.times(3.0 / self.base_ohm));
        let why = match self.short_circuit {
            Some(other) => format!(
                "{} of the short-circuit impedance {}",
                percent(share / other),
                percent(other)
            ),
            None => "nothing is known to hold it against".to_owned(),
        };
        found.judged(Judgement::new(Verdict::Measured, why))
    }
}
