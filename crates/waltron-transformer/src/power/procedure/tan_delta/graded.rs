//! What the readings of insulation come to.

use super::corrected::Both;
use super::keys::By;
use super::parts::Shows;
use super::steps::farads;
use super::{CAPACITANCE, LOSSES, SUM};
use crate::material::celsius;
use crate::measure::{Shown, between, injected, of as shown};
use crate::power::asset::Insulation;
use crate::power::insulation::Loss;
use std::f64::consts::{FRAC_PI_2, TAU};
use waltron_core::grading::{
    Finding, Judgement, Limits, PointId, Value, Values, Verdict, judge_between,
};
use waltron_core::injection::measuring::{Probe, Property, Reading};
use waltron_core::injection::observation::Observation;
use waltron_core::quantity::tolerance::AnyTolerance;
use waltron_core::quantity::{Dimension, ELECTRONVOLT, Quantity, significant};
use waltron_core::uncertainty::Estimate;

/// By how much a sum may differ from its parts, as a share.
const APART: f64 = 0.01;

/// What is read of a part.
#[derive(Clone, Debug)]
pub(super) struct Probes {
    pub(super) admittance: Probe,
    pub(super) volts: Probe,
    pub(super) amps: Probe,
}

/// A capacitance with its losses, as it was measured.
#[derive(Clone, Debug)]
pub(crate) struct Read {
    pub(crate) farad: f64,
    /// The capacitance with what makes it uncertain.
    of_farad: Estimate,
    pub(crate) loss: Loss,
    /// tan δ with what makes it uncertain.
    of_loss: Estimate,
}

/// What a segment measured, at the frequency that the voltage shows.
fn read(seen: &Observation, segment: usize, probes: &Probes) -> Result<Read, String> {
    let last = |probe: &Probe| {
        let reading = seen.in_segment(segment, probe).last();
        shown(reading.ok_or_else(|| format!("`{probe}` was not measured"))?)
    };
    let admittance = last(&probes.admittance)?;
    let Shown { value, angle, angle_u, .. } = admittance;
    let volts = seen.in_segment(segment, &probes.volts).last();
    let hertz = volts.and_then(|reading| reading.value.get("frequency"));
    let hertz = hertz.ok_or("the voltage shows no frequency")?;
    // A current of less than its meter knows has no angle.
    let amps = last(&probes.amps)?;
    if amps.u.is_some_and(|u| amps.value < 2.0 * u) {
        let of = Quantity { si: amps.value, dimension: Dimension::CURRENT };
        return Err(format!("{of} flow, which is nothing: a lead is off"));
    }
    let angle = angle.ok_or("the current has no angle")?;
    let turned = admittance.angle_estimate().unwrap_or_else(|| Estimate::exact(angle));
    let delta = FRAC_PI_2 - angle;
    let farad = value * angle.sin() / (TAU * hertz);
    let tan_delta = delta.tan();
    let turn = angle_u.unwrap_or(0.0);
    let of_size = admittance.estimate();
    Ok(Read {
        farad,
        of_farad: of_size.joined(&turned, farad, [farad / value, farad / angle.tan()]),
        of_loss: turned.function(tan_delta, -(1.0 + tan_delta.powi(2))),
        loss: Loss { hertz, tan_delta, u: turn * (1.0 + tan_delta.powi(2)) },
    })
}

/// What the segments of a sweep measured, by rising frequency: whatever plan it was put out by.
///
/// # Errors
/// What one of them did not show.
pub(super) fn sweep(seen: &Observation, probes: &Probes) -> Result<Vec<Read>, String> {
    let all: Result<Vec<Read>, String> =
        (1..seen.segments.len()).map(|k| read(seen, k, probes)).collect();
    let mut all = all?;
    all.sort_by(|a, b| a.loss.hertz.total_cmp(&b.loss.hertz));
    Ok(all)
}

