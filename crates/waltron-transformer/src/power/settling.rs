//! What readings that still move say of where they go: an exponential through the last of them.
//!
//! A small change in ten seconds says little where the time constant is minutes: 0.1 % in 10 s with 200 s
//! leaves 2 % to come. So the time constant is found from the readings themselves, and what is left told
//! with what that is uncertain by.

/// Where readings go.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Settling {
    /// The last value by the fit, less the value in the end.
    pub left: f64,
    /// What that is uncertain by (k = 2).
    pub u: f64,
    /// The time constant, in s, where one shows.
    pub time_constant_s: Option<f64>,
}

/// The fewest readings that say anything.
pub(super) const FEWEST: usize = 6;

/// How much better an exponential must fit than a value that stands still, for it to be believed.
const BETTER: f64 = 3.0;

/// A fit of a value and a multiple of a shape: value, multiple, what is left of squares, and the variance of
/// the multiple with that of a reading as 1.
fn fit(readings: &[(f64, f64)], shape: impl Fn(f64) -> f64) -> (f64, f64, f64, f64) {
    let n = readings.len() as f64;
    let (mut sf, mut sff, mut sy, mut sfy) = (0.0, 0.0, 0.0, 0.0);
    for (t, y) in readings {
        let f = shape(*t);
        (sf, sff, sy, sfy) = (sf + f, sff + f * f, sy + y, sfy + f * y);
    }
    let det = n * sff - sf * sf;
    let multiple = if det.abs() > 0.0 { (n * sfy - sf * sy) / det } else { 0.0 };
    let value = (sy - multiple * sf) / n;
    let left = readings.iter().map(|(t, y)| (y - value - multiple * shape(*t)).powi(2)).sum();
    (value, multiple, left, if det.abs() > 0.0 { n / det } else { f64::INFINITY })
}

/// Where a function with one valley is least.
fn least(f: impl Fn(f64) -> f64, low: f64, high: f64) -> f64 {
    const GOLDEN: f64 = 0.618_033_988_75;
    let (mut a, mut b) = (low, high);
    for _ in 0..40 {
        let (c, d) = (b - GOLDEN * (b - a), a + GOLDEN * (b - a));
        if f(c) < f(d) { b = d } else { a = c }
    }
    f64::midpoint(a, b)
}

/// Where a function that is below zero at one place rises above it on the way to another.
fn edge(f: impl Fn(f64) -> f64, below: f64, above: f64) -> f64 {
    let (mut a, mut b) = (below, above);
    for _ in 0..40 {
        let middle = f64::midpoint(a, b);
        if f(middle) < 0.0 { a = middle } else { b = middle }
    }
    a
}

