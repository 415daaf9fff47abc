//! A low-voltage breaker, as its file tells it.

use super::band::{Band, Times};
use super::procedure::{CURRENT, PORT};
use schemars::JsonSchema;
use serde::Deserialize;
use waltron_core::asset::{Called, Connected, Family, Precautions};
use waltron_core::grading::Criterion;
use waltron_core::quantity::{Dimension, Quantity, Time, significant};

/// What a function of a trip unit does.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Acts {
    /// Long time: overload.
    LongTime,
    /// Short time: short circuit, with a delay.
    ShortTime,
    /// Instantaneous: short circuit, at once.
    Instantaneous,
    /// Ground fault.
    GroundFault,
}

impl Acts {
    /// All of them.
    pub const ALL: [Self; 4] =
        [Self::LongTime, Self::ShortTime, Self::Instantaneous, Self::GroundFault];

    /// Its name in files: `long-time`.
    pub fn key(self) -> &'static str {
        match self {
            Self::LongTime => "long-time",
            Self::ShortTime => "short-time",
            Self::Instantaneous => "instantaneous",
            Self::GroundFault => "ground-fault",
        }
    }

    /// What its points are graded by.
    pub(super) fn criterion(self) -> Criterion {
        match self {
            Self::LongTime => Criterion::named("long_time_band"),
            Self::ShortTime => Criterion::named("short_time_band"),
            Self::Instantaneous => Criterion::named("instantaneous_band"),
            Self::GroundFault => Criterion::named("ground_fault_band"),
        }
    }

    /// What it is called.
    pub fn words(self) -> &'static str {
        match self {
            Self::LongTime => "long time",
            Self::ShortTime => "short time",
            Self::Instantaneous => "instantaneous",
            Self::GroundFault => "ground fault",
        }
    }
}

/// A function of a trip unit with its settings.
#[derive(Clone, Debug, PartialEq)]
pub struct TripFunction {
    /// What it does.
    pub acts: Acts,
    /// The current above which it acts, in A.
    pub pickup_a: f64,
    /// Its delay, in s; none of what is instantaneous.
    pub delay_s: Option<f64>,
    /// The current at which the delay holds where it follows I²t, in A.
    pub at_a: Option<f64>,
    /// Whether it is on.
    pub is_on: bool,
}

/// A low-voltage breaker.
#[derive(Clone, Debug, PartialEq)]
pub struct LvBreaker {
    /// Its poles.
    pub poles: Vec<String>,
    /// Rated current of its frame, in A.
    pub frame_a: f64,
    /// Rated current of its sensor or plug, in A.
    pub sensor_a: f64,
    /// Rated voltage, in V.
    pub rated_v: f64,
    /// What its trip unit is.
    pub trip_unit: Option<String>,
    /// The group of settings that is in use.
    pub setting_group: Option<String>,
    /// What stands at its test port for the sensor's current: a current or a voltage, RMS.
    pub port: Option<Quantity>,
    /// Whether it remembers heat.
    pub has_memory: bool,
    /// How long that takes to cool, where it cannot be discharged.
    pub cooling: Option<Time>,
    /// Whether a sensor stands in the neutral.
    pub neutral_sensor: bool,
    /// Its functions.
    pub functions: Vec<TripFunction>,
    /// What it must keep.
    pub band: Band,
}

impl LvBreaker {
    /// A function that is on.
    pub fn function(&self, acts: Acts) -> Option<&TripFunction> {
        self.functions.iter().find(|f| f.acts == acts && f.is_on)
    }

    /// When a function may trip, and must have, at a current.
    pub fn times(&self, of: &TripFunction, amps: f64) -> Times {
        self.band.times(of, amps)
    }

    /// The same of the whole breaker, without functions that are defeated.
    pub fn times_of_all(&self, amps: f64, without: &[Acts]) -> Times {
        let on = self.functions.iter().filter(|f| f.is_on && !without.contains(&f.acts));
        on.map(|of| self.times(of, amps)).fold(Times::never(), Times::or)
    }
}

fn amps(si: f64) -> String {
    Quantity { si, dimension: Dimension::CURRENT }.to_string()
}

