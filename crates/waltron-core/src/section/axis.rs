//! Axes: spans that can always be drawn, their ticks and labels.
//!
//! What is drawn comes from measurements and from files, so a span may be empty, a single value, no
//! number, or far beyond what paper shows. An axis is none of these, by construction.

use crate::quantity::significant;

/// How values are spread over an axis.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Scale {
    /// Evenly.
    Linear,
    /// By their logarithms.
    Logarithmic,
}

/// An axis with what it shows. A logarithmic one is positive, finite, of at least a third of a decade
/// and at most twelve; a linear one is finite and wide enough that its ends differ.
#[derive(Clone, Debug, PartialEq)]
pub struct Axis {
    label: String,
    scale: Scale,
    low: f64,
    high: f64,
    times: f64,
    rows: Vec<String>,
    places: Vec<String>,
}

/// A line of a grid.
#[derive(Clone, Debug, PartialEq)]
pub struct Tick {
    /// Where.
    pub at: f64,
    /// Its number, where there is room for it.
    pub text: Option<String>,
    /// Whether it is one to hold on to: a decade, or zero.
    pub is_strong: bool,
}

/// More would be grid lines only.
const MOST_DECADES: f64 = 12.0;
/// What no quantity of a test is outside of.
const SMALLEST: f64 = 1e-9;
const LARGEST: f64 = 1e12;

impl Axis {
    /// A logarithmic axis from the round value below to the one above. What is no positive number says
    /// nothing: the other end then decides alone, or one decade around 1 is shown.
    pub fn logarithmic(label: impl Into<String>, low: f64, high: f64) -> Self {
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
        let low = low.max(high * 10f64.powf(-MOST_DECADES));
        let (label, scale) = (label.into(), Scale::Logarithmic);
        Self { label, scale, low, high, times: 1.0, rows: Vec::new(), places: Vec::new() }
    }

    /// A linear axis between two values, with 1 more where they are one. What is no number is 0.
    pub fn linear(label: impl Into<String>, low: f64, high: f64) -> Self {
        let sure = |v: f64| if v.is_nan() { 0.0 } else { v.clamp(-1e30, 1e30) };
        let (a, b) = (sure(low), sure(high));
        let (low, high) = (a.min(b), a.max(b));
        // Wide enough for the ticks to be told apart in floating point.
        let least = (low.abs().max(high.abs()) * 1e-9).max(1e-12);
        let high = if high - low > least { high } else { low + least.max(1.0) };
        let (label, scale) = (label.into(), Scale::Linear);
        Self { label, scale, low, high, times: 1.0, rows: Vec::new(), places: Vec::new() }
    }

    /// Named rows, the first one uppermost: what has states and no values.
    pub fn of_rows(label: impl Into<String>, rows: Vec<String>) -> Self {
        let count = rows.len().max(1) as f64;
        Self { rows, ..Self::linear(label, 0.0, count) }
    }

    /// Named places side by side, the first one at 1: positions of a switch.
    pub fn of_places(label: impl Into<String>, places: Vec<String>) -> Self {
        let last = places.len().max(1) as f64 + 0.5;
        Self { places, ..Self::linear(label, 0.5, last) }
    }

    /// The names of its rows, from the uppermost; none where it shows values.
    pub fn rows(&self) -> &[String] {
        &self.rows
    }

    /// The middle of a row, counted from the uppermost one.
    pub fn row(&self, number: usize) -> f64 {
        self.high - number as f64 - 0.5
    }

    /// With numbers that are larger than the values by a factor: milliseconds of seconds.
    #[must_use]
    pub fn in_parts(self, times: f64) -> Self {
        Self { times, ..self }
    }

    /// What it shows, with its unit.
    pub fn label(&self) -> &str {
        &self.label
    }

    /// How values are spread over it.
    pub fn scale(&self) -> Scale {
        self.scale
    }

    /// By how much its numbers are larger than the values.
    pub fn times(&self) -> f64 {
        self.times
    }

    /// Its ends.
    pub fn ends(&self) -> (f64, f64) {
        (self.low, self.high)
    }

    /// The value, or the end that it lies beyond; what is no number lies at the upper one.
    pub fn clamp(&self, value: f64) -> f64 {
        if value.is_nan() { self.high } else { value.clamp(self.low, self.high) }
    }

    /// Whether a value lies on it.
    pub fn contains(&self, value: f64) -> bool {
        (self.low..=self.high).contains(&value)
    }

    /// The place of a value: 0 at the lower end, 1 at the upper one. A value that a logarithmic axis
    /// cannot show lies far below.
    pub fn place(&self, value: f64) -> f64 {
        match self.scale {
            Scale::Linear => (value - self.low) / (self.high - self.low),
            Scale::Logarithmic => {
                (value.max(f64::MIN_POSITIVE) / self.low).ln() / (self.high / self.low).ln()
            }
        }
    }

    /// The lines of its grid; a linear axis is cut into about `parts`.
    pub fn ticks(&self, parts: f64) -> Vec<Tick> {
        if !self.rows.is_empty() {
            let tick = |(number, name): (usize, &String)| Tick {
                at: self.row(number),
                text: Some(name.clone()),
                is_strong: true,
            };
            return self.rows.iter().enumerate().map(tick).collect();
        }
        if !self.places.is_empty() {
            // As many names as there is room for.
            let every = (self.places.len() as f64 / (3.0 * parts)).ceil().max(1.0) as usize;
            let named = self.places.iter().enumerate();
            let tick = |(k, name): (usize, &String)| Tick {
                at: k as f64 + 1.0,
                text: k.is_multiple_of(every).then(|| name.clone()),
                is_strong: false,
            };
            return named.map(tick).collect();
        }
        match self.scale {
            Scale::Linear => self.steps(parts),
            Scale::Logarithmic => self.decades(),
        }
    }

