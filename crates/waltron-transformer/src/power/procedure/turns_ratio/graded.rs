//! What the readings of a ratio test come to.

use super::keys::PhaseForm;
use super::steps::Probes;
use super::{GROUP, RATIO};
use crate::measure::{injected, shown};
use crate::power::identify::{Explained, LINES, explain};
use crate::power::pairs::{Pair, Terminal};
use crate::power::procedure::exciting::{SMALLEST_A, current};
use crate::power::vector_group::VectorGroup;
use waltron_core::grading::{
    Finding, Judgement, Limits, PointId, Value, Values, Verdict, judge_between,
};
use waltron_core::injection::observation::Observation;
use waltron_core::quantity::{Dimension, Quantity, significant};
use waltron_core::uncertainty::Cause;

/// The largest angle between both sides that has a reason in the meters and in the exciting current, in rad:
/// 5°.
const TURNED: f64 = 0.0873;

/// What the exciting current drops on its way to the other winding, as a share of what is fed, where the nameplate
/// tells no impedance: it is in what is read and not in the turns.
const DROP: f64 = 2e-4;

/// From where to where that lies, as shares: the middle, and half of what lies between.
struct Drop {
    middle: f64,
    half: f64,
}

/// How far the readings may be from the nameplate's for its group to be taken as found.
const FITS: f64 = 0.03;

/// What a ratio must be.
#[derive(Clone, Debug)]
pub(super) struct Required {
    pub(super) point: PointId,
    pub(super) stimulus: Values,
    pub(super) expected: f64,
    pub(super) limits: Limits,
    /// From what is read to the ratio that is told.
    pub(super) scale: f64,
    /// The most that the fed winding has of the nameplate's short-circuit impedance, in ohms, where that tells one.
    pub(super) leakage_ohm: Option<f64>,
    /// What the phase displacement is told in.
    pub(super) phase: PhaseForm,
    /// What the ratio is at other positions.
    pub(super) elsewhere: Vec<(String, (f64, f64))>,
}

impl Required {
    pub(super) fn graded(&self, seen: &Observation, probes: &Probes) -> Finding {
        let found = Finding {
            expected: Values::none().with_quantity("ratio", Quantity::number(self.expected)),
            limits: self.limits.clone(),
            ..injected(self.point.clone(), RATIO, &self.stimulus)
        };
        let read = match shown(seen, &probes.ratio) {
            Ok(read) => read,
            Err(why) => return found.judged(Judgement::new(Verdict::Inconclusive, why)),
        };
        let current = shown(seen, &probes.current).ok();
        let drop = self.drop(current.as_ref().map(|current| current.value));
        let value = Quantity::number(read.value * self.scale * (1.0 - drop.middle));
        let angle = read.angle.map(|si| Quantity { si, dimension: Dimension::ANGLE });
        let mut measured = Values::none().with_quantity("ratio", value);
        if let Some(angle) = angle {
            measured = match self.phase {
                PhaseForm::Degrees => measured.with_quantity("angle", angle),
                PhaseForm::Minutes => measured.with_value("angle", Value::Minutes(angle.si)),
            };
        }
        if let Some(current) = &current {
            let amps = Quantity { si: current.value, dimension: Dimension::CURRENT };
            measured = measured.with_quantity("exciting", amps);
        }
        let found = Finding {
            measured,
            deviation: Values::none().with_percent("ratio", value.si / self.expected - 1.0),
            ..found
        };
        let cause = Cause::limit("drop of the exciting current", Value::Percent(drop.half));
        let estimate = read.estimate().function(value.si, value.si / read.value);
        let estimate = estimate.with_beside(cause, value.si);
        let found = found.uncertain(&estimate);
        found.judged(self.judged(value, read.angle, read.angle_u))
    }

    /// The exciting current flows through the fed winding's part of the short-circuit impedance, more or less in phase
    /// with what is fed: it drops something between nothing and all of the product.
    fn drop(&self, amps: Option<f64>) -> Drop {
        let fed = self.stimulus.get("voltage");
        let most = (|| Some(amps? * self.leakage_ohm? / fed?))();
        match most.filter(|most| most.is_finite() && *most < 0.01) {
            Some(most) => Drop { middle: most / 2.0, half: most / 2.0 },
            None => Drop { middle: 0.0, half: DROP },
        }
    }

    fn judged(&self, value: Quantity, angle: Option<f64>, u: Option<f64>) -> Judgement {
        let (low, high) = (self.limits.lower(), self.limits.upper());
        let (low, high) = (low.unwrap_or(f64::NEG_INFINITY), high.unwrap_or(f64::INFINITY));
        let mut judged = judge_between(value, low, high);
        // Of what is lost in the meters' uncertainty the angle may be any.
        let Some(angle) = angle.filter(|_| u.is_none_or(|u| u < TURNED)) else {
            let why = "too little was induced to tell whether both sides are in phase";
            return match judged.verdict {
                Verdict::Fail => judged,
                _ => Judgement::new(Verdict::Inconclusive, why),
            };
        };
        if angle.cos() < 0.0 {
            let why = "both sides are opposite in phase: a lead or a coil is the wrong way round";
            return Judgement::new(Verdict::Fail, why);
        }
        if angle.abs() > TURNED {
            let degrees = significant(angle.to_degrees(), 2);
            let why = format!(
                "both sides are {degrees}° apart: something is shorted, loaded or saturated; {}",
                judged.reason
            );
            let verdict = match judged.verdict {
                Verdict::Fail => Verdict::Fail,
                _ => Verdict::Inconclusive,
            };
            return Judgement::new(verdict, why);
        }
        if judged.verdict == Verdict::Fail {
            let fits =
                |(_, (low, high)): &&(String, (f64, f64))| (*low..=*high).contains(&value.si);
            if let Some((label, _)) = self.elsewhere.iter().find(fits) {
                judged.reason.push_str(&format!("; it is what {label} must give: a wrong tap"));
            }
        }
        judged
    }
}

