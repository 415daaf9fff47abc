//! The excitation curve: e.m.f. against exciting current, both ways, without wiggles of its own.
//!
//! Between measured points ln I is a monotone cubic of ln E (Fritsch and Carlson 1980), so that the
//! curve can be read in both directions and never turns where the measurement does not.

use super::moved::Move;
use num_complex::Complex64;

/// A measured point of an excitation curve, at the rated frequency.
#[derive(Clone, Debug, PartialEq)]
pub struct Sample {
    /// RMS value of the core's e.m.f., fundamental, in V.
    pub emf_v: f64,
    /// True RMS value of the exciting current, in A.
    pub rms_a: f64,
    /// Its fundamental against the e.m.f.: the real part is that of the losses, the imaginary part
    /// negative where it lags. In A, RMS.
    pub current: Complex64,
    /// Its peak, in A, where that was measured.
    pub peak_a: Option<f64>,
    /// What it is uncertain by.
    pub moves: Vec<Move>,
}

/// Why points make no curve.
#[derive(Clone, Copy, Debug, PartialEq, thiserror::Error)]
pub enum CurveError {
    /// Too few points.
    #[error("{0} points make no excitation curve; it takes at least {FEWEST}")]
    TooFew(usize),
    /// A value that is none, or not above zero.
    #[error("the reading at {0:.4} V is no point of a curve: no value above zero")]
    NoValue(f64),
    /// The current falls where the voltage rises.
    #[error(
        "the exciting current falls from {from_a:.4} A to {to_a:.4} A while the voltage rises to {at_v:.4} V: a contact comes loose, or the range was changed"
    )]
    NotMonotone {
        /// Where.
        at_v: f64,
        /// The larger current before.
        from_a: f64,
        /// The smaller one there.
        to_a: f64,
    },
}

/// The fewest points of a curve.
pub const FEWEST: usize = 4;

/// By how much a current may fall from point to point and still be scatter.
const SCATTER: f64 = 0.05;

/// How far apart voltages must be for that, as a share.
const APART: f64 = 0.03;

/// An excitation curve.
#[derive(Clone, Debug, PartialEq)]
pub struct ExcitationCurve {
    points: Vec<Sample>,
    rms: Monotone,
    fundamental: Monotone,
    peak: Option<Monotone>,
}

impl ExcitationCurve {
    /// A curve through points in any order. Scatter is levelled out, so that the current never falls.
    ///
    /// # Errors
    /// [`CurveError`]: too few points, values that are none, a current that falls by more than scatter.
    pub fn new(mut points: Vec<Sample>) -> Result<Self, CurveError> {
        for p in &points {
            let peak = p.peak_a.unwrap_or(1.0);
            let all = [p.emf_v, p.rms_a, p.current.norm(), peak];
            if all.iter().any(|v| !v.is_finite() || *v <= 0.0) {
                return Err(CurveError::NoValue(p.emf_v));
            }
        }
        points.sort_by(|a, b| a.emf_v.total_cmp(&b.emf_v));
        points.dedup_by(|b, a| b.emf_v <= a.emf_v * (1.0 + 1e-9));
        if points.len() < FEWEST {
            return Err(CurveError::TooFew(points.len()));
        }
        // Only points that lie apart are compared: in saturation a little scatter of the voltage is much
        // of the current.
        let (mut largest, mut behind) = (0.0f64, points.iter());
        let mut next = behind.next();
        for p in &points {
            while let Some(before) = next.filter(|b| b.emf_v < p.emf_v * (1.0 - APART)) {
                largest = largest.max(before.rms_a);
                next = behind.next();
            }
            if p.rms_a < largest * (1.0 - SCATTER) {
                let (at_v, from_a, to_a) = (p.emf_v, largest, p.rms_a);
                return Err(CurveError::NotMonotone { at_v, from_a, to_a });
            }
        }
        let of = |value: &dyn Fn(&Sample) -> f64| {
            Monotone::new(points.iter().map(|p| (p.emf_v.ln(), value(p).ln())).collect())
        };
        let (rms, fundamental) = (of(&|p| p.rms_a), of(&|p| p.current.norm()));
        // A meter may have been driven beyond its range by the peaks alone.
        let peaks: Vec<(f64, f64)> = points.iter().filter_map(peak_of).collect();
        let peak = (peaks.len() >= FEWEST).then(|| Monotone::new(peaks));
        Ok(Self { points, rms, fundamental, peak })
    }

    /// The measured points by rising e.m.f.
    pub fn points(&self) -> &[Sample] {
        &self.points
    }

    /// The lowest and the highest e.m.f. that was measured, in V.
    pub fn span(&self) -> (f64, f64) {
        (self.points[0].emf_v, self.points[self.points.len() - 1].emf_v)
    }

    /// The exciting current at an e.m.f., true RMS in A; `None` beyond what was measured.
    pub fn current_at(&self, emf_v: f64) -> Option<f64> {
        self.rms.at(emf_v.ln()).map(f64::exp)
    }

