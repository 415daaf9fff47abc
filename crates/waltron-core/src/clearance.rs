//! Clearance: the only way from a program to energised outputs.
//!
//! A rig plays [`Cleared`] programs only, and only [`clear`] makes them, after checking the
//! program against what the asset withstands and what the rig can do. A value out of range is
//! refused, never clipped.

use crate::asset::Ratings;
use crate::capability::{Capability, Channel};
use crate::name::Name;
use crate::program::{Condition, Finish, Program};
use crate::quantity::{Current, Measure, Time, Voltage, amperes, seconds, text};
use crate::stimulus::Drive;

/// A program that may be put out.
#[derive(Clone, Debug, PartialEq)]
pub struct Cleared(Program);

impl Cleared {
    /// The program.
    pub fn program(&self) -> &Program {
        &self.0
    }

    /// The same outputs with other things looked at; `None` where the outputs are not the same, or
    /// could last longer.
    pub fn watching(&self, program: Program) -> Option<Self> {
        let same = |(a, b): (&crate::program::Segment, &crate::program::Segment)| {
            a.profile == b.profile && a.longest() == b.longest()
        };
        let all = program.segments.len() == self.0.segments.len()
            && program.finish == self.0.finish
            && self.0.segments.iter().zip(&program.segments).all(same);
        all.then_some(Self(program))
    }
}

/// Why a program may not be put out.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
#[non_exhaustive]
pub enum Refusal {
    /// The rig has no such output.
    #[error("the rig has no output channel `{channel}`")]
    NoChannel {
        /// The channel asked for.
        channel: Name,
    },
    /// More than the rig puts out.
    #[error("{value} on {channel} is above the rig's range of {limit}")]
    AboveRange {
        /// The channel.
        channel: Name,
        /// The value asked for.
        value: String,
        /// The channel's limit.
        limit: String,
    },
    /// More than the asset withstands, at any duration.
    #[error("{value} on {channel} is above the asset's highest thermal rating, {limit}")]
    AboveRating {
        /// The channel.
        channel: Name,
        /// The value asked for.
        value: String,
        /// The highest rating.
        limit: String,
    },
    /// Too long at a current above the continuous rating.
    #[error(
        "up to {value} for up to {duration} on {channel} heats more than the asset's \
         thermal rating of {limit} allows"
    )]
    TooLong {
        /// The channel.
        channel: Name,
        /// The largest current above the continuous rating.
        value: String,
        /// Time spent above the continuous rating.
        duration: String,
        /// The rating that limits it.
        limit: String,
    },
    /// Nothing ends a segment for certain.
    #[error("segment `{segment}` has no time limit")]
    Unbounded {
        /// The segment.
        segment: Name,
    },
    /// Outputs would stay on at a current that the asset does not withstand for ever.
    #[error(
        "{value} would stay on {channel} after the step, which is above the continuous \
             rating; end the step with `then off`"
    )]
    Kept {
        /// The channel.
        channel: Name,
        /// The value.
        value: String,
    },
    /// Something is to be measured that the rig does not measure.
    #[error("the rig does not measure `{probe}`")]
    NotMeasured {
        /// What was to be measured.
        probe: String,
    },
    /// A stop waits for a contact that no input is wired to.
    #[error("no input of the rig is wired to `{signal}`")]
    NotWired {
        /// The contact's meaning.
        signal: Name,
    },
}

impl Refusal {
    /// The channel, segment or contact it is about.
    fn about(&self) -> &str {
        match self {
            Self::NoChannel { channel }
            | Self::AboveRange { channel, .. }
            | Self::AboveRating { channel, .. }
            | Self::Kept { channel, .. }
            | Self::TooLong { channel, .. } => channel.as_str(),
            Self::Unbounded { segment } => segment.as_str(),
            Self::NotWired { signal } => signal.as_str(),
            Self::NotMeasured { probe } => probe,
        }
    }

    /// Whether another one has the same cause.
    pub fn is_same_kind(&self, other: &Self) -> bool {
        std::mem::discriminant(self) == std::mem::discriminant(other)
    }

    fn is_like(&self, other: &Self) -> bool {
        self.is_same_kind(other) && self.about() == other.about()
    }
}