    fn decades(&self) -> Vec<Tick> {
        let (first, last) = (self.low.log10().floor() as i32, self.high.log10().ceil() as i32);
        let all = (first..=last).flat_map(|n| (1..10).map(move |k| (n, k)));
        let tick = |(n, k): (i32, i32)| {
            let at = f64::from(k) * 10f64.powi(n);
            let text = self.has_room(at).then(|| significant(at * self.times, 3));
            Tick { at, text, is_strong: k == 1 }
        };
        let on = |t: &Tick| t.at >= self.low * 0.999_999 && t.at <= self.high * 1.000_001;
        all.map(tick).filter(on).collect()
    }

    /// Whether a line of a logarithmic grid gets a number: 1, 2, 5 where there is room, else decades.
    fn has_room(&self, value: f64) -> bool {
        let lead = (value / 10f64.powf(value.log10().floor() + 1e-9)).round() as i32;
        let lead = if lead == 10 { 1 } else { lead };
        let decades = (self.high / self.low).log10();
        lead == 1 || (decades <= 5.0 && matches!(lead, 2 | 5))
    }

    /// Round values.
    fn steps(&self, parts: f64) -> Vec<Tick> {
        let step = step(self.high - self.low, parts);
        let first = (self.low / step - 1e-9).ceil();
        let count = ((self.high / step + 1e-9).floor() - first).clamp(0.0, 100.0) as u32;
        let tick = |k: u32| {
            let at = (first + f64::from(k)) * step;
            let text = Some(number(at * self.times, step * self.times));
            Tick { at, text, is_strong: at == 0.0 }
        };
        (0..=count).map(tick).collect()
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

/// A round step that cuts a span into about `parts`.
fn step(span: f64, parts: f64) -> f64 {
    let rough = (span / parts).max(f64::MIN_POSITIVE);
    let decade = 10f64.powf(rough.log10().floor());
    let lead = [1.0, 2.0, 2.5, 5.0, 10.0].into_iter().find(|l| l * decade >= rough * 0.999);
    lead.unwrap_or(10.0) * decade
}

/// A tick's text: as many decimals as the step has.
fn number(value: f64, step: f64) -> String {
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

    fn log(low: f64, high: f64) -> Axis {
        Axis::logarithmic("", low, high)
    }

    #[test]
    fn ends_are_round_and_enclose() {
        for (value, below, above) in
            [(0.9, 0.5, 1.0), (1.0, 1.0, 1.0), (3.0, 2.0, 5.0), (70.0, 50.0, 100.0)]
        {
            assert!((round_below(value) - below).abs() < 1e-9, "{value}");
            assert!((round_above(value) - above).abs() < 1e-9, "{value}");
        }
        assert_eq!(log(0.9, 70.0).ends(), (0.5, 100.0));
        assert_eq!(log(1.0, 1.0).ends(), (0.5, 2.0));
        assert_eq!(log(f64::INFINITY, 0.0), log(f64::NAN, -1.0));
    }

    #[test]
    fn ticks_are_round_and_cover_the_range() {
        let texts = |axis: Axis, parts| -> Vec<String> {
            axis.ticks(parts).into_iter().filter_map(|t| t.text).collect()
        };
        assert_eq!(texts(Axis::linear("", 0.0, 10.0), 5.0), ["0", "2", "4", "6", "8", "10"]);
        assert_eq!(texts(Axis::linear("", -1.1, 1.1), 4.0), ["-1", "0", "1"]);
        let parts = Axis::linear("ms", 0.0, 0.02).in_parts(1e3);
        assert_eq!(texts(parts, 4.0), ["0", "5", "10", "15", "20"]);
        assert_eq!(texts(log(1.0, 20.0), 4.0), ["1", "2", "5", "10", "20"]);
        let taps = |n: usize| (1..=n).map(|k| format!("{k}R")).collect();
        assert_eq!(texts(Axis::of_places("tap", taps(3)), 4.0), ["1R", "2R", "3R"]);
        let many = texts(Axis::of_places("tap", taps(33)), 4.0);
        assert_eq!((many.len(), many[1].as_str()), (11, "4R"));
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
            let log = log(a, b);
            let (low, high) = log.ends();
            prop_assert!(low > 0.0 && high.is_finite() && high / low >= 2.0, "{low} … {high}");
            prop_assert!((1..130).contains(&log.ticks(parts).len()));
            let linear = Axis::linear("", a, b);
            let (low, high) = linear.ends();
            prop_assert!(low.is_finite() && high.is_finite() && low < high);
            let ticks = linear.ticks(parts);
            prop_assert!((1..=30).contains(&ticks.len()), "{ticks:?}");
            for (axis, ticks) in [(&log, log.ticks(parts)), (&linear, ticks)] {
                let places: Vec<f64> = ticks.iter().map(|t| axis.place(t.at)).collect();
                prop_assert!(places.iter().all(|p| (-1e-3..=1.001).contains(p)), "{places:?}");
                prop_assert!(places.is_sorted(), "{places:?}");
            }
            let (low, high) = (log.place(log.ends().0), linear.place(linear.ends().1));
            prop_assert!(low.abs() < 1e-9 && (high - 1.0).abs() < 1e-9);
        }
    }
}
