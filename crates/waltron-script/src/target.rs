//! What a setting such as `ia = 5 A` or `i.h3 = 6 %` acts on, and what it does to a stimulus.

use super::context::Context;
use waltron_core::injection::stimulus::{
    Dc, Drive, Harmonic, PHASE_CURRENTS, PHASE_VOLTAGES, Stimulus,
};
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::{Angle, Dimension, Frequency, Measure, degrees, seconds};
use waltron_core::text::expression::{PhasorValue, Type, Value};
use waltron_core::text::name::Name;

/// What a setting acts on.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Target {
    /// A part of the waves on these channels.
    Wave { channels: Vec<Name>, dimension: Dimension, part: Part },
    /// Everything: off.
    Off,
    /// Impedance of a fault loop.
    Impedance,
    /// Factor of a fault loop's return path.
    Return,
    /// Three-phase active power, drawn with the voltages that are on.
    ActivePower,
    /// Three-phase reactive power.
    ReactivePower,
}

/// A part of a wave.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Part {
    /// Magnitude and angle.
    Phasor,
    /// The magnitude alone.
    Rms,
    /// The angle alone.
    Phase,
    /// The frequency.
    Frequency,
    /// Rate of change of frequency.
    Rate,
    /// A harmonic, its angle where the fundamental rises through zero.
    Harmonic(u32),
    /// A harmonic, its angle against the common reference.
    HarmonicAbsolute(u32),
    /// A direct component.
    Dc,
    /// The time constant of its decay.
    Tau,
}

impl Part {
    /// Whether its plain value is a magnitude, which has no sign.
    pub(super) fn is_magnitude(self) -> bool {
        matches!(self, Self::Phasor | Self::Rms | Self::Harmonic(_) | Self::HarmonicAbsolute(_))
    }
}

/// Whether a value is negative, or no number at all.
fn is_negative(si: f64) -> bool {
    si < 0.0 || si.is_nan()
}

/// Whether a value is a number above zero.
fn is_above_zero(si: f64) -> bool {
    si > 0.0
}

/// Highest harmonic that can be put out.
const HIGHEST_ORDER: u32 = 100;

impl Target {
    /// Finds out what a target's name means.
    ///
    /// # Errors
    /// What is wrong with it, and what would be right.
    pub(super) fn parse(name: &str, context: &Context) -> Result<Self, (String, Option<String>)> {
        let capability = &context.capability;
        let all = |ids: [&str; 3]| ids.map(Name::from).to_vec();
        let (owner, part) = name.split_once('.').unwrap_or((name, ""));
        let every: Vec<Name> = Vec::new();
        let (channels, dimension) = match owner {
            "off" => return Ok(Self::Off),
            "z" => return Ok(Self::Impedance),
            "k0" => return Ok(Self::Return),
            "p" => return Ok(Self::ActivePower),
            "q" => return Ok(Self::ReactivePower),
            "f" | "df" if part.is_empty() => {
                let part = if owner == "f" { Part::Frequency } else { Part::Rate };
                return Ok(Self::Wave { channels: every, dimension: Dimension::NUMBER, part });
            }
            "i" => (all(PHASE_CURRENTS), Dimension::CURRENT),
            "v" => (all(PHASE_VOLTAGES), Dimension::VOLTAGE),
            id => match capability.channel_dimension(id) {
                Some(dimension) => (vec![Name::from(id)], dimension),
                None => capability.group(id).ok_or_else(|| context.no_channel(name))?,
            },
        };
        let part = match part {
            "" => Part::Phasor,
            "rms" => Part::Rms,
            "phase" => Part::Phase,
            "f" => Part::Frequency,
            "df" => Part::Rate,
            "dc" => Part::Dc,
            "tau" => Part::Tau,
            other => {
                let (order, absolute) = match other.strip_suffix(".absolute") {
                    Some(order) => (order, true),
                    None => (other, false),
                };
                match order.strip_prefix('h').and_then(|n| n.parse().ok()) {
                    Some(n) if (2..=HIGHEST_ORDER).contains(&n) && absolute => {
                        Part::HarmonicAbsolute(n)
                    }
                    Some(n) if (2..=HIGHEST_ORDER).contains(&n) => Part::Harmonic(n),
                    _ => {
                        let help = "parts are rms, phase, f, df, dc, tau, h2 … h100, h3.absolute";
                        return Err((
                            format!("`{owner}` has no part `{other}`"),
                            Some(help.to_owned()),
                        ));
                    }
                }
            }
        };
        Ok(Self::Wave { channels, dimension, part })
    }

