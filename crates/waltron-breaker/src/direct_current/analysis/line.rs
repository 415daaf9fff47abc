//! A straight line through measured points.

/// y = `at_zero` + `slope`·x with the standard errors of both; those are 0 where as many points as unknowns
/// leave nothing to tell them from.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Line {
    pub(crate) at_zero: f64,
    pub(crate) slope: f64,
    /// Standard error of its value at zero.
    pub(crate) at_zero_error: f64,
    /// Standard error of its slope.
    pub(crate) slope_error: f64,
}

/// The line of least squares; `None` of points at one place only.
pub(crate) fn line(points: &[(f64, f64)]) -> Option<Line> {
    let n = points.len() as f64;
    let (x, y) = points.iter().fold((0.0, 0.0), |(x, y), p| (x + p.0 / n, y + p.1 / n));
    let spread: f64 = points.iter().map(|p| (p.0 - x).powi(2)).sum();
    let largest = points.iter().map(|p| p.0.abs()).fold(0.0, f64::max);
    if spread.is_nan() || spread <= 1e-6 * largest * largest {
        return None;
    }
    let slope = points.iter().map(|p| (p.0 - x) * (p.1 - y)).sum::<f64>() / spread;
    let at_zero = y - slope * x;
    let rest: f64 = points.iter().map(|p| (p.1 - at_zero - slope * p.0).powi(2)).sum();
    let variance = if n > 2.0 { rest / (n - 2.0) } else { 0.0 };
    Some(Line {
        at_zero,
        slope,
        at_zero_error: (variance * (1.0 / n + x * x / spread)).sqrt(),
        slope_error: (variance / spread).sqrt(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Five points worked through by hand: x = 1…5, y = 2.1, 3.9, 6.2, 7.8, 10.1.
    #[test]
    fn a_line_by_hand() {
        let points = [(1.0, 2.1), (2.0, 3.9), (3.0, 6.2), (4.0, 7.8), (5.0, 10.1)];
        let found = line(&points).unwrap();
        // Sxy = 19.9, Sxx = 10, means 3 and 6.02; the squares left over add up to 0.107.
        assert!((found.slope - 1.99).abs() < 1e-12, "{found:?}");
        assert!((found.at_zero - 0.05).abs() < 1e-12, "{found:?}");
        let variance = 0.107 / 3.0;
        assert!((found.slope_error - f64::sqrt(variance / 10.0)).abs() < 1e-9, "{found:?}");
        assert!((found.at_zero_error - f64::sqrt(variance * 1.1)).abs() < 1e-9, "{found:?}");
        assert_eq!(line(&[(2.0, 1.0), (2.0, 3.0)]), None);
        assert_eq!(line(&[]), None);
    }
}