/// What an injection measured over frequency, for who draws it: the rated one and its sweep, by rising frequency.
pub(crate) fn over_frequency(seen: &Observation) -> Vec<Read> {
    let find = |of: &[&str]| {
        let fits = |r: &&Reading| r.probe.of.names() == of && r.probe.what == Property::Phasor;
        seen.readings.iter().find(fits).map(|r| r.probe.clone())
    };
    let both = ["measured current", "high voltage"];
    let probes = (|| {
        Some(Probes { admittance: find(&both)?, volts: find(&both[1..])?, amps: find(&both[..1])? })
    })();
    let Some(probes) = probes else { return Vec::new() };
    let mut all: Vec<Read> =
        (0..seen.segments.len()).filter_map(|k| read(seen, k, &probes).ok()).collect();
    all.sort_by(|a, b| a.loss.hertz.total_cmp(&b.loss.hertz));
    all
}

/// What a part must be.
#[derive(Clone, Debug)]
pub(super) struct PartRequired {
    pub(super) losses: PointId,
    pub(super) capacitance: PointId,
    pub(super) shows: Shows,
    pub(super) stimulus: Values,
    pub(super) insulation: Insulation,
    pub(super) most: f64,
    pub(super) tolerance: AnyTolerance,
    pub(super) kelvin: f64,
    pub(super) uncertainty_k: f64,
    /// Why it has no sweep, where it has none.
    pub(super) no_sweep: Option<String>,
    pub(super) by: By,
}

impl PartRequired {
    /// The name under which the file knows it.
    fn name(&self) -> String {
        self.shows.id()
    }

    fn bushing(&self, at: &str) -> Option<&crate::power::asset::Bushing> {
        self.insulation.bushings.iter().find(|b| b.at == at)
    }

    /// Its capacitance as it is known.
    pub(super) fn known_farad(&self) -> Option<f64> {
        match &self.shows {
            Shows::Part(part) => self.insulation.known(part)?.farad,
            Shows::C1(at) => self.bushing(at)?.c1_farad,
            Shows::C2(at) => self.bushing(at)?.c2_farad,
            Shows::Sum(..) => None,
        }
    }

    /// Its tan δ at 20 °C as it is known.
    fn known_loss(&self) -> Option<f64> {
        match &self.shows {
            Shows::Part(part) => self.insulation.known(part)?.tan_delta,
            Shows::C1(at) => self.bushing(at)?.tan_delta,
            _ => None,
        }
    }

    pub(super) fn limits(&self) -> Limits {
        match self.shows {
            // What lies between tap and flange is oil and air that changes with the weather.
            Shows::C2(_) => Limits::None,
            _ => Limits::Between { lower: None, upper: Some(Value::Percent(self.most)) },
        }
    }

    pub(super) fn graded(&self, seen: &Observation, probes: &Probes) -> Vec<Finding> {
        let found = Finding {
            limits: self.limits(),
            ..injected(self.losses.clone(), LOSSES, &self.stimulus)
        };
        let rated = match read(seen, 0, probes) {
            Ok(rated) => rated,
            Err(why) => {
                let mut all =
                    vec![found.judged(Judgement::new(Verdict::Inconclusive, why.clone()))];
                if self.known_farad().is_some() {
                    let other = injected(self.capacitance.clone(), CAPACITANCE, &self.stimulus);
                    all.push(other.judged(Judgement::new(Verdict::Inconclusive, why)));
                }
                return all;
            }
        };
        let mut all = vec![self.losses(found, &rated, sweep(seen, probes))];
        all.extend(self.capacitances(&rated));
        all
    }