    /// The dimension of its plain value, which a ramp moves through.
    pub(super) fn dimension(&self) -> Dimension {
        match self {
            Self::Wave { dimension, part, .. } => match part {
                Part::Phasor | Part::Rms | Part::Dc => *dimension,
                Part::Phase => Dimension::ANGLE,
                Part::Frequency => Dimension::FREQUENCY,
                Part::Rate => Dimension::FREQUENCY_RATE,
                Part::Harmonic(_) | Part::HarmonicAbsolute(_) => Dimension::NUMBER,
                Part::Tau => Dimension::TIME,
            },
            Self::Off | Self::Return => Dimension::NUMBER,
            Self::Impedance => Dimension::RESISTANCE,
            Self::ActivePower | Self::ReactivePower => Dimension::POWER,
        }
    }

    /// Whether a value of this type can be set.
    pub(super) fn accepts(&self, kind: &Type) -> bool {
        let d = self.dimension();
        let phasor = match self {
            Self::Wave { part, .. } => {
                matches!(part, Part::Phasor | Part::Harmonic(_) | Part::HarmonicAbsolute(_))
            }
            Self::Impedance | Self::Return => true,
            _ => false,
        };
        let three =
            matches!(self, Self::Wave { channels, part: Part::Phasor, .. } if channels.len() == 3);
        match kind {
            Type::Quantity(found) => *found == d,
            Type::Phasor(found) => phasor && *found == d,
            Type::Phases(found) => three && *found == d,
            Type::Any => true,
            _ => matches!(self, Self::Off),
        }
    }

    /// Whether a value is one that it can have.
    ///
    /// # Errors
    /// Why not, and the way out.
    pub(super) fn admits(
        &self,
        q: waltron_core::quantity::Quantity,
    ) -> Result<(), (String, Option<String>)> {
        match self {
            Self::Wave { part, .. } if part.is_magnitude() && is_negative(q.si) => {
                let help = "turn its angle instead, as in `5 A @ 180 deg`";
                Err((format!("a magnitude is not negative, this is {q}"), Some(help.to_owned())))
            }
            Self::Wave { part: Part::Frequency, .. } if !is_above_zero(q.si) => {
                Err((format!("a frequency must be above zero, this is {q}"), None))
            }
            Self::Wave { part: Part::Tau, .. } if !is_above_zero(q.si) => {
                let message = format!("a direct component decays with a time above zero, not {q}");
                Err((message, None))
            }
            _ => Ok(()),
        }
    }

    /// Whether its plain value is a magnitude, which has no sign.
    pub(super) fn is_magnitude(&self) -> bool {
        matches!(self, Self::Wave { part, .. } if part.is_magnitude())
    }

    /// A value of the right kind, where no more is known.
    pub(super) fn sample(&self, value: &Value) -> Value {
        let dimension = self.dimension();
        match value.kind() {
            Type::Phasor(_) | Type::Phases(_) => {
                Value::Phasor(PhasorValue { rms: 1.0, angle: 0.0, dimension })
            }
            _ => Value::Quantity(waltron_core::quantity::Quantity { si: 1.0, dimension }),
        }
    }

