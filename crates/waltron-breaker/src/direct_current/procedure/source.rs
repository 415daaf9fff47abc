//! The source: a direct voltage from a store, through leads and breaker, and what looks at both.

use crate::direct_current::analysis::circuit::Circuit;
use crate::direct_current::analysis::pulse::Pulse;
use crate::direct_current::asset::{DcBreaker, amps};
use crate::four_wire;
use waltron_core::grading::Value;
use waltron_core::injection::capability::{Capability, Channel};
use waltron_core::injection::measuring::{Capture, Part, Probe, Property, Signal};
use waltron_core::injection::observation::{Ended, Observation};
use waltron_core::injection::program::{
    Condition, Program, Relation, Segment, Stop, Switching, Then,
};
use waltron_core::injection::stimulus::{Drive, Stimulus};
use waltron_core::procedure::SetupError;
use waltron_core::quantity::{Dimension, Frequency, Measure, Quantity, Time, Voltage, seconds};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::{Cause, Estimate};

/// The meter of the current through the breaker.
pub(crate) const MAIN_A: &str = "main current";
/// The source's output, and the meter of the voltage over the breaker.
pub(crate) const MAIN_V: &str = "main voltage";
/// What closes the breaker, and what opens it, where the rig does.
pub(super) const CLOSE: &str = "close command";
const OPEN: &str = "open command";
/// The reading that tells how full the source's store is.
const STORE: &str = "store.voltage";

/// How full the store must be before a pulse, as a share of the source's range, and how long that is waited for.
const FULL: f64 = 0.95;
const CHARGING_S: f64 = 120.0;
/// How long a command lasts, and how long after it nothing happens.
const COMMAND_S: f64 = 0.3;
/// Samples a second of what is quick, and of what rises slowly.
pub(super) const QUICK_HZ: f64 = 20_000.0;
pub(super) const SLOW_HZ: f64 = 5_000.0;
/// How much of its reach a source is asked for at most: its store sags.
const RESERVE: f64 = 0.97;
/// The least that is a current, as a share of the setting.
const FLOOR: f64 = 5e-3;

/// What a frequency is of no matter for.
fn any_frequency() -> Frequency {
    Frequency::from_si(50.0)
}

/// A direct value without anything that alternates.
pub(super) fn direct<Q: Measure>(channel: &Channel<Q>, si: f64) -> Drive<Q> {
    four_wire::direct(channel, si, any_frequency())
}

/// A source as the rig has it.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Source {
    pub(super) rig: Capability,
    output: Channel<Voltage>,
    /// The largest current that the breaker's file allows, in A.
    most_a: f64,
}

impl Source {
    /// # Errors
    /// What the rig lacks.
    pub(super) fn new(rig: &Capability, of: &DcBreaker) -> Result<Self, SetupError> {
        let output = rig.voltages.iter().find(|c| c.meaning == *MAIN_V).ok_or_else(|| {
            SetupError::Lacks { lacks: format!("no output for `{MAIN_V}`"), what: "outputs" }
        })?;
        for meaning in [MAIN_A, MAIN_V] {
            if rig.meter(meaning).is_none_or(|m| !m.coupling.is_dc()) {
                let lacks = format!("no meter for `{meaning}` that shows DC");
                return Err(SetupError::Lacks { lacks, what: "meters" });
            }
        }
        let most_a = of.most_a.unwrap_or(f64::INFINITY);
        Ok(Self { rig: rig.clone(), output: output.clone(), most_a })
    }

    /// The largest voltage, in V.
    pub(super) fn range_v(&self) -> f64 {
        self.output.range.si()
    }

    /// The largest current that can be had through a circuit, in A, and what bounds it.
    fn bound(&self, through: &Circuit) -> (f64, &'static str) {
        let compliance = self.output.ability.compliance.unwrap_or(f64::INFINITY);
        let driven = (RESERVE * self.range_v() / through.ohm).min(compliance);
        // What a meter does not show cannot be graded.
        let shown = self.rig.meter(MAIN_A).map_or(f64::INFINITY, |meter| meter.range);
        let all = [
            (driven, "the source drives"),
            (self.most_a, "the breaker's file allows"),
            (shown, "the meter of the current shows"),
        ];
        all.into_iter().min_by(|a, b| a.0.total_cmp(&b.0)).unwrap_or(all[0])
    }

    /// The largest current that can be had through a circuit, in A.
    pub(super) fn reach_a(&self, through: &Circuit) -> f64 {
        self.bound(through).0
    }

    /// Why a current cannot be had, with its rate of rise where it has one.
    pub(super) fn beyond(&self, through: &Circuit, wanted_a: f64, rate: f64) -> Option<String> {
        let (reach, told) = self.bound(through);
        let fits = wanted_a <= reach * (1.0 + 1e-9);
        if !fits {
            return Some(format!(
                "{told} {} at most, and {} is wanted",
                amps(reach),
                amps(wanted_a)
            ));
        }
        let volts = through.henry * rate + through.ohm * wanted_a;
        let fits = volts <= self.range_v() * (1.0 + 1e-9);
        (!fits).then(|| {
            let of = |si| Quantity { si, dimension: Dimension::VOLTAGE };
            format!(
                "so quick a rise takes {} and the source has {}: shorter leads, close together, or a slower one",
                of(volts),
                of(self.range_v())
            )
        })
    }

