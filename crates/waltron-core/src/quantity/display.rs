//! Writing quantities the way they are read at the panel: few digits, fitting prefix.

use super::{Dimension, Measure, Quantity, Time};
use std::fmt;

/// A number with at most `digits` significant digits and no trailing zeros.
///
/// Numbers outside 1e-6…1e9 are written with an exponent.
pub fn significant(value: f64, digits: usize) -> String {
    let text = fixed(value, digits);
    if text.contains('.') && !text.contains('e') {
        text.trim_end_matches('0').trim_end_matches('.').to_owned()
    } else {
        text
    }
}

/// A number with exactly `digits` significant digits, trailing zeros kept: for columns of
/// measured values, where 4.490 says more than 4.49.
pub fn fixed(value: f64, digits: usize) -> String {
    if value == 0.0 || !value.is_finite() {
        return if value == 0.0 { "0".to_owned() } else { value.to_string() };
    }
    let digits = digits.max(1);
    // A value half way between two digits is a matter of its last bit, which arithmetic decides one
    // way or the other: 1.0125 s is always 1.013 s.
    let value = if digits <= 10 { value * (1.0 + 4e-13) } else { value };
    // Rounding first: 9.9996 with four digits has two digits before the point.
    let scientific = format!("{value:.*e}", digits - 1);
    let Some((_, exponent)) = scientific.split_once('e') else { return scientific };
    let exponent: i32 = exponent.parse().unwrap_or(0);
    if !(-6..9).contains(&exponent) {
        return scientific;
    }
    let decimals = usize::try_from(digits as i32 - 1 - exponent).unwrap_or(0);
    format!("{value:.decimals$}")
}

/// The unit (symbol, factor) a value of this dimension and size is best read in.
fn display_unit(si: f64, dimension: Dimension) -> (&'static str, f64) {
    let size = si.abs();
    let pick = |table: &[(f64, &'static str, f64)]| {
        table
            .iter()
            // What is rounded to a unit's first value is told in it: 0.99996 ms is 1 ms.
            .find(|(from, _, _)| size * (1.0 + 5e-5) >= *from)
            .or(table.last())
            .map_or(("", 1.0), |(_, symbol, factor)| (*symbol, *factor))
    };
    match dimension {
        Dimension::NUMBER => ("", 1.0),
        Dimension::CURRENT if size == 0.0 => ("A", 1.0),
        Dimension::CURRENT => {
            pick(&[(1e4, "kA", 1e3), (0.1, "A", 1.0), (1e-4, "mA", 1e-3), (0.0, "uA", 1e-6)])
        }
        Dimension::VOLTAGE if size == 0.0 => ("V", 1.0),
        Dimension::VOLTAGE => {
            pick(&[(1e3, "kV", 1e3), (0.1, "V", 1.0), (1e-4, "mV", 1e-3), (0.0, "uV", 1e-6)])
        }
        Dimension::TIME if size == 0.0 => ("s", 1.0),
        Dimension::TIME => pick(&[(1.0, "s", 1.0), (1e-3, "ms", 1e-3), (0.0, "us", 1e-6)]),
        Dimension::ANGLE => ("deg", std::f64::consts::PI / 180.0),
        Dimension::FREQUENCY if size == 0.0 => ("Hz", 1.0),
        Dimension::FREQUENCY => pick(&[(0.1, "Hz", 1.0), (0.0, "mHz", 1e-3)]),
        Dimension::ANGULAR_SPEED => ("deg/s", std::f64::consts::PI / 180.0),
        Dimension::FREQUENCY_RATE => ("Hz/s", 1.0),
        Dimension::RESISTANCE if size == 0.0 => ("Ohm", 1.0),
        Dimension::RESISTANCE => pick(&[
            (1e9, "GOhm", 1e9),
            (1e6, "MOhm", 1e6),
            (1e3, "kOhm", 1e3),
            (0.1, "Ohm", 1.0),
            (1e-4, "mOhm", 1e-3),
            (0.0, "uOhm", 1e-6),
        ]),
        Dimension::POWER => {
            pick(&[(1e6, "MVA", 1e6), (1e3, "kVA", 1e3), (0.1, "VA", 1.0), (0.0, "mVA", 1e-3)])
        }
        Dimension::VOLTS_PER_HERTZ => ("V/Hz", 1.0),
        Dimension::AMPERE_SQUARED_SECOND => ("A2s", 1.0),
        Dimension::CURRENT_RATE => {
            pick(&[(1e6, "kA/ms", 1e6), (1e4, "kA/s", 1e3), (0.0, "A/s", 1.0)])
        }
        Dimension::INDUCTANCE => pick(&[(0.1, "H", 1.0), (1e-4, "mH", 1e-3), (0.0, "uH", 1e-6)]),
        Dimension::CAPACITANCE => {
            pick(&[(1e-4, "mF", 1e-3), (1e-6, "uF", 1e-6), (1e-9, "nF", 1e-9), (0.0, "pF", 1e-12)])
        }
        Dimension::ENERGY => ("eV", super::ELECTRONVOLT),
        Dimension::CHARGE => ("As", 1.0),
        Dimension::TEMPERATURE => ("K", 1.0),
        _ => ("(SI)", 1.0),
    }
}

impl fmt::Display for Quantity {
    /// Four significant digits, or as many as the precision asks for; `{:#}` keeps trailing zeros.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (symbol, factor) = display_unit(self.si, self.dimension);
        let write = if f.alternate() { fixed } else { significant };
        let number = write(self.si / factor, f.precision().unwrap_or(4));
        if symbol.is_empty() { f.write_str(&number) } else { write!(f, "{number} {symbol}") }
    }
}

/// The text of a typed quantity with four significant digits.
pub fn text<Q: Measure>(value: Q) -> String {
    Quantity::of(value).to_string()
}

/// The text of a typed quantity that reads back to the same value: up to twelve digits.
pub fn exact<Q: Measure>(value: Q) -> String {
    Quantity::of(value).exact()
}

impl Quantity {
    /// Text that reads back to the same value: up to twelve digits.
    pub fn exact(self) -> String {
        format!("{self:.12}")
    }
}

/// Hours, minutes and seconds as people say them: `3 min 20 s`, `40 min`, `350 ms`.
pub fn duration(time: Time) -> String {
    let seconds = time.value.round();
    let (hours, minutes) = ((seconds / 3600.0).floor(), (seconds % 3600.0 / 60.0).floor());
    let (large, small) = match (hours > 0.0, minutes > 0.0) {
        (true, _) => (format!("{hours} h"), (minutes, "min")),
        (false, true) => (format!("{minutes} min"), (seconds % 60.0, "s")),
        (false, false) => return text(time),
    };
    if small.0 > 0.0 { format!("{large} {} {}", small.0, small.1) } else { large }
}

/// A number of things in words: `1 point`, `2 points`.
pub fn counted(n: usize, thing: &str) -> String {
    if n == 1 { format!("1 {thing}") } else { format!("{n} {thing}s") }
}
