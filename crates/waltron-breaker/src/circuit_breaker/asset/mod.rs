//! Circuit breakers of medium and high voltage, as their files tell them.

mod form;
mod limits;

pub use form::CircuitBreakerForm;
pub use limits::{Limits, Measurand, Span};

use schemars::JsonSchema;
use serde::Deserialize;
use waltron_core::asset::{Called, Connected, Family, Precautions};
use waltron_core::quantity::{Dimension, Quantity, significant};
use waltron_core::text::name::Name;

/// A circuit breaker.
#[derive(Clone, Debug, PartialEq)]
pub struct CircuitBreaker {
    /// Its poles, by the names of their contacts.
    pub poles: Vec<String>,
    /// Interrupting units of a pole in series.
    pub units: usize,
    /// Whether each pole has a drive of its own.
    pub is_single_pole: bool,
    /// Its mechanism, in words.
    pub mechanism: Option<String>,
    /// When it was made.
    pub year: Option<u32>,
    /// Which side stays earthed in a test.
    pub earthed: Option<String>,
    /// Whether it has an under-voltage release.
    pub has_release: bool,
    /// Whether it has a blocking coil.
    pub has_blocking: bool,
    /// What its counter counts, where it has one.
    pub counter: Option<Counts>,
    /// Its coils.
    pub coils: Vec<Coil>,
    /// Its auxiliary contacts.
    pub auxiliaries: Vec<Auxiliary>,
    /// What charges its spring.
    pub motor: Option<Motor>,
    /// What shows its movement.
    pub transducer: Option<Transducer>,
    /// What is measured against what.
    pub limits: Limits,
    /// Rated voltage, in V.
    pub rated_v: f64,
    /// Rated continuous current, in A.
    pub rated_a: f64,
}

/// What a counter of operations counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Counts {
    /// Closings.
    Closings,
    /// Openings.
    Openings,
}

/// A coil.
#[derive(Clone, Debug, PartialEq)]
pub struct Coil {
    /// Its name: `trip 1`.
    pub name: String,
    /// Whether it closes; else it trips.
    pub closes: bool,
    /// Rated voltage, in V; RMS of an alternating one.
    pub voltage_v: f64,
    /// Whether it is fed by an alternating voltage of the rated frequency.
    pub is_ac: bool,
    /// Its resistance, in ohms.
    pub ohm: Option<f64>,
}

impl Coil {
    /// Its rated voltage, and whether that alternates.
    pub fn feeds(&self) -> (f64, bool) {
        (self.voltage_v, self.is_ac)
    }

    /// What the rig's switch is called that feeds it.
    pub fn command(&self) -> Name {
        format!("{} command", self.name).as_str().into()
    }

    /// What the rig's meter of its current is called.
    pub fn current(&self) -> Name {
        format!("{} coil current", self.name).as_str().into()
    }
}

/// An auxiliary contact.
#[derive(Clone, Debug, PartialEq)]
pub struct Auxiliary {
    /// Its name: `52a`.
    pub name: Name,
    /// Whether it is closed when the breaker is.
    pub follows: bool,
}

/// A spring-charging motor.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Motor {
    /// Its voltage, in V.
    pub voltage_v: f64,
}

/// A transducer at the shaft.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Transducer {
    /// What the shaft turns over the whole stroke, in rad.
    pub stroke_rad: f64,
    /// What is shown over the whole stroke, in V.
    pub shows_v: f64,
}

/// The shares of their rated voltage at which coils must operate (IEC 62271-1, 5.8).
const LOWEST_CLOSE: f64 = 0.85;
const LOWEST_TRIP: f64 = 0.7;

impl CircuitBreaker {
    /// The main contacts: of each pole its units.
    pub fn contacts(&self) -> Vec<(usize, Name)> {
        let units = 1..=self.units;
        let name = |pole: &str, unit: usize| match self.units {
            1 => pole.into(),
            _ => format!("{pole}/{unit}").as_str().into(),
        };
        let of_pole = |(k, pole): (usize, &String)| {
            let pole = pole.clone();
            units.clone().map(move |unit| (k, name(&pole, unit)))
        };
        self.poles.iter().enumerate().flat_map(of_pole).collect()
    }

    /// The coils that close it, or that trip it.
    pub fn coils(&self, closes: bool) -> impl Iterator<Item = &Coil> {
        self.coils.iter().filter(move |c| c.closes == closes)
    }

    /// The limits of something, of this contact or coil, at a share of the rated control voltage: the file's,
    /// else a standard's.
    pub fn limit(&self, what: Measurand, of: &str, share: f64) -> Option<Span> {
        let by_file = self.limits.of(what, share);
        if by_file.is_some() || what != Measurand::PickupVoltage {
            return by_file;
        }
        let coil = self.coils.iter().find(|coil| coil.name == of)?;
        let share = if coil.closes { LOWEST_CLOSE } else { LOWEST_TRIP };
        let max = Some(share * coil.voltage_v);
        Some(Span { min: None, max, standard: Some("IEC 62271-1") })
    }

    /// A span with its unit: `20 ms … 35 ms`.
    fn span(what: Measurand, span: Span) -> String {
        let show = |si: f64| Quantity { si, dimension: what.dimension() }.to_string();
        let text = match (span.min, span.max) {
            (Some(a), Some(b)) => format!("{} … {}", show(a), show(b)),
            (None, Some(b)) => format!("at most {}", show(b)),
            (Some(a), None) => format!("at least {}", show(a)),
            (None, None) => String::new(),
        };
        match span.standard {
            Some(standard) => format!("{text} ({standard})"),
            None => text,
        }
    }
}