    /// The peak of the exciting current at an e.m.f., in A.
    pub fn peak_at(&self, emf_v: f64) -> Option<f64> {
        self.peak.as_ref()?.at(emf_v.ln()).map(f64::exp)
    }

    /// The e.m.f. at an exciting current, in V; `None` beyond what was measured.
    pub fn emf_at(&self, rms_a: f64) -> Option<f64> {
        self.rms.inverse(rms_a.ln()).map(f64::exp)
    }

    /// The e.m.f. at which the exciting current has a peak, in V.
    pub fn emf_at_peak(&self, peak_a: f64) -> Option<f64> {
        self.peak.as_ref()?.inverse(peak_a.ln()).map(f64::exp)
    }

    /// The fundamental of the exciting current over the e.m.f., as an admittance in S. Below the lowest
    /// point it is that of the lowest one, since permeability becomes constant towards nothing; `None`
    /// above the highest.
    pub fn admittance_at(&self, emf_v: f64) -> Option<Complex64> {
        let (low, _) = self.span();
        let at = emf_v.max(low);
        let size = self.fundamental.at(at.ln()).map(f64::exp)? / at;
        Some(Complex64::from_polar(size, self.angle_at(at)))
    }

    /// The fundamental's angle against the e.m.f. between the nearest two points, in radians.
    fn angle_at(&self, emf_v: f64) -> f64 {
        let at = self.points.partition_point(|p| p.emf_v <= emf_v).clamp(1, self.points.len() - 1);
        let (a, b) = (&self.points[at - 1], &self.points[at]);
        let share = ((emf_v / a.emf_v).ln() / (b.emf_v / a.emf_v).ln()).clamp(0.0, 1.0);
        let (from, to) = (a.current.arg(), b.current.arg());
        from + (to - from) * share
    }

    /// ln E and ln I of the measured points, RMS or peak.
    pub(super) fn logarithms(&self, of_peaks: bool) -> Vec<(f64, f64)> {
        match of_peaks {
            true => self.points.iter().filter_map(peak_of).collect(),
            false => self.points.iter().map(|p| (p.emf_v.ln(), p.rms_a.ln())).collect(),
        }
    }

    /// Whether peaks were measured.
    pub fn has_peaks(&self) -> bool {
        self.peak.is_some()
    }

    /// The same curve seen from a winding with a multiple of the turns: voltages rise with it, currents
    /// fall.
    #[must_use]
    pub fn of_turns(&self, times: f64) -> Self {
        let scaled = self.points.iter().map(|p| Sample {
            emf_v: p.emf_v * times,
            rms_a: p.rms_a / times,
            current: p.current / times,
            peak_a: p.peak_a.map(|i| i / times),
            moves: p.moves.clone(),
        });
        let points: Vec<Sample> = scaled.collect();
        let up = times.ln();
        Self {
            points,
            rms: self.rms.moved(up, -up),
            fundamental: self.fundamental.moved(up, -up),
            peak: self.peak.as_ref().map(|p| p.moved(up, -up)),
        }
    }
}

/// ln E and ln of the peak, where it was measured.
fn peak_of(point: &Sample) -> Option<(f64, f64)> {
    Some((point.emf_v.ln(), point.peak_a?.ln()))
}

/// A monotone cubic through points of rising x and not falling y.
#[derive(Clone, Debug, PartialEq)]
struct Monotone {
    points: Vec<(f64, f64)>,
    slopes: Vec<f64>,
}

impl Monotone {
    /// Through points of rising x; where y falls, neighbours are levelled (pool adjacent violators).
    fn new(mut points: Vec<(f64, f64)>) -> Self {
        level(&mut points);
        let n = points.len();
        let secant = |k: usize| (points[k + 1].1 - points[k].1) / (points[k + 1].0 - points[k].0);
        let secants: Vec<f64> = (0..n - 1).map(secant).collect();
        let mut slopes = vec![0.0; n];
        slopes[0] = secants[0];
        slopes[n - 1] = secants[n - 2];
        for k in 1..n - 1 {
            let (a, b) = (secants[k - 1], secants[k]);
            let (h0, h1) = (points[k].0 - points[k - 1].0, points[k + 1].0 - points[k].0);
            // The weighted harmonic mean keeps to both sides' monotony (Fritsch and Butland 1984).
            if a > 0.0 && b > 0.0 {
                let (w0, w1) = (2.0 * h1 + h0, h1 + 2.0 * h0);
                slopes[k] = (w0 + w1) / (w0 / a + w1 / b);
            }
        }
        Self { points, slopes }
    }

    fn moved(&self, dx: f64, dy: f64) -> Self {
        let points = self.points.iter().map(|(x, y)| (x + dx, y + dy)).collect();
        Self { points, slopes: self.slopes.clone() }
    }

    fn piece(&self, k: usize, x: f64) -> f64 {
        let ((x0, y0), (x1, y1)) = (self.points[k], self.points[k + 1]);
        let h = x1 - x0;
        let t = (x - x0) / h;
        let (t2, t3) = (t * t, t * t * t);
        y0 * (2.0 * t3 - 3.0 * t2 + 1.0)
            + y1 * (3.0 * t2 - 2.0 * t3)
            + h * (self.slopes[k] * (t3 - 2.0 * t2 + t) + self.slopes[k + 1] * (t3 - t2))
    }

