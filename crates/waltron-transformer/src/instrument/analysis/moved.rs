//! What makes the criteria of a class uncertain: everything that was measured is moved by each cause at once, and each
//! criterion worked out again (JCGM 100:2008, 5.1.3, note 2, and 5.2.2).

use super::criteria::{Assessed, OF_KNEE};
use super::curve::{CurveError, ExcitationCurve, Sample};
use super::knee::KneeKind;
use num_complex::Complex64;
use waltron_core::grading::Value;
use waltron_core::text::name::Name;
use waltron_core::uncertainty::{Cause, Estimate};

/// What was measured, as far as it can be moved.
pub(super) trait Evident: Sized {
    /// What moves it, each cause once.
    fn causes(&self) -> Vec<Cause>;

    /// The same with one cause off by so many times its standard uncertainty.
    fn moved(&self, source: &Name, times: f64) -> Self;
}

/// By how much a cause moves a sample, for its standard uncertainty.
#[derive(Clone, Debug, PartialEq)]
pub struct Move {
    /// The cause.
    pub cause: Cause,
    /// The e.m.f., as a share of it.
    pub emf: f64,
    /// The current, as a share of it.
    pub current: f64,
    /// The current against the e.m.f., in radians.
    pub turn: f64,
}

impl Sample {
    /// The same as if a cause was off by so many times its standard uncertainty.
    fn moved(&self, source: &Name, times: f64) -> Self {
        let mut sample = self.clone();
        for by in self.moves.iter().filter(|by| by.cause.source == *source) {
            let grown = times.mul_add(by.current, 1.0);
            sample.emf_v *= times.mul_add(by.emf, 1.0);
            sample.rms_a *= grown;
            sample.current *= Complex64::from_polar(grown, times * by.turn);
            sample.peak_a = sample.peak_a.map(|peak| peak * grown);
        }
        sample
    }
}

impl ExcitationCurve {
    /// What moves its points, each cause once.
    pub(super) fn causes(&self) -> impl Iterator<Item = &Cause> {
        self.points().iter().flat_map(|point| &point.moves).map(|by| &by.cause)
    }

    /// The same as if a cause was off by so many times its standard uncertainty.
    ///
    /// # Errors
    /// Where that makes no curve any more.
    pub(super) fn moved(&self, source: &Name, times: f64) -> Result<Self, CurveError> {
        Self::new(self.points().iter().map(|point| point.moved(source, times)).collect())
    }
}

/// A value as if a cause was off by so many times its standard uncertainty.
pub(super) fn moved(value: &Estimate, source: &Name, times: f64) -> Estimate {
    let by: f64 =
        value.moves().filter(|(cause, _)| cause.source == *source).map(|(_, by)| by).sum();
    let shifted = times.mul_add(by, value.value);
    value.clone().function(shifted, 1.0)
}

/// Each cause once.
pub(super) fn each_once<'a>(all: impl Iterator<Item = &'a Cause>) -> Vec<Cause> {
    let mut causes: Vec<Cause> = Vec::new();
    for cause in all.filter(|cause| cause.standard.si() > 0.0) {
        if !causes.iter().any(|known| known.source == cause.source) {
            causes.push(cause.clone());
        }
    }
    causes
}

/// Criteria with what makes each of them uncertain.
pub(super) fn uncertain<E: Evident>(
    seen: &E,
    assess: impl Fn(&E) -> Vec<Assessed>,
) -> Vec<Assessed> {
    let mut all = assess(seen);
    let causes = seen.causes();
    if causes.is_empty() {
        // Where no meter states anything, the method alone says nothing.
        for one in &mut all {
            one.estimate = Estimate::exact(one.estimate.value);
        }
    }
    let mut moved: Vec<(Cause, [Vec<Assessed>; 2])> = Vec::new();
    for cause in causes {
        let of = |times| assess(&seen.moved(&cause.source, times));
        let up = of(WAYS[0]);
        // The other way only where something has no value any more this way.
        let is_whole =
            all.iter().all(|one| one.value.is_err() || value_of(&up, &one.key).is_some());
        let down = if is_whole { Vec::new() } else { of(WAYS[1]) };
        moved.push((cause, [up, down]));
    }
    for one in &mut all {
        let Ok(here) = one.value else { continue };
        let slopes = moved.iter().map(|(cause, ways)| {
            slope(here, cause, ways.each_ref().map(|way| value_of(way, &one.key)))
        });
        let slopes: Option<Vec<f64>> = slopes.collect();
        one.estimate = match slopes {
            Some(slopes) => {
                let estimate = std::mem::take(&mut one.estimate);
                moved
                    .iter()
                    .zip(slopes)
                    .fold(estimate, |all, ((cause, _), by)| all.with(cause.clone(), by))
            }
            // A value that is none as soon as anything is a little off: nobody knows how sure it is.
            None => Estimate::exact(here),
        };
    }
    all
}

/// The ways in which a cause is moved: so many times its standard uncertainty.
const WAYS: [f64; 2] = [1.0, -1.0];

fn value_of(all: &[Assessed], key: &str) -> Option<f64> {
    let one = all.iter().find(|one| one.key == key)?;
    one.value.as_ref().ok().copied().filter(|value| value.is_finite())
}

/// By how much a cause moves a value for one of its own unit, by the first way in which it has one.
fn slope(here: f64, cause: &Cause, there: [Option<f64>; 2]) -> Option<f64> {
    let ways = there.into_iter().zip(WAYS);
    let (there, times) = ways.filter_map(|(there, times)| there.zip(Some(times))).next()?;
    Some((there - here) / (times * cause.standard.si()))
}

impl ExcitationCurve {
    /// A knee point's e.m.f. in V, with what its readings and the way of finding it make uncertain.
    pub fn knee_estimate(&self, kind: KneeKind, emf_v: f64) -> Estimate {
        let mut estimate = Estimate::exact(emf_v);
        for cause in each_once(self.causes()) {
            let knee = |times| self.moved(&cause.source, times).ok()?.knee(kind);
            let there = WAYS.map(|times| knee(times).map(|knee| knee.emf_v));
            let Some(slope) = slope(emf_v, &cause, there) else { return Estimate::exact(emf_v) };
            estimate = estimate.with(cause, slope);
        }
        let method = Cause::expanded("method", Value::Percent(OF_KNEE));
        estimate.with_beside(method, emf_v)
    }
}
