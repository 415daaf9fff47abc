//! Dimensions of the quantities that a test engineer writes down.

use std::fmt;

/// Exponents over the electrical base ampere, volt, second, radian, kelvin.
///
/// The mechanical base of the SI is not needed here: resistance is V/A, power V·A, and keeping the
/// angle as a base of its own lets `2 deg` be refused where a plain number is wanted.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug, Default)]
pub struct Dimension {
    /// Exponent of the ampere.
    pub ampere: i8,
    /// Exponent of the volt.
    pub volt: i8,
    /// Exponent of the second.
    pub second: i8,
    /// Exponent of the radian.
    pub radian: i8,
    /// Exponent of the kelvin.
    pub kelvin: i8,
}

impl Dimension {
    /// A plain number, a multiple or a percentage.
    pub const NUMBER: Self = Self::new(0, 0, 0, 0, 0);
    /// Electric current, A.
    pub const CURRENT: Self = Self::new(1, 0, 0, 0, 0);
    /// Voltage, V.
    pub const VOLTAGE: Self = Self::new(0, 1, 0, 0, 0);
    /// Time, s.
    pub const TIME: Self = Self::new(0, 0, 1, 0, 0);
    /// Plane angle, rad.
    pub const ANGLE: Self = Self::new(0, 0, 0, 1, 0);
    /// Frequency, Hz.
    pub const FREQUENCY: Self = Self::new(0, 0, -1, 0, 0);
    /// Speed of what turns, rad/s.
    pub const ANGULAR_SPEED: Self = Self::new(0, 0, -1, 1, 0);
    /// Rate of change of frequency, Hz/s.
    pub const FREQUENCY_RATE: Self = Self::new(0, 0, -2, 0, 0);
    /// Resistance, reactance or impedance, Ω.
    pub const RESISTANCE: Self = Self::new(-1, 1, 0, 0, 0);
    /// Active, reactive or apparent power, W, var or VA.
    pub const POWER: Self = Self::new(1, 1, 0, 0, 0);
    /// Volts per hertz.
    pub const VOLTS_PER_HERTZ: Self = Self::new(0, 1, 1, 0, 0);
    /// Let-through energy, A²s.
    pub const AMPERE_SQUARED_SECOND: Self = Self::new(2, 0, 1, 0, 0);
    /// How quickly a current rises.
    pub const CURRENT_RATE: Self = Self::new(1, 0, -1, 0, 0);
    /// Inductance.
    pub const INDUCTANCE: Self = Self::new(-1, 1, 1, 0, 0);
    /// Capacitance.
    pub const CAPACITANCE: Self = Self::new(1, -1, 1, 0, 0);
    /// Energy, such as one that activates a process.
    pub const ENERGY: Self = Self::new(1, 1, 1, 0, 0);
    /// Electric charge, A·s: the integral of a current.
    pub const CHARGE: Self = Self::new(1, 0, 1, 0, 0);
    /// Temperature difference or absolute temperature, K.
    pub const TEMPERATURE: Self = Self::new(0, 0, 0, 0, 1);

    /// Builds a dimension from its exponents, in the order of the fields.
    pub const fn new(ampere: i8, volt: i8, second: i8, radian: i8, kelvin: i8) -> Self {
        Self { ampere, volt, second, radian, kelvin }
    }

    /// The exponents, in the order of the fields.
    pub const fn exponents(self) -> [i8; 5] {
        [self.ampere, self.volt, self.second, self.radian, self.kelvin]
    }

    /// The dimension of a product.
    #[must_use]
    pub const fn times(self, other: Self) -> Self {
        Self::new(
            self.ampere.saturating_add(other.ampere),
            self.volt.saturating_add(other.volt),
            self.second.saturating_add(other.second),
            self.radian.saturating_add(other.radian),
            self.kelvin.saturating_add(other.kelvin),
        )
    }

    /// The dimension of a quotient.
    #[must_use]
    pub const fn per(self, other: Self) -> Self {
        self.times(other.inverse())
    }

    /// The dimension of the reciprocal.
    #[must_use]
    pub const fn inverse(self) -> Self {
        Self::new(
            self.ampere.saturating_neg(),
            self.volt.saturating_neg(),
            self.second.saturating_neg(),
            self.radian.saturating_neg(),
            self.kelvin.saturating_neg(),
        )
    }
}

/// Names with article, as used in messages: "expected a current".
const NAMED: &[(Dimension, &str)] = &[
    (Dimension::NUMBER, "a plain number"),
    (Dimension::CURRENT, "a current"),
    (Dimension::VOLTAGE, "a voltage"),
    (Dimension::TIME, "a time"),
    (Dimension::ANGLE, "an angle"),
    (Dimension::FREQUENCY, "a frequency"),
    (Dimension::ANGULAR_SPEED, "a speed of rotation"),
    (Dimension::FREQUENCY_RATE, "a rate of change of frequency"),
    (Dimension::RESISTANCE, "a resistance"),
    (Dimension::POWER, "a power"),
    (Dimension::VOLTS_PER_HERTZ, "volts per hertz"),
    (Dimension::AMPERE_SQUARED_SECOND, "an I²t value"),
    (Dimension::CURRENT_RATE, "a rate of rise of a current"),
    (Dimension::INDUCTANCE, "an inductance"),
    (Dimension::CAPACITANCE, "a capacitance"),
    (Dimension::ENERGY, "an energy"),
    (Dimension::CHARGE, "a charge"),
    (Dimension::TEMPERATURE, "a temperature"),
];

impl fmt::Display for Dimension {
    /// The trade's name where there is one, else the product of units.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some((_, name)) = NAMED.iter().find(|(d, _)| d == self) {
            return f.write_str(name);
        }
        f.write_str("a value in ")?;
        let parts = [
            ("A", self.ampere),
            ("V", self.volt),
            ("s", self.second),
            ("rad", self.radian),
            ("K", self.kelvin),
        ];
        let mut first = true;
        for (unit, exponent) in parts.into_iter().filter(|(_, e)| *e != 0) {
            if !first {
                f.write_str("·")?;
            }
            first = false;
            f.write_str(unit)?;
            if exponent != 1 {
                write!(f, "^{exponent}")?;
            }
        }
        Ok(())
    }
}
