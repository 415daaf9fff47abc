//! What an input withstands: for ever, and for a short time.
//!
//! Every rating is a limit of its own: at its value no longer than it says. Between two short-time
//! ratings the longest time lies on the straight line on log-log axes, below the lowest one it
//! follows its own value²·t, above the highest one there is none. (IEC 60255-1 has the maker declare
//! the values and says nothing of what lies between them; the line keeps to both ends.)

use crate::quantity::{Measure, Time, seconds, text};
use std::fmt;

/// One value that an input withstands.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Rating<Q> {
    /// The value, RMS.
    pub value: Q,
    /// For how long; `None`: for ever.
    pub duration: Option<Time>,
}

/// How long a value may last.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Longest {
    /// For ever.
    Forever,
    /// At most so long, from cold.
    For(Time),
    /// Not at all.
    Never,
}

/// What inputs of one kind withstand; nothing is known where there are no ratings.
#[derive(Clone, Debug, PartialEq)]
pub struct Withstand<Q> {
    ratings: Vec<Rating<Q>>,
    /// The largest value that is withstood for ever, in SI.
    continuous: Option<f64>,
    /// Short-time ratings above it by rising value: SI value, seconds. Times never rise.
    short: Vec<(f64, f64)>,
}

impl<Q> Default for Withstand<Q> {
    fn default() -> Self {
        Self { ratings: Vec::new(), continuous: None, short: Vec::new() }
    }
}

impl<Q: Measure> Withstand<Q> {
    /// Takes ratings in any order. Where two contradict each other, the stricter one holds.
    pub fn new(ratings: Vec<Rating<Q>>) -> Self {
        let continuous = ratings.iter().filter(|r| r.duration.is_none()).map(|r| r.value.si());
        let continuous = continuous.reduce(f64::min);
        let mut short: Vec<(f64, f64)> =
            ratings.iter().filter_map(|r| Some((r.value.si(), r.duration?.si()))).collect();
        short.sort_by(|a, b| a.0.total_cmp(&b.0).then(a.1.total_cmp(&b.1)));
        let mut shortest = f64::INFINITY;
        for (_, time) in &mut short {
            shortest = shortest.min(*time);
            *time = shortest;
        }
        short.dedup_by(|later, first| later.0 == first.0);
        Self { ratings, continuous, short }
    }

    /// Whether nothing is known.
    pub fn is_unknown(&self) -> bool {
        self.ratings.is_empty()
    }

    /// The ratings as given.
    pub fn ratings(&self) -> &[Rating<Q>] {
        &self.ratings
    }

    /// How long a value may last from cold. Where nothing is known, nothing limits it.
    pub fn longest(&self, value: Q) -> Longest {
        let v = value.si();
        if self.is_unknown() || self.continuous.is_some_and(|c| v <= c) {
            return Longest::Forever;
        }
        let at = self.short.partition_point(|(rated, _)| *rated < v);
        let Some(&(high, t_high)) = self.short.get(at) else { return Longest::Never };
        // What is no number is never withstood.
        if v.is_nan() {
            return Longest::Never;
        }
        let time = match at.checked_sub(1).map(|below| self.short[below]) {
            _ if v == high => t_high,
            None => t_high * (high / v) * (high / v),
            Some((low, t_low)) => {
                let share = (v / low).ln() / (high / low).ln();
                t_low * (t_high / t_low).powf(share)
            }
        };
        Longest::For(seconds(time))
    }

    /// The share of what the input withstands that a value takes up in a time: 1 is all of it.
    /// Shares of values one after another add up, as I²t does for one rating.
    pub fn wear(&self, value: Q, time: Time) -> f64 {
        match self.longest(value) {
            Longest::Forever => 0.0,
            Longest::For(longest) => (time / longest).value,
            Longest::Never => f64::INFINITY,
        }
    }

    /// The share that a value gives back a second while the input cools; zero above what is
    /// withstood for ever.
    ///
    /// Ic² − i² over the lowest short-time rating's I²t: the rate at which the continuous value
    /// would heat, which the input gives off for ever.
    pub fn cooling(&self, value: Q) -> f64 {
        let (Some(c), Some((rated, time))) = (self.continuous, self.short.first()) else {
            return 0.0;
        };
        let v = value.si();
        ((c * c - v * v) / (rated * rated * time)).max(0.0)
    }

    /// The rating that limits a value: the lowest one at or above it, else the highest.
    pub fn limiting(&self, value: Q) -> Option<Rating<Q>> {
        let mut all = self.ratings.clone();
        all.sort_by(|a, b| a.value.si().total_cmp(&b.value.si()));
        all.iter().find(|r| r.value >= value).or(all.last()).copied()
    }
}

