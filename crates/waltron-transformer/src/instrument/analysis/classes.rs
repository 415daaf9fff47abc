//! Accuracy classes of current and voltage transformers, by name, with what they require.

use std::fmt;
use waltron_core::text::name::nearest;

/// An accuracy class.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Class {
    /// Measuring (IEC 61869-2, 5.6.201), by its name.
    Measuring(Measuring),
    /// Protection (5.6.202): composite error in percent, at an accuracy limit factor.
    Protection {
        /// 5 or 10.
        percent: u8,
        /// Whether remanence is limited (PR).
        is_low_remanence: bool,
        /// The accuracy limit factor.
        limit_factor: f64,
    },
    /// Protection by knee point (5.6.202.4): PX, PXR.
    KneePoint {
        /// Whether remanence is limited (PXR).
        is_low_remanence: bool,
    },
    /// Protection in transient conditions (5.6.202.5).
    Transient(Transient),
    /// Metering (IEEE C57.13, 5.3): 0.3, 0.6, 1.2.
    IeeeMetering(f64),
    /// Relaying (IEEE C57.13, 6.4): secondary terminal voltage at 20 times rated current.
    IeeeRelaying {
        /// C, whose error can be calculated; else T.
        is_calculated: bool,
        /// In V, for 5 A.
        volts: f64,
    },
    /// Voltage transformers, measuring (IEC 61869-3, 5.6.301): the percentage.
    Voltage(f64),
    /// Voltage transformers, protection (5.6.302): 3P or 6P.
    VoltageProtection(u8),
}

/// A measuring class.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Measuring {
    /// The percentage at rated current.
    pub percent: f64,
    /// Whether it is an S class, which begins at 1 %.
    pub is_special: bool,
}

/// A transient class.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Transient {
    /// TPX.
    X,
    /// TPY.
    Y,
    /// TPZ.
    Z,
}

/// What a measuring class allows at a share of the rated current.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Row {
    /// The share of the rated current.
    pub share: f64,
    /// Ratio error as a share.
    pub ratio: f64,
    /// Phase displacement in minutes, where it is limited.
    pub minutes: Option<f64>,
}

const fn row(percent: f64, ratio: f64, minutes: f64) -> Row {
    Row { share: percent / 100.0, ratio: ratio / 100.0, minutes: Some(minutes) }
}

const M01: [Row; 4] =
    [row(5.0, 0.4, 15.0), row(20.0, 0.2, 8.0), row(100.0, 0.1, 5.0), row(120.0, 0.1, 5.0)];
const M02: [Row; 4] =
    [row(5.0, 0.75, 30.0), row(20.0, 0.35, 15.0), row(100.0, 0.2, 10.0), row(120.0, 0.2, 10.0)];
const M05: [Row; 4] =
    [row(5.0, 1.5, 90.0), row(20.0, 0.75, 45.0), row(100.0, 0.5, 30.0), row(120.0, 0.5, 30.0)];
const M1: [Row; 4] =
    [row(5.0, 3.0, 180.0), row(20.0, 1.5, 90.0), row(100.0, 1.0, 60.0), row(120.0, 1.0, 60.0)];
const M02S: [Row; 5] = [
    row(1.0, 0.75, 30.0),
    row(5.0, 0.35, 15.0),
    row(20.0, 0.2, 10.0),
    row(100.0, 0.2, 10.0),
    row(120.0, 0.2, 10.0),
];
const M05S: [Row; 5] = [
    row(1.0, 1.5, 90.0),
    row(5.0, 0.75, 45.0),
    row(20.0, 0.5, 30.0),
    row(100.0, 0.5, 30.0),
    row(120.0, 0.5, 30.0),
];

impl Measuring {
    /// All of them, the best first.
    pub const ALL: [Self; 8] = [
        Self { percent: 0.1, is_special: false },
        Self { percent: 0.2, is_special: true },
        Self { percent: 0.2, is_special: false },
        Self { percent: 0.5, is_special: true },
        Self { percent: 0.5, is_special: false },
        Self { percent: 1.0, is_special: false },
        Self { percent: 3.0, is_special: false },
        Self { percent: 5.0, is_special: false },
    ];

    /// What it allows, with the highest point moved to an extended rating (a share of the rated current).
    pub fn rows(self, extended: f64) -> Vec<Row> {
        let table: &[Row] = match (self.percent, self.is_special) {
            (0.1, _) => &M01,
            (0.2, false) => &M02,
            (0.2, true) => &M02S,
            (0.5, false) => &M05,
            (0.5, true) => &M05S,
            (1.0, _) => &M1,
            (percent, _) => {
                let ratio = percent / 100.0;
                let wide = |share| Row { share, ratio, minutes: None };
                return vec![wide(0.5), wide(extended)];
            }
        };
        let moved = |r: &Row| Row { share: if r.share > 1.0 { extended } else { r.share }, ..*r };
        table.iter().map(moved).collect()
    }

