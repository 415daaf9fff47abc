//! Named quantities of a graded point: typed inside, numbers with unit suffix at the edge.

use crate::quantity::edge;
use crate::quantity::{Dimension, Measure, Quantity, fixed, significant};
use serde::de::{MapAccess, Visitor};
use serde::ser::SerializeMap;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::borrow::Cow;
use std::fmt;

/// A value with the unit it is reported in.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Value {
    /// A quantity in its own unit.
    Plain(Quantity),
    /// A share, reported in percent.
    Percent(f64),
    /// An angle in radians, reported in minutes of arc, as phase displacements are.
    Minutes(f64),
}

/// Minutes of arc in a radian.
const MINUTES: f64 = 60.0 * 180.0 / std::f64::consts::PI;

/// A few named values in the order they were added.
///
/// At the edge the name carries the unit: `time` of 4.05 s becomes `"time_s": 4.05`, `reset` of
/// 0.95 as percent becomes `"reset_pct": 95.0`. A plain number has no suffix.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Values(Vec<(Cow<'static, str>, Value)>);

const SUFFIXES: &[(&str, Dimension)] = &[
    ("_s", Dimension::TIME),
    ("_a", Dimension::CURRENT),
    ("_v", Dimension::VOLTAGE),
    ("_deg", Dimension::ANGLE),
    ("_hz", Dimension::FREQUENCY),
    ("_hz_per_s", Dimension::FREQUENCY_RATE),
    ("_ohm", Dimension::RESISTANCE),
    ("_va", Dimension::POWER),
    ("_k", Dimension::TEMPERATURE),
    ("_a2s", Dimension::AMPERE_SQUARED_SECOND),
    ("_as", Dimension::CHARGE),
    ("_a_per_s", Dimension::CURRENT_RATE),
    ("_h", Dimension::INDUCTANCE),
    ("_f", Dimension::CAPACITANCE),
    ("_j", Dimension::ENERGY),
    ("_v_per_hz", Dimension::VOLTS_PER_HERTZ),
];

impl Values {
    /// No values.
    pub fn none() -> Self {
        Self::default()
    }

    /// Adds a quantity.
    #[must_use]
    pub fn with<Q: Measure>(mut self, name: &'static str, value: Q) -> Self {
        self.0.push((name.into(), Value::Plain(Quantity::of(value))));
        self
    }

    /// Adds a quantity whose dimension is known at run time.
    #[must_use]
    pub fn with_quantity(mut self, name: impl Into<Cow<'static, str>>, value: Quantity) -> Self {
        self.0.push((name.into(), Value::Plain(value)));
        self
    }

    /// Adds a value.
    #[must_use]
    pub fn with_value(mut self, name: &'static str, value: Value) -> Self {
        self.0.push((name.into(), value));
        self
    }

    /// Adds a quantity if there is one.
    #[must_use]
    pub fn with_some<Q: Measure>(self, name: &'static str, value: Option<Q>) -> Self {
        match value {
            Some(value) => self.with(name, value),
            None => self,
        }
    }

    /// Adds a share (0.95 for 95 %) that is reported in percent.
    #[must_use]
    pub fn with_percent(mut self, name: &'static str, share: f64) -> Self {
        self.0.push((name.into(), Value::Percent(share)));
        self
    }

    /// Adds a value if there is one.
    #[must_use]
    pub fn with_perhaps(self, name: &'static str, value: Option<Value>) -> Self {
        match value {
            Some(value) => self.with_value(name, value),
            None => self,
        }
    }

    /// Adds other values behind its own.
    #[must_use]
    pub fn and(mut self, other: Self) -> Self {
        self.0.extend(other.0);
        self
    }

    /// The SI value of a name, whatever its unit; a percentage as its share.
    pub fn get(&self, name: &str) -> Option<f64> {
        self.0.iter().find(|(n, _)| n == name).map(|(_, v)| match v {
            Value::Plain(q) => q.si,
            Value::Percent(si) | Value::Minutes(si) => *si,
        })
    }

    /// The text of a name's value.
    pub fn text(&self, name: &str) -> Option<String> {
        self.0.iter().find(|(n, _)| n == name).map(|(_, v)| v.to_string())
    }

    /// The text of a name's value with its trailing zeros, for columns of measured values.
    pub fn column_text(&self, name: &str) -> Option<String> {
        self.0.iter().find(|(n, _)| n == name).map(|(_, v)| format!("{v:#}"))
    }

