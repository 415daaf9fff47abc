//! Reading `"1.2 A"` into a quantity, with errors that say what to write instead.

use super::{Dimension, Measure, Quantity, Unit};

/// Why a quantity's text could not be read.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum QuantityError {
    /// The text holds no number at its start.
    #[error("`{text}` does not start with a number")]
    NotANumber {
        /// The text as written.
        text: String,
    },
    /// NaN, an infinity, or a number too large for a double.
    #[error("`{text}` is not a finite number")]
    NotFinite {
        /// The text as written.
        text: String,
    },
    /// A comma where the decimal point belongs.
    #[error("`{text}` uses a comma; write the decimal point as `{suggestion}`")]
    DecimalComma {
        /// The text as written.
        text: String,
        /// The same text with a point.
        suggestion: String,
    },
    /// A number without unit where one is needed.
    #[error("`{text}` has no unit; expected {expected}")]
    MissingUnit {
        /// The text as written.
        text: String,
        /// What was wanted.
        expected: Dimension,
    },
    /// A unit that is not known.
    #[error("unknown unit `{unit}`")]
    UnknownUnit {
        /// The unit as written.
        unit: String,
        /// The nearest known one.
        nearest: Option<String>,
    },
    /// A unit of another kind than the place wants.
    #[error("`{text}` is {found}, but {expected} is wanted here")]
    WrongKind {
        /// The text as written.
        text: String,
        /// What the unit measures.
        found: Dimension,
        /// What was wanted.
        expected: Dimension,
    },
}

impl QuantityError {
    /// The way out, where there is more to say than the message does.
    pub fn help(&self) -> Option<String> {
        match self {
            Self::UnknownUnit { nearest: Some(nearest), .. } => {
                Some(format!("did you mean `{nearest}`?"))
            }
            Self::UnknownUnit { nearest: None, .. } => {
                Some("known units: A V s min h Hz deg rad Ohm W VA var K % x, with m u k M".into())
            }
            Self::MissingUnit { expected, .. } | Self::WrongKind { expected, .. } => {
                Some(format!("write it like {}", Unit::examples(*expected)))
            }
            _ => None,
        }
    }
}

/// Splits `"1.2 A"` into the number and the unit's text.
///
/// # Errors
/// When the text does not start with a finite number.
fn split(text: &str) -> Result<(f64, &str), QuantityError> {
    let trimmed = text.trim();
    let owned = || text.trim().to_owned();
    let lower = trimmed.trim_start_matches(['+', '-']).to_ascii_lowercase();
    if lower.starts_with("nan") || lower.starts_with("inf") || trimmed.starts_with('∞') {
        return Err(QuantityError::NotFinite { text: owned() });
    }
    let bytes = trimmed.as_bytes();
    let mut end = usize::from(matches!(bytes.first(), Some(b'+' | b'-')));
    let digits_from = end;
    while end < bytes.len() && (bytes[end].is_ascii_digit() || bytes[end] == b'.') {
        end += 1;
    }
    if bytes[digits_from..end].iter().all(|b| *b == b'.') {
        return Err(QuantityError::NotANumber { text: owned() });
    }
    if bytes.get(end) == Some(&b',') {
        return Err(QuantityError::DecimalComma {
            text: owned(),
            suggestion: trimmed.replacen(',', ".", 1),
        });
    }
    // An exponent only where digits follow, so that a unit starting with `e` stays a unit.
    if matches!(bytes.get(end), Some(b'e' | b'E')) {
        let sign = usize::from(matches!(bytes.get(end + 1), Some(b'+' | b'-')));
        let mut exponent_end = end + 1 + sign;
        while bytes.get(exponent_end).is_some_and(u8::is_ascii_digit) {
            exponent_end += 1;
        }
        if exponent_end > end + 1 + sign {
            end = exponent_end;
        }
    }
    let number: f64 =
        trimmed[..end].parse().map_err(|_| QuantityError::NotANumber { text: owned() })?;
    if !number.is_finite() {
        return Err(QuantityError::NotFinite { text: owned() });
    }
    Ok((number, trimmed[end..].trim()))
}

impl Quantity {
    /// Reads a number with its unit, whatever it measures; a bare number is a plain number.
    ///
    /// # Errors
    /// Any [`QuantityError`] but [`QuantityError::MissingUnit`] and [`QuantityError::WrongKind`].
    pub fn parse(text: &str) -> Result<Self, QuantityError> {
        let (number, unit) = split(text)?;
        if unit.is_empty() {
            return Ok(Self::number(number));
        }
        // A temperature in degrees Celsius has another zero (BIPM, SI brochure, 2.3.1).
        if matches!(unit, "°C" | "degC") {
            return Ok(Self { si: number + 273.15, dimension: Dimension::TEMPERATURE });
        }
        let Some(found) = Unit::parse(unit) else {
            return Err(QuantityError::UnknownUnit {
                unit: unit.to_owned(),
                nearest: Unit::nearest(unit),
            });
        };
        let si = number * found.factor;
        if !si.is_finite() {
            return Err(QuantityError::NotFinite { text: text.trim().to_owned() });
        }
        Ok(Self { si, dimension: found.dimension })
    }

    /// The typed value, if the dimension is the one asked for.
    pub fn get<Q: Measure>(self) -> Option<Q> {
        (self.dimension == Q::DIMENSION).then(|| Q::from_si(self.si))
    }
}

/// Reads a quantity of a known type.
///
/// # Errors
/// Any [`QuantityError`]: no number, no or unknown unit, or a unit of another kind.
pub fn parse<Q: Measure>(text: &str) -> Result<Q, QuantityError> {
    parse_as(text, Q::DIMENSION).map(Q::from_si)
}

/// Reads the SI value of a quantity whose dimension is known at run time only.
///
/// # Errors
/// As [`parse`].
pub fn parse_as(text: &str, expected: Dimension) -> Result<f64, QuantityError> {
    let quantity = Quantity::parse(text)?;
    if quantity.dimension == expected {
        return Ok(quantity.si);
    }
    let text = text.trim().to_owned();
    if quantity.dimension == Dimension::NUMBER && !text.ends_with(['%', 'x']) {
        return Err(QuantityError::MissingUnit { text, expected });
    }
    Err(QuantityError::WrongKind { text, found: quantity.dimension, expected })
}