    /// The least share of the rated burden at which it holds.
    pub fn least_burden(self) -> f64 {
        if self.percent >= 3.0 { 0.5 } else { 0.25 }
    }
}

impl fmt::Display for Measuring {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}{}", self.percent, if self.is_special { "S" } else { "" })
    }
}

/// The error limits of a transient class at rated current: ratio as a share, phase in minutes with what
/// it lies around.
impl Transient {
    /// Ratio error as a share.
    pub fn ratio(self) -> f64 {
        if self == Self::X { 0.005 } else { 0.01 }
    }

    /// The least and the largest phase displacement, in minutes.
    pub fn minutes(self) -> (f64, f64) {
        match self {
            Self::X => (-30.0, 30.0),
            Self::Y => (-60.0, 60.0),
            Self::Z => (162.0, 198.0),
        }
    }

    /// The largest remanence factor; none of TPX.
    pub fn remanence(self) -> Option<f64> {
        (self != Self::X).then_some(LOW_REMANENCE)
    }

    fn letter(self) -> &'static str {
        match self {
            Self::X => "TPX",
            Self::Y => "TPY",
            Self::Z => "TPZ",
        }
    }
}

/// The largest remanence factor of a core that is said to have little.
pub const LOW_REMANENCE: f64 = 0.1;

/// The voltages of IEEE relaying classes, with the standard burden of each at 5 A in ohms and its power
/// factor (IEEE C57.13, table 9).
pub const RELAYING: [(f64, f64, f64); 7] = [
    (10.0, 0.1, 0.9),
    (20.0, 0.2, 0.9),
    (50.0, 0.5, 0.9),
    (100.0, 1.0, 0.5),
    (200.0, 2.0, 0.5),
    (400.0, 4.0, 0.5),
    (800.0, 8.0, 0.5),
];

/// Percentages of IEEE metering classes.
pub const METERING: [f64; 3] = [0.3, 0.6, 1.2];

/// What a voltage transformer's measuring class allows: the phase displacement in minutes.
pub fn voltage_minutes(percent: f64) -> Option<f64> {
    [(0.1, 5.0), (0.2, 10.0), (0.5, 20.0), (1.0, 40.0)]
        .iter()
        .find(|(p, _)| *p == percent)
        .map(|(_, minutes)| *minutes)
}

/// Names of classes as lists show them.
const CURRENT: [&str; 17] = [
    "0.1", "0.2", "0.2S", "0.5", "0.5S", "1", "3", "5", "5P20", "10P10", "5PR20", "PX", "PXR",
    "TPX", "TPY", "TPZ", "C400",
];

impl Class {
    /// Reads a class of current transformers.
    ///
    /// # Errors
    /// What is wrong with it, and which class may be meant.
    pub fn of_current(text: &str) -> Result<Self, String> {
        let word = text.trim().to_ascii_uppercase();
        for class in Measuring::ALL {
            if class.to_string() == word {
                return Ok(Self::Measuring(class));
            }
        }
        if let Some(percent) = METERING.iter().find(|p| p.to_string() == word) {
            return Ok(Self::IeeeMetering(*percent));
        }
        match word.as_str() {
            "PX" => return Ok(Self::KneePoint { is_low_remanence: false }),
            "PXR" => return Ok(Self::KneePoint { is_low_remanence: true }),
            "TPX" => return Ok(Self::Transient(Transient::X)),
            "TPY" => return Ok(Self::Transient(Transient::Y)),
            "TPZ" => return Ok(Self::Transient(Transient::Z)),
            _ => {}
        }
        for (letter, is_calculated) in [("C", true), ("T", false)] {
            let volts = word.strip_prefix(letter).and_then(|v| v.parse::<f64>().ok());
            let known = volts.filter(|v| RELAYING.iter().any(|(known, ..)| known == v));
            if let Some(volts) = known {
                return Ok(Self::IeeeRelaying { is_calculated, volts });
            }
        }
        if let Some(protection) = protection(&word) {
            return protection;
        }
        let near = nearest(&word, CURRENT.iter().copied());
        let hint = near.map_or_else(String::new, |n| format!("; did you mean `{n}`?"));
        Err(format!("`{text}` is no accuracy class{hint} Known are {}", CURRENT.join(", ")))
    }

    /// Reads a class of voltage transformers.
    ///
    /// # Errors
    /// What is wrong with it, and which there are.
    pub fn of_voltage(text: &str) -> Result<Self, String> {
        match text.trim().to_ascii_uppercase().as_str() {
            "3P" => Ok(Self::VoltageProtection(3)),
            "6P" => Ok(Self::VoltageProtection(6)),
            word => match word.parse::<f64>() {
                Ok(p) if [0.1, 0.2, 0.5, 1.0, 3.0].contains(&p) => Ok(Self::Voltage(p)),
                _ => Err(format!(
                    "`{text}` is no accuracy class of voltage transformers; known are 0.1, 0.2, 0.5, 1, 3, 3P, 6P"
                )),
            },
        }
    }