    /// The value that stands for all that one can be which is not known yet: the one that asset and rig
    /// have most to do with.
    ///
    /// # Errors
    /// Why there is none.
    pub(super) fn worst(&self, value: &Value) -> Result<Value, String> {
        let most = value.most().unwrap_or(f64::INFINITY);
        let dimension = self.dimension();
        let quantity =
            |si: f64| Value::Quantity(waltron_core::quantity::Quantity { si, dimension });
        let bounded = |si: f64, what: &str| {
            if si.is_finite() {
                Ok(quantity(si))
            } else {
                Err(format!("{what} follows from what is measured"))
            }
        };
        let range = value.range();
        match self {
            Self::Wave { part, .. } => match (part, range) {
                // Below zero it is refused when it is put out.
                (part, Some(r)) if part.is_magnitude() => {
                    bounded(r.high.max(0.0), "this magnitude")
                }
                (Part::Phase, _) => Ok(quantity(0.0)),
                (Part::Frequency, Some(r)) if r.high.is_finite() && r.low > 0.0 => {
                    Ok(quantity(r.low))
                }
                (Part::Frequency, _) => Err("this frequency may be zero or anything".to_owned()),
                (Part::Rate, Some(r)) if r.high.is_finite() => bounded(r.low, "this rate"),
                (Part::Rate, _) => Err("this rate may be anything".to_owned()),
                (Part::Tau, _) => {
                    bounded(range.map_or(f64::INFINITY, |r| r.high), "this time constant")
                }
                _ => match value.kind() {
                    Type::Quantity(_) => bounded(most, "this"),
                    _ if most.is_finite() => {
                        Ok(Value::Phasor(PhasorValue { rms: most, angle: 0.0, dimension }))
                    }
                    _ => Err("this phasor follows from what is measured".to_owned()),
                },
            },
            Self::Off => Ok(Value::Bool(true)),
            Self::Impedance | Self::Return | Self::ActivePower | Self::ReactivePower => {
                bounded(most, "this")
            }
        }
    }

    /// Its place in a step: what others build on comes first, groups before single channels.
    pub(super) fn rank(&self) -> (u8, bool) {
        match self {
            Self::Off => (0, false),
            Self::Impedance | Self::Return => (0, true),
            Self::Wave { channels, part, .. } => {
                let rank = match part {
                    Part::Phasor => 1,
                    Part::Rms => 2,
                    Part::Phase => 3,
                    Part::Frequency => 4,
                    Part::Rate => 5,
                    Part::Harmonic(_) => 6,
                    Part::HarmonicAbsolute(_) => 7,
                    Part::Dc => 8,
                    Part::Tau => 9,
                };
                (rank, channels.len() == 1)
            }
            Self::ActivePower => (10, false),
            Self::ReactivePower => (10, true),
        }
    }

    /// What it takes, in words.
    pub(super) fn wanted(&self) -> String {
        match self {
            Self::Wave { channels, part: Part::Phasor, .. } if channels.len() == 3 => {
                format!("{} or three phasors of it", self.dimension())
            }
            _ => self.dimension().to_string(),
        }
    }
}

/// Sets a part of a wave on a stimulus; a channel that is off gets a silent wave first.
pub(super) fn set(stimulus: &mut Stimulus, target: &Target, value: &Value, nominal: Frequency) {
    let Target::Wave { channels, dimension, part } = target else {
        if *target == Target::Off {
            *stimulus = Stimulus::off();
        }
        return;
    };
    let frequency = stimulus.frequency().unwrap_or(nominal);
    if channels.is_empty() {
        stimulus.currents.iter_mut().for_each(|d| set_part(d, *part, value, None));
        stimulus.voltages.iter_mut().for_each(|d| set_part(d, *part, value, None));
        return;
    }
    for (index, channel) in channels.iter().enumerate() {
        // One value on a group is a balanced system.
        let balanced = (channels.len() == 3).then(|| degrees([0.0, -120.0, 120.0][index]));
        let (own, turn) = match value {
            Value::Phases(phases) => (Value::Phasor(phases[index]), None),
            other => (other.clone(), balanced),
        };
        if *dimension == Dimension::CURRENT {
            set_part(drive(&mut stimulus.currents, channel, frequency), *part, &own, turn);
        } else {
            set_part(drive(&mut stimulus.voltages, channel, frequency), *part, &own, turn);
        }
    }
}

