//! Axes: spans that can always be drawn, their ticks and labels.
//!
//! What is drawn comes from measurements and from files, so a span may be empty, a single value, no
//! number, or far beyond what paper shows. An axis is none of these, by construction.

use waltron_core::quantity::significant;

/// A logarithmic axis: positive, finite, of at least a third of a decade and at most twelve.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct LogAxis {
    low: f64,
    high: f64,
}

/// More would be grid lines only.
const MOST_DECADES: f64 = 12.0;
/// What no quantity of a test is outside of.
const SMALLEST: f64 = 1e-9;
const LARGEST: f64 = 1e12;

impl LogAxis {
    /// An axis from the round value below to the one above. What is no positive number says nothing:
    /// the other end then decides alone, or one decade around 1 is shown.
    pub fn around(low: f64, high: f64) -> Self {
        let sure = |v: f64| (v.is_finite() && v > 0.0).then(|| v.clamp(SMALLEST, LARGEST));
        let (low, high) = match (sure(low), sure(high)) {
            (Some(a), Some(b)) => (a.min(b), a.max(b)),
            (Some(a), None) | (None, Some(a)) => (a, a),
            (None, None) => (0.3, 3.0),
        };
        let (low, high) = (round_below(low), round_above(high));
        // A single round value lies in the middle.
        let (low, high) = if high / low < 3.0 {
            (round_below(low * 0.51), round_above(high * 1.99))
        } else {
            (low, high)
        };
        Self { low: low.max(high * 10f64.powf(-MOST_DECADES)), high }
    }

    /// Its ends.
    pub fn ends(self) -> (f64, f64) {
        (self.low, self.high)
    }

    /// The value, or the end that it lies beyond; what is no number lies at the upper one.
    pub fn clamp(self, value: f64) -> f64 {
        if value.is_nan() { self.high } else { value.clamp(self.low, self.high) }
    }

    /// Whether a value lies on it.
    pub fn contains(self, value: f64) -> bool {
        (self.low..=self.high).contains(&value)
    }

    /// The lines of its grid, and whether a decade begins there.
    pub(super) fn ticks(self) -> Vec<(f64, bool)> {
        let (first, last) = (self.low.log10().floor() as i32, self.high.log10().ceil() as i32);
        let decades = (first..=last).flat_map(|n| (1..10).map(move |k| (n, k)));
        decades
            .map(|(n, k)| (f64::from(k) * 10f64.powi(n), k == 1))
            .filter(|(v, _)| *v >= self.low * 0.999_999 && *v <= self.high * 1.000_001)
            .collect()
    }

    /// Whether a grid line gets a label: 1, 2, 5 where there is room, else decades.
    pub(super) fn is_labelled(self, value: f64) -> bool {
        let lead = (value / 10f64.powf(value.log10().floor() + 1e-9)).round() as i32;
        let lead = if lead == 10 { 1 } else { lead };
        let decades = (self.high / self.low).log10();
        lead == 1 || (decades <= 5.0 && matches!(lead, 2 | 5))
    }
}

/// The next value of 1, 2, 5 · 10ⁿ at or below.
fn round_below(value: f64) -> f64 {
    let decade = 10f64.powf(value.log10().floor());
    let share = value / decade;
    decade
        * if share >= 5.0 {
            5.0
        } else if share >= 2.0 {
            2.0
        } else {
            1.0
        }
}

/// The next value of 1, 2, 5 · 10ⁿ at or above.
fn round_above(value: f64) -> f64 {
    let below = round_below(value);
    if value <= below * 1.000_001 {
        return below;
    }
    let decade = 10f64.powf(below.log10().floor());
    let share = (below / decade).round();
    decade
        * if share >= 5.0 {
            10.0
        } else if share >= 2.0 {
            5.0
        } else {
            2.0
        }
}

/// A linear axis: finite, and wide enough that its ends differ.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Axis {
    low: f64,
    high: f64,
}

impl Axis {
    /// An axis between two values, with 1 more where they are one. What is no number is 0.
    pub(super) fn between(low: f64, high: f64) -> Self {
        let sure = |v: f64| if v.is_nan() { 0.0 } else { v.clamp(-1e30, 1e30) };
        let (a, b) = (sure(low), sure(high));
        let (low, high) = (a.min(b), a.max(b));
        // Wide enough for the ticks to be told apart in floating point.
        let least = (low.abs().max(high.abs()) * 1e-9).max(1e-12);
        let high = if high - low > least { high } else { low + least.max(1.0) };
        Self { low, high }
    }

    pub(super) fn ends(self) -> (f64, f64) {
        (self.low, self.high)
    }

