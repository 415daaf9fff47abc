//! Time characteristics of overcurrent elements: time at a current, and current for a time.

mod band;
mod form;
mod inverse;
mod table;
#[cfg(test)]
mod tests;
mod words;

pub use band::{Acceptance, acceptance, earliest_of, spread};
pub use form::CurveForm;
pub use inverse::{Coefficients, SHAPES, Shape};
pub use table::{TableError, TimeTable};

use crate::quantity::{Measure, Time, seconds};

/// The form of the curve, before range limits.
#[derive(Clone, Debug, PartialEq)]
pub enum Form {
    /// `t = delay` for M > 1.
    Definite {
        /// The set delay; zero for an instantaneous element.
        delay: Time,
    },
    /// `t = TMS · (k / (M^α − 1) + c)`, standard shape or user formula.
    Inverse {
        /// The constants.
        coefficients: Coefficients,
        /// Time multiplier (TMS, TD), above zero.
        tms: f64,
    },
    /// `t = k / M²`, constant let-through energy.
    SquaredCurrent {
        /// The time the curve would have at M = 1.
        at_pickup: Time,
    },
    /// IEC 60255-149: `t = τ · ln((M² − p²) / (M² − 1))`, M in multiples of k·Iref.
    Thermal {
        /// Heating time constant τ.
        tau: Time,
        /// Current before the overload, in multiples of k·Iref, at least 0 and below 1.
        preload: f64,
    },
    /// Points interpolated on log-log axes.
    Table {
        /// The points at time multiplier 1.
        table: TimeTable,
        /// Time multiplier, above zero.
        tms: f64,
    },
}

/// What the operate integral does once the current has fallen below pickup.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Reset {
    /// Cleared at once.
    Instant,
    /// Cleared after a fixed time below pickup.
    Delay(Time),
    /// Falls along `t = TMS · tr / (1 − M²)` (IEEE C37.112, 4.1); holds TMS · tr.
    Curve(Time),
}

/// A complete characteristic: form, range limits, minimum time, reset.
#[derive(Clone, Debug, PartialEq)]
pub struct Characteristic {
    /// The curve's form.
    pub form: Form,
    /// Shortest time the element operates in, whatever the form says.
    pub minimum_time: Option<Time>,
    /// Multiple below which the element does not operate, where it is above 1.
    pub lower_limit: Option<f64>,
    /// Multiple above which the time stays at this multiple's value.
    pub upper_limit: Option<f64>,
    /// Reset behaviour.
    pub reset: Reset,
}

/// Share of a multiple that is put down to rounding: nothing that is injected is as near to a border.
pub const HAIR: f64 = 1e-9;

impl Characteristic {
    /// A characteristic without range limits, resetting at once.
    pub fn plain(form: Form) -> Self {
        Self {
            form,
            minimum_time: None,
            lower_limit: None,
            upper_limit: None,
            reset: Reset::Instant,
        }
    }

    /// The lowest multiple at which the element operates; it operates strictly above 1, and at or
    /// above a declared lower range limit.
    pub fn operates_from(&self) -> f64 {
        self.lower_limit.unwrap_or(1.0).max(1.0)
    }

    /// Operate time at a constant multiple `m` of pickup; `None` where it does not operate.
    ///
    /// IEC 60255-151:2009, 4.3.2; the range limits as its clause 5 wants them declared.
    pub fn operate_time(&self, m: f64) -> Option<Time> {
        if m.is_nan() || m <= 1.0 + HAIR {
            return None;
        }
        // What lies on a border by design lies on it whatever rounding makes of it.
        let onto = |m: f64, border: f64| {
            if (m - border).abs() <= HAIR * border { border } else { m }
        };
        let m = self.lower_limit.map_or(m, |low| onto(m, low));
        if self.lower_limit.is_some_and(|low| m < low) {
            return None;
        }
        let m = match &self.form {
            Form::Table { table, .. } => {
                table.points().first().map_or(m, |(first, _)| onto(m, *first))
            }
            _ => m,
        };
        let m = self.upper_limit.map_or(m, |high| m.min(high));
        let t = match &self.form {
            Form::Definite { delay } => delay.si(),
            Form::Inverse { coefficients, tms } => tms * coefficients.time_s(m)?,
            Form::SquaredCurrent { at_pickup } => at_pickup.si() / (m * m),
            Form::Thermal { tau, preload } => {
                // ln((M²−p²)/(M²−1)) = ln(1 + (1−p²)/(M²−1)), exact for large M too.
                tau.si() * ((1.0 - preload * preload) / (m * m - 1.0)).ln_1p()
            }
            Form::Table { table, tms } => tms * table.time_s(m)?,
        };
        Some(seconds(self.minimum_time.map_or(t, |min| t.max(min.si()))))
    }

    /// The smallest multiple at which the operate time is `t`.
    ///
    /// `None` where the characteristic never takes that time: faster than its fastest, slower than
    /// its slowest, or a definite time that is not `t`'s.
    pub fn multiple_for(&self, t: Time) -> Option<f64> {
        let t_s = t.si();
        if t_s.is_nan() || t_s <= 0.0 || self.minimum_time.is_some_and(|min| t < min) {
            return None;
        }
        let m = match &self.form {
            Form::Definite { delay } => {
                ((t_s - delay.si()).abs() <= 1e-9 * delay.si()).then(|| self.operates_from())?
            }
            Form::Inverse { coefficients, tms } => coefficients.multiple(t_s / tms)?,
            Form::SquaredCurrent { at_pickup } => (at_pickup.si() / t_s).sqrt(),
            Form::Thermal { tau, preload } => {
                (1.0 + (1.0 - preload * preload) / (t_s / tau.si()).exp_m1()).sqrt()
            }
            Form::Table { table, tms } => table.multiple(t_s / tms)?,
        };
        let definite = matches!(self.form, Form::Definite { .. });
        let within = m >= self.operates_from() && (m > 1.0 || definite);
        let reachable = self.upper_limit.is_none_or(|high| m <= high);
        (within && reachable).then_some(m)
    }

    /// The time the element needs after an operation until it is as if nothing had been.
    pub fn reset_time(&self) -> Time {
        match self.reset {
            Reset::Instant => seconds(0.0),
            Reset::Delay(t) | Reset::Curve(t) => t,
        }
    }
}
