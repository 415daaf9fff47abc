//! Unit symbols: what may stand behind a number, and what it is worth in SI.
//!
//! Symbols follow the SI brochure (BIPM, 9th edition), with the spellings that keyboards force on
//! people (`Ohm`, `us`, `deg`). Unit parsing of general libraries refuses `5A` and `20 us` and
//! accepts `NaN A`; the reader here does the opposite.

use super::dimension::Dimension;

/// A unit as written: its dimension and the factor that makes the number SI.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Unit {
    /// What the unit measures.
    pub dimension: Dimension,
    /// SI value of one unit.
    pub factor: f64,
}

struct Symbol {
    text: &'static str,
    unit: Unit,
    prefixed: bool,
}

const fn symbol(text: &'static str, dimension: Dimension, factor: f64, prefixed: bool) -> Symbol {
    Symbol { text, unit: Unit { dimension, factor }, prefixed }
}

use Dimension as D;

/// The energy of an elementary charge after one volt, in J (SI brochure, 9th edition, table 8).
pub const ELECTRONVOLT: f64 = 1.602_176_634e-19;

/// Symbols that may stand alone. The first of a dimension is the one suggested in messages.
const SYMBOLS: &[Symbol] = &[
    symbol("A", D::CURRENT, 1.0, true),
    symbol("V", D::VOLTAGE, 1.0, true),
    symbol("s", D::TIME, 1.0, true),
    symbol("min", D::TIME, 60.0, false),
    symbol("h", D::TIME, 3600.0, false),
    symbol("Hz", D::FREQUENCY, 1.0, true),
    symbol("deg", D::ANGLE, std::f64::consts::PI / 180.0, false),
    symbol("°", D::ANGLE, std::f64::consts::PI / 180.0, false),
    symbol("rad", D::ANGLE, 1.0, true),
    symbol("arcmin", D::ANGLE, std::f64::consts::PI / 10_800.0, false),
    symbol("Ohm", D::RESISTANCE, 1.0, true),
    symbol("ohm", D::RESISTANCE, 1.0, true),
    symbol("Ω", D::RESISTANCE, 1.0, true),
    symbol("\u{2126}", D::RESISTANCE, 1.0, true),
    symbol("H", D::INDUCTANCE, 1.0, true),
    symbol("F", D::CAPACITANCE, 1.0, true),
    symbol("eV", D::ENERGY, ELECTRONVOLT, true),
    symbol("W", D::POWER, 1.0, true),
    symbol("VA", D::POWER, 1.0, true),
    symbol("var", D::POWER, 1.0, true),
    symbol("K", D::TEMPERATURE, 1.0, false),
    symbol("%", D::NUMBER, 0.01, false),
    symbol("x", D::NUMBER, 1.0, false),
    symbol("A2s", D::AMPERE_SQUARED_SECOND, 1.0, true),
    symbol("A²s", D::AMPERE_SQUARED_SECOND, 1.0, true),
];

const PREFIXES: &[(&str, f64)] = &[
    ("p", 1e-12),
    ("n", 1e-9),
    ("u", 1e-6),
    ("µ", 1e-6),
    ("\u{3bc}", 1e-6),
    ("m", 1e-3),
    ("k", 1e3),
    ("M", 1e6),
    ("G", 1e9),
];

impl Unit {
    /// Reads a unit symbol such as `A`, `ms`, `kOhm`, `Hz/s`, `V/Hz`.
    ///
    /// Returns `None` for a symbol that is not known.
    pub fn parse(text: &str) -> Option<Self> {
        let text = text.trim();
        if let Some((over, under)) = text.split_once('/') {
            let (over, under) = (Self::single(over.trim())?, Self::single(under.trim())?);
            return Some(Self {
                dimension: over.dimension.per(under.dimension),
                factor: over.factor / under.factor,
            });
        }
        Self::single(text)
    }

    fn single(text: &str) -> Option<Self> {
        if let Some(found) = SYMBOLS.iter().find(|s| s.text == text) {
            return Some(found.unit);
        }
        PREFIXES.iter().find_map(|(prefix, scale)| {
            let rest = text.strip_prefix(prefix)?;
            let found = SYMBOLS.iter().find(|s| s.prefixed && s.text == rest)?;
            // A million seconds, amperes, volts, hertz are not met at a panel: `Ms` is a slip for `ms`.
            let small =
                matches!(found.unit.dimension, D::TIME | D::CURRENT | D::VOLTAGE | D::FREQUENCY);
            if small && *scale > 1e3 {
                return None;
            }
            Some(Self { factor: found.unit.factor * scale, ..found.unit })
        })
    }

    /// The known unit nearest to a misspelt one, if any is near enough to be meant.
    pub fn nearest(text: &str) -> Option<String> {
        let spelled_out = [
            ("amp", "A"),
            ("amps", "A"),
            ("ampere", "A"),
            ("amperes", "A"),
            ("volt", "V"),
            ("volts", "V"),
            ("sec", "s"),
            ("secs", "s"),
            ("second", "s"),
            ("seconds", "s"),
            ("msec", "ms"),
            ("minute", "min"),
            ("minutes", "min"),
            ("hour", "h"),
            ("degree", "deg"),
            ("degrees", "deg"),
            ("hertz", "Hz"),
            ("percent", "%"),
            ("times", "x"),
            ("pu", "x"),
        ];
        let lower = text.to_lowercase();
        if let Some((_, meant)) = spelled_out.iter().find(|(word, _)| *word == lower) {
            return Some((*meant).to_owned());
        }
        let mut known: Vec<String> = SYMBOLS.iter().map(|s| s.text.to_owned()).collect();
        for s in SYMBOLS.iter().filter(|s| s.prefixed) {
            known.extend(["u", "m", "k", "M"].iter().map(|p| format!("{p}{}", s.text)));
        }
        known.retain(|k| Self::single(k).is_some());
        if let Some(same) = known.iter().find(|k| k.to_lowercase() == lower) {
            return Some(same.clone());
        }
        known
            .into_iter()
            .map(|k| (strsim::damerau_levenshtein(&k, text), k))
            .filter(|(distance, k)| *distance == 1 && k.chars().count() > 1)
            .min_by(|a, b| (a.0, a.1.len()).cmp(&(b.0, b.1.len())))
            .map(|(_, k)| k)
    }

    /// A few symbols that fit a dimension, for messages: "A, mA or kA".
    pub fn examples(dimension: Dimension) -> &'static str {
        match dimension {
            D::CURRENT => "\"5 A\" or \"20 mA\"",
            D::VOLTAGE => "\"63.5 V\" or \"20 kV\"",
            D::TIME => "\"200 ms\", \"1.5 s\" or \"2 min\"",
            D::ANGLE => "\"-120 deg\"",
            D::FREQUENCY => "\"50 Hz\"",
            D::FREQUENCY_RATE => "\"0.4 Hz/s\"",
            D::RESISTANCE => "\"0.5 Ohm\" or \"20 mOhm\"",
            D::POWER => "\"10 VA\" or \"2 kW\"",
            D::NUMBER => "\"2 x\" or \"95 %\"",
            D::TEMPERATURE => "\"20 degC\"",
            D::CAPACITANCE => "\"6.2 nF\" or \"380 pF\"",
            D::ENERGY => "\"0.9 eV\"",
            _ => "a number with its unit",
        }
    }
}
