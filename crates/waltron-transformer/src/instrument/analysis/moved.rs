//! What makes the criteria of a class uncertain: everything that was measured is moved by each cause at once, and each
//! criterion worked out again (JCGM 100:2008, 5.1.3, note 2, and 5.2.2).

use super::criteria::{Assessed, OF_KNEE};
use super::curve::{ExcitationCurve, Sample};
use super::knee::KneeKind;
use num_complex::Complex64;
use waltron_core::grading::Value;
use waltron_core::text::name::Name;
use waltron_core::uncertainty::{Cause, Estimate};

/// What was measured, as far as it can be moved.
pub(super) trait Evident: Sized {
    /// What moves it, each cause once.
    fn causes(&self) -> Vec<Cause>;

    /// The same with one cause off by its standard uncertainty.
    fn moved(&self, source: &Name) -> Self;
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
    /// The same as if a cause was off by its standard uncertainty.
    fn moved(&self, source: &Name) -> Self {
        let mut sample = self.clone();
        for by in self.moves.iter().filter(|by| by.cause.source == *source) {
            sample.emf_v *= 1.0 + by.emf;
            sample.rms_a *= 1.0 + by.current;
            sample.current *= Complex64::from_polar(1.0 + by.current, by.turn);
            sample.peak_a = sample.peak_a.map(|peak| peak * (1.0 + by.current));
        }
        sample
    }
}

impl ExcitationCurve {
    /// What moves its points, each cause once.
    pub(super) fn causes(&self) -> impl Iterator<Item = &Cause> {
        self.points().iter().flat_map(|point| &point.moves).map(|by| &by.cause)
    }

    /// The same as if a cause was off by its standard uncertainty.
    pub(super) fn moved(&self, source: &Name) -> Self {
        let points = self.points().iter().map(|point| point.moved(source)).collect();
        Self::new(points).unwrap_or_else(|_| self.clone())
    }
}

/// A value as if a cause was off by its standard uncertainty.
pub(super) fn moved(value: &Estimate, source: &Name) -> Estimate {
    let by: f64 =
        value.moves().filter(|(cause, _)| cause.source == *source).map(|(_, by)| by).sum();
    let shifted = value.value + by;
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
    for cause in causes {
        let moved = assess(&seen.moved(&cause.source));
        for one in &mut all {
            let other = moved.iter().find(|other| other.key == one.key);
            let values =
                other.and_then(|other| other.value.as_ref().ok()).zip(one.value.as_ref().ok());
            let Some((there, here)) = values else { continue };
            let slope = (there - here) / cause.standard.si();
            if slope.is_finite() {
                one.estimate = std::mem::take(&mut one.estimate).with(cause.clone(), slope);
            }
        }
    }
    all
}

impl ExcitationCurve {
    /// A knee point's e.m.f. in V, with what its readings and the way of finding it make uncertain.
    pub fn knee_estimate(&self, kind: KneeKind, emf_v: f64) -> Estimate {
        let mut estimate = Estimate::exact(emf_v);
        for cause in each_once(self.causes()) {
            let Some(there) = self.moved(&cause.source).knee(kind) else { continue };
            let slope = (there.emf_v - emf_v) / cause.standard.si();
            estimate = estimate.with(cause, slope);
        }
        let method = Cause::expanded("method", Value::Percent(OF_KNEE));
        estimate.with_beside(method, emf_v)
    }
}
