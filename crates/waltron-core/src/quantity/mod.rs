//! Quantities: typed values inside, text with units at the edges.
//!
//! Inside the program values are `uom` types ([`Current`], [`Time`], …). At the edges they are
//! text (`"1.2 A"`, read by [`parse()`], written by [`text`]) or a number in SI whose name carries
//! the unit. [`Quantity`] is the bridge: a value that knows its [`Dimension`] at run time.

mod dimension;
mod display;
pub mod edge;
pub mod fault_loop;
pub mod measures;
mod parse;
pub mod phasor;
pub mod tolerance;
mod unit;

pub use dimension::Dimension;
pub use display::{counted, duration, exact, fixed, significant, text};
pub use parse::{QuantityError, parse, parse_as};
pub use unit::{ELECTRONVOLT, Unit};

/// Electric current; RMS unless a name says otherwise.
pub type Current = uom::si::f64::ElectricCurrent;
/// Voltage; RMS unless a name says otherwise.
pub type Voltage = uom::si::f64::ElectricPotential;
/// A duration, or a time since the start of a program.
pub type Time = uom::si::f64::Time;
/// A plane angle, counter-clockwise (leading) positive.
pub type Angle = uom::si::f64::Angle;
/// A frequency.
pub type Frequency = uom::si::f64::Frequency;
/// A ratio, a multiple of a setting or a percentage.
pub type Ratio = uom::si::f64::Ratio;

/// A typed quantity that can cross the edge of the program as a number in SI.
pub trait Measure: Copy + PartialOrd + std::fmt::Debug {
    /// What it measures.
    const DIMENSION: Dimension;
    /// Makes the quantity from its SI value (angles in radians).
    fn from_si(si: f64) -> Self;
    /// The SI value (angles in radians).
    fn si(self) -> f64;
}

macro_rules! measure {
    ($($name:ident: $module:ident :: $unit:ident, $dimension:ident;)*) => {$(
        impl Measure for $name {
            const DIMENSION: Dimension = Dimension::$dimension;
            fn from_si(si: f64) -> Self { Self::new::<uom::si::$module::$unit>(si) }
            fn si(self) -> f64 { self.get::<uom::si::$module::$unit>() }
        }
    )*};
}

measure! {
    Current: electric_current::ampere, CURRENT;
    Voltage: electric_potential::volt, VOLTAGE;
    Time: time::second, TIME;
    Angle: angle::radian, ANGLE;
    Frequency: frequency::hertz, FREQUENCY;
    Ratio: ratio::ratio, NUMBER;
}

/// A value with its dimension, for places where the type is known only at run time.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Quantity {
    /// The value in SI; angles in radians.
    pub si: f64,
    /// What it measures.
    pub dimension: Dimension,
}

impl Quantity {
    /// A plain number.
    pub const fn number(value: f64) -> Self {
        Self { si: value, dimension: Dimension::NUMBER }
    }

    /// The run-time form of a typed quantity.
    pub fn of<Q: Measure>(value: Q) -> Self {
        Self { si: value.si(), dimension: Q::DIMENSION }
    }
}

/// Amperes. Shorthand for `Current::new::<ampere>`.
pub fn amperes(value: f64) -> Current {
    Current::from_si(value)
}

/// Seconds. Shorthand for `Time::new::<second>`.
pub fn seconds(value: f64) -> Time {
    Time::from_si(value)
}

/// Degrees, counter-clockwise positive.
pub fn degrees(value: f64) -> Angle {
    Angle::from_si(value.to_radians())
}

/// An angle's value in degrees.
pub fn in_degrees(angle: Angle) -> f64 {
    angle.si().to_degrees()
}

#[cfg(test)]
mod tests;