fn drive<'a, Q: Measure>(
    drives: &'a mut Vec<Drive<Q>>,
    channel: &Name,
    frequency: Frequency,
) -> &'a mut Drive<Q> {
    let at = drives.iter().position(|d| d.channel == *channel).unwrap_or_else(|| {
        let silent = Phasor::zero().at(nominal_angle(channel));
        drives.push(Drive::sine(channel.clone(), silent, frequency));
        drives.len() - 1
    });
    &mut drives[at]
}

/// The angle of a channel that is switched on without one: its phase's in a balanced system.
fn nominal_angle(channel: &Name) -> Angle {
    let phases = [PHASE_CURRENTS, PHASE_VOLTAGES];
    let phase = phases.iter().find_map(|all| all.iter().position(|c| *channel == **c));
    phase.map_or_else(Angle::default, |k| degrees([0.0, -120.0, 120.0][k]))
}

fn set_part<Q: Measure>(drive: &mut Drive<Q>, part: Part, value: &Value, turn: Option<Angle>) {
    let phasor = match value {
        Value::Quantity(q) => PhasorValue { rms: q.si, angle: 0.0, dimension: q.dimension },
        Value::Phasor(p) => *p,
        _ => return,
    };
    match part {
        // A magnitude alone keeps the channel's angle.
        Part::Phasor if matches!(value, Value::Quantity(_)) && turn.is_none() => {
            drive.phasor = drive.phasor.with_rms(Q::from_si(phasor.rms));
        }
        Part::Phasor => {
            let angle = Angle::from_si(phasor.angle) + turn.unwrap_or_default();
            drive.phasor = Phasor::new(Q::from_si(phasor.rms), angle);
        }
        Part::Rms => drive.phasor = drive.phasor.with_rms(Q::from_si(phasor.rms)),
        Part::Phase => {
            let angle = Angle::from_si(phasor.rms) + turn.unwrap_or_default();
            drive.phasor = drive.phasor.at(angle);
        }
        Part::Frequency => drive.frequency = Frequency::from_si(phasor.rms),
        Part::Rate => drive.rate_hz_per_s = phasor.rms,
        Part::Harmonic(order) => {
            let angle = Angle::from_si(phasor.angle);
            drive.set_harmonic(Harmonic::new(order, phasor.rms, angle));
        }
        Part::HarmonicAbsolute(order) => {
            // Angle of the harmonic's own cosine, brought to the fundamental's rising zero.
            let n = f64::from(order);
            let quarter = std::f64::consts::FRAC_PI_2;
            let relative = phasor.angle - n * drive.phasor.angle().si() - (n - 1.0) * quarter;
            drive.set_harmonic(Harmonic::new(order, phasor.rms, Angle::from_si(relative)));
        }
        Part::Dc => {
            let value = Q::from_si(phasor.rms);
            drive.dc = Some(drive.dc.map_or(Dc::constant(value), |dc| dc.with_value(value)));
        }
        Part::Tau => {
            let dc = drive.dc.unwrap_or(Dc::constant(Q::from_si(0.0)));
            // Times that are none were refused when they were read.
            drive.dc = dc.decaying(seconds(phasor.rms)).or(Some(dc));
        }
    }
}

/// Ramps the plain value of a target: the magnitude where the target is a whole phasor, so that
/// angles stay.
pub(super) fn set_level(stimulus: &mut Stimulus, target: &Target, si: f64, nominal: Frequency) {
    let dimension = target.dimension();
    let value = Value::Quantity(waltron_core::quantity::Quantity { si, dimension });
    if let Target::Wave { channels, dimension, part: Part::Phasor } = target {
        let on = |name: &Name| {
            let current = stimulus.currents.iter().any(|d| d.channel == *name);
            current || stimulus.voltages.iter().any(|d| d.channel == *name)
        };
        let part = if channels.iter().all(on) { Part::Rms } else { Part::Phasor };
        let target = Target::Wave { channels: channels.clone(), dimension: *dimension, part };
        return set(stimulus, &target, &value, nominal);
    }
    set(stimulus, target, &value, nominal);
}
