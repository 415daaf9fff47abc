//! Clearance: the only way from a program to energised outputs.
//!
//! A rig plays [`Cleared`] programs only, and only [`clear`] makes them, after checking the
//! program against what the asset withstands and what the rig can do. A value out of range is
//! refused, never clipped.

pub mod duty;
mod pulse;

use crate::asset::{Longest, Ratings, Withstands};
use crate::injection::capability::{Ability, Capability, Channel, Discharge};
use crate::injection::measuring::{Capture, MOST_CAPTURED, Part, Read, When};
use crate::injection::program::{Condition, Finish, Program, Segment, Then};
use crate::injection::stimulus::{Drive, Stimulus};
use crate::quantity::{Measure, Time, seconds, text};
use crate::text::name::Name;
use std::sync::Arc;

/// A program that may be put out.
#[derive(Clone, Debug, PartialEq)]
pub struct Cleared(Arc<Program>);

impl Cleared {
    /// The program.
    pub fn program(&self) -> &Program {
        &self.0
    }

    /// Whether it is this very program, so that it need not be cleared again.
    pub fn is_of(&self, program: &Arc<Program>) -> bool {
        Arc::ptr_eq(&self.0, program)
    }

    /// The same outputs with other things looked at; `None` where the outputs are not the same, or
    /// could last longer.
    pub fn watching(&self, program: Program) -> Option<Self> {
        let same =
            |(a, b): (&crate::injection::program::Segment, &crate::injection::program::Segment)| {
                a.profile == b.profile && a.longest() == b.longest()
            };
        let all = program.segments.len() == self.0.segments.len()
            && program.finish == self.0.finish
            && self.0.segments.iter().zip(&program.segments).all(same);
        all.then(|| Self(Arc::new(program)))
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
    /// A wave that does not swing.
    #[error("{channel} would have a frequency of {value}; it must be above 0 Hz")]
    NoFrequency {
        /// The channel.
        channel: Name,
        /// The frequency that it would have.
        value: String,
    },
    /// Nothing ends a segment for certain.
    #[error("segment `{segment}` has no time limit")]
    Unbounded {
        /// The segment.
        segment: Name,
    },
    /// Outputs would stay on at a current that the asset does not withstand for ever.
    #[error(
        "up to {value} could stay on {channel} after the step, which is above the continuous \
             rating; end the step with `then off`"
    )]
    Kept {
        /// The channel.
        channel: Name,
        /// The value.
        value: String,
    },
    /// Something is to be measured that the rig does not measure.
    #[error("{why}")]
    NotMeasured {
        /// What was to be measured.
        probe: String,
        /// Why it cannot be.
        why: String,
    },
    /// Direct values of an output for alternating ones, or the other way round.
    #[error("output `{channel}` puts out {can} only, and {wanted} is asked for")]
    WrongKind {
        /// The channel.
        channel: Name,
        /// What it puts out: `AC`, `DC`.
        can: &'static str,
        /// What it does not.
        wanted: &'static str,
    },
    /// A frequency that an output does not reach.
    #[error("{value} on {channel} is outside of what the output can: {limits}")]
    FrequencyOutside {
        /// The channel.
        channel: Name,
        /// The frequency asked for.
        value: String,
        /// From where to where it goes.
        limits: String,
    },
    /// A source that would be on for longer than it can.
    #[error(
        "output `{channel}` would be on {time}, and is on for {limit} at once at most: shorter, or with pauses"
    )]
    PulseTooLong {
        /// The channel.
        channel: Name,
        /// How long it would be on.
        time: String,
        /// How long it can.
        limit: String,
    },
    /// A binary output that the rig does not have.
    #[error("the rig has no switch for `{output}`")]
    NoSwitch {
        /// Its meaning.
        output: Name,
    },
    /// More conditions on instruments than the computer can watch.
    #[error(
        "only one condition on instruments of their own can be watched in one injection; here are \
         `{first}` and `{second}`: watch one of them in a step of its own"
    )]
    TooManyWatched {
        /// One of them.
        first: String,
        /// Another.
        second: String,
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
            | Self::WrongKind { channel, .. }
            | Self::FrequencyOutside { channel, .. }
            | Self::PulseTooLong { channel, .. }
            | Self::NoFrequency { channel, .. }
            | Self::TooLong { channel, .. } => channel.as_str(),
            Self::Unbounded { segment } => segment.as_str(),
            Self::NotWired { signal } => signal.as_str(),
            Self::NotMeasured { probe, .. } => probe,
            Self::NoSwitch { output } => output.as_str(),
            Self::TooManyWatched { first, .. } => first,
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
/// What is put out above the continuous rating takes up a share of what the asset withstands, see
/// [`crate::asset::Withstand`]; the shares of a whole program are added up channel by channel. A program that
/// leaves its outputs on may end at any level of a segment that can end it, so each of them must be
/// withstood for ever.
///
/// # Errors
/// Every [`Refusal`] found, at least one.
pub fn clear(
    program: impl Into<Arc<Program>>,
    ratings: &Ratings,
    capability: &Capability,
) -> Result<Cleared, Vec<Refusal>> {
    let program = program.into();
    let mut found = Refusals::default();
    let mut currents = Wear::new(ratings.of_currents(capability));
    let mut voltages = Wear::new(ratings.of_voltages(capability));
    let last = program.segments.len().saturating_sub(1);
    for (index, segment) in program.segments.iter().enumerate() {
        found.conditions(segment, capability);
        let may_stay = program.finish == Finish::Keep && (index == last || can_end(segment));
        let levels = segment.levels();
        for (place, (stimulus, time)) in levels.iter().enumerate() {
            found.frequencies(stimulus, *time);
            stimulus.currents.iter().for_each(|d| found.range(d, &capability.currents));
            stimulus.voltages.iter().for_each(|d| found.range(d, &capability.voltages));
            currents.add(&stimulus.currents, *time);
            voltages.add(&stimulus.voltages, *time);
            // Without a stop of its own, a ramp comes to its last level.
            if may_stay && (place + 1 == levels.len() || is_cut_short(segment)) {
                found.kept(&stimulus.currents, &currents.withstands);
                found.kept(&stimulus.voltages, &voltages.withstands);
            }
        }
    }
    found.watched(&program, capability);
    pulse::refusals(&program, capability).into_iter().for_each(|r| found.add(r));
    for probe in program.probes() {
        if let Some(why) = capability.why_unmeasured(probe) {
            found.add(Refusal::NotMeasured { probe: probe.to_string(), why });
        }
    }
    // Nobody is sent to the leads on the word of a meter that is not there.
    if let Some(Discharge { meter, .. }) = &program.discharge
        && capability.meter(meter.as_str()).is_none()
    {
        let why =
            format!("the rig has no meter `{meter}`, which is to tell when nothing flows any more");
        found.add(Refusal::NotMeasured { probe: meter.to_string(), why });
    }
    for capture in &program.captures {
        found.capture(capture, &program, capability);
    }
    for read in program.segments.iter().flat_map(|s| &s.reads) {
        found.reading(read, capability);
    }
    currents.refusals().chain(voltages.refusals()).for_each(|r| found.add(r));
    if found.0.is_empty() { Ok(Cleared(program)) } else { Err(found.0) }
}

/// The shortest time between two readings of the same.
fn most_often() -> Time {
    seconds(1e-3)
}

/// Whether a segment that is not the last one can be the end.
fn can_end(segment: &Segment) -> bool {
    segment.stops.iter().any(|s| s.then == Then::End)
}

/// Whether a segment can end before its profile does.
fn is_cut_short(segment: &Segment) -> bool {
    let early = |when: &Condition| match (when, segment.profile.length()) {
        (Condition::After(time), Some(length)) => *time < length,
        (Condition::After(_), None) => false,
        _ => true,
    };
    segment.stops.iter().any(|s| s.then != Then::Off && early(&s.when))
}

/// One refusal of a kind for each channel is enough: that of the first value refused.
#[derive(Default)]
struct Refusals(Vec<Refusal>);

impl Refusals {
    fn add(&mut self, new: Refusal) {
        if !self.0.iter().any(|r| r.is_like(&new)) {
            self.0.push(new);
        }
    }

    fn conditions(&mut self, segment: &Segment, capability: &Capability) {
        if segment.longest().is_none_or(|t| !t.si().is_finite()) {
            self.add(Refusal::Unbounded { segment: segment.name.clone() });
        }
        for part in segment.stops.iter().flat_map(|s| s.when.parts()) {
            match part {
                Condition::Contact { signal, .. } | Condition::Edge { signal, .. }
                    if !capability.sees(signal) =>
                {
                    self.add(Refusal::NotWired { signal: signal.clone() });
                }
                _ => {}
            }
        }
        for switching in segment.switches.iter().filter(|s| !capability.switches(&s.output)) {
            self.add(Refusal::NoSwitch { output: switching.output.clone() });
        }
    }

    /// Captures are of meters, and no longer than there is room for.
    fn capture(&mut self, capture: &Capture, program: &Program, capability: &Capability) {
        let longest = match &capture.part {
            Part::Whole => program.longest(),
            Part::Segment(index) => program.segments.get(*index).and_then(Segment::longest),
            Part::Around { before, after, .. } | Part::AroundEnd { before, after, .. } => {
                Some(*before + *after)
            }
        };
        let samples = longest.map(|t| t.si() * capture.rate_hz * capture.of.len() as f64);
        let room = samples.is_some_and(|n| (0.0..=MOST_CAPTURED).contains(&n));
        let unknown = capture.of.iter().find(|name| capability.meter(name.as_str()).is_none());
        let why = if let Some(name) = unknown {
            format!("the rig has no meter `{name}` to be captured")
        } else if !(1.0..=1e6).contains(&capture.rate_hz) {
            format!("capture `{}` is of 1 to 1 000 000 samples a second", capture.name)
        } else if !room {
            format!("capture `{}` would be longer than there is room for", capture.name)
        } else {
            return;
        };
        self.add(Refusal::NotMeasured { probe: capture.name.to_string(), why });
    }

    /// What is read while a segment plays the rig reads, and no faster than makes sense.
    fn reading(&mut self, read: &Read, capability: &Capability) {
        let by_computer = |name: &&Name| {
            capability.reading(name.as_str()).is_some_and(|instrument| instrument.by_computer)
        };
        let often = |time: Time| {
            let slow = time >= most_often();
            !slow
        };
        let why = if let Some(name) = read.probe.of.names().into_iter().find(by_computer) {
            format!(
                "`{name}` is read by the computer, which cannot follow a program level by level"
            )
        } else if let When::Every(time) = read.when
            && often(time)
        {
            format!("every {} is too often: at most every {}", text(time), text(most_often()))
        } else {
            return;
        };
        self.add(Refusal::NotMeasured { probe: read.probe.to_string(), why });
    }

    /// What the rig does not watch itself the computer tells it, and that is one thing.
    fn watched(&mut self, program: &Program, capability: &Capability) {
        let by_computer = |condition: &&Condition| {
            let names = condition.probe().map(|probe| probe.of.names()).unwrap_or_default();
            names.iter().any(|n| capability.reading(n.as_str()).is_some_and(|r| r.by_computer))
        };
        let stops = program.segments.iter().flat_map(|s| &s.stops);
        let mut watched = stops.flat_map(|s| s.when.parts()).filter(by_computer);
        let Some(first) = watched.next() else { return };
        if let Some(second) = watched.find(|c| *c != first) {
            let (first, second) = (first.to_string(), second.to_string());
            self.add(Refusal::TooManyWatched { first, second });
        }
    }

    /// A wave swings from its begin to its end, also where its frequency moves.
    fn frequencies(&mut self, stimulus: &Stimulus, time: Time) {
        fn of<Q: Measure>(
            drives: &[Drive<Q>],
            time: Time,
        ) -> impl Iterator<Item = (&Name, f64, bool)> {
            drives.iter().map(move |d| {
                let (first, rate) = (d.frequency.si(), d.rate_hz_per_s);
                let last = if rate == 0.0 { first } else { first + rate * time.si() };
                // What is no number stays none.
                let lowest = if last.is_finite() { first.min(last) } else { last };
                (&d.channel, lowest, d.phasor.rms().si() != 0.0)
            })
        }
        let all = of(&stimulus.currents, time).chain(of(&stimulus.voltages, time));
        for (channel, hertz, alternates) in all {
            // What does not alternate has none, but none that is no frequency either.
            let is_none = hertz == 0.0 && !alternates;
            if !is_none && (hertz.is_nan() || hertz <= 0.0 || hertz.is_infinite()) {
                let value = text(crate::quantity::Frequency::from_si(hertz));
                self.add(Refusal::NoFrequency { channel: channel.clone(), value });
            }
        }
    }

    fn range<Q: Measure>(&mut self, drive: &Drive<Q>, channels: &[Channel<Q>]) {
        let channel = drive.channel.clone();
        match channels.iter().find(|c| c.id == channel) {
            None => self.add(Refusal::NoChannel { channel }),
            Some(c) => {
                self.ability(drive, &c.ability);
                // What is no number is not below it either.
                let fits = drive.true_rms() <= c.range;
                if !fits {
                    let (value, limit) = (text(drive.true_rms()), text(c.range));
                    self.add(Refusal::AboveRange { channel, value, limit });
                }
            }
        }
    }

    /// Whether an output can put out what kind of wave this is.
    fn ability<Q: Measure>(&mut self, drive: &Drive<Q>, ability: &Ability) {
        let channel = || drive.channel.clone();
        let can = ability.coupling.word();
        let alternating = drive.phasor.rms().si() != 0.0;
        if !ability.coupling.is_ac() && alternating {
            self.add(Refusal::WrongKind { channel: channel(), can, wanted: "AC" });
        }
        if !ability.coupling.is_dc() && drive.dc.is_some_and(|dc| dc.value().si() != 0.0) {
            self.add(Refusal::WrongKind { channel: channel(), can, wanted: "DC" });
        }
        if let Some((low, high)) = ability.frequency.filter(|_| alternating)
            && !(low..=high).contains(&drive.frequency)
        {
            let limits = format!("{} to {}", text(low), text(high));
            let value = text(drive.frequency);
            self.add(Refusal::FrequencyOutside { channel: channel(), value, limits });
        }
    }

    fn kept<Q: Measure>(&mut self, drives: &[Drive<Q>], withstands: &Withstands<Q>) {
        for (channel, value) in withstands.connections(drives) {
            if withstands.of(&channel).longest(value) != Longest::Forever {
                self.add(Refusal::Kept { channel, value: text(value) });
            }
        }
    }
}

/// What a program does to the inputs of one kind.
struct Wear<Q> {
    withstands: Withstands<Q>,
    channels: Vec<Worn<Q>>,
}

/// What it does to one of them above its continuous rating.
struct Worn<Q> {
    channel: Name,
    largest: Q,
    time: Time,
    /// Share of what is withstood.
    share: f64,
}

impl<Q: Measure> Wear<Q> {
    fn new(withstands: Withstands<Q>) -> Self {
        Self { withstands, channels: Vec::new() }
    }

    fn add(&mut self, drives: &[Drive<Q>], time: Time) {
        for (channel, value) in self.withstands.connections(drives) {
            let withstand = self.withstands.of(&channel);
            if withstand.longest(value) == Longest::Forever {
                continue;
            }
            let share = withstand.wear(value, time);
            let at = self.channels.iter().position(|w| w.channel == channel);
            let at = at.unwrap_or_else(|| {
                let (largest, time) = (Q::from_si(0.0), seconds(0.0));
                self.channels.push(Worn { channel, largest, time, share: 0.0 });
                self.channels.len() - 1
            });
            let worn = &mut self.channels[at];
            worn.largest = if value > worn.largest { value } else { worn.largest };
            worn.time += time;
            worn.share += share;
        }
    }

    fn refusals(&self) -> impl Iterator<Item = Refusal> {
        self.channels.iter().filter_map(|worn| {
            let (channel, value) = (worn.channel.clone(), text(worn.largest));
            let withstand = self.withstands.of(&worn.channel);
            let limit = withstand.limiting(worn.largest)?.to_string();
            if withstand.longest(worn.largest) == Longest::Never {
                return Some(Refusal::AboveRating { channel, value, limit });
            }
            // A hair for what rounding adds to a program that is as long as it may be.
            (worn.share.is_nan() || worn.share > 1.0 + 1e-9).then(|| {
                let duration = text(worn.time);
                Refusal::TooLong { channel, value, duration, limit }
            })
        })
    }
}
