//! Numbers at the edge of the program: SI values in fields whose names carry the unit.
//!
//! Used as `#[serde(rename = "dwell_s", with = "edge::si")]`. Angles cross as degrees
//! ([`degrees`]), rounded to a billionth so that −120° does not become −120.00000000000001.

/// A quantity as its SI number.
pub mod si {
    use crate::quantity::Measure;
    use serde::{Deserialize, Deserializer, Serializer};

    /// Writes the SI number.
    ///
    /// # Errors
    /// Those of the serializer.
    pub fn serialize<Q: Measure, S: Serializer>(value: &Q, out: S) -> Result<S::Ok, S::Error> {
        out.serialize_f64(value.si())
    }

    /// Reads an SI number.
    ///
    /// # Errors
    /// Those of the deserializer, and numbers that are not finite.
    pub fn deserialize<'de, Q: Measure, D: Deserializer<'de>>(from: D) -> Result<Q, D::Error> {
        let number = f64::deserialize(from)?;
        if number.is_finite() {
            Ok(Q::from_si(number))
        } else {
            Err(serde::de::Error::custom("expected a finite number"))
        }
    }
}

/// An optional quantity as its SI number; absent means unknown.
pub mod si_option {
    use crate::quantity::Measure;
    use serde::{Deserialize, Deserializer, Serializer};

    /// Writes the SI number, or null.
    ///
    /// # Errors
    /// Those of the serializer.
    pub fn serialize<Q: Measure, S: Serializer>(
        value: &Option<Q>,
        out: S,
    ) -> Result<S::Ok, S::Error> {
        match value {
            Some(value) => out.serialize_some(&value.si()),
            None => out.serialize_none(),
        }
    }

    /// Reads an SI number, or null.
    ///
    /// # Errors
    /// Those of the deserializer.
    pub fn deserialize<'de, Q: Measure, D: Deserializer<'de>>(
        from: D,
    ) -> Result<Option<Q>, D::Error> {
        Ok(Option::<f64>::deserialize(from)?.filter(|n| n.is_finite()).map(Q::from_si))
    }
}

/// An angle as its degrees.
pub mod angle {
    use crate::quantity::Angle;
    use serde::{Deserialize, Deserializer, Serializer};

    /// Writes degrees.
    ///
    /// # Errors
    /// Those of the serializer.
    pub fn serialize<S: Serializer>(value: &Angle, out: S) -> Result<S::Ok, S::Error> {
        out.serialize_f64(super::degrees(*value))
    }

    /// Reads degrees.
    ///
    /// # Errors
    /// Those of the deserializer, and numbers that are not finite.
    pub fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Angle, D::Error> {
        let number = f64::deserialize(from)?;
        if number.is_finite() {
            Ok(crate::quantity::degrees(number))
        } else {
            Err(serde::de::Error::custom("expected a finite number"))
        }
    }
}

/// An angle's degrees, rounded to 1e-9.
pub fn degrees(angle: crate::quantity::Angle) -> f64 {
    (crate::quantity::in_degrees(angle) * 1e9).round() / 1e9
}