impl<Q: Measure> fmt::Display for Rating<Q> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.duration {
            Some(t) => write!(f, "{} for {}", text(self.value), text(t)),
            None => write!(f, "{} continuous", text(self.value)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::{Current, amperes};
    use proptest::prelude::*;

    fn withstand(ratings: &[(f64, Option<f64>)]) -> Withstand<Current> {
        let rating =
            |&(i, t): &(f64, Option<f64>)| Rating { value: amperes(i), duration: t.map(seconds) };
        Withstand::new(ratings.iter().map(rating).collect())
    }

    fn time(of: &Withstand<Current>, i: f64) -> f64 {
        match of.longest(amperes(i)) {
            Longest::For(t) => t.si(),
            other => panic!("{i} A: {other:?}"),
        }
    }

    /// By hand: 100 A for 10 s and 500 A for 1 s; the line between them at √(100·500) A is √10 s.
    #[test]
    fn every_rating_limits_and_between_two_lies_a_straight_line() {
        let all = withstand(&[(500.0, Some(1.0)), (15.0, None), (100.0, Some(10.0))]);
        assert_eq!(all.longest(amperes(15.0)), Longest::Forever);
        assert!((time(&all, 100.0) - 10.0).abs() < 1e-12, "no longer than its own rating says");
        assert!((time(&all, 500.0) - 1.0).abs() < 1e-12);
        assert!((time(&all, 50_000f64.sqrt()) - 10f64.sqrt()).abs() < 1e-9);
        assert!((time(&all, 50.0) - 40.0).abs() < 1e-9, "the lowest one's I²t below it");
        assert_eq!(all.longest(amperes(500.1)), Longest::Never);
        assert_eq!(all.longest(amperes(f64::NAN)), Longest::Never);
        assert!((all.wear(amperes(100.0), seconds(20.0)) - 2.0).abs() < 1e-12);
        assert_eq!(all.limiting(amperes(120.0)).unwrap().to_string(), "500 A for 1 s");
        assert_eq!(all.limiting(amperes(700.0)).unwrap().to_string(), "500 A for 1 s");
        // 15² A² a second of 100² A² · 10 s.
        assert!((all.cooling(amperes(0.0)) - 225.0 / 1e5).abs() < 1e-15);
        assert_eq!(all.cooling(amperes(16.0)), 0.0);
    }

    #[test]
    fn what_contradicts_itself_is_read_strictly() {
        let odd = withstand(&[(4.0, None), (6.0, None), (50.0, Some(1.0)), (80.0, Some(3.0))]);
        assert_eq!(odd.longest(amperes(4.0)), Longest::Forever);
        assert!(matches!(odd.longest(amperes(5.0)), Longest::For(_)));
        assert!((time(&odd, 80.0) - 1.0).abs() < 1e-12, "more current never lasts longer");
        let twice = withstand(&[(50.0, Some(3.0)), (50.0, Some(1.0))]);
        assert!((time(&twice, 50.0) - 1.0).abs() < 1e-12);
        assert_eq!(withstand(&[(4.0, None)]).longest(amperes(4.1)), Longest::Never);
        assert_eq!(withstand(&[]).longest(amperes(1e6)), Longest::Forever);
        assert_eq!(withstand(&[(50.0, Some(1.0))]).cooling(amperes(0.0)), 0.0);
    }

    proptest! {
        /// For ratings that do not contradict each other: each is kept to the last digit, and more
        /// current never lasts longer.
        #[test]
        fn no_rating_is_exceeded_and_more_never_lasts_longer(
            steps in proptest::collection::vec((1.01f64..5.0, 0.05f64..1.0), 1..5),
            i in 4.0f64..2000.0, more in 1.0f64..3.0,
        ) {
            let (mut value, mut t) = (4.0, 100.0);
            let mut ratings = vec![(4.0, None)];
            for (up, down) in steps {
                value *= up;
                t *= down;
                ratings.push((value, Some(t)));
            }
            let all = withstand(&ratings);
            for (rated, limit) in ratings.iter().filter_map(|(i, t)| Some((*i, (*t)?))) {
                prop_assert!(time(&all, rated) <= limit * (1.0 + 1e-12));
            }
            let rank = |l: Longest| match l {
                Longest::Forever => f64::INFINITY,
                Longest::For(t) => t.si(),
                Longest::Never => 0.0,
            };
            let (a, b) = (rank(all.longest(amperes(i))), rank(all.longest(amperes(i * more))));
            prop_assert!(b <= a * (1.0 + 1e-9));
        }
    }
}
