//! A sum of powers with coefficients that are not negative, fitted to a curve on log-log axes.
//!
//! ln Σ c·exp(n·x) with c ≥ 0 is convex whatever the coefficients, so what is fitted cannot wiggle; and
//! since few coefficients come out above zero, scatter is averaged over the whole curve.

/// Exponents of the powers.
const EXPONENTS: [f64; 22] = [
    0.3, 0.5, 0.7, 0.85, 1.0, 1.2, 1.5, 2.0, 2.5, 3.0, 4.0, 5.0, 6.5, 8.0, 10.0, 12.5, 15.0, 18.0,
    22.0, 27.0, 35.0, 50.0,
];

const N: usize = EXPONENTS.len();

/// A fitted sum of powers.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Powers {
    coefficients: [f64; N],
    /// ln E and ln I at which all powers are 1.
    origin: (f64, f64),
}

impl Powers {
    /// Fits to points (ln E, ln I): least squares of what the current is off by as a share, where both
    /// scatter alike. `None` where nothing fits.
    pub(super) fn fit(points: &[(f64, f64)]) -> Option<Self> {
        let origin = *points.last()?;
        let mut weights = vec![1.0; points.len()];
        let mut fitted = None;
        // A voltage's scatter counts by the slope there, which the first round tells.
        for _ in 0..2 {
            let coefficients = least_squares(points, origin, &weights)?;
            let fit = Self { coefficients, origin };
            for (w, (x, _)) in weights.iter_mut().zip(points) {
                let slope = fit.slope(*x);
                *w = 1.0 / (1.0 + slope * slope);
            }
            fitted = Some(fit);
        }
        fitted
    }

    fn terms(&self, x: f64) -> impl Iterator<Item = (f64, f64)> + '_ {
        let x = x - self.origin.0;
        let used = EXPONENTS.iter().zip(&self.coefficients).filter(|(_, c)| **c > 0.0);
        used.map(move |(n, c)| (*n, c * (n * x).exp()))
    }

    /// ln I at ln E.
    pub(super) fn at(&self, x: f64) -> f64 {
        self.terms(x).map(|(_, t)| t).sum::<f64>().ln() + self.origin.1
    }

    /// d ln I over d ln E.
    pub(super) fn slope(&self, x: f64) -> f64 {
        let (sum, rise) = self.terms(x).fold((0.0, 0.0), |(s, r), (n, t)| (s + t, r + n * t));
        rise / sum
    }
}

/// Least squares with coefficients that are not negative (Lawson and Hanson 1974, chapter 23).
fn least_squares(points: &[(f64, f64)], origin: (f64, f64), weights: &[f64]) -> Option<[f64; N]> {
    let (mut gram, mut right) = ([[0.0; N]; N], [0.0; N]);
    for ((x, y), w) in points.iter().zip(weights) {
        let row = EXPONENTS.map(|n| (n * (x - origin.0) - (y - origin.1)).exp());
        for (i, line) in gram.iter_mut().enumerate() {
            right[i] += w * row[i];
            line.iter_mut().zip(row).for_each(|(sum, of)| *sum += w * row[i] * of);
        }
    }
    let (mut x, mut free) = ([0.0f64; N], [false; N]);
    for _ in 0..4 * N {
        let gradient = |k: usize| right[k] - (0..N).map(|j| gram[k][j] * x[j]).sum::<f64>();
        let next = (0..N).filter(|k| !free[*k]).map(|k| (k, gradient(k)));
        let next = next.max_by(|a, b| a.1.total_cmp(&b.1));
        match next {
            Some((k, g)) if g > 1e-10 * right[k].abs() => free[k] = true,
            _ => break,
        }
        // What would become negative is taken out again, the first to do so first.
        loop {
            let trial = solve(&gram, &right, &free)?;
            let step = (0..N).filter(|k| free[*k] && trial[*k] <= 0.0);
            let step = step.map(|k| x[k] / (x[k] - trial[k])).reduce(f64::min);
            let Some(step) = step else {
                x = trial;
                break;
            };
            for k in 0..N {
                x[k] += step * (trial[k] - x[k]);
                if free[k] && x[k] <= 1e-14 {
                    (x[k], free[k]) = (0.0, false);
                }
            }
        }
    }
    free.contains(&true).then_some(x)
}

/// Cholesky's decomposition of the free unknowns; the rest is zero.
fn solve(gram: &[[f64; N]; N], right: &[f64; N], free: &[bool; N]) -> Option<[f64; N]> {
    let at: Vec<usize> = (0..N).filter(|k| free[*k]).collect();
    let n = at.len();
    let (mut lower, mut y) = ([[0.0; N]; N], [0.0; N]);
    for i in 0..n {
        for j in 0..=i {
            let sum: f64 = (0..j).map(|k| lower[i][k] * lower[j][k]).sum();
            // A trace of damping, since neighbouring powers are almost alike.
            let own = gram[at[i]][at[j]] * if i == j { 1.0 + 1e-12 } else { 1.0 };
            let rest = own - sum;
            lower[i][j] = if i == j {
                if rest <= 0.0 {
                    return None;
                }
                rest.sqrt()
            } else {
                rest / lower[j][j]
            };
        }
        let sum: f64 = (0..i).map(|k| lower[i][k] * y[k]).sum();
        y[i] = (right[at[i]] - sum) / lower[i][i];
    }
    let mut x = [0.0; N];
    for i in (0..n).rev() {
        let sum: f64 = (i + 1..n).map(|k| lower[k][i] * x[at[k]]).sum();
        x[at[i]] = (y[i] - sum) / lower[i][i];
    }
    Some(x)
}