/// The reading over what is fed, 1 where it is as expected; negative of what is opposite in phase.
fn share(seen: &Observation, probes: &Probes, scale: f64) -> Option<f64> {
    let read = shown(seen, &probes.ratio).ok()?;
    Some(read.value * scale * read.angle?.cos().signum())
}

/// Whether the readings of the three phases are those of the nameplate's group.
pub(super) fn fits(seen: &[Option<&Observation>], probes: &Probes, scales: [f64; 3]) -> bool {
    let near = |(seen, scale): (&Option<&Observation>, f64)| {
        let share = seen.and_then(|seen| share(seen, probes, scale));
        share.is_some_and(|share| (share - 1.0).abs() < FITS)
    };
    seen.len() == 3 && seen.iter().zip(scales).all(near)
}

/// What the vector group must be.
#[derive(Clone, Debug)]
pub(super) struct GroupRequired {
    pub(super) point: PointId,
    pub(super) nameplate: VectorGroup,
    /// What is fed of each phase.
    pub(super) fed: [Pair; 3],
    pub(super) scales: [f64; 3],
    /// Whether it is looked for where the readings do not fit.
    pub(super) finds: bool,
    pub(super) stimulus: Values,
}

impl GroupRequired {
    pub(super) fn graded(&self, seen: &[Option<&Observation>], probes: &Probes) -> Finding {
        let found = injected(self.point.clone(), GROUP, &self.stimulus);
        let judged = |verdict, why: String| found.clone().judged(Judgement::new(verdict, why));
        let (first, more) = seen.split_at(seen.len().min(3));
        if first.iter().any(Option::is_none) {
            return judged(Verdict::Inconclusive, "not every phase was measured".to_owned());
        }
        let nameplate = &self.nameplate;
        if fits(first, probes, self.scales) {
            let why = format!("{nameplate}: all phases are as the nameplate says");
            return judged(Verdict::Pass, why);
        }
        if let Some(why) = self.open(first, probes) {
            return judged(Verdict::Fail, why);
        }
        let Some(read) = voltages(more, probes) else {
            // Of what no meter showed nothing is known, not that it is wrong.
            let lacks = first.iter().flatten().find_map(|s| shown(s, &probes.ratio).err());
            if let Some(lacks) = lacks {
                return judged(
                    Verdict::Inconclusive,
                    format!("not every phase was measured: {lacks}"),
                );
            }
            let why = match self.finds {
                true => format!("not as {nameplate}, and not every line voltage was measured"),
                false => format!("not as {nameplate}; with `find_group` it is looked for"),
            };
            return judged(Verdict::Fail, why);
        };
        match explain(nameplate, &self.fed, &read) {
            Some(Explained::Group(group)) if group == *nameplate => {
                let why = format!(
                    "{nameplate} as the nameplate says, with ratios that are not as expected"
                );
                judged(Verdict::Pass, why)
            }
            Some(what) => judged(Verdict::Fail, format!("{what}, not as {nameplate}")),
            None => {
                let why = format!(
                    "not as {nameplate}, and no other group or single mistake explains it: look at every lead"
                );
                judged(Verdict::Fail, why)
            }
        }
    }

    /// A phase that takes no current, or gives no voltage, in words.
    fn open(&self, first: &[Option<&Observation>], probes: &Probes) -> Option<String> {
        let currents: Vec<f64> = first
            .iter()
            .map(|s| current(*s, &probes.current).map_or(f64::NAN, |read| read.value))
            .collect();
        let most = currents.iter().copied().fold(0.0, f64::max);
        for (k, amps) in currents.iter().enumerate() {
            let letter = Terminal::Phase(k as u8).letter();
            if most > SMALLEST_A && *amps < most * 0.02 {
                let fed = self.fed[k];
                return Some(format!(
                    "phase {letter} takes no current: {fed} is open, or a lead is off"
                ));
            }
            let induced = first[k].and_then(|seen| shown(seen, &probes.induced).ok());
            let is_nothing = |v: &crate::measure::Shown| v.u.is_some_and(|u| v.value < 2.0 * u);
            if induced.as_ref().is_some_and(is_nothing) {
                return Some(format!(
                    "phase {letter} induces nothing: a winding is open or shorted, or a lead is off"
                ));
            }
        }
        None
    }
}

/// Line voltages over what was fed: a row for each phase.
fn voltages(seen: &[Option<&Observation>], probes: &Probes) -> Option<[[f64; 3]; 3]> {
    if seen.len() != 3 * LINES.len() {
        return None;
    }
    let mut all = [[0.0; 3]; 3];
    for (k, seen) in seen.iter().enumerate() {
        let (fed, induced) = (shown((*seen)?, &probes.fed), shown((*seen)?, &probes.induced));
        let (fed, induced) = (fed.ok()?, induced.ok()?);
        let angle = match (fed.angle, induced.angle) {
            (Some(a), Some(b)) => b - a,
            _ => 0.0,
        };
        all[k / 3][k % 3] = induced.value / fed.value * angle.cos();
    }
    Some(all)
}
