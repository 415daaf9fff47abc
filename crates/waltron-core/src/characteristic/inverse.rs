//! Inverse-time overcurrent characteristics as data.
//!
//! Sources: IEC 60255-151:2009, Table 1 (A to F) and IEEE C37.112-2018, Table 1 (D to F with
//! their reset times); long-time and short-time inverse are in wide use beside them.

/// Coefficients of `t = TMS · (k / (M^α − 1) + c)` and of the reset `t = TMS · tr / (1 − M²)`.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Coefficients {
    /// `k` in seconds.
    pub k: f64,
    /// `c` in seconds.
    pub c: f64,
    /// Exponent `α`.
    pub alpha: f64,
    /// Reset time `tr` in seconds at zero current, where the shape declares one.
    pub reset: Option<f64>,
}

/// A named standard shape.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Shape {
    /// `iec` or `ieee`, as written in files.
    pub family: &'static str,
    /// The shape's name as written in files.
    pub name: &'static str,
    /// The standard's letter, where it has one.
    pub letter: Option<char>,
    /// Its constants.
    pub coefficients: Coefficients,
}

const fn shape(
    family: &'static str,
    name: &'static str,
    letter: Option<char>,
    (k, c, alpha): (f64, f64, f64),
    reset: Option<f64>,
) -> Shape {
    Shape { family, name, letter, coefficients: Coefficients { k, c, alpha, reset } }
}

/// Every shape that a file may name.
pub const SHAPES: &[Shape] = &[
    shape("iec", "normal-inverse", Some('A'), (0.14, 0.0, 0.02), None),
    shape("iec", "very-inverse", Some('B'), (13.5, 0.0, 1.0), None),
    shape("iec", "extremely-inverse", Some('C'), (80.0, 0.0, 2.0), None),
    shape("iec", "long-time-inverse", None, (120.0, 0.0, 1.0), None),
    shape("iec", "short-time-inverse", None, (0.05, 0.0, 0.04), None),
    shape("ieee", "moderately-inverse", Some('D'), (0.0515, 0.1140, 0.02), Some(4.85)),
    shape("ieee", "very-inverse", Some('E'), (19.61, 0.491, 2.0), Some(21.6)),
    shape("ieee", "extremely-inverse", Some('F'), (28.2, 0.1217, 2.0), Some(29.1)),
];

impl Shape {
    /// Finds a shape by family and name.
    pub fn find(family: &str, name: &str) -> Option<&'static Self> {
        SHAPES.iter().find(|s| s.family == family && s.name == name)
    }

    /// The names of a family's shapes.
    pub fn names(family: &str) -> impl Iterator<Item = &'static str> + '_ {
        SHAPES.iter().filter(move |s| s.family == family).map(|s| s.name)
    }
}

impl Coefficients {
    /// Seconds at time multiplier 1 and multiple `m`; `None` at or below pickup.
    pub fn time_s(&self, m: f64) -> Option<f64> {
        // exp_m1 keeps full precision near pickup, where M^α − 1 would cancel.
        (m > 1.0).then(|| self.k / (self.alpha * m.ln()).exp_m1() + self.c)
    }

    /// The multiple at which the time at multiplier 1 is `t` seconds; `None` if it never is.
    pub fn multiple(&self, t: f64) -> Option<f64> {
        let above = t - self.c;
        (above > 0.0).then(|| ((self.k / above).ln_1p() / self.alpha).exp())
    }
}
