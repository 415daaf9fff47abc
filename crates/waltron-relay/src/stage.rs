//! Voltage and frequency functions, which sequences test by their settings.

use std::sync::Arc;
use waltron_core::asset::Function;
use waltron_core::characteristic::Acceptance;
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::tolerance::{AnyTolerance, Tolerance};
use waltron_core::quantity::{Dimension, Measure, Quantity, Ratio, Time, parse_as};

/// What a stage watches; numbers are the device numbers of ANSI/IEEE C37.2.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum StageFunction {
    /// 59.
    Overvoltage,
    /// 27.
    Undervoltage,
    /// 81O.
    Overfrequency,
    /// 81U.
    Underfrequency,
    /// 81R, rate of change of frequency.
    FrequencyRate,
}

impl StageFunction {
    /// What it measures, in words.
    pub fn name(self) -> &'static str {
        match self {
            Self::Overvoltage => "overvoltage",
            Self::Undervoltage => "undervoltage",
            Self::Overfrequency => "overfrequency",
            Self::Underfrequency => "underfrequency",
            Self::FrequencyRate => "rate of change of frequency",
        }
    }

    /// Whether it operates below its setting.
    pub fn is_under(self) -> bool {
        matches!(self, Self::Undervoltage | Self::Underfrequency)
    }

    /// What its setting is.
    pub fn dimension(self) -> Dimension {
        match self {
            Self::Overvoltage | Self::Undervoltage => Dimension::VOLTAGE,
            Self::Overfrequency | Self::Underfrequency => Dimension::FREQUENCY,
            Self::FrequencyRate => Dimension::FREQUENCY_RATE,
        }
    }
}

/// A definite-time stage on a voltage or a frequency.
#[derive(Clone, Debug, PartialEq)]
pub struct Stage {
    /// What it watches.
    pub function: StageFunction,
    /// The setting, of the function's dimension.
    pub pickup: Quantity,
    /// Dropout as a share of pickup, where declared.
    pub reset_ratio: Option<Ratio>,
    /// The set delay.
    pub delay: Time,
    /// Of the setting.
    pub pickup_tolerance: AnyTolerance,
    /// Of the operate time.
    pub time_tolerance: Tolerance<Time>,
    /// Of the reset ratio.
    pub reset_tolerance: Tolerance<Ratio>,
}

impl Stage {
    /// The acceptance band of its delay, where it has picked up for certain.
    pub fn delayed(&self) -> Acceptance {
        let t = &self.time_tolerance;
        let earliest = t.lower(self.delay).max(Time::default());
        let latest = t.upper(self.delay);
        Acceptance { expected: Some(self.delay), earliest: Some(earliest), latest: Some(latest) }
    }

    /// What it watches of a stimulus; the highest of three voltages, or the lowest where too low a
    /// voltage is watched. `None` where that is not there, or moves.
    fn watched(&self, stimulus: &Stimulus) -> Option<f64> {
        let volts = stimulus.complex_phase_voltages().map(|v| v.norm());
        let highest = volts.iter().copied().fold(0.0, f64::max);
        let (hertz, rate, _) = stimulus.reference().filter(|_| highest > 0.0).unwrap_or_default();
        match self.function {
            StageFunction::Overvoltage => Some(highest),
            StageFunction::Undervoltage => {
                Some(volts.iter().copied().fold(f64::INFINITY, f64::min))
            }
            StageFunction::Overfrequency | StageFunction::Underfrequency => {
                (highest > 0.0 && rate == 0.0).then_some(hertz)
            }
            StageFunction::FrequencyRate => (highest > 0.0).then_some(rate.abs()),
        }
    }

    /// The acceptance band of its operation from the moment on at which a stimulus stands.
    pub fn acceptance(&self, stimulus: &Stimulus) -> Acceptance {
        let nothing = Acceptance { expected: None, earliest: None, latest: None };
        let is_under =
            matches!(self.function, StageFunction::Undervoltage | StageFunction::Underfrequency);
        let Some(seen) = self.watched(stimulus) else {
            // Where a frequency moves to is not looked at: it may operate.
            let moves = stimulus.reference().is_some_and(|(_, rate, _)| rate != 0.0);
            let may = Acceptance { expected: None, latest: None, ..self.delayed() };
            return if moves { may } else { nothing };
        };
        let (lower, upper) = self.pickup_tolerance.limits(self.pickup.si);
        let over = |limit: f64| if is_under { seen <= limit } else { seen >= limit };
        let (surely, perhaps) = if is_under { (lower, upper) } else { (upper, lower) };
        let band = self.delayed();
        match (over(surely), over(perhaps)) {
            (true, _) => band,
            (false, true) => {
                let expected = band.expected.filter(|_| over(self.pickup.si));
                Acceptance { expected, latest: None, ..band }
            }
            _ => nothing,
        }
    }
}

impl Function for Stage {
    fn name(&self) -> &'static str {
        self.function.name()
    }

    fn setting(&self) -> Quantity {
        self.pickup
    }

    fn values(&self) -> Vec<(&'static str, Quantity)> {
        let mut all = vec![("pickup", self.pickup), ("delay", Quantity::of(self.delay))];
        all.extend(self.reset_ratio.map(|r| ("reset_ratio", Quantity::of(r))));
        all
    }

    fn words(&self) -> Vec<(&'static str, String)> {
        vec![("function", self.function.name().to_owned())]
    }

    fn tolerances(&self) -> Vec<(&'static str, AnyTolerance)> {
        vec![
            ("pickup", self.pickup_tolerance),
            ("time", self.time_tolerance.any()),
            ("reset_ratio", self.reset_tolerance.any()),
        ]
    }

    fn with(&self, key: &str, value: &str) -> Option<Arc<dyn Function>> {
        let number = |dimension| parse_as(value, dimension).ok();
        let mut new = self.clone();
        match key {
            "pickup" => new.pickup.si = number(self.pickup.dimension).filter(|si| *si > 0.0)?,
            "delay" => new.delay = Measure::from_si(number(Dimension::TIME)?),
            "reset_ratio" => {
                new.reset_ratio = Some(Measure::from_si(number(Dimension::NUMBER)?));
            }
            _ => return None,
        }
        Some(Arc::new(new))
    }

    fn required(&self, out: &Stimulus) -> Acceptance {
        self.acceptance(out)
    }

    fn required_at(&self, _multiple: f64) -> Acceptance {
        self.delayed()
    }

    fn once_picked_up(&self) -> Option<Acceptance> {
        Some(self.delayed())
    }
}
