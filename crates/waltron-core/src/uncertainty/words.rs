//! A budget in words: one row for each part.

use super::{Distribution, Part, combined, ruling};
use crate::grading::Value;
use crate::quantity::{Dimension, ELECTRONVOLT, Quantity, significant};

/// A row of a budget as people read it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Row {
    /// What errs.
    pub source: String,
    /// As its file states it: `limit 0.1 %`, `0.04 % (k = 2)`.
    pub stated: String,
    /// What that is divided by.
    pub divisor: &'static str,
    /// Its standard uncertainty.
    pub standard: String,
    /// By how much it moves the value: `79.4 ms per 1 %`.
    pub moves: String,
    /// What it adds, standard.
    pub adds: String,
    /// Its share of the variance.
    pub share: String,
}

/// The rows of a budget of a value that is told in this unit.
pub fn rows(parts: &[Part], value: Value) -> Vec<Row> {
    let all = combined(parts).powi(2);
    parts.iter().map(|part| row(part, value, all)).collect()
}

fn row(part: &Part, value: Value, all: f64) -> Row {
    let standard = part.standard();
    let stated = match part.distribution {
        Distribution::Rectangular => format!("limit {}", standard.times(3f64.sqrt())),
        Distribution::Normal => format!("{} (k = 2)", standard.times(2.0)),
    };
    // One of what the cause is told in.
    let one = match standard {
        Value::Percent(_) => Value::Percent(0.01),
        Value::Minutes(_) => Value::Minutes((1.0f64 / 60.0).to_radians()),
        Value::Plain(q) if q.dimension == Dimension::ANGLE => {
            Value::Plain(Quantity { si: 1f64.to_radians(), ..q })
        }
        Value::Plain(q) if q.dimension == Dimension::ENERGY => {
            Value::Plain(Quantity { si: 0.01 * ELECTRONVOLT, ..q })
        }
        Value::Plain(q) => Value::Plain(Quantity { si: unit_near(q.si), ..q }),
    };
    let moves = value.with_si((part.sensitivity * one.si()).abs());
    let is_same = matches!((standard, value), (Value::Plain(a), Value::Plain(b)) if a.dimension == b.dimension);
    let moves = match is_same {
        true => format!("× {}", significant(part.sensitivity.abs(), 3)),
        false => format!("{moves:.3} per {one}"),
    };
    let share = part.contribution().powi(2) / all * 100.0;
    Row {
        source: part.source.to_string(),
        stated,
        divisor: part.distribution.divisor(),
        standard: standard.to_string(),
        moves,
        adds: value.with_si(part.contribution()).to_string(),
        share: if share < 0.5 { "< 1 %".to_owned() } else { format!("{share:.0} %") },
    }
}

/// One of a unit, or of its thousandth or millionth, where an error is that small; a power of ten where it is smaller still.
fn unit_near(si: f64) -> f64 {
    match si {
        0.1.. => 1.0,
        1e-4.. => 1e-3,
        1e-7.. => 1e-6,
        _ => 10f64.powf(si.max(1e-30).log10().floor()),
    }
}

/// What the largest part means for who wants to be surer; what a single limit means for how sure U is.
pub fn told(parts: &[Part]) -> Vec<String> {
    let all = combined(parts).powi(2);
    let Some(first) = parts.first().filter(|_| all > 0.0) else { return Vec::new() };
    let share = first.contribution().powi(2) / all * 100.0;
    let mut told = Vec::new();
    if share >= 50.0 && parts.len() > 1 {
        told.push(format!(
            "`{}` makes {share:.0} % of the variance: to be surer, make that smaller first",
            first.source
        ));
    }
    if ruling(parts).is_some() {
        told.push(
            "one limit alone makes nearly all of it: the value is off by less than U in nearly every case, not in 95 % only".to_owned(),
        );
    }
    told
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::uncertainty::{Cause, Estimate};

    fn plain(si: f64, dimension: Dimension) -> Value {
        Value::Plain(Quantity { si, dimension })
    }

    /// 4 s that go by 80 ms with each percent of a current within 0.1 %, and a clock within 100 us.
    #[test]
    fn a_row_says_what_its_file_states_and_what_it_adds() {
        let time = |si| plain(si, Dimension::TIME);
        let estimate = Estimate::exact(4.0)
            .with(Cause::limit("ia size", Value::Percent(0.001)), 8.0)
            .with(Cause::expanded("clock", time(100e-6)), -1.0)
            .with(Cause::limit("M1 offset", plain(5e-4, Dimension::VOLTAGE)), 0.02);
        let parts = estimate.parts();
        let rows = rows(&parts, time(4.0));
        let told: Vec<[&str; 5]> = rows
            .iter()
            .map(|r| [&*r.source, &*r.stated, r.divisor, &*r.moves, &*r.share])
            .collect();
        assert_eq!(
            told,
            [
                ["ia size", "limit 0.1 %", "√3", "80 ms per 1 %", "100 %"],
                ["clock", "100 us (k = 2)", "2", "× 1", "< 1 %"],
                ["M1 offset", "limit 0.5 mV", "√3", "20 us per 1 mV", "< 1 %"],
            ]
        );
        assert_eq!((&*rows[0].adds, &*rows[0].standard), ("4.619 ms", "0.05774 %"));
        let words = super::told(&parts);
        assert!(words[0].starts_with("`ia size` makes 100 %") && words.len() == 2, "{words:?}");
        assert!(super::told(&parts[1..2]).is_empty());
    }
}