    fn losses(&self, found: Finding, rated: &Read, sweep: Result<Vec<Read>, String>) -> Finding {
        let plain = |name, share: f64| Values::none().with_percent(name, share);
        let own = plain("tan_delta", rated.loss.tan_delta);
        let power_factor = rated.loss.tan_delta.atan().sin();
        let capacitance = Values::none().with_quantity("capacitance", farads(rated.farad));
        let basics = own.and(plain("power_factor", power_factor)).and(capacitance);
        if rated.farad <= 0.0 || rated.loss.tan_delta < -rated.loss.u {
            let found = Finding { measured: basics, ..found };
            let why = "losses below zero: a lead, the guard or the earth is not where it should be";
            return found.judged(Judgement::new(Verdict::Inconclusive, why));
        }
        if matches!(self.shows, Shows::C2(_)) {
            let found = Finding { measured: basics, ..found }.uncertain(&rated.of_loss);
            let why = "from tap to flange, which is not limited";
            return found.judged(Judgement::new(Verdict::Measured, why));
        }
        let no_sweep = || self.no_sweep.clone().unwrap_or_else(|| "no sweep was taken".to_owned());
        let sweep = sweep.and_then(|all| if all.is_empty() { Err(no_sweep()) } else { Ok(all) });
        let swept = sweep;
        let sweep =
            swept.as_ref().map(|all| all.iter().map(|read| read.loss).collect::<Vec<Loss>>());
        let of = &self.insulation;
        let losses = sweep.as_deref().map_err(|why| (*why).clone());
        let both = Both::of(of, &self.name(), rated.loss, losses, self.kelvin);
        let mut measured = Values::none();
        let mut more = Values::none();
        if let Ok((corrected, energy)) = &both.sweep {
            more = more
                .and(plain("by_sweep", corrected.tan_delta))
                .with_quantity("read_at", hertz(corrected.hertz))
                .with_quantity("activation", electronvolts(energy.ev))
                .and(plain("of_energy", corrected.of_energy));
        }
        if let Ok((value, _)) = &both.table {
            more = more.and(plain("by_table", *value));
        }
        let measured_at = |hertz: f64| {
            let off = |read: &&Read| (read.loss.hertz / hertz).ln().abs();
            let nearest =
                swept.iter().flatten().chain([rated]).min_by(|a, b| off(a).total_cmp(&off(b)));
            nearest.unwrap_or(rated).of_loss.clone()
        };
        let (estimate, how) = match both.chosen(self.by, self.uncertainty_k, measured_at) {
            Ok(chosen) => chosen,
            Err(why) => {
                let found = Finding { measured: basics.and(more), ..found };
                let said = format!(
                    "{} at {}, which says nothing of {}: {why}",
                    percent(rated.loss.tan_delta),
                    celsius(self.kelvin),
                    celsius(both.reference_k)
                );
                return found.judged(Judgement::new(Verdict::Inconclusive, said));
            }
        };
        let value = estimate.value;
        measured = measured.and(plain("tan_delta_20", value)).and(basics).and(more);
        let mut judged = judge_between(Quantity::number(value), f64::NEG_INFINITY, self.most);
        judged.reason = format!("{} {how}", percent(value));
        if matches!(self.shows, Shows::Part(_))
            && let Some((table, _)) = &of.correction
            && let Some(condition) = table.condition(value)
        {
            judged.reason = format!("{}: {}", condition.word, judged.reason);
        }
        if let Some(unfit) = &both.unfit {
            judged.reason.push_str(&format!("; an earlier sweep tells no energy: {unfit}"));
        }
        let mut deviation = Values::none();
        if let Some(known) = self.known_loss() {
            deviation = plain("tan_delta", value - known);
            judged.reason.push_str(&format!("; {} was known", percent(known)));
        }
        let expected = self.known_loss().map_or(Values::none(), |known| plain("tan_delta", known));
        let found = Finding { measured, expected, deviation, ..found };
        found.uncertain(&estimate).judged(judged)
    }

