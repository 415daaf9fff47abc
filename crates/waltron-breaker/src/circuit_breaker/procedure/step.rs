//! Operations, and the programs that make them.

use crate::circuit_breaker::asset::{CircuitBreaker, Coil};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::Capture;
use waltron_core::injection::measuring::Part;
use waltron_core::injection::program::{Condition, Program, Segment, Stop, Switching, Then};
use waltron_core::injection::stimulus::{Dc, Drive, Stimulus};
use waltron_core::procedure::SetupError;
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::{Frequency, Measure, Time, Voltage, degrees, seconds};
use waltron_core::text::name::Name;

/// What the limit switch of the spring is called.
pub(super) const CHARGED: &str = "spring charged";
/// What the switch of the motor's supply is called.
pub(super) const MOTOR_SUPPLY: &str = "motor supply";
/// What the output is called that feeds coils and motor.
pub(super) const CONTROL: &str = "control voltage";
/// What a transducer's meter is called.
pub(crate) const TRAVEL: &str = "travel";

/// How long is looked before the first command, and after the last one.
const BEFORE_S: f64 = 0.05;
const AFTER_S: f64 = 0.3;

/// The longest that is waited for a spring to be charged.
pub(super) const CHARGING: f64 = 30.0;

/// Samples a second of coil currents and travel.
pub(super) const RATE_HZ: f64 = 20_000.0;

/// An operation, single or compound (IEC 62271-100).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Operation {
    Close,
    Open,
    CloseOpen,
    OpenClose,
    OpenCloseOpen,
}

impl Operation {
    pub(super) const ALL: [(&'static str, Self); 5] = [
        ("C", Self::Close),
        ("O", Self::Open),
        ("CO", Self::CloseOpen),
        ("OC", Self::OpenClose),
        ("O-C-O", Self::OpenCloseOpen),
    ];

    pub(super) fn word(self) -> &'static str {
        Self::ALL.iter().find(|(_, of)| *of == self).map_or("", |(word, _)| word)
    }

    /// Whether the breaker is closed before it.
    pub(super) fn begins_closed(self) -> bool {
        matches!(self, Self::Open | Self::OpenClose | Self::OpenCloseOpen)
    }

    pub(super) fn closes(self) -> bool {
        self != Self::Open
    }

    pub(super) fn opens(self) -> bool {
        self != Self::Close
    }
}

/// One operation as it is made.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Step {
    pub(super) operation: Operation,
    /// The coil that trips, where it does.
    pub(super) trip: Option<Coil>,
    /// The coil that closes.
    pub(super) close: Option<Coil>,
    /// The control voltage as a share of the rated one.
    pub(super) share: f64,
    /// The how manieth repetition it is, from 1.
    pub(super) turn: usize,
    /// What its points begin with: `O/trip 2/85%#2`.
    pub(super) label: String,
    pub(super) pause: Time,
    pub(super) pulse: Time,
}

/// The control voltage, direct or alternating, on the output that feeds the coils; nothing where the rig has none and the station
/// feeds them.
///
/// # Errors
/// A share that only a rig could make.
pub(super) fn control(
    rig: &Capability,
    (volts, is_ac): (f64, bool),
    share: f64,
    frequency: Frequency,
) -> Result<Stimulus, SetupError> {
    let Some(channel) = rig.voltages.iter().find(|c| c.meaning == *CONTROL) else {
        if share == 1.0 {
            return Ok(Stimulus::off());
        }
        let lacks = format!("no output for `{CONTROL}`: the station's own voltage is what it is");
        return Err(SetupError::Lacks { lacks, what: "outputs" });
    };
    let (alternating, direct) = if is_ac { (volts * share, 0.0) } else { (0.0, volts * share) };
    // Rising through zero, as a contact finds it no better.
    let phasor = Phasor::new(Voltage::from_si(alternating), degrees(-90.0));
    let mut drive = Drive::sine(channel.id.clone(), phasor, frequency);
    drive.dc = (!is_ac).then(|| Dc::constant(Voltage::from_si(direct)));
    Ok(Stimulus { currents: Vec::new(), voltages: vec![drive] })
}

fn switch(output: &Name, closed: bool) -> Switching {
    Switching { output: output.clone(), closed }
}

/// What is looked at during an operation: coil currents, motor, travel, as far as the rig has meters.
pub(super) fn looks(of: &CircuitBreaker, rig: &Capability) -> Vec<Name> {
    let coils = of.coils.iter().map(Coil::current);
    let others = ["motor current", TRAVEL].map(Name::from);
    coils.chain(others).filter(|name| rig.meters.iter().any(|m| m.meaning == *name)).collect()
}

/// The main contacts that the rig sees.
pub(super) fn seen_contacts(of: &CircuitBreaker, rig: &Capability) -> Vec<(usize, Name)> {
    of.contacts().into_iter().filter(|(_, name)| rig.sees(name)).collect()
}

impl Step {
    fn coil(&self, closes: bool) -> Option<&Coil> {
        if closes { self.close.as_ref() } else { self.trip.as_ref() }
    }

