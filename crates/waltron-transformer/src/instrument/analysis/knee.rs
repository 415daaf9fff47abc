//! Knee points: where a core begins to saturate, by every definition, from one curve.
//!
//! A slope of single readings is lost in their scatter, and a smoother that knows nothing of cores either
//! blunts the knee or follows the scatter. What is known is the shape: around its knee the excitation
//! curve is convex on log-log axes. So a sum of powers with coefficients that are not negative is fitted
//! there, which cannot wiggle, and the definitions are applied to it.

use super::curve::ExcitationCurve;
use super::powers::Powers;

/// A definition of the knee point.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum KneeKind {
    /// 10 % more e.m.f. takes 50 % more exciting current (IEC 61869-2:2012, 3.4.215).
    TenFifty,
    /// The tangent has 45° on log-log axes of equal decades (IEEE C57.13.1, core without a gap).
    Tangent45,
    /// The tangent has 30° (IEEE C57.13.1, core with a gap).
    Tangent30,
}

impl KneeKind {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::TenFifty, Self::Tangent45, Self::Tangent30];

    /// Its name in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::TenFifty => "10/50 % knee (IEC 61869-2)",
            Self::Tangent45 => "45° knee (IEEE C57.13.1)",
            Self::Tangent30 => "30° knee (IEEE C57.13.1, gapped)",
        }
    }

    /// Its name in a table.
    pub fn short(self) -> &'static str {
        match self {
            Self::TenFifty => "10/50 %",
            Self::Tangent45 => "45°",
            Self::Tangent30 => "30°",
        }
    }

    /// The span in ln E over which ln I rises, and by how much it does at the knee.
    fn rise(self) -> (f64, f64) {
        match self {
            Self::TenFifty => (1.1f64.ln(), 1.5f64.ln()),
            Self::Tangent45 => (0.0, 1.0),
            Self::Tangent30 => (0.0, 3f64.sqrt()),
        }
    }
}

/// A knee point.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Knee {
    /// By which definition.
    pub kind: KneeKind,
    /// The e.m.f. there, in V.
    pub emf_v: f64,
    /// The exciting current there, RMS in A.
    pub current_a: f64,
}

/// The span in ln E over which the course of a curve is told from its scatter.
const WIDE: f64 = 0.2;

/// A rise that no knee's definition needs, as d ln I over d ln E.
const STEEP: f64 = 7.0;

/// How far below that the curve is looked at, in ln E: a factor of e.
const BELOW: f64 = 1.0;

/// Fewest points of it.
const FEWEST: usize = 8;

impl ExcitationCurve {
    /// Its knee points by all definitions, those that the core does not come to left out.
    pub fn knees(&self) -> Vec<Knee> {
        let Some(bend) = bend(&self.logarithms(false)) else { return Vec::new() };
        KneeKind::ALL.into_iter().filter_map(|kind| bend.knee(kind)).collect()
    }

    /// The knee point by one definition; `None` where the core does not come to it in what was measured.
    pub fn knee(&self, kind: KneeKind) -> Option<Knee> {
        bend(&self.logarithms(false))?.knee(kind)
    }

    /// The e.m.f. of the saturation flux: 10 % more flux takes 50 % more peak current
    /// (IEC 61869-2:2012, 3.4.230); `None` where it was not reached, or no peaks were measured.
    pub fn saturation(&self) -> Option<f64> {
        let peaks = self.has_peaks().then(|| self.logarithms(true))?;
        Some(bend(&peaks)?.knee(KneeKind::TenFifty)?.emf_v)
    }
}

/// The part of a curve where it bends upwards, fitted.
struct Bend {
    fit: Powers,
    from: f64,
    to: f64,
}

/// Finds where a curve of rising ln E begins to rise steeply, and fits what lies below.
fn bend(points: &[(f64, f64)]) -> Option<Bend> {
    let slopes = wide_slopes(points);
    let steepest = slopes.iter().map(|(_, s)| *s).reduce(f64::max)?;
    // Beyond the steepest part the core is a coil without iron, and the curve bends back.
    let (start, _) = slopes.iter().find(|(_, s)| *s >= steepest.min(STEEP))?;
    // Up to the first reading beyond, since that one tells how steep it is: a quick curve has few there.
    let next = points.iter().map(|(x, _)| *x).find(|x| *x >= start + WIDE);
    let to = next.unwrap_or(start + WIDE);
    let from = points.first()?.0.max(start - BELOW);
    let part: Vec<(f64, f64)> =
        points.iter().copied().filter(|(x, _)| (from..=to).contains(x)).collect();
    if part.len() < FEWEST {
        return None;
    }
    let fit = Powers::fit(&part)?;
    Some(Bend { fit, from, to: part.last()?.0 })
}

/// Slopes over [`WIDE`], each between the means of a few readings at both ends.
fn wide_slopes(points: &[(f64, f64)]) -> Vec<(f64, f64)> {
    let around = |k: usize| {
        let (from, to) = (k.saturating_sub(1), (k + 2).min(points.len()));
        let n = (to - from) as f64;
        let sum = points[from..to].iter().fold((0.0, 0.0), |s, p| (s.0 + p.0, s.1 + p.1));
        (sum.0 / n, sum.1 / n)
    };
    let mut all = Vec::new();
    let mut end = 0;
    for (k, (x, _)) in points.iter().enumerate() {
        while end < points.len() && points[end].0 < x + WIDE {
            end += 1;
        }
        if end == points.len() {
            break;
        }
        let ((x0, y0), (x1, y1)) = (around(k), around(end));
        all.push((*x, (y1 - y0) / (x1 - x0)));
    }
    all
}

impl Bend {
    fn knee(&self, kind: KneeKind) -> Option<Knee> {
        let (span, wanted) = kind.rise();
        let rise = |x: f64| match span {
            0.0 => self.fit.slope(x),
            span => self.fit.at(x + span) - self.fit.at(x),
        };
        let (mut low, mut high) = (self.from, self.to - span);
        // A knee has a part of the curve on either side.
        if low >= high || rise(low) >= wanted || rise(high) < wanted {
            return None;
        }
        for _ in 0..50 {
            let middle = f64::midpoint(low, high);
            if rise(middle) < wanted { low = middle } else { high = middle }
        }
        let at = f64::midpoint(low, high);
        Some(Knee { kind, emf_v: at.exp(), current_a: self.fit.at(at).exp() })
    }
}