    /// All values as signed deviations: `+440 ms, +10.87 %`.
    pub fn deviation_text(&self) -> String {
        let parts: Vec<String> = self.0.iter().map(|(_, v)| v.deviation_text()).collect();
        parts.join(", ")
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Names and values in order.
    pub fn iter(&self) -> impl Iterator<Item = (&str, Value)> {
        self.0.iter().map(|(n, v)| (n.as_ref(), *v))
    }
}

impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Plain(q) => q.fmt(f),
            Self::Percent(share) if f.alternate() => write!(f, "{} %", fixed(share * 100.0, 4)),
            Self::Percent(share) => write!(f, "{} %", significant(share * 100.0, 4)),
            Self::Minutes(si) if f.alternate() => write!(f, "{} min", fixed(si * MINUTES, 4)),
            Self::Minutes(si) => write!(f, "{} min", significant(si * MINUTES, 4)),
        }
    }
}

impl Value {
    /// Another value in the same unit.
    #[must_use]
    pub fn with_si(self, si: f64) -> Self {
        match self {
            Self::Plain(q) => Self::Plain(Quantity { si, ..q }),
            Self::Percent(_) => Self::Percent(si),
            Self::Minutes(_) => Self::Minutes(si),
        }
    }

    /// So many times it.
    #[must_use]
    pub fn times(self, factor: f64) -> Self {
        self.with_si(self.si() * factor)
    }

    /// The value as a deviation: signed, percentages to a hundredth.
    pub fn deviation_text(self) -> String {
        match self {
            Self::Percent(share) => {
                // Adding zero turns a rounded -0 into 0.
                let percent = (share * 1e4).round() / 1e2 + 0.0;
                format!("{percent:+.2} %")
            }
            Self::Minutes(si) => format!("{:+.1} min", si * MINUTES + 0.0),
            Self::Plain(q) => {
                let size = Quantity { si: q.si.abs(), ..q };
                let rounding = q.si.abs() < 1e-9;
                let sign = if q.si < 0.0 && !rounding { "-" } else { "+" };
                let size = if rounding { Quantity { si: 0.0, ..q } } else { size };
                format!("{sign}{size:.3}")
            }
        }
    }

    /// It with seven digits, as many as are written of it at the edge: read back it is the same.
    pub(crate) fn short(self) -> Self {
        match self {
            Self::Percent(share) => Self::Percent(tidy(short(share * 100.0)) / 100.0),
            Self::Minutes(si) => Self::Minutes(tidy(short(si * MINUTES)) / MINUTES),
            Self::Plain(q) if q.dimension == Dimension::ANGLE => {
                let degrees =
                    edge::degrees(Measure::from_si(short(q.si.to_degrees()).to_radians()));
                Self::Plain(Quantity { si: degrees.to_radians(), ..q })
            }
            Self::Plain(q) => Self::Plain(Quantity { si: short(q.si), ..q }),
        }
    }

    /// Writes it as an entry whose key carries the unit.
    pub(crate) fn write<M: SerializeMap>(self, name: &str, map: &mut M) -> Result<(), M::Error> {
        /// Longer ones than are written are put together elsewhere.
        const ROOM: usize = 40;
        let (suffix, number) = self.edge();
        let mut room = [0u8; ROOM];
        let all = name.len() + suffix.len();
        match room.get_mut(..all) {
            Some(room) => {
                room[..name.len()].copy_from_slice(name.as_bytes());
                room[name.len()..].copy_from_slice(suffix.as_bytes());
                match std::str::from_utf8(room) {
                    Ok(key) => map.serialize_entry(key, &number),
                    Err(_) => map.serialize_entry(&format!("{name}{suffix}"), &number),
                }
            }
            None => map.serialize_entry(&format!("{name}{suffix}"), &number),
        }
    }

    /// The suffix of the name and the number that stand for it at the edge.
    fn edge(self) -> (&'static str, f64) {
        match self {
            Self::Percent(share) => ("_pct", tidy(share * 100.0)),
            Self::Minutes(si) => ("_arcmin", tidy(si * MINUTES)),
            Self::Plain(q) => {
                let suffix = SUFFIXES.iter().find(|(_, d)| *d == q.dimension).map_or("", |s| s.0);
                let number = if q.dimension == Dimension::ANGLE {
                    edge::degrees(Measure::from_si(q.si))
                } else {
                    q.si
                };
                (suffix, number)
            }
        }
    }