/// Checks a program against the asset's ratings and the rig's capability.
///
/// Heating above the continuous rating is added up as I²t over the whole program and compared with
/// the largest I²t among the short-time ratings at or above the largest current.
///
/// # Errors
/// Every [`Refusal`] found, at least one.
pub fn clear(
    program: Program,
    ratings: &Ratings,
    capability: &Capability,
) -> Result<Cleared, Vec<Refusal>> {
    let mut refusals: Vec<Refusal> = Vec::new();
    // One refusal of a kind for each channel is enough: that of the first value refused.
    let mut refuse = |new: Refusal| {
        if !refusals.iter().any(|r| r.is_like(&new)) {
            refusals.push(new);
        }
    };
    let mut heating: Vec<Heating> = Vec::new();
    for segment in &program.segments {
        if segment.longest().is_none() {
            refuse(Refusal::Unbounded { segment: segment.name.clone() });
        }
        for part in segment.stops.iter().flat_map(|s| s.when.parts()) {
            match part {
                Condition::Contact { signal, .. } | Condition::Edge { signal, .. }
                    if !capability.sees(signal) =>
                {
                    refuse(Refusal::NotWired { signal: signal.clone() });
                }
                Condition::Reading { probe, .. } | Condition::Stable { probe, .. }
                    if !capability.measures(probe) =>
                {
                    refuse(Refusal::NotMeasured { probe: probe.to_string() });
                }
                _ => {}
            }
        }
        for (stimulus, time) in segment.levels() {
            for drive in &stimulus.currents {
                within_range(drive, &capability.currents, &mut refuse);
                Heating::add(&mut heating, drive, time, ratings);
            }
            for drive in &stimulus.voltages {
                within_range::<Voltage>(drive, &capability.voltages, &mut refuse);
            }
        }
    }
    for probe in program.reads.iter().filter(|p| !capability.measures(p)) {
        refuse(Refusal::NotMeasured { probe: probe.to_string() });
    }
    if program.finish == Finish::Keep
        && let Some(segment) = program.segments.last()
    {
        for drive in segment.profile.last().currents {
            if !matches!(longest_at(drive.true_rms(), ratings), Ok(None)) {
                let (channel, value) = (drive.channel.clone(), text(drive.true_rms()));
                refuse(Refusal::Kept { channel, value });
            }
        }
    }
    heating.iter().filter_map(|h| h.refusal(ratings)).for_each(&mut refuse);
    if refusals.is_empty() { Ok(Cleared(program)) } else { Err(refusals) }
}

fn within_range<Q: Measure>(
    drive: &Drive<Q>,
    channels: &[Channel<Q>],
    refuse: &mut impl FnMut(Refusal),
) {
    let channel = drive.channel.clone();
    match channels.iter().find(|c| c.id == channel) {
        None => refuse(Refusal::NoChannel { channel }),
        Some(c) if drive.true_rms() > c.range => refuse(Refusal::AboveRange {
            channel,
            value: text(drive.true_rms()),
            limit: text(c.range),
        }),
        Some(_) => {}
    }
}

/// What one channel does to the asset above its continuous rating.
struct Heating {
    channel: Name,
    largest: Current,
    time: Time,
    /// I²t, in A²s.
    energy: f64,
}

impl Heating {
    fn add(all: &mut Vec<Self>, drive: &Drive<Current>, time: Time, ratings: &Ratings) {
        let continuous = ratings.thermal.iter().filter(|r| r.duration.is_none());
        let i = drive.true_rms();
        if ratings.thermal.is_empty() || continuous.into_iter().any(|r| i <= r.current) {
            return;
        }
        let index = all.iter().position(|h| h.channel == drive.channel).unwrap_or_else(|| {
            let (channel, time) = (drive.channel.clone(), seconds(0.0));
            all.push(Self { channel, largest: amperes(0.0), time, energy: 0.0 });
            all.len() - 1
        });
        let sum = &mut all[index];
        sum.largest = sum.largest.max(i);
        sum.time += time;
        sum.energy += i.si() * i.si() * time.si();
    }

    fn refusal(&self, ratings: &Ratings) -> Option<Refusal> {
        let (channel, value) = (self.channel.clone(), text(self.largest));
        let energy = |r: &crate::asset::ThermalRating| {
            r.duration.map_or(f64::INFINITY, |t| r.current.si() * r.current.si() * t.si())
        };
        let allowing = ratings
            .thermal
            .iter()
            .filter(|r| r.current >= self.largest)
            .max_by(|a, b| energy(a).total_cmp(&energy(b)));
        match allowing {
            None => {
                let highest = ratings
                    .thermal
                    .iter()
                    .max_by(|a, b| a.current.si().total_cmp(&b.current.si()))?;
                Some(Refusal::AboveRating { channel, value, limit: highest.to_string() })
            }
            Some(r) if self.energy > energy(r) => Some(Refusal::TooLong {
                channel,
                value,
                duration: text(self.time),
                limit: r.to_string(),
            }),
            Some(_) => None,
        }
    }
}

/// The longest time a held current may last by the ratings; `None` where it is not limited.
///
/// # Errors
/// The refusal that any duration would get.
pub fn longest_at(current: Current, ratings: &Ratings) -> Result<Option<Time>, Refusal> {
    let thermal = &ratings.thermal;
    let continuous = |r: &&crate::asset::ThermalRating| r.duration.is_none();
    if thermal.is_empty() || thermal.iter().filter(continuous).any(|r| current <= r.current) {
        return Ok(None);
    }
    let probe = Heating { channel: "".into(), largest: current, time: seconds(0.0), energy: 0.0 };
    if let Some(refusal) = probe.refusal(ratings) {
        return Err(refusal);
    }
    let energy = thermal
        .iter()
        .filter(|r| r.current >= current)
        .filter_map(|r| Some(r.current.si() * r.current.si() * r.duration?.si()))
        .fold(0.0, f64::max);
    Ok(Some(seconds(energy / (current.si() * current.si()))))
}
