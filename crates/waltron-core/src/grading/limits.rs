//! What was required of a value, or of an operation.

use super::{Value, Values};
use crate::quantity::{Quantity, Time};
use serde::de::{IgnoredAny, MapAccess, Visitor};
use serde::ser::SerializeMap;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::fmt;

/// What was required.
///
/// At the edge: `{"lower_a": 1.176, "upper_a": 1.224}`, `{"earliest_s": 3.7, "latest_s": 4.4}`, and
/// `{"operation": "none"}` where nothing may operate.
#[derive(Clone, Debug, Default, PartialEq)]
pub enum Limits {
    /// Nothing in numbers.
    #[default]
    None,
    /// A value between two, of which one may be missing.
    Between {
        /// The least.
        lower: Option<Value>,
        /// The largest.
        upper: Option<Value>,
    },
    /// An operation: not before `earliest`, where that is said, and by `latest`; without `latest` it is
    /// permitted and not required.
    Operation {
        /// Operation before is too early.
        earliest: Option<Time>,
        /// Operation must have come.
        latest: Option<Time>,
    },
    /// No operation.
    NoOperation,
}

/// The key of what may not operate, and what stands there.
const OPERATION: (&str, &str) = ("operation", "none");

impl Limits {
    /// Whether nothing is said.
    pub fn is_none(&self) -> bool {
        *self == Self::None
    }

    /// Whether they are about an operation, and not about a value.
    pub fn is_of_operation(&self) -> bool {
        matches!(self, Self::Operation { .. } | Self::NoOperation)
    }

    /// The band of an operation: none at all where no earliest time is given.
    pub fn operation(earliest: Option<Time>, latest: Option<Time>) -> Self {
        match (earliest, latest) {
            (None, None) => Self::NoOperation,
            (earliest, latest) => Self::Operation { earliest, latest },
        }
    }

    /// The least value in SI.
    pub fn lower(&self) -> Option<f64> {
        match self {
            Self::Between { lower, .. } => lower.map(Value::si),
            Self::Operation { earliest, .. } => earliest.map(|t| t.value),
            Self::None | Self::NoOperation => None,
        }
    }

    /// The largest value in SI.
    pub fn upper(&self) -> Option<f64> {
        match self {
            Self::Between { upper, .. } => upper.map(Value::si),
            Self::Operation { latest, .. } => latest.map(|t| t.value),
            Self::None | Self::NoOperation => None,
        }
    }

    /// What is allowed, in words; `None` where nothing is said in numbers.
    pub fn words(&self) -> Option<String> {
        let (lower, upper) = match self {
            Self::None => return None,
            Self::NoOperation => return Some("no trip".to_owned()),
            Self::Between { lower, upper } => (*lower, *upper),
            Self::Operation { earliest, latest } => {
                (earliest.map(Value::of), latest.map(Value::of))
            }
        };
        match (lower, upper) {
            (Some(a), Some(b)) => Some(format!("{a:#} … {b:#}")),
            // Where no operation is required, it is permitted from a time on.
            (Some(a), None) if self.is_of_operation() => {
                Some(format!("trip permitted after {a:#}"))
            }
            (Some(a), None) => Some(format!("from {a:#}")),
            (None, Some(b)) => Some(format!("up to {b:#}")),
            (None, None) => None,
        }
    }
}

impl Serialize for Limits {
    fn serialize<S: Serializer>(&self, out: S) -> Result<S::Ok, S::Error> {
        let some = |name: &'static str, value: &Option<Value>| {
            value.map_or_else(Values::none, |v| Values::none().with_value(name, v))
        };
        match self {
            Self::None => Values::none().serialize(out),
            Self::NoOperation => {
                let mut map = out.serialize_map(Some(1))?;
                map.serialize_entry(OPERATION.0, OPERATION.1)?;
                map.end()
            }
            Self::Between { lower, upper } => {
                some("lower", lower).and(some("upper", upper)).serialize(out)
            }
            Self::Operation { earliest, latest } => Values::none()
                .with_some("earliest", *earliest)
                .with_some("latest", *latest)
                .serialize(out),
        }
    }
}