    /// A direct voltage.
    pub(super) fn put(&self, volts: f64) -> Stimulus {
        Stimulus { currents: Vec::new(), voltages: vec![direct(&self.output, volts)] }
    }

    /// The command that closes or opens the breaker, where the rig has it.
    pub(super) fn command(&self, closes: bool) -> Option<Name> {
        let name = Name::from(if closes { CLOSE } else { OPEN });
        self.rig.switches(&name).then_some(name)
    }

    /// What comes before a pulse: the breaker is closed, or opened, where the rig has the command, and the store is
    /// waited for. Nothing where there is neither.
    pub(super) fn ready(&self, closes: bool) -> Option<Program> {
        let mut segments = Vec::new();
        if let Some(output) = self.command(closes) {
            let name = if closes { "close" } else { "open" };
            for (name, closed) in [(name, true), ("settle", false)] {
                let mut segment = Segment::hold(name, Stimulus::off(), seconds(COMMAND_S));
                segment.switches = vec![Switching { output: output.clone(), closed }];
                segments.push(segment);
            }
        }
        if self.rig.reading(STORE).is_some() {
            let full = Stop {
                when: Condition::Reading {
                    probe: Self::store(),
                    relation: Relation::AtLeast,
                    limit_si: FULL * self.range_v(),
                },
                then: Then::Next,
            };
            let wait = Segment::hold("store", Stimulus::off(), seconds(CHARGING_S));
            segments.push(wait.until(full));
        }
        let mut program = Program::of(segments);
        if self.rig.reading(STORE).is_some() {
            program.reads = vec![Self::store()];
        }
        (!program.segments.is_empty()).then_some(program)
    }

    fn store() -> Probe {
        let of = Signal::from(STORE);
        Probe { of, what: Property::Value, dimension: Dimension::VOLTAGE }
    }

    /// Why the store is not ready, if it is not.
    pub(super) fn unready(&self, program: &Program, seen: &Observation) -> Option<String> {
        let at = program.position("store")?;
        if seen.segments.get(at).is_some_and(|span| span.ended == Ended::Stop(0)) {
            return None;
        }
        let of = |si| Quantity { si, dimension: Dimension::VOLTAGE };
        let is =
            seen.reading(&Self::store()).map_or("it is not read".to_owned(), |v| of(v).to_string());
        let full = of(FULL * self.range_v());
        Some(format!("the source's store is not charged: {is} and not {full} after {CHARGING_S} s"))
    }

    /// A pulse of these segments, with what is looked at so many times a second.
    pub(super) fn pulse(&self, segments: Vec<Segment>, rate_hz: f64) -> Program {
        let mut program = Program::of(segments);
        program.captures = vec![Capture {
            name: "pulse".into(),
            of: vec![MAIN_A.into(), MAIN_V.into()],
            rate_hz,
            part: Part::Whole,
        }];
        program
    }

    /// A voltage that is held.
    pub(super) fn hold(&self, name: &str, volts: f64, time: Time) -> Segment {
        Segment::hold(name, self.put(volts), time)
    }

    /// The output's voltage, with what makes it uncertain.
    pub(super) fn volts(&self, volts: f64) -> Estimate {
        self.rig.seen(&self.output.id, volts.into()).real()
    }

    /// The current of one sample, with what makes it uncertain.
    pub(super) fn amps(&self, amps: f64) -> Estimate {
        let seen = self.rig.seen(&MAIN_A.into(), amps.into()).real();
        let Some(meter) = self.rig.meter(MAIN_A) else { return seen };
        match meter.noise {
            Some(width) => {
                let si = width.limits(amps.abs()).1 - amps.abs();
                let deviation = Value::Plain(Quantity { si, dimension: Dimension::CURRENT });
                // Another sample has another one.
                let source = format!(
                    "{} noise of the sample of {}",
                    meter.id,
                    Quantity { si: amps, dimension: Dimension::CURRENT }
                );
                seen.with(Cause::scatter(source, deviation), 1.0)
            }
            None => seen,
        }
    }
}

/// The least that is a current through a breaker, in A.
pub(super) fn floor(of: &DcBreaker) -> f64 {
    FLOOR * of.setting.si()
}

/// The samples of a pulse; nothing where they are not there.
pub(super) fn samples(seen: &Observation) -> Option<Pulse<'_>> {
    let captured = seen.captures.first()?;
    let track = |of: &str| captured.tracks.iter().find(|t| t.of == *of).map(|t| &t.samples[..]);
    let (amps, volts) = (track(MAIN_A)?, track(MAIN_V)?);
    (!amps.is_empty()).then_some(Pulse { amps, volts, rate_hz: captured.rate_hz })
}
