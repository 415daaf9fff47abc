//! Values with what makes them uncertain, and working with them to first order (JCGM 100:2008, 5.1.2 and 5.2.2): a cause
//! that two values share moves their result once, by the sum.

use super::{Cause, Distribution, Part};

/// A value with what moves it.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Estimate {
    /// The value, in SI.
    pub value: f64,
    /// By how much each cause moves it, for one of its own unit.
    moves: Vec<(Cause, f64)>,
}

impl Estimate {
    /// A value that is certain.
    pub fn exact(value: f64) -> Self {
        Self { value, moves: Vec::new() }
    }

    /// A value with the parts of its budget.
    pub fn of_parts(value: f64, parts: &[Part]) -> Self {
        let moves = parts.iter().map(|part| (part.cause(), part.sensitivity));
        Self { value, moves: moves.collect() }
    }

    /// The same, moved by a cause as well.
    #[must_use]
    pub fn with(mut self, cause: Cause, sensitivity: f64) -> Self {
        self.add(cause, sensitivity);
        self
    }

    /// The same, moved as well by what no meter tells, such as a temperature or the method; where no meter states
    /// anything, that alone says nothing.
    #[must_use]
    pub fn with_beside(self, cause: Cause, sensitivity: f64) -> Self {
        if self.is_stated() { self.with(cause, sensitivity) } else { self }
    }

    fn add(&mut self, cause: Cause, sensitivity: f64) {
        let standard = cause.standard.si();
        if standard <= 0.0 {
            return;
        }
        match self.moves.iter_mut().find(|(known, _)| known.source == cause.source) {
            // One error may be told as a share of each of two values.
            Some((known, by)) => *by += sensitivity * standard / known.standard.si(),
            None => self.moves.push((cause, sensitivity)),
        }
    }

    /// The same, moved as well by causes that each move it by a share of this slope.
    #[must_use]
    pub fn with_shares(mut self, causes: Vec<(Cause, f64)>, slope: f64) -> Self {
        for (cause, share) in causes {
            self.add(cause, share * slope);
        }
        self
    }

    /// A function of it: its value there, and its slope.
    #[must_use]
    pub fn function(mut self, value: f64, slope: f64) -> Self {
        self.moves.iter_mut().for_each(|(_, by)| *by *= slope);
        Self { value, ..self }
    }

    /// So many times it.
    #[must_use]
    pub fn times(self, factor: f64) -> Self {
        let value = self.value * factor;
        self.function(value, factor)
    }

    /// A function of two: its value there, and its slope towards each.
    #[must_use]
    pub fn joined(self, other: &Self, value: f64, [a, b]: [f64; 2]) -> Self {
        let mut joined = self.function(value, a);
        for (cause, by) in &other.moves {
            joined.add(cause.clone(), by * b);
        }
        joined
    }

    /// Both added.
    #[must_use]
    pub fn plus(self, other: &Self) -> Self {
        let value = self.value + other.value;
        self.joined(other, value, [1.0, 1.0])
    }

    /// It less another.
    #[must_use]
    pub fn minus(self, other: &Self) -> Self {
        let value = self.value - other.value;
        self.joined(other, value, [1.0, -1.0])
    }

    /// It times another.
    #[must_use]
    pub fn product(self, other: &Self) -> Self {
        let (a, b) = (self.value, other.value);
        self.joined(other, a * b, [b, a])
    }

    /// It over another.
    #[must_use]
    pub fn over(self, other: &Self) -> Self {
        let (a, b) = (self.value, other.value);
        self.joined(other, a / b, [1.0 / b, -a / (b * b)])
    }

    /// It as the value of one injection of several: what scatters from look to look is no other injection's.
    #[must_use]
    pub fn of_injection(mut self, label: &str) -> Self {
        for (cause, _) in &mut self.moves {
            if cause.is_of_one_look() {
                cause.source = format!("{}, {label}", cause.source).into();
            }
        }
        self
    }

