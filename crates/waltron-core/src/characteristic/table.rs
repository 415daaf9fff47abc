//! A characteristic given as points, interpolated on log-log axes.

/// Points (multiple of pickup, seconds), ascending in the multiple and not ascending in time.
#[derive(Clone, Debug, PartialEq)]
pub struct TimeTable {
    points: Vec<(f64, f64)>,
}

/// Why points do not make a characteristic.
#[derive(Clone, Copy, Debug, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum TableError {
    /// Fewer than two points.
    #[error("a table needs at least two points, this one has {0}")]
    TooFew(usize),
    /// A multiple at or below 1, a time at or below zero, or not finite.
    #[error("point {0}: multiples must be above 1 x and times above zero")]
    OutOfRange(usize),
    /// A multiple that does not exceed the one before it.
    #[error("point {0}: multiples must rise from point to point")]
    NotRising(usize),
    /// A longer time at a larger current.
    #[error("point {0}: the time may not grow with the current")]
    TimeGrows(usize),
}

impl TimeTable {
    /// Checks and takes points of (multiple, seconds).
    ///
    /// # Errors
    /// [`TableError`] with the number of the offending point, counted from 1.
    pub fn try_new(points: Vec<(f64, f64)>) -> Result<Self, TableError> {
        if points.len() < 2 {
            return Err(TableError::TooFew(points.len()));
        }
        for (i, &(m, t)) in points.iter().enumerate() {
            if !(m > 1.0 && t > 0.0 && m.is_finite() && t.is_finite()) {
                return Err(TableError::OutOfRange(i + 1));
            }
            if i > 0 && m <= points[i - 1].0 {
                return Err(TableError::NotRising(i + 1));
            }
            if i > 0 && t > points[i - 1].1 {
                return Err(TableError::TimeGrows(i + 1));
            }
        }
        Ok(Self { points })
    }

    /// The points as given.
    pub fn points(&self) -> &[(f64, f64)] {
        &self.points
    }

    /// Seconds at multiple `m`: none below the first point, the last time beyond the last.
    pub fn time_s(&self, m: f64) -> Option<f64> {
        let after = self.points.partition_point(|p| p.0 <= m);
        match (after.checked_sub(1).map(|i| self.points[i]), self.points.get(after)) {
            (None, _) => None,
            (Some(last), None) => Some(last.1),
            (Some(a), Some(b)) => {
                let share = (m / a.0).ln() / (b.0 / a.0).ln();
                Some(a.1 * (b.1 / a.1).powf(share))
            }
        }
    }

    /// The smallest multiple whose time is at most `t` seconds; `None` if no point is that fast,
    /// or if `t` is longer than the table's longest time.
    pub fn multiple(&self, t: f64) -> Option<f64> {
        let first = self.points[0];
        if t > first.1 {
            return None;
        }
        let at = self.points.iter().position(|p| p.1 <= t)?;
        if at == 0 {
            return Some(first.0);
        }
        let (a, b) = (self.points[at - 1], self.points[at]);
        let share = (t / a.1).ln() / (b.1 / a.1).ln();
        Some(a.0 * (b.0 / a.0).powf(share))
    }
}