    pub(super) fn from_edge(key: &str, number: f64) -> (String, Self) {
        if let Some(name) = key.strip_suffix("_pct") {
            return (name.to_owned(), Self::Percent(number / 100.0));
        }
        if let Some(name) = key.strip_suffix("_arcmin") {
            return (name.to_owned(), Self::Minutes(number / MINUTES));
        }
        let longest = SUFFIXES
            .iter()
            .filter_map(|(suffix, d)| Some((key.strip_suffix(suffix)?, *d)))
            .min_by_key(|(name, _)| name.len());
        let (name, dimension) = longest.unwrap_or((key, Dimension::NUMBER));
        let si = if dimension == Dimension::ANGLE { number.to_radians() } else { number };
        (name.to_owned(), Self::Plain(Quantity { si, dimension }))
    }
}

/// A number with seven digits.
pub(crate) fn short(number: f64) -> f64 {
    let decades = 6.0 - number.abs().log10().floor();
    // Powers of ten that a double holds exactly: what is divided by them is the shortest to be written.
    match decades as i32 {
        n @ 0..=22 if number != 0.0 => {
            let by = 10f64.powi(n);
            (number * by).round() / by
        }
        _ => number,
    }
}

/// Rounds away the last bits that a factor of 100 leaves behind: 95.00000000000001.
fn tidy(number: f64) -> f64 {
    if number.abs() < 1e9 { (number * 1e10).round() / 1e10 } else { number }
}

impl Serialize for Values {
    fn serialize<S: Serializer>(&self, out: S) -> Result<S::Ok, S::Error> {
        let mut map = out.serialize_map(Some(self.0.len()))?;
        for (name, value) in &self.0 {
            value.write(name, &mut map)?;
        }
        map.end()
    }
}

impl<'de> Deserialize<'de> for Values {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        struct Entries;
        impl<'de> Visitor<'de> for Entries {
            type Value = Values;
            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("an object of numbers whose keys carry the unit")
            }
            fn visit_map<M: MapAccess<'de>>(self, mut map: M) -> Result<Values, M::Error> {
                let mut values = Vec::new();
                while let Some((key, number)) = map.next_entry::<String, f64>()? {
                    let (name, value) = Value::from_edge(&key, number);
                    values.push((Cow::Owned(name), value));
                }
                Ok(Values(values))
            }
        }
        from.deserialize_map(Entries)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::{amperes, degrees, seconds};

    /// Whatever can be written with a unit keeps it on its way through a record.
    #[test]
    fn every_unit_has_a_suffix() {
        let all = [
            "2 s", "2 A", "2 V", "2 deg", "2 Hz", "2 Hz/s", "2 Ohm", "2 VA", "20 degC", "2 A2s",
            "2 A/s", "2 mH", "2 nF", "0.9 eV", "2 V/Hz", "2 x",
        ];
        for text in all {
            let quantity = Quantity::parse(text).unwrap();
            let values = Values::none().with_quantity("value", quantity);
            let json = serde_json::to_string(&values).unwrap();
            let back: Values = serde_json::from_str(&json).unwrap();
            let (_, value) = back.iter().next().unwrap();
            assert!(
                matches!(value, Value::Plain(q) if q.dimension == quantity.dimension),
                "{json}"
            );
        }
    }

    #[test]
    fn names_carry_the_unit_at_the_edge_and_come_back() {
        let values = Values::none()
            .with("time", seconds(4.05))
            .with("current", amperes(2.4))
            .with("angle", degrees(-120.0))
            .with_percent("reset", 0.95)
            .with_value("phase", Value::Minutes(0.5f64.to_radians()));
        let json = serde_json::to_string(&values).unwrap();
        assert_eq!(
            json,
            r#"{"time_s":4.05,"current_a":2.4,"angle_deg":-120.0,"reset_pct":95.0,"phase_arcmin":30.0}"#
        );
        let back: Values = serde_json::from_str(&json).unwrap();
        assert_eq!(serde_json::to_string(&back).unwrap(), json);
        assert_eq!(back.text("reset").unwrap(), "95 %");
        assert_eq!(back.text("phase").unwrap(), "30 min");
        assert_eq!(back.get("time"), Some(4.05));
    }
}