    fn capacitances(&self, rated: &Read) -> Option<Finding> {
        let known = self.known_farad()?;
        let found = injected(self.capacitance.clone(), CAPACITANCE, &self.stimulus);
        let limits = between(self.tolerance.limits(known), Dimension::CAPACITANCE);
        let (low, high) = self.tolerance.limits(known);
        let value = farads(rated.farad);
        let found = Finding {
            expected: Values::none().with_quantity("capacitance", farads(known)),
            measured: Values::none().with_quantity("capacitance", value),
            deviation: Values::none().with_percent("capacitance", rated.farad / known - 1.0),
            limits,
            ..found
        };
        let found = found.uncertain(&rated.of_farad);
        let mut judged = judge_between(value, low, high);
        if judged.verdict == Verdict::Fail {
            judged.reason.push_str(match &self.shows {
                Shows::C1(_) if rated.farad > high => "; more than it had: layers are shorted",
                Shows::C1(_) => "; less than it had: a layer or its joint is open",
                _ => "; a winding has moved, or something else was connected",
            });
        }
        Some(found.judged(judged))
    }
}

fn percent(share: f64) -> String {
    format!("{} %", significant(share * 100.0, 4))
}

fn hertz(si: f64) -> Quantity {
    Quantity { si, dimension: Dimension::FREQUENCY }
}

fn electronvolts(ev: f64) -> Quantity {
    Quantity { si: ev * ELECTRONVOLT, dimension: Dimension::ENERGY }
}

/// What a winding to everything else must be.
#[derive(Clone, Debug)]
pub(super) struct SumRequired {
    pub(super) point: PointId,
    pub(super) parts: Vec<String>,
    pub(super) stimulus: Values,
}

impl SumRequired {
    /// The sum first, then its parts.
    pub(super) fn graded(&self, seen: &[Option<&Observation>], probes: &Probes) -> Finding {
        let found = injected(self.point.clone(), SUM, &self.stimulus);
        let of = |(k, seen): (usize, &Option<&Observation>)| {
            let seen = seen.ok_or("not everything was measured")?;
            let read = read(seen, 0, probes)?;
            let label =
                k.checked_sub(1).and_then(|k| self.parts.get(k)).map_or("sum", String::as_str);
            Ok(Read { of_farad: read.of_farad.of_injection(label), ..read })
        };
        let all: Result<Vec<Read>, String> = seen.iter().enumerate().map(of).collect();
        let (sum, parts) = match all.as_deref() {
            Ok([sum, parts @ ..]) if parts.len() == self.parts.len() => (sum, parts),
            Ok(_) => {
                let why = "not everything was measured";
                return found.judged(Judgement::new(Verdict::Inconclusive, why));
            }
            Err(why) => return found.judged(Judgement::new(Verdict::Inconclusive, why.clone())),
        };
        let apart: f64 = parts.iter().map(|p| p.farad).sum();
        // Most of what the meters are off by is in both, and drops out.
        let all = |sum: Estimate, part: &Read| sum.plus(&part.of_farad);
        let of_parts = parts.iter().fold(Estimate::exact(0.0), all);
        let apart_by = sum.of_farad.clone().minus(&of_parts).function(sum.farad, 1.0);
        let off = sum.farad / apart - 1.0;
        let limits = Limits::Between {
            lower: Some(Value::Plain(farads(apart * (1.0 - APART)))),
            upper: Some(Value::Plain(farads(apart * (1.0 + APART)))),
        };
        let found = Finding {
            expected: Values::none().with_quantity("capacitance", farads(apart)),
            measured: Values::none().with_quantity("capacitance", farads(sum.farad)),
            deviation: Values::none().with_percent("capacitance", off),
            limits,
            ..found
        };
        let found = found.uncertain(&apart_by);
        let terms: Vec<String> = self.parts.iter().map(|p| format!("C_{p}")).collect();
        let told = format!("{} = {}", terms.join(" + "), farads(apart));
        let is_sum = off.abs() <= APART;
        let why = match is_sum {
            true => format!("as its parts: {told}"),
            false => format!(
                "not as its parts: {told}; a guard or measuring lead was off, or on another terminal"
            ),
        };
        let verdict = if is_sum { Verdict::Pass } else { Verdict::Fail };
        found.judged(Judgement::new(verdict, why))
    }
}
