//! The breaker's part of the specimen file.

use super::MOST_COILS;
use super::truth::{AuxiliaryTruth, BreakerTruth, CoilTruth, ContactTruth, DriveTruth, MotorTruth};
use crate::Noise;
use schemars::JsonSchema;
use serde::Deserialize;
use waltron_core::quantity::{Current, Dimension, Measure, Ratio, Time, Voltage};
use waltron_core::text::document::{
    AnyQuantityText, Field, Number, Problem, Problems, QuantityText, Text,
};

/// The mechanism of a breaker as it truly is.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct BreakerForm {
    /// How long the springs alone take for the whole stroke, closing.
    closing: QuantityText<Time>,
    /// The same, opening.
    opening: QuantityText<Time>,
    /// From the latch let go to the mass moving, closing; none if not given.
    closing_latch: Option<QuantityText<Time>>,
    /// The same, opening.
    opening_latch: Option<QuantityText<Time>>,
    /// Friction, the share of its speed that the mass loses in a second; 5 if not given.
    friction: Option<Number>,
    /// The place of the stroke from which the damper takes the opening mass; 15 % if not given.
    damper: Option<QuantityText<Ratio>>,
    /// How hard it does, the share of its speed that the mass loses in a second; 600 if not given.
    damping: Option<Number>,
    /// Whether each pole has a drive of its own; false if not given.
    single_pole: Option<bool>,
    /// The station's battery.
    battery: QuantityText<Voltage>,
    /// Whether it is closed when everything begins; false if not given.
    closed: Option<bool>,
    /// Whether its closing spring is charged then; true if not given.
    charged: Option<bool>,
    /// Whether a release without voltage, or a blocking coil, holds it open; false if not given.
    held_off: Option<bool>,
    /// What a transducer at its shaft shows over the whole stroke, where there is one.
    transducer: Option<QuantityText<Voltage>>,
    /// By how much an operation takes more or less than the one before, standard deviation.
    scatter: Option<QuantityText<Time>>,
    /// By how much breakers like this one differ, standard deviation: of times, coils and contacts.
    spread: Option<QuantityText<Ratio>>,
}

/// A main contact.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct ContactForm {
    /// What it is called: `L1`, or `L1/2` of an interrupting unit.
    at: Text,
    /// The place of the stroke at which it touches; 80 % if not given.
    touch: Option<QuantityText<Ratio>>,
    /// By how much it lags behind its drive: a worn linkage; none if not given.
    lag: Option<QuantityText<Time>>,
    /// How long it opens again after its first touch; none if not given.
    bounce: Option<QuantityText<Time>>,
    /// Resistance when it is closed.
    resistance: AnyQuantityText,
    /// Resistance of the arcing contact just before it parts; that of the closed one if not given.
    arcing: Option<AnyQuantityText>,
}

/// An auxiliary contact.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct AuxiliaryForm {
    /// What it is called: `52a`.
    at: Text,
    /// Whether it is closed when the breaker is; else when it is open.
    follows: bool,
    /// Where it changes when the breaker closes; 90 % if not given.
    closing: Option<QuantityText<Ratio>>,
    /// Where it changes when the breaker opens; 30 % if not given.
    opening: Option<QuantityText<Ratio>>,
    /// Whether it is welded, and never changes; false if not given.
    welded: Option<bool>,
}

/// A coil.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct CoilForm {
    /// What it is called: `close`, `trip 1`.
    at: Text,
    /// Whether it closes; else it opens.
    closes: bool,
    /// Rated voltage, direct.
    voltage: QuantityText<Voltage>,
    /// Its resistance.
    resistance: AnyQuantityText,
    /// The time constant of its current with the plunger out.
    time_constant: QuantityText<Time>,
    /// How much more inductance it has with the plunger in; 60 % if not given.
    rise: Option<QuantityText<Ratio>>,
    /// How long the plunger's way takes at the rated current without a latch.
    plunger: QuantityText<Time>,
    /// The share of the rated voltage at which it gets over its latch; 50 % if not given.
    pickup: Option<QuantityText<Ratio>>,
    /// Whether an auxiliary contact cuts it off when the breaker has moved; true if not given.
    cuts_off: Option<bool>,
}