    /// What moves it, and by how much for the standard uncertainty of that.
    pub fn moves(&self) -> impl Iterator<Item = (&Cause, f64)> {
        self.moves.iter().map(|(cause, by)| (cause, by * cause.standard.si()))
    }

    /// Whether anything is stated that may move it, though it drop out.
    pub fn is_stated(&self) -> bool {
        self.moves.iter().any(|(_, by)| by.is_finite())
    }

    /// Whether nothing is known to move it.
    pub fn is_certain(&self) -> bool {
        self.standard() == 0.0
    }

    /// The combined standard uncertainty, in SI.
    pub fn standard(&self) -> f64 {
        self.moves.iter().map(|(cause, by)| (cause.standard.si() * by).powi(2)).sum::<f64>().sqrt()
    }

    /// The expanded uncertainty (k = 2), in SI.
    pub fn expanded(&self) -> f64 {
        2.0 * self.standard()
    }

    /// Its budget: what each cause adds, the largest first; what adds nothing is left out.
    pub fn parts(&self) -> Vec<Part> {
        // What only rounding leaves of what drops out is none.
        let least = 1e-9 * self.standard();
        let parts = self.moves.iter().map(|(cause, by)| Part::of(cause, *by));
        let mut parts: Vec<Part> = parts.filter(|part| part.contribution() > least).collect();
        // What differs by rounding alone stands in the order of its names.
        let digits = |part: &Part| (part.contribution() as f32).to_bits() >> 4;
        parts.sort_by(|a, b| digits(b).cmp(&digits(a)).then_with(|| a.source.cmp(&b.source)));
        parts
    }
}

/// The combined standard uncertainty of parts, in the value's SI unit.
pub fn combined(parts: &[Part]) -> f64 {
    parts.iter().map(|part| part.contribution().powi(2)).sum::<f64>().sqrt()
}