    fn at(&self, x: f64) -> Option<f64> {
        let n = self.points.len();
        let (first, last) = (self.points[0].0, self.points[n - 1].0);
        // The ends belong to it, whatever the logarithm rounds.
        if !(first - 1e-9..=last + 1e-9).contains(&x) {
            return None;
        }
        let x = x.clamp(first, last);
        let k = self.points.partition_point(|p| p.0 <= x).clamp(1, n - 1) - 1;
        Some(self.piece(k, x))
    }

    fn inverse(&self, y: f64) -> Option<f64> {
        let n = self.points.len();
        let (first, last) = (self.points[0].1, self.points[n - 1].1);
        if !(first - 1e-9..=last + 1e-9).contains(&y) {
            return None;
        }
        let k = self.points.partition_point(|p| p.1 <= y).clamp(1, n - 1) - 1;
        let (mut low, mut high) = (self.points[k].0, self.points[k + 1].0);
        for _ in 0..60 {
            let middle = f64::midpoint(low, high);
            if self.piece(k, middle) < y { low = middle } else { high = middle }
        }
        Some(f64::midpoint(low, high))
    }
}

/// Levels what falls to the mean of its neighbours, so that y never falls.
fn level(points: &mut [(f64, f64)]) {
    // Sum and number of each block that was levelled.
    let mut blocks: Vec<(f64, usize)> = Vec::with_capacity(points.len());
    for (_, y) in points.iter() {
        let mut block = (*y, 1);
        while let Some(&(sum, count)) = blocks.last() {
            if sum / count as f64 <= block.0 / block.1 as f64 {
                break;
            }
            block = (block.0 + sum, block.1 + count);
            blocks.pop();
        }
        blocks.push(block);
    }
    let levels =
        blocks.iter().flat_map(|(sum, count)| std::iter::repeat_n(sum / *count as f64, *count));
    points.iter_mut().zip(levels).for_each(|(p, y)| p.1 = y);
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    pub(crate) fn sample(emf_v: f64, rms_a: f64) -> Sample {
        Sample {
            emf_v,
            rms_a,
            current: Complex64::new(0.0, -rms_a),
            peak_a: None,
            moves: Vec::new(),
        }
    }

    #[test]
    fn what_makes_no_curve_is_told() {
        let few: Vec<_> = [(1.0, 0.1), (2.0, 0.2)].map(|(e, i)| sample(e, i)).to_vec();
        assert_eq!(ExcitationCurve::new(few.clone()), Err(CurveError::TooFew(2)));
        // The same voltage many times is one point.
        assert_eq!(ExcitationCurve::new(vec![few[0].clone(); 9]), Err(CurveError::TooFew(1)));
        let falls = [(1.0, 0.1), (2.0, 0.4), (3.0, 0.3), (4.0, 0.5)].map(|(e, i)| sample(e, i));
        let error = ExcitationCurve::new(falls.to_vec()).unwrap_err();
        assert!(matches!(error, CurveError::NotMonotone { at_v: 3.0, .. }), "{error}");
        for bad in [f64::NAN, 0.0, -1.0, f64::INFINITY] {
            let mut points = falls.to_vec();
            points[1].rms_a = bad;
            assert!(matches!(ExcitationCurve::new(points), Err(CurveError::NoValue(_))), "{bad}");
        }
    }

    proptest! {
        /// Whatever was measured with scatter below what is refused: both ways agree, the curve never
        /// falls, and it lies between its neighbours.
        #[test]
        fn both_ways_agree_and_nothing_turns(
            steps in proptest::collection::vec((1.02f64..2.0, 0.97f64..3.0), 4..40),
            share in 0.0f64..1.0,
        ) {
            let (mut e, mut i, mut most) = (1.0, 0.01, 0.01f64);
            let mut points = vec![sample(e, i)];
            for (up, by) in steps {
                e *= up;
                i = f64::max(i * by, most * 0.96);
                most = most.max(i);
                points.push(sample(e, i));
            }
            let curve = ExcitationCurve::new(points).unwrap();
            let (low, high) = curve.span();
            let at = low * (high / low).powf(share);
            let current = curve.current_at(at).unwrap();
            let more = curve.current_at((at * 1.001).min(high)).unwrap();
            prop_assert!(more >= current * (1.0 - 1e-12));
            let back = curve.emf_at(current).unwrap();
            let again = curve.current_at(back).unwrap();
            prop_assert!((again / current - 1.0).abs() < 1e-6, "{current} A gives {again} A");
            prop_assert_eq!(curve.current_at(high * 1.01), None);
            prop_assert_eq!(curve.emf_at(most * 1.2), None);
            // Seen from twice the turns the same ampere-turns flow at the same volts per turn.
            let twice = curve.of_turns(2.0);
            prop_assert!((twice.current_at(2.0 * at).unwrap() * 2.0 / current - 1.0).abs() < 1e-9);
        }
    }
}
