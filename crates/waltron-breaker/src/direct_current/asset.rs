//! A high-speed direct-current breaker, as its file tells it.

use crate::span::Ends;
use waltron_core::asset::{Called, Connected, Family, Precautions};
use waltron_core::grading::{Limits, Value};
use waltron_core::quantity::tolerance::Tolerance;
use waltron_core::quantity::{Current, Dimension, Measure, Quantity};

/// A place whose resistance is measured: the main contacts, a joint.
#[derive(Clone, Debug, PartialEq)]
pub struct Joint {
    /// What it is called.
    pub name: String,
    /// Between which its resistance lies, in ohms.
    pub resistance: Option<Ends>,
}

/// A direct-current breaker with its overcurrent release.
#[derive(Clone, Debug, PartialEq)]
pub struct DcBreaker {
    /// Rated voltage, in V.
    pub rated_v: f64,
    /// Rated current, in A.
    pub rated_a: f64,
    /// The current at which its release is set to let go.
    pub setting: Current,
    /// What the setting may be off by.
    pub tolerance: Tolerance<Current>,
    /// Between which the opening time lies, in s.
    pub opening_s: Option<Ends>,
    /// Between which the largest current lies against which it closes and stays closed, in A.
    pub making_a: Option<Ends>,
    /// By how much the levels of one rate of rise may differ, in A.
    pub spread_a: Option<Ends>,
    /// The largest current that a source may drive through it, in A.
    pub most_a: Option<f64>,
    /// Contacts and joints, in the order of the current's way.
    pub joints: Vec<Joint>,
}

pub(super) fn amps(si: f64) -> Quantity {
    Quantity { si, dimension: Dimension::CURRENT }
}

/// Ends as what is required of a value.
pub(super) fn limits(ends: Option<Ends>, dimension: Dimension) -> Limits {
    let value = |si: Option<f64>| si.map(|si| Value::Plain(Quantity { si, dimension }));
    match ends {
        Some((min, max)) => Limits::Between { lower: value(min), upper: value(max) },
        None => Limits::None,
    }
}

impl DcBreaker {
    /// Between which currents the setting itself must be found, in A.
    pub fn band(&self) -> (f64, f64) {
        (self.tolerance.lower(self.setting).si(), self.tolerance.upper(self.setting).si())
    }
}

impl DcBreaker {
    /// Its setting in words.
    fn told(&self) -> String {
        format!("{}, tolerance {}", Quantity::of(self.setting), self.tolerance)
    }
}

impl Called for DcBreaker {
    const CALLED: &'static str = "direct-current breaker";
}

impl Family for DcBreaker {
    fn values(&self) -> Vec<(String, Quantity)> {
        vec![
            (
                "rated_voltage".to_owned(),
                Quantity { si: self.rated_v, dimension: Dimension::VOLTAGE },
            ),
            ("rated_current".to_owned(), amps(self.rated_a)),
            ("setting".to_owned(), Quantity::of(self.setting)),
        ]
    }

    fn words(&self) -> Vec<(String, String)> {
        let joints: Vec<&str> = self.joints.iter().map(|j| j.name.as_str()).collect();
        vec![("setting".to_owned(), self.told()), ("joints".to_owned(), joints.join(", "))]
    }

    fn facts(&self) -> Vec<(String, String)> {
        let volts = Quantity { si: self.rated_v, dimension: Dimension::VOLTAGE };
        let mut all = vec![
            ("Kind".to_owned(), "high-speed direct-current breaker".to_owned()),
            ("Rated".to_owned(), format!("{volts} DC, {}", amps(self.rated_a))),
            ("Setting".to_owned(), self.told()),
        ];
        let spans = [
            ("Opening time", self.opening_s, Dimension::TIME),
            ("Making current", self.making_a, Dimension::CURRENT),
            ("Spread of the level", self.spread_a, Dimension::CURRENT),
        ];
        let told = spans.into_iter().filter_map(|(name, ends, dimension)| {
            Some((name.to_owned(), limits(ends, dimension).words()?))
        });
        all.extend(told);
        all.extend(
            self.most_a.map(|most| ("Largest test current".to_owned(), amps(most).to_string())),
        );
        let joints = self.joints.iter().map(|joint| {
            let words = limits(joint.resistance, Dimension::RESISTANCE).words();
            let words = words.unwrap_or_else(|| "no limit".to_owned());
            (format!("Resistance, {}", joint.name), words)
        });
        all.extend(joints);
        all
    }

    fn precautions(&self, _connected: &Connected<'_>) -> Precautions {
        let mut p = Precautions::default();
        let mut first = |text: &str| p.first.push(text.to_owned());
        first(
            "See that the feeder is dead on both sides of the breaker, isolated and short-circuited to the return",
        );
        first("Write the mark of the release's scale down before anything is moved");
        first("Take the line test and automatic reclosing out of service");
        let mut before = |text: &str| p.before.push(text.to_owned());
        before(
            "Bolt both leads to the breaker's terminals, the way the feeder's current goes: its release has a direction",
        );
        before(
            "Keep the leads together and off iron: their inductance limits how quickly the current rises",
        );
        before("Touch no lead before the source shows that its store is discharged");
        before(
            "See that the arc chute is in place, and that nobody stands before it: it blows out",
        );
        p.after
            .push("Put line test and automatic reclosing back, leave the breaker open".to_owned());
        p
    }
}