/// The part that alone makes more than nine tenths of the variance and is a limit: where there is one, the value lies
/// within U nearly always, and not in 95 % of cases only.
pub fn ruling(parts: &[Part]) -> Option<&Part> {
    let all = combined(parts).powi(2);
    parts.iter().find(|part| {
        part.distribution == Distribution::Rectangular && part.contribution().powi(2) > 0.9 * all
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::grading::Value;
    use crate::quantity::{Dimension, Quantity};
    use proptest::prelude::*;

    fn cause(source: &str, standard: f64) -> Cause {
        let standard = Value::Plain(Quantity { si: standard, dimension: Dimension::NUMBER });
        Cause::scatter(source, standard)
    }

    fn estimate(value: f64, own: (&str, f64), shared: f64) -> Estimate {
        Estimate::exact(value).with(cause(own.0, own.1), 1.0).with(cause("both", 1.0), shared)
    }

    /// JCGM 100:2008, 5.1.2 by hand: 20 ± 0.3 and 5 ± 0.4 that share nothing, then that share all.
    #[test]
    fn what_is_shared_counts_once_by_its_sum() {
        let (a, b) = (estimate(20.0, ("a", 0.3), 0.0), estimate(5.0, ("b", 0.4), 0.0));
        assert!((a.clone().plus(&b).standard() - 0.5).abs() < 1e-12);
        assert!((a.clone().over(&b).standard() - 4.0 * 0.015f64.hypot(0.08)).abs() < 1e-12);
        let (a, b) = (estimate(20.0, ("a", 0.0), 0.2), estimate(5.0, ("b", 0.0), 0.2));
        assert_eq!(a.clone().minus(&b).standard(), 0.0, "an offset is not in a difference");
        assert!((a.clone().plus(&b).standard() - 0.4).abs() < 1e-12);
        let of_size = |value: f64| Estimate::exact(value).with(cause("size", 0.01), value);
        assert!(of_size(20.0).over(&of_size(5.0)).standard() < 1e-15, "nor a gain in a quotient");
        assert_eq!(a.over(&b).parts().len(), 1);
        // An error of 30 mV, whatever the value, told as a share of each.
        let share = |value: f64| Estimate::exact(value).with(cause("size", 0.03 / value), value);
        assert!(share(20.0).minus(&share(5.0)).standard() < 1e-12);
        assert!((share(20.0).plus(&share(5.0)).standard() - 0.06).abs() < 1e-12);
    }

    #[test]
    fn a_budget_is_told_by_size_and_comes_back() {
        let limit = Value::Plain(Quantity { si: 0.3, dimension: Dimension::VOLTAGE });
        let seen = Estimate::exact(10.0)
            .with(cause("small", 0.02), 1.0)
            .with(Cause::limit("M1 size", limit), -2.0);
        let parts = seen.parts();
        assert_eq!(parts[0].source, "M1 size");
        assert!((parts[0].contribution() - 0.6 / 3f64.sqrt()).abs() < 1e-7);
        assert_eq!(ruling(&parts).map(|part| part.source.as_str()), Some("M1 size"));
        assert!(ruling(&parts[1..]).is_none(), "what scatters is no limit");
        assert!((combined(&parts) - seen.standard()).abs() < 1e-7);
        let json = serde_json::to_string(&parts).unwrap();
        assert!(json.contains("\"standard_v\":0.17"), "{json}");
        let back: Vec<Part> = serde_json::from_str(&json).unwrap();
        assert_eq!(back, parts);
    }

    proptest! {
        /// Graded again by what a record holds, a value has the same U to its last digit.
        #[test]
        fn a_budget_is_the_same_when_it_is_read_back(
            si in prop_oneof![1e-12f64..1e-6, 1e-6f64..10.0], by in prop_oneof![-1e4f64..1e4, Just(1.0), Just(0.0)],
            unit in 0usize..4, is_limit: bool,
        ) {
            let plain = |dimension| Value::Plain(Quantity { si, dimension });
            let standard = match unit {
                0 => Value::Percent(si),
                1 => Value::Minutes(si),
                2 => plain(Dimension::ANGLE),
                _ => plain(Dimension::VOLTAGE),
            };
            let cause = if is_limit { Cause::limit("a", standard) } else { Cause::scatter("a", standard) };
            let part = Part::of(&cause, by);
            let back: Part = serde_json::from_str(&serde_json::to_string(&part).unwrap()).unwrap();
            prop_assert_eq!(&back, &part);
            let again = Part::of(&back.cause(), back.sensitivity);
            prop_assert_eq!(again.contribution(), part.contribution());
            let exact = (cause.standard.si() * by).abs();
            let off = (part.contribution() - exact).abs();
            prop_assert!(off <= 1.1e-6 * exact + 2e-11 * by.abs(), "{part:?} {exact}");
        }

        /// Against moving each cause by a little, all that hangs on it together.
        #[test]
        fn first_order_is_what_small_moves_do(
            a in 1.0f64..100.0, b in 1.0f64..100.0, own in prop::array::uniform2(0.0f64..1e-5),
            shared in prop::array::uniform2(-1e-5f64..1e-5), way in 0usize..4,
        ) {
            let of = |a: f64, b: f64| match way { 0 => a + b, 1 => a - b, 2 => a * b, _ => a / b };
            let (x, y) = (estimate(a, ("a", own[0]), shared[0]), estimate(b, ("b", own[1]), shared[1]));
            let result = match way {
                0 => x.plus(&y),
                1 => x.minus(&y),
                2 => x.product(&y),
                _ => x.over(&y),
            };
            let base = of(a, b);
            let moved = [of(a + own[0], b), of(a, b + own[1]), of(a + shared[0], b + shared[1])];
            let root = moved.iter().map(|m| (m - base).powi(2)).sum::<f64>().sqrt();
            prop_assert!((result.value - base).abs() < 1e-12 * base.abs().max(1.0));
            prop_assert!((result.standard() - root).abs() < 1e-3 * root + 1e-12 * base.abs());
        }
    }
}