    pub(super) fn span(self) -> f64 {
        self.high - self.low
    }

    pub(super) fn clamp(self, value: f64) -> f64 {
        if value.is_nan() { self.low } else { value.clamp(self.low, self.high) }
    }

    /// Round values that cut it into about `parts`, and the step between them.
    pub(super) fn ticks(self, parts: f64) -> (Vec<f64>, f64) {
        let step = step(self.span(), parts);
        let first = (self.low / step - 1e-9).ceil();
        let count = ((self.high / step + 1e-9).floor() - first).clamp(0.0, 100.0) as u32;
        ((0..=count).map(|k| (first + f64::from(k)) * step).collect(), step)
    }
}

/// A round step that cuts a span into about `parts`.
fn step(span: f64, parts: f64) -> f64 {
    let rough = (span / parts).max(f64::MIN_POSITIVE);
    let decade = 10f64.powf(rough.log10().floor());
    let lead = [1.0, 2.0, 2.5, 5.0, 10.0].into_iter().find(|l| l * decade >= rough * 0.999);
    lead.unwrap_or(10.0) * decade
}

/// A tick's text: as many decimals as the step has.
pub(super) fn number(value: f64, step: f64) -> String {
    if value.abs() < step * 1e-6 {
        return "0".to_owned();
    }
    if !(1e-6..1e9).contains(&step) || value.abs() >= 1e9 {
        return significant(value, 4);
    }
    let decade = (step.log10() + 1e-9).floor();
    let decimals = usize::try_from((-decade) as i64).unwrap_or(0);
    // 2.5 has one more digit than its decade.
    let lead = step / 10f64.powf(decade);
    let more = usize::from((lead - 2.5).abs() < 1e-6);
    format!("{value:.*}", decimals + more)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn ends_are_round_and_enclose() {
        for (value, below, above) in
            [(0.9, 0.5, 1.0), (1.0, 1.0, 1.0), (3.0, 2.0, 5.0), (70.0, 50.0, 100.0)]
        {
            assert!((round_below(value) - below).abs() < 1e-9, "{value}");
            assert!((round_above(value) - above).abs() < 1e-9, "{value}");
        }
        assert_eq!(LogAxis::around(0.9, 70.0).ends(), (0.5, 100.0));
        assert_eq!(LogAxis::around(1.0, 1.0).ends(), (0.5, 2.0));
        assert_eq!(LogAxis::around(f64::INFINITY, 0.0), LogAxis::around(f64::NAN, -1.0));
    }

    #[test]
    fn ticks_are_round_and_cover_the_range() {
        let ticks = |low, high, parts| Axis::between(low, high).ticks(parts);
        assert_eq!(ticks(0.0, 10.0, 5.0), (vec![0.0, 2.0, 4.0, 6.0, 8.0, 10.0], 2.0));
        assert_eq!(ticks(-1.1, 1.1, 4.0).0, [-1.0, 0.0, 1.0]);
        assert_eq!(number(0.0, 0.5), "0");
        assert_eq!(number(-0.5, 0.5), "-0.5");
        assert_eq!(number(0.25, 0.25), "0.25");
        assert_eq!(number(20.0, 10.0), "20");
        assert_eq!(number(3e-9, 1e-9), "3.000e-9", "a tick is never told as another value");
    }

    /// Any number that a file or a measurement can bring, and some that it cannot.
    fn any_number() -> impl Strategy<Value = f64> {
        prop_oneof![
            any::<f64>(),
            -1e3f64..1e3,
            prop_oneof![Just(0.0), Just(1.0), Just(f64::NAN), Just(f64::INFINITY), Just(f64::MAX)]
        ]
    }

    proptest! {
        /// Whatever the span, an axis has two ends and a handful of ticks between them.
        #[test]
        fn any_span_can_be_drawn(a in any_number(), b in any_number(), parts in 2.0f64..12.0) {
            let log = LogAxis::around(a, b);
            let (low, high) = log.ends();
            prop_assert!(low > 0.0 && high.is_finite() && high / low >= 2.0, "{low} … {high}");
            prop_assert!((1..130).contains(&log.ticks().len()));
            let linear = Axis::between(a, b);
            let (low, high) = linear.ends();
            prop_assert!(low.is_finite() && high.is_finite() && low < high);
            let (ticks, step) = linear.ticks(parts);
            prop_assert!(ticks.len() <= 30 && step > 0.0);
            let room = step * 1e-6 + high.abs().max(low.abs()) * 1e-12;
            prop_assert!(ticks.iter().all(|t| *t >= low - room && *t <= high + room), "{ticks:?}");
        }
    }
}