impl<'de> Deserialize<'de> for Limits {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        #[derive(Deserialize)]
        #[serde(untagged)]
        enum Entry {
            Number(f64),
            Word(IgnoredAny),
        }
        struct Entries;
        impl<'de> Visitor<'de> for Entries {
            type Value = Limits;
            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("lower and upper, or earliest and latest")
            }
            fn visit_map<M: MapAccess<'de>>(self, mut map: M) -> Result<Limits, M::Error> {
                let (mut lower, mut upper, mut operation) = (None, None, false);
                while let Some((key, entry)) = map.next_entry::<String, Entry>()? {
                    let number = match entry {
                        Entry::Number(number) => number,
                        Entry::Word(_) if key == OPERATION.0 => return Ok(Limits::NoOperation),
                        Entry::Word(_) => continue,
                    };
                    let (name, value) = Value::from_edge(&key, number);
                    operation |= matches!(name.as_str(), "earliest" | "latest");
                    match name.as_str() {
                        "lower" | "earliest" => lower = Some(value),
                        "upper" | "latest" => upper = Some(value),
                        _ => {}
                    }
                }
                let time = |value: Option<Value>| value.map(|v| crate::quantity::seconds(v.si()));
                Ok(match (lower, upper) {
                    (None, None) => Limits::None,
                    (lower, upper) if operation => {
                        Limits::Operation { earliest: time(lower), latest: time(upper) }
                    }
                    (lower, upper) => Limits::Between { lower, upper },
                })
            }
        }
        from.deserialize_map(Entries)
    }
}

impl Value {
    /// The number in SI; a percentage as its share.
    pub fn si(self) -> f64 {
        match self {
            Self::Plain(q) => q.si,
            Self::Percent(si) | Self::Minutes(si) => si,
        }
    }

    /// A quantity in its own unit.
    pub fn of<Q: crate::quantity::Measure>(value: Q) -> Self {
        Self::Plain(Quantity::of(value))
    }

    /// A quantity, or a share that is told in percent.
    pub fn shown(value: Quantity, percent: bool) -> Self {
        if percent { Self::Percent(value.si) } else { Self::Plain(value) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::{amperes, seconds};

    /// As they stand in records and JSON, written by hand, and back.
    #[test]
    fn limits_are_what_they_were_at_the_edge() {
        let a = |si: f64| Some(Value::of(amperes(si)));
        for (limits, text, words) in [
            (Limits::None, "{}", None),
            (Limits::NoOperation, r#"{"operation":"none"}"#, Some("no trip")),
            (
                Limits::Between { lower: a(1.176), upper: a(1.224) },
                r#"{"lower_a":1.176,"upper_a":1.224}"#,
                Some("1.176 A … 1.224 A"),
            ),
            (
                Limits::Between { lower: Some(Value::Percent(0.92)), upper: None },
                r#"{"lower_pct":92.0}"#,
                Some("from 92.00 %"),
            ),
            (
                Limits::operation(Some(seconds(3.5)), Some(seconds(4.5))),
                r#"{"earliest_s":3.5,"latest_s":4.5}"#,
                Some("3.500 s … 4.500 s"),
            ),
            (
                Limits::operation(Some(seconds(3.5)), None),
                r#"{"earliest_s":3.5}"#,
                Some("trip permitted after 3.500 s"),
            ),
        ] {
            assert_eq!(serde_json::to_string(&limits).unwrap(), text);
            assert_eq!(serde_json::from_str::<Limits>(text).unwrap(), limits);
            assert_eq!(limits.words().as_deref(), words);
        }
        let between: Limits = serde_json::from_str(r#"{"upper_a":2.0}"#).unwrap();
        assert_eq!((between.lower(), between.upper()), (None, Some(2.0)));
    }
}