impl TripFunction {
    /// Its settings, in words.
    pub fn told(&self) -> String {
        if !self.is_on {
            return "off".to_owned();
        }
        let delay = self.delay_s.map(|si| Quantity { si, dimension: Dimension::TIME });
        match (delay, self.at_a) {
            (None, _) => amps(self.pickup_a),
            (Some(delay), None) => format!("{}, {delay}", amps(self.pickup_a)),
            (Some(delay), Some(at)) => {
                format!("{}, {delay} at {} (I²t)", amps(self.pickup_a), amps(at))
            }
        }
    }
}

impl Called for LvBreaker {
    const CALLED: &'static str = "low-voltage breaker";
}

impl Family for LvBreaker {
    fn values(&self) -> Vec<(String, Quantity)> {
        let of = |si| Quantity { si, dimension: Dimension::CURRENT };
        let mut all =
            vec![("frame".to_owned(), of(self.frame_a)), ("sensor".to_owned(), of(self.sensor_a))];
        for function in &self.functions {
            let key = function.acts.key().replace('-', "_");
            all.push((format!("{key}.pickup"), of(function.pickup_a)));
            let time = |si| Quantity { si, dimension: Dimension::TIME };
            all.extend(function.delay_s.map(|si| (format!("{key}.delay"), time(si))));
        }
        all
    }

    fn words(&self) -> Vec<(String, String)> {
        let mut all = vec![
            ("poles".to_owned(), self.poles.join(", ")),
            ("frame".to_owned(), amps(self.frame_a)),
            ("sensor".to_owned(), amps(self.sensor_a)),
            ("band".to_owned(), self.band.told()),
        ];
        let functions = self.functions.iter().map(|f| (f.acts.key().to_owned(), f.told()));
        all.extend(functions);
        all
    }

    fn facts(&self) -> Vec<(String, String)> {
        let volts = Quantity { si: self.rated_v, dimension: Dimension::VOLTAGE };
        let mut all = vec![
            ("Kind".to_owned(), "low-voltage breaker".to_owned()),
            ("Rated".to_owned(), format!("{volts}, frame {}", amps(self.frame_a))),
            ("Sensor or plug".to_owned(), amps(self.sensor_a)),
            ("Poles".to_owned(), self.poles.join(", ")),
        ];
        let optional = [("Trip unit", &self.trip_unit), ("Setting group", &self.setting_group)];
        all.extend(
            optional.into_iter().filter_map(|(name, v)| Some((name.to_owned(), v.clone()?))),
        );
        for function in &self.functions {
            let words = function.acts.words();
            let (first, rest) = words.split_at(1);
            let multiple = significant(function.pickup_a / self.sensor_a, 4);
            let told = match function.is_on {
                true => format!("{} ({multiple} x sensor)", function.told()),
                false => function.told(),
            };
            all.push((format!("{}{rest}", first.to_uppercase()), told));
        }
        all.extend(
            self.port.map(|port| {
                ("Test port".to_owned(), format!("{port} for {}", amps(self.sensor_a)))
            }),
        );
        let memory = match (self.has_memory, self.cooling) {
            (false, _) => "none".to_owned(),
            (true, None) => "on".to_owned(),
            (true, Some(time)) => format!("on, cools in {}", Quantity::of(time)),
        };
        all.push(("Thermal memory".to_owned(), memory));
        all.push(("Band".to_owned(), self.band.told()));
        all
    }

    fn precautions(&self, connected: &Connected<'_>) -> Precautions {
        let mut p = Precautions::default();
        let mut first = |text: &str| p.first.push(text.to_owned());
        first("See that the breaker is drawn out, or dead and isolated on both sides");
        first("Write the settings of the trip unit down before anything is changed");
        let mut before = |text: &str| p.before.push(text.to_owned());
        if connected.has(PORT) {
            before(
                "Plug the rig into the test port of the trip unit, pole by pole; no current flows through the poles",
            );
        }
        if connected.has(CURRENT) {
            before(
                "Bolt both leads to the terminals of one pole, short and close together: their impedance limits the current",
            );
            before("Each output has its own return: leave the leads of the others off");
        }
        before("Set the trip unit as its file says, and close the breaker");
        p.after.push("Set the trip unit back to the settings that were written down".to_owned());
        p.after.push("Leave the breaker open, its spring discharged".to_owned());
        p
    }
}