/// Where readings of time in s and value go, by rising time; `None` of too few.
pub fn settling(readings: &[(f64, f64)]) -> Option<Settling> {
    let [(first, _), .., (last, _)] = readings else { return None };
    let window = last - first;
    if readings.len() < FEWEST || window <= 0.0 {
        return None;
    }
    let n = readings.len() as f64;
    let mean = readings.iter().map(|(_, y)| y).sum::<f64>() / n;
    let still: f64 = readings.iter().map(|(_, y)| (y - mean).powi(2)).sum();
    let at = |tau: f64| fit(readings, |t| (-(t - last) / tau).exp());
    // From a fifth of the window to fifty windows; what is slower than that is a straight line.
    let constants = (0..60).map(|k| window / 5.0 * 250f64.powf(f64::from(k) / 59.0));
    let near = constants.min_by(|a, b| at(*a).2.total_cmp(&at(*b).2))?;
    let tau = least(|tau| at(tau).2, near / 1.1, near * 1.1);
    let (_, multiple, squares, variance) = at(tau);
    // The scatter of a reading, of what the exponential leaves; digits are never better than doubles.
    let scatter = (squares / (n - 3.0)).sqrt().max(mean.abs() * 1e-12);
    if still / (n - 1.0) < BETTER * scatter * scatter {
        // Nothing moves that could be told from the scatter: what may hide in it is a slope.
        let slope = scatter * 12f64.sqrt() / (window * n.sqrt());
        return Some(Settling { left: 0.0, u: 2.0 * slope * window, time_constant_s: None });
    }
    let u = 2.0 * scatter * variance.sqrt();
    // The time constant is not known better than that fits come out alike.
    let limit = squares + 4.0 * scatter * scatter;
    let mut spread = 0.0f64;
    for way in [1.1, 1.0 / 1.1] {
        let mut other = tau;
        for _ in 0..40 {
            let next = at(other * way);
            if next.2 > limit {
                break;
            }
            other *= way;
            spread = spread.max((next.1 - multiple).abs());
        }
        // Up to the edge, between two steps.
        let edge = edge(|tau| at(tau).2 - limit, other, other * way);
        spread = spread.max((at(edge).1 - multiple).abs());
    }
    Some(Settling { left: multiple, u: u + spread, time_constant_s: Some(tau) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn falling(tau: f64, left: f64, step: f64, count: u32, noise: f64) -> Vec<(f64, f64)> {
        let last = f64::from(count - 1) * step;
        // A scatter that repeats itself: the golden ratio's multiples, evenly spread.
        let scatter = |k: u32| ((f64::from(k) * 0.618_034).fract() - 0.5) * 3.46 * noise;
        (0..count)
            .map(|k| {
                let t = f64::from(k) * step;
                (t, 1.0 + left * (-(t - last) / tau).exp() + scatter(k))
            })
            .collect()
    }

    /// 0.1 % in ten seconds at 200 s: 2 % are still to come.
    #[test]
    fn a_small_change_hides_a_large_one() {
        let readings = falling(200.0, 0.02, 1.0, 21, 1e-6);
        let change = readings[10].1 - readings[20].1;
        assert!((change - 0.001).abs() < 1e-4, "{change}");
        let s = settling(&readings).unwrap();
        assert!((s.left - 0.02).abs() < 0.002 && (s.left - 0.02).abs() <= s.u, "{s:?}");
        assert!((s.time_constant_s.unwrap() / 200.0 - 1.0).abs() < 0.1, "{s:?}");
    }

    #[test]
    fn what_stands_still_is_settled() {
        let s = settling(&falling(200.0, 0.0, 1.0, 20, 1e-5)).unwrap();
        assert_eq!((s.left, s.time_constant_s), (0.0, None));
        assert!(s.u < 2e-5, "{s:?}");
        assert!(settling(&falling(1.0, 0.0, 1.0, 5, 0.0)).is_none());
        assert!(settling(&[]).is_none());
        assert_eq!(settling(&[(0.0, 1.0); 8]), None, "no time passed");
        let exact = settling(&falling(1.0, 0.0, 1.0, 8, 0.0)).unwrap();
        assert!(exact.u < 1e-9, "{exact:?}");
    }

    proptest! {
        /// Of all time constants that fit about as well, the one that leaves most is in the uncertainty: gone through
        /// one by one.
        #[test]
        fn time_constants_that_fit_as_well_are_told(
            tau in 5.0f64..100.0, left in 1e-3f64..0.05, count in 15u32..50,
        ) {
            let readings = falling(tau, left, 1.0, count, 1e-5);
            let s = settling(&readings).unwrap();
            let Some(found) = s.time_constant_s else { return Ok(()) };
            let last = f64::from(count - 1);
            let of = |tau: f64| {
                let (_, multiple, squares, variance) = fit(&readings, |t| (-(t - last) / tau).exp());
                (multiple, squares, variance)
            };
            let (multiple, squares, variance) = of(found);
            let scatter = (squares / (f64::from(count) - 3.0)).sqrt();
            // Up to the last one that fits, and up to the first one that does not; at most some fifty times as much.
            let (mut within, mut beyond) = (0.0f64, 0.0f64);
            for step in [1.001, 1.0 / 1.001] {
                for one in (1..=3909).map(|k| of(found * f64::powi(step, k))) {
                    let off = (one.0 - multiple).abs();
                    beyond = beyond.max(off);
                    if one.1 > squares + 4.0 * scatter * scatter {
                        break;
                    }
                    within = within.max(off);
                }
            }
            let own = 2.0 * scatter * variance.sqrt();
            let due = own + within..=(own + beyond) * 1.001;
            prop_assert!(due.contains(&s.u), "{} of {due:?}", s.u);
        }

        /// What is left lies within what it is said to be uncertain by, whatever the time constant.
        #[test]
        fn what_is_left_is_told(
            tau in 3.0f64..400.0, left in 1e-4f64..0.05, sign in prop::bool::ANY, count in 12u32..60,
        ) {
            let left = if sign { left } else { -left };
            let s = settling(&falling(tau, left, 1.0, count, 1e-7)).unwrap();
            prop_assert!((s.left - left).abs() <= s.u.max(0.05 * left.abs() + 1e-6), "{s:?} of {left}");
        }
    }
}