    /// The standard whose constants differ a little.
    pub const IEEE: &'static str = "IEEE C57.13";

    /// The standard that it belongs to.
    pub fn standard(self) -> &'static str {
        match self {
            Self::IeeeMetering(_) | Self::IeeeRelaying { .. } => Self::IEEE,
            Self::Voltage(_) | Self::VoltageProtection(_) => "IEC 61869-3",
            _ => "IEC 61869-2",
        }
    }

    /// Whether the errors at a rated burden are limited, so that it cannot be graded without one.
    pub fn needs_burden(self) -> bool {
        !matches!(self, Self::KneePoint { .. } | Self::IeeeRelaying { .. })
    }
}

/// `5P20`, `10PR15`: the percentage, the letters, the accuracy limit factor.
fn protection(word: &str) -> Option<Result<Class, String>> {
    let (percent, rest) = word
        .strip_prefix("10P")
        .map(|rest| (10, rest))
        .or_else(|| word.strip_prefix("5P").map(|rest| (5, rest)))?;
    let (is_low_remanence, factor) = match rest.strip_prefix('R') {
        Some(factor) => (true, factor),
        None => (false, rest),
    };
    Some(match factor.parse::<f64>() {
        Ok(f) if f >= 1.0 && f.is_finite() => {
            Ok(Class::Protection { percent, is_low_remanence, limit_factor: f })
        }
        Ok(f) if f < 1.0 => Err(format!(
            "an accuracy limit factor of {f} is below the rated current; usual are 5, 10, 15, 20, 30"
        )),
        _ => Err(format!(
            "`{word}` lacks its accuracy limit factor: write it behind, as in `{percent}P20`"
        )),
    })
}

impl fmt::Display for Class {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Measuring(class) => class.fmt(f),
            Self::Protection { percent, is_low_remanence, limit_factor } => {
                let letter = if *is_low_remanence { "PR" } else { "P" };
                write!(f, "{percent}{letter}{limit_factor}")
            }
            Self::KneePoint { is_low_remanence: false } => f.write_str("PX"),
            Self::KneePoint { is_low_remanence: true } => f.write_str("PXR"),
            Self::Transient(kind) => f.write_str(kind.letter()),
            Self::IeeeMetering(percent) | Self::Voltage(percent) => write!(f, "{percent}"),
            Self::IeeeRelaying { is_calculated, volts } => {
                write!(f, "{}{volts}", if *is_calculated { "C" } else { "T" })
            }
            Self::VoltageProtection(percent) => write!(f, "{percent}P"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn classes_are_read_as_they_are_written_and_nothing_else() {
        for word in CURRENT {
            assert_eq!(Class::of_current(word).unwrap().to_string(), word);
        }
        for word in ["0.1", "0.5", "3", "3P", "6P"] {
            assert_eq!(Class::of_voltage(word).unwrap().to_string(), word);
        }
        assert_eq!(Class::of_current(" 0.2s ").unwrap().to_string(), "0.2S");
        assert_eq!(Class::of_current("0.3").unwrap().standard(), "IEEE C57.13");
        for (word, told) in [
            ("5P0.5", "below the rated current"),
            ("5P", "lacks its accuracy limit factor"),
            ("0.25S", "did you mean `0.2S`"),
            ("C300", "no accuracy class"),
            ("", "no accuracy class"),
            ("5PNaN", "lacks"),
            ("5Pinf", "lacks"),
        ] {
            let error = Class::of_current(word).unwrap_err();
            assert!(error.contains(told), "{word}: {error}");
        }
        assert!(Class::of_voltage("5P20").is_err());
    }

    /// IEC 61869-2:2012, tables 201 and 202, as they are printed.
    #[test]
    fn rows_are_those_of_the_standard() {
        let of = |word: &str, extended| match Class::of_current(word).unwrap() {
            Class::Measuring(class) => class
                .rows(extended)
                .iter()
                .map(|r| {
                    format!(
                        "{:.0}:{:.2}/{:.0}",
                        r.share * 100.0,
                        r.ratio * 100.0,
                        r.minutes.unwrap_or(0.0)
                    )
                })
                .collect::<Vec<_>>()
                .join(" "),
            _ => String::new(),
        };
        assert_eq!(of("0.2S", 1.2), "1:0.75/30 5:0.35/15 20:0.20/10 100:0.20/10 120:0.20/10");
        assert_eq!(of("0.5", 2.0), "5:1.50/90 20:0.75/45 100:0.50/30 200:0.50/30");
        assert_eq!(of("3", 1.2), "50:3.00/0 120:3.00/0");
    }
}
