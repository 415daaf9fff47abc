//! What samples scatter by, and what is left of it when they are smoothed.

/// The standard deviation by which samples scatter about what they follow.
///
/// Of second differences, so that whatever is slow against three samples drops out, by their median, so that edges
/// do too: of white scatter σ they have √6·σ, and their median size is 0.6745 of that.
pub fn scatter(samples: &[f64]) -> f64 {
    let mut sizes: Vec<f64> = samples
        .windows(3)
        .map(|s| (s[0] - 2.0 * s[1] + s[2]).abs())
        .filter(|s| s.is_finite())
        .collect();
    if sizes.is_empty() {
        return 0.0;
    }
    let middle = sizes.len() / 2;
    let (_, median, _) = sizes.select_nth_unstable_by(middle, f64::total_cmp);
    *median / (0.6745 * 6f64.sqrt())
}

/// The parabola through so many samples on each side of each (Savitzky and Golay 1964): peaks keep their height. Towards
/// the ends there are fewer.
pub fn smooth(samples: &[f64], half: usize) -> Vec<f64> {
    let count = samples.len();
    let weights: Vec<Vec<f64>> = (0..=half).map(weights).collect();
    let at = |k: usize| {
        let m = half.min(k).min(count - 1 - k);
        let part = &samples[k - m..=k + m];
        part.iter().zip(&weights[m]).map(|(s, weight)| s * weight).sum()
    };
    (0..count).map(at).collect()
}

fn weights(half: usize) -> Vec<f64> {
    let m = half as f64;
    let square = m * m;
    let whole = (2.0 * m + 1.0) * (4.0 * square + 4.0 * m - 3.0) / 3.0;
    let of = |place: f64| (3.0 * square + 3.0 * m - 1.0 - 5.0 * place * place) / whole;
    (0..=2 * half).map(|k| of(k as f64 - m)).collect()
}

/// The share of the scatter that [`smooth`] leaves.
pub fn left(half: usize) -> f64 {
    weights(half)[half].sqrt()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// White scatter, the sum of twelve uniform draws.
    fn noise(count: usize, deviation: f64, seed: u64) -> Vec<f64> {
        let mut state = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
        let mut uniform = || {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            (state >> 11) as f64 / (1u64 << 53) as f64
        };
        (0..count).map(|_| deviation * ((0..12).map(|_| uniform()).sum::<f64>() - 6.0)).collect()
    }

    proptest! {
        /// Whatever slow movement with an edge in it lies below.
        #[test]
        fn scatter_is_found_below_what_moves(seed in 1u64.., deviation in 1e-3f64..0.1, slow in 0.0f64..0.01) {
            let moves = |k: usize| (slow * k as f64).sin() * 5.0 + if k > 900 { 3.0 } else { 0.0 };
            let samples: Vec<f64> =
                noise(2000, deviation, seed).iter().enumerate().map(|(k, n)| n + moves(k)).collect();
            let found = scatter(&samples);
            prop_assert!((found / deviation - 1.0).abs() < 0.15, "{found} {deviation}");
            let still = smooth(&noise(2000, deviation, seed), 10);
            let is = (still.iter().map(|s| s * s).sum::<f64>() / 2000.0).sqrt();
            prop_assert!((is / (deviation * left(10)) - 1.0).abs() < 0.2, "{is}");
        }

        #[test]
        fn a_parabola_is_kept(a in -1.0f64..1.0, b in -1.0f64..1.0, c in -1.0f64..1.0, half in 0usize..12) {
            let samples: Vec<f64> = (0..40).map(|k| f64::from(k) / 40.0).map(|x| a + b * x + c * x * x).collect();
            let kept = smooth(&samples, half);
            prop_assert!(samples.iter().zip(&kept).all(|(s, k)| (s - k).abs() < 1e-12));
        }
    }
    /// What is empty or short scatters by nothing.
    #[test]
    fn nothing_scatters_by_nothing() {
        assert_eq!((scatter(&[]), scatter(&[1.0, 2.0])), (0.0, 0.0));
        assert_eq!((smooth(&[], 3), smooth(&[2.0], 3)), (Vec::new(), vec![2.0]));
    }
}