    /// The rated voltage of what is fed, and whether it alternates.
    ///
    /// # Errors
    /// Coils of both kinds: one output does not feed both.
    fn volts(&self) -> Result<(f64, bool), SetupError> {
        let coils = || [&self.close, &self.trip].into_iter().flatten();
        let volts = coils().map(|c| c.voltage_v).fold(f64::INFINITY, f64::min);
        let is_ac = coils().any(|c| c.is_ac);
        if is_ac && coils().any(|c| !c.is_ac) {
            let why = "one of its coils takes a direct voltage and the other an alternating one: operate it by C and O";
            return Err(SetupError::Unknown(why.to_owned()));
        }
        Ok((volts, is_ac))
    }

    /// The segment of a command: how long it lasts at most, and what ends it before.
    fn command(&self, closes: bool, out: &Stimulus, stop: Option<Condition>) -> Vec<Segment> {
        let Some(coil) = self.coil(closes) else { return Vec::new() };
        let name = if closes { "close" } else { "open" };
        let mut segment = Segment::hold(name, out.clone(), self.pulse);
        if let Some(when) = stop {
            segment = segment.until(Stop { when, then: Then::Next });
        }
        let other = self.coil(!closes).map(|other| switch(&other.command(), false));
        segment.switches = std::iter::once(switch(&coil.command(), true)).chain(other).collect();
        vec![segment]
    }

    /// The whole program.
    ///
    /// # Errors
    /// What the rig lacks.
    pub(super) fn program(
        &self,
        of: &CircuitBreaker,
        rig: &Capability,
        frequency: Frequency,
    ) -> Result<Program, SetupError> {
        for coil in [&self.close, &self.trip].into_iter().flatten() {
            if !rig.switches(&coil.command()) {
                let lacks = format!("no switch for `{}`", coil.command());
                return Err(SetupError::Lacks { lacks, what: "switches" });
            }
        }
        let out = control(rig, self.volts()?, self.share, frequency)?;
        let contacts = seen_contacts(of, rig);
        if contacts.is_empty() {
            let lacks = "no input for any of the main contacts".to_owned();
            return Err(SetupError::Lacks { lacks, what: "inputs" });
        }
        let contact = |name: &Name, closed| Condition::Contact { signal: name.clone(), closed };
        let touches =
            || Condition::Any(contacts.iter().map(|(_, name)| contact(name, true)).collect());
        let parted =
            || Condition::All(contacts.iter().map(|(_, name)| contact(name, false)).collect());
        let mut segments = Vec::new();
        if self.operation.closes() && rig.sees(&CHARGED.into()) {
            let mut spring = Segment::hold("spring", out.clone(), seconds(CHARGING));
            let charged = Condition::Contact { signal: CHARGED.into(), closed: true };
            spring = spring.until(Stop { when: charged, then: Then::Next });
            if rig.switches(&MOTOR_SUPPLY.into()) {
                spring.switches.push(switch(&MOTOR_SUPPLY.into(), true));
            }
            segments.push(spring);
        }
        segments.push(Segment::hold("before", out.clone(), seconds(BEFORE_S)));
        let pause = Segment::hold("pause", out.clone(), self.pause);
        let commands = match self.operation {
            Operation::Close => self.command(true, &out, None),
            Operation::Open => self.command(false, &out, None),
            Operation::CloseOpen => {
                let close = self.command(true, &out, Some(touches()));
                close.into_iter().chain(self.command(false, &out, None)).collect()
            }
            Operation::OpenClose => {
                let open = self.command(false, &out, Some(parted()));
                let close = self.command(true, &out, None);
                open.into_iter().chain([self.quiet(pause)]).chain(close).collect()
            }
            Operation::OpenCloseOpen => {
                let open = self.command(false, &out, Some(parted()));
                let close = self.command(true, &out, Some(touches()));
                let again = self.command(false, &out, None);
                open.into_iter().chain([self.quiet(pause)]).chain(close).chain(again).collect()
            }
        };
        segments.extend::<Vec<Segment>>(commands);
        segments.push(self.quiet(Segment::hold("after", out, seconds(AFTER_S))));
        let mut program = Program::of(segments);
        program.raw_edges = true;
        let looks = looks(of, rig);
        if !looks.is_empty() {
            program.captures = vec![Capture {
                name: "operation".into(),
                of: looks,
                rate_hz: RATE_HZ,
                part: Part::Whole,
            }];
        }
        Ok(program)
    }

    /// A segment with all commands off.
    fn quiet(&self, mut segment: Segment) -> Segment {
        let coils = [&self.close, &self.trip].into_iter().flatten();
        segment.switches.extend(coils.map(|coil| switch(&coil.command(), false)));
        segment
    }
}

/// Nothing put out: only the states of the contacts are read.
pub(super) fn look() -> Program {
    let mut program = Program::of(vec![Segment::hold("look", Stimulus::off(), seconds(0.1))]);
    program.raw_edges = true;
    program
}