impl Called for CircuitBreaker {
    const CALLED: &'static str = "circuit breaker";
}

impl Family for CircuitBreaker {
    fn values(&self) -> Vec<(String, Quantity)> {
        let of = |dimension, si| Quantity { si, dimension };
        let mut all = vec![
            ("rated.voltage".to_owned(), of(Dimension::VOLTAGE, self.rated_v)),
            ("rated.current".to_owned(), of(Dimension::CURRENT, self.rated_a)),
        ];
        for coil in &self.coils {
            let name = coil.name.replace(' ', "_");
            all.push((format!("{name}.voltage"), of(Dimension::VOLTAGE, coil.voltage_v)));
        }
        all
    }

    fn words(&self) -> Vec<(String, String)> {
        let mut all = vec![
            ("poles".to_owned(), self.poles.join(", ")),
            ("units".to_owned(), self.units.to_string()),
            ("drive".to_owned(), self.drive().to_owned()),
        ];
        for coil in &self.coils {
            all.push((format!("coil.{}", coil.name), coil_words(coil)));
        }
        let limits = self.limits.all();
        all.extend(limits.map(|(what, share, span)| {
            let at =
                share.map_or(String::new(), |share| format!(".{}%", significant(share * 100.0, 4)));
            (format!("limit.{}{at}", what.key()), Self::span(what, span))
        }));
        let required = Measurand::ALL.iter().filter(|what| self.limits.is_required(**what));
        let required: Vec<&str> = required.map(|what| what.key()).collect();
        if !required.is_empty() {
            all.push(("limit.required".to_owned(), required.join(", ")));
        }
        all
    }

    fn facts(&self) -> Vec<(String, String)> {
        let of = |dimension, si| Quantity { si, dimension }.to_string();
        let mut all = vec![
            ("Kind".to_owned(), "circuit breaker".to_owned()),
            (
                "Rated".to_owned(),
                format!(
                    "{}, {}",
                    of(Dimension::VOLTAGE, self.rated_v),
                    of(Dimension::CURRENT, self.rated_a)
                ),
            ),
            ("Poles".to_owned(), format!("{}, {}", self.poles.join(", "), self.drive())),
        ];
        if self.units > 1 {
            all.push(("Interrupting units of a pole".to_owned(), self.units.to_string()));
        }
        let optional =
            [("Mechanism", self.mechanism.clone()), ("Year", self.year.map(|y| y.to_string()))];
        all.extend(optional.into_iter().filter_map(|(name, v)| Some((name.to_owned(), v?))));
        for coil in &self.coils {
            all.push((format!("Coil {}", coil.name), coil_words(coil)));
        }
        if let Some(motor) = self.motor {
            all.push(("Motor".to_owned(), of(Dimension::VOLTAGE, motor.voltage_v)));
        }
        let limits = self.limits.all();
        all.extend(limits.map(|(what, share, span)| {
            let words = what.words();
            let (first, rest) = words.split_at(1);
            let at = share
                .map_or(String::new(), |share| format!(" at {} %", significant(share * 100.0, 4)));
            (format!("{}{rest}{at}", first.to_uppercase()), Self::span(what, span))
        }));
        all
    }

    fn precautions(&self, _connected: &Connected<'_>) -> Precautions {
        let mut p = Precautions::default();
        let mut first = |text: String| p.first.push(text);
        first(match &self.earthed {
            Some(side) => format!("See that the breaker is dead and isolated on both sides, and earthed on the {side} only: earths on both sides would short its contacts"),
            None => "See that the breaker is dead and isolated on both sides, and earthed on one side only: earths on both sides would short its contacts".to_owned(),
        });
        first("Keep clear of everything that moves: springs are charged".to_owned());
        let mut before = |text: &str| p.before.push(text.to_owned());
        before("Set the breaker to local operation, and take its own control supply off the coils");
        if self.motor.is_some() {
            before("See that the closing spring is charged");
        }
        if self.has_release {
            before(
                "Bypass the under-voltage release: without its voltage it holds the breaker open",
            );
            p.after.push("Put the under-voltage release back".to_owned());
        }
        if self.has_blocking {
            before("Bypass the blocking coil: without its voltage nothing closes");
            p.after.push("Put the blocking coil back".to_owned());
        }
        p.after
            .push("Discharge the springs: open, close, open without the motor's supply".to_owned());
        p.after.push("Set the breaker back to remote operation".to_owned());
        p
    }
}

impl CircuitBreaker {
    fn drive(&self) -> &'static str {
        if self.is_single_pole { "each pole with its own drive" } else { "one drive" }
    }
}

fn coil_words(coil: &Coil) -> String {
    let volts = Quantity { si: coil.voltage_v, dimension: Dimension::VOLTAGE };
    let does = if coil.closes { "closes" } else { "trips" };
    let kind = if coil.is_ac { " AC" } else { "" };
    match coil.ohm {
        Some(si) => {
            let ohms = Quantity { si, dimension: Dimension::RESISTANCE };
            format!("{does}, {volts}{kind}, {ohms}")
        }
        None => format!("{does}, {volts}{kind}"),
    }
}
