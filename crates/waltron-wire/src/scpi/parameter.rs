//! Parameters of a program message (IEEE 488.2, 7.7; units: SCPI-1999 volume 1, 7.1, 7.3).

use super::error::{Fault, faults};

/// A parameter as it was written.
#[derive(Clone, Debug, PartialEq)]
pub enum Parameter {
    /// A decimal number with its suffix in capitals, empty where there is none.
    Number(f64, String),
    /// Character data in capitals: `ON`, `MINIMUM`.
    Word(String),
    /// A string.
    Text(String),
    /// Block data.
    Block(Vec<u8>),
}

/// The unit that a number is wanted in; without a suffix it is in this unit.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SiUnit {
    /// A.
    Ampere,
    /// V.
    Volt,
    /// Hz.
    Hertz,
    /// s.
    Second,
    /// Degrees; radians are converted.
    Degree,
    /// Ohm.
    Ohm,
    /// None: a suffix is an error.
    None,
}

/// Multipliers (IEEE 488.2, table 7-2); `M` is milli but for hertz and ohms.
const MULTIPLIERS: [(&str, f64); 11] = [
    ("", 1.0),
    ("T", 1e12),
    ("G", 1e9),
    ("MA", 1e6),
    ("K", 1e3),
    ("M", 1e-3),
    ("U", 1e-6),
    ("N", 1e-9),
    ("P", 1e-12),
    ("F", 1e-15),
    ("A", 1e-18),
];

impl SiUnit {
    fn symbols(self) -> &'static [(&'static str, f64)] {
        match self {
            Self::Ampere => &[("A", 1.0)],
            Self::Volt => &[("V", 1.0)],
            Self::Hertz => &[("HZ", 1.0)],
            Self::Second => &[("S", 1.0)],
            Self::Degree => &[("DEG", 1.0), ("RAD", 180.0 / std::f64::consts::PI)],
            Self::Ohm => &[("OHM", 1.0)],
            Self::None => &[],
        }
    }

    fn factor(self, suffix: &str) -> Result<f64, Fault> {
        if suffix.is_empty() {
            return Ok(1.0);
        }
        if self == Self::None {
            return Err(faults::SUFFIX_NOT_ALLOWED.because(suffix));
        }
        for (symbol, factor) in self.symbols() {
            let Some(prefix) = suffix.strip_suffix(symbol) else { continue };
            if prefix == "M" && matches!(self, Self::Hertz | Self::Ohm) {
                return Ok(1e6);
            }
            if let Some((_, by)) = MULTIPLIERS.iter().find(|(m, _)| *m == prefix) {
                return Ok(by * factor);
            }
        }
        Err(faults::INVALID_SUFFIX.because(suffix))
    }
}

impl Parameter {
    /// A finite number in a unit.
    ///
    /// # Errors
    /// Another type, a suffix of another unit, a number that is not finite.
    pub fn number(&self, unit: SiUnit) -> Result<f64, Fault> {
        let Self::Number(value, suffix) = self else {
            return Err(faults::DATA_TYPE.because("a number is wanted"));
        };
        let value = value * unit.factor(suffix)?;
        if value.is_finite() { Ok(value) } else { Err(faults::OUT_OF_RANGE.clone()) }
    }

    /// `ON`, `OFF`, or a number that is rounded: not 0 is on (SCPI-1999 volume 1, 7.3).
    ///
    /// # Errors
    /// Anything else.
    pub fn switch(&self) -> Result<bool, Fault> {
        match self {
            Self::Word(word) if word == "ON" => Ok(true),
            Self::Word(word) if word == "OFF" => Ok(false),
            Self::Word(word) => Err(faults::ILLEGAL_VALUE.because(word.as_str())),
            _ => Ok(self.number(SiUnit::None)?.round() != 0.0),
        }
    }

    /// A string, or a bare word.
    ///
    /// # Errors
    /// Another type.
    pub fn text(&self) -> Result<&str, Fault> {
        match self {
            Self::Text(text) | Self::Word(text) => Ok(text),
            _ => Err(faults::DATA_TYPE.because("a string is wanted")),
        }
    }

    /// Block data; a string stands for its bytes.
    ///
    /// # Errors
    /// Another type.
    pub fn block(&self) -> Result<&[u8], Fault> {
        match self {
            Self::Block(bytes) => Ok(bytes),
            Self::Text(text) => Ok(text.as_bytes()),
            _ => Err(faults::DATA_TYPE.because("block data are wanted")),
        }
    }
}