/// A spring-charging motor.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct MotorForm {
    /// Its voltage.
    voltage: QuantityText<Voltage>,
    /// Current at switching on.
    inrush: QuantityText<Current>,
    /// Current while it charges.
    current: QuantityText<Current>,
    /// How long it charges.
    time: QuantityText<Time>,
    /// The time constant with which its inrush goes; 50 ms if not given.
    start: Option<QuantityText<Time>>,
}

/// All tables of a breaker.
pub(crate) struct Parts {
    pub(crate) breaker: BreakerForm,
    pub(crate) contacts: Vec<ContactForm>,
    pub(crate) auxiliaries: Vec<AuxiliaryForm>,
    pub(crate) coils: Vec<CoilForm>,
    pub(crate) motor: Option<MotorForm>,
    pub(crate) noise: Option<QuantityText<Ratio>>,
}

fn share(field: &Option<QuantityText<Ratio>>, usual: f64, problems: &mut Problems) -> Option<f64> {
    field.as_ref().map_or(Some(usual), |f| f.not_negative(problems).map(|r| r.value))
}

fn time(field: &Option<QuantityText<Time>>, usual: f64, problems: &mut Problems) -> Option<f64> {
    field.as_ref().map_or(Some(usual), |f| f.not_negative(problems).map(Measure::si))
}

fn number(field: &Option<Number>, usual: f64, problems: &mut Problems) -> Option<f64> {
    field.as_ref().map_or(Some(usual), |f| f.positive(problems))
}

fn ohms(field: &AnyQuantityText, problems: &mut Problems) -> Option<f64> {
    field.positive_of(Dimension::RESISTANCE, problems).map(|q| q.si)
}

impl Parts {
    /// The truth; each breaker has its own draw of the spread.
    pub(crate) fn read(self, seed: u64, problems: &mut Problems) -> Option<BreakerTruth> {
        let form = &self.breaker;
        let spread = share(&form.spread, 0.0, problems)?;
        let mut draw = Noise::of_shot(seed, u64::MAX);
        let mut about = move |value: f64| value * (1.0 + draw.draw(spread));
        let closing = form.closing.positive(problems).map(Measure::si);
        let opening = form.opening.positive(problems).map(Measure::si);
        let latches =
            [time(&form.closing_latch, 0.0, problems)?, time(&form.opening_latch, 0.0, problems)?];
        let friction = number(&form.friction, 5.0, problems)?;
        let damper =
            (share(&form.damper, 0.15, problems)?, number(&form.damping, 600.0, problems)?);
        let battery = form.battery.positive(problems).map(Measure::si);
        let scatter = time(&form.scatter, 0.0, problems)?;
        let transducer_v = match &form.transducer {
            Some(volts) => Some(volts.positive(problems)?.si()),
            None => None,
        };
        let (closing, opening) = (closing?, opening?);
        let mut poles: Vec<String> = Vec::new();
        for contact in &self.contacts {
            let pole = pole(contact.at.as_str()).to_owned();
            if !poles.contains(&pole) {
                poles.push(pole);
            }
        }
        if self.contacts.is_empty() || self.coils.is_empty() || self.coils.len() > MOST_COILS {
            let message =
                format!("a breaker needs `[[contact]]` and one to {MOST_COILS} `[[coil]]`");
            problems.push(Problem::new(0..0, message));
            return None;
        }
        let is_single = form.single_pole.unwrap_or(false);
        let drives = (0..if is_single { poles.len() } else { 1 }).map(|_| DriveTruth {
            // From rest, a stroke takes √(2/a).
            closing: 2.0 / about(closing).powi(2),
            opening: 2.0 / about(opening).powi(2),
            friction: about(friction),
            latch_s: latches.map(&mut about),
            damper,
        });
        let drives: Vec<_> = drives.collect();
        let contacts =
            self.contacts.iter().map(|c| c.read(&poles, is_single, &mut about, problems));
        let contacts: Vec<_> = contacts.collect();
        let auxiliaries = self.auxiliaries.iter().map(|a| a.read(problems));
        let auxiliaries: Vec<_> = auxiliaries.collect();
        let coils: Vec<_> = self.coils.iter().map(|c| c.read(&mut about, problems)).collect();
        let motor = match &self.motor {
            Some(motor) => Some(motor.read(&mut about, problems)?),
            None => None,
        };
        Some(BreakerTruth {
            drives,
            contacts: contacts.into_iter().collect::<Option<_>>()?,
            auxiliaries: auxiliaries.into_iter().collect::<Option<_>>()?,
            coils: coils.into_iter().collect::<Option<_>>()?,
            motor,
            battery_v: battery?,
            is_closed: form.closed.unwrap_or(false),
            is_charged: form.charged.unwrap_or(true),
            held_off: form.held_off.unwrap_or(false),
            scatter_s: scatter,
            noise: share(&self.noise, 0.0, problems)?,
            transducer_v,
        })
    }
}

/// The pole of a contact: `L1` of `L1/2`.
fn pole(contact: &str) -> &str {
    contact.split_once('/').map_or(contact, |(pole, _)| pole)
}

impl ContactForm {
    fn read(
        &self,
        poles: &[String],
        is_single: bool,
        about: &mut impl FnMut(f64) -> f64,
        problems: &mut Problems,
    ) -> Option<ContactTruth> {
        let name = self.at.as_str().to_owned();
        let of = poles.iter().position(|p| *p == pole(&name)).unwrap_or(0);
        let touch = share(&self.touch, 0.8, problems)?;
        if !(0.05..0.99).contains(&touch) {
            let span = self.touch.as_ref().map_or_else(|| self.at.span(), Field::span);
            problems.push(Problem::new(span, "a contact touches within its stroke: 5 % to 99 %"));
            return None;
        }
        let resistance = ohms(&self.resistance, problems)?;
        let arcing = match &self.arcing {
            Some(arcing) => ohms(arcing, problems)?,
            None => resistance,
        };
        // The spread of where it touches is that of its gap.
        let gap = about(1.0 - touch);
        Some(ContactTruth {
            name,
            drive: if is_single { of } else { 0 },
            touch: (1.0 - gap).clamp(0.05, 0.99),
            lag_s: time(&self.lag, 0.0, problems)?,
            bounce: (about(time(&self.bounce, 0.0, problems)?), 0.4),
            resistance_ohm: about(resistance),
            arcing: (about(arcing), 0.5 * gap),
        })
    }
}

impl AuxiliaryForm {
    fn read(&self, problems: &mut Problems) -> Option<AuxiliaryTruth> {
        Some(AuxiliaryTruth {
            name: self.at.as_str().to_owned(),
            follows: self.follows,
            at: (share(&self.closing, 0.9, problems)?, share(&self.opening, 0.3, problems)?),
            is_welded: self.welded.unwrap_or(false),
        })
    }
}

impl CoilForm {
    fn read(
        &self,
        about: &mut impl FnMut(f64) -> f64,
        problems: &mut Problems,
    ) -> Option<CoilTruth> {
        let rated = self.voltage.positive(problems).map(Measure::si);
        let ohm = ohms(&self.resistance, problems).map(&mut *about);
        let tau = self.time_constant.positive(problems).map(Measure::si);
        let rise = share(&self.rise, 0.6, problems)?;
        let plunger = self.plunger.positive(problems).map(Measure::si);
        let pickup = share(&self.pickup, 0.5, problems)?;
        let (ohm, tau) = (ohm?, tau?);
        Some(CoilTruth {
            name: self.at.as_str().to_owned(),
            closes: self.closes,
            rated_v: rated?,
            ohm,
            henry: (tau * ohm, rise * tau * ohm),
            plunger: 2.0 / about(plunger?).powi(2),
            pickup: about(pickup),
            cuts_off: self.cuts_off.unwrap_or(true),
        })
    }
}

impl MotorForm {
    fn read(
        &self,
        about: &mut impl FnMut(f64) -> f64,
        problems: &mut Problems,
    ) -> Option<MotorTruth> {
        let volts = self.voltage.positive(problems).map(Measure::si);
        let inrush = self.inrush.positive(problems).map(Measure::si);
        let amps = self.current.positive(problems).map(Measure::si);
        let time_s = self.time.positive(problems).map(Measure::si);
        let (volts, inrush) = (volts?, inrush?);
        Some(MotorTruth {
            volts,
            ohm: volts / inrush,
            amps: about(amps?),
            time_s: about(time_s?),
            start_s: time(&self.start, 0.05, problems)?,
            is_switched: false,
        })
    }
}
