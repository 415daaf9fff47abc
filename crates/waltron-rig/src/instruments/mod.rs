//! A rig with further instruments beside it, driven by the computer.
//!
//! What an instrument measures is asked for by the computer, so its timing is the computer's: the
//! longest time between two looks goes into the uncertainty of what was timed.

mod form;
mod modbus;
mod registers;

pub use registers::{Bits, Register, Space};

use form::SetBy;
pub use form::{InstrumentFile, InstrumentForm, Place};

use crate::attendant::{Attendant, Moment, Present, Waiting, Wish};
use crate::rig::{Announced, Rig, RigError};
use crate::scpi_rig::Link;
use std::time::{Duration, Instant};
use waltron_core::asset::readback::ReadSetting;
use waltron_core::clearance::Cleared;
use waltron_core::grading::Values;
use waltron_core::injection::capability::{Capability, ParameterKind, ParameterValue};
use waltron_core::injection::measuring::{Lack, Probe, Reading};
use waltron_core::injection::observation::{Discharged, Observation};
use waltron_core::injection::program::{Condition, Program, Stand};
use waltron_core::plan::selection::is_like;
use waltron_core::procedure::{Answer, Question};
use waltron_core::quantity::{Quantity, Time, seconds};
use waltron_core::text::name::Name;
use waltron_wire::scpi::reply::number;

/// What an instrument is reached by.
#[derive(Debug)]
enum Line {
    Messages(Link),
    Registers(modbus::Device),
}

/// An instrument with its line.
#[derive(Debug)]
struct Driven {
    file: InstrumentFile,
    line: Line,
    /// Whether something was set on it since it was switched off, and what by its name.
    touched: bool,
    set: Vec<Name>,
}

impl Driven {
    fn connect(file: InstrumentFile) -> Result<Self, RigError> {
        let line = match &file.place {
            Place::Modbus(address, unit) => {
                let mut device = modbus::Device::new(address, *unit, file.patience);
                // Whoever is silent now shall not be found out in the midst of a test.
                if let Some((_, first)) = file.registers.first() {
                    device.read(first)?;
                }
                Line::Registers(device)
            }
            _ => Line::Messages(Self::open(&file)?),
        };
        Ok(Self { file, line, touched: false, set: Vec::new() })
    }

    /// A line of messages to what the file names.
    fn open(file: &InstrumentFile) -> Result<Link, RigError> {
        let mut link = match &file.place {
            Place::Serial(port, baud) => Link::serial(port, *baud)?,
            Place::Tcp(address) | Place::Modbus(address, _) => Link::connect(address)?,
        };
        link.be_patient(file.patience);
        Self::identify(file, &mut link)?;
        Ok(link)
    }

    /// Has it say who it is, where its file says who that must be.
    fn identify(file: &InstrumentFile, link: &mut Link) -> Result<(), RigError> {
        let Some(wanted) = &file.identity else { return Ok(()) };
        let got = link.ask("*IDN?")?;
        if is_like(&got, wanted) {
            return Ok(());
        }
        let (address, wanted) = (link.address().to_owned(), wanted.clone());
        let got = got.chars().filter(|c| !c.is_control()).take(60).collect();
        Err(RigError::OtherInstrument { address, got, wanted })
    }

    /// The line of messages; none of what is read by registers.
    fn link(&mut self) -> Result<&mut Link, RigError> {
        match &mut self.line {
            Line::Messages(link) => Ok(link),
            Line::Registers(_) => Err(RigError::NoInstrument {
                name: format!("{} (it takes no messages)", self.file.name),
            }),
        }
    }

    fn measures(&self, name: &str) -> bool {
        self.file.readings().any(|instrument| instrument.name == name)
    }

    fn measure(&mut self, name: &str) -> Result<f64, RigError> {
        if let Line::Registers(device) = &mut self.line {
            let register = self.file.registers.iter().find(|(i, _)| i.name == name);
            let (_, register) =
                register.ok_or_else(|| RigError::NoInstrument { name: name.to_owned() })?;
            return device.read(register);
        }
        let query = self.file.measures.iter().find(|(i, _)| i.name == name).map(|(_, q)| q.clone());
        let query = query.ok_or_else(|| RigError::NoInstrument { name: name.to_string() })?;
        let link = self.link()?;
        let answer = link.ask(&query)?;
        // Some add their unit, or further values; the number comes first.
        let first = answer.split([',', ' ', ';']).find(|p| !p.is_empty()).unwrap_or_default();
        match first.parse::<f64>() {
            // The standard's words for not-a-number and infinity are numbers too big to be true.
            Ok(value) if value.is_finite() && value.abs() < 9e36 => Ok(value),
            _ => Err(link.nonsense(&query, answer.as_bytes(), "a number was wanted")),
        }
    }

    /// Switches it off: over another line where its own has broken.
    fn off(&mut self) -> Result<(), RigError> {
        if !self.touched {
            return Ok(());
        }
        let told = self.tell_off().or_else(|_| {
            self.line = Line::Messages(Self::open(&self.file)?);
            self.tell_off()
        });
        told?;
        (self.touched, self.set) = (false, Vec::new());
        Ok(())
    }

    /// What may still be on of it, where it could not be switched off for this reason.
    fn left_on(&self, why: &RigError) -> String {
        let set: Vec<String> = self.set.iter().map(|name| format!("`{name}`")).collect();
        let set = if set.is_empty() { "what was sent to it".to_owned() } else { set.join(", ") };
        format!(
            "instrument `{}` could not be switched off ({why}): {set} may still be on; switch it off by hand",
            self.file.name
        )
    }

    fn tell_off(&mut self) -> Result<(), RigError> {
        let is_switch = |s: &&SetBy| s.parameter.kind == ParameterKind::Switch;
        let switches = self.file.sets.iter().filter(is_switch).filter_map(|s| s.messages.last());
        let messages: Vec<String> = self.file.off.iter().chain(switches).cloned().collect();
        let Line::Messages(link) = &mut self.line else { return Ok(()) };
        let lost = |link: &Link| RigError::Lost {
            address: link.address().to_owned(),
            why: "it was closed at the other end".to_owned(),
        };
        if link.is_broken() {
            return Err(lost(link));
        }
        for message in messages {
            link.tell(message.as_bytes())?;
        }
        // What was sent into a line that is dead already counts for nothing.
        Self::identify(&self.file, link)?;
        if link.is_broken() { Err(lost(link)) } else { Ok(()) }
    }
}

impl Drop for Driven {
    fn drop(&mut self) {
        // The line may be broken; there is nobody left to tell.
        let _ = self.off();
    }
}

/// A rig with instruments beside it.
pub struct WithInstruments {
    base: Box<dyn Rig>,
    driven: Vec<Driven>,
    capability: Capability,
}

/// What a rig can do together with instruments.
pub fn together(base: &Capability, files: &[InstrumentFile]) -> Capability {
    let mut all = base.clone();
    for file in files {
        all.instruments.push(file.name.clone());
        all.readings.extend(file.readings().cloned());
        all.parameters.extend(file.sets.iter().map(|s| s.parameter.clone()));
    }
    all
}

impl WithInstruments {
    /// Connects the instruments.
    ///
    /// # Errors
    /// One that does not answer, or is another than its file says.
    pub fn connect(base: Box<dyn Rig>, files: Vec<InstrumentFile>) -> Result<Self, RigError> {
        let capability = together(base.capability(), &files);
        let driven = files.into_iter().map(Driven::connect).collect::<Result<_, _>>()?;
        Ok(Self { base, driven, capability })
    }

    fn is_ours(&self, probe: &Probe) -> bool {
        self.driven.iter().any(|driven| driven.measures(probe.of.as_str()))
    }

    fn measure(&mut self, name: &str) -> Result<f64, RigError> {
        let driven = self
            .driven
            .iter_mut()
            .find(|d| d.measures(name))
            .ok_or_else(|| RigError::NoInstrument { name: name.to_string() })?;
        driven.measure(name)
    }
}

impl WithInstruments {
    /// A reading for the record. A device that does not tell a register leaves it without a value, and the run
    /// goes on: nothing was put out by it.
    fn reading(&mut self, probe: &Probe) -> Result<Reading, RigError> {
        let name = probe.of.as_str();
        let by_registers = |d: &&Driven| d.measures(name) && matches!(d.line, Line::Registers(_));
        let is_of_registers = self.driven.iter().any(|d| by_registers(&d));
        match self.measure(name) {
            Ok(si) => {
                let value = Quantity { si, dimension: probe.dimension };
                let value = Values::none().with_quantity("value", value);
                let mut reading = Reading::at_end(probe.clone(), value);
                let u = self.capability.accuracy_of(&Name::from(name), si).map(|(u, _)| u);
                if let Some(u) = u.filter(|_| is_of_registers) {
                    let u = Quantity { si: u, dimension: probe.dimension };
                    reading.uncertainty = Values::none().with_quantity("value", u);
                }
                Ok(reading)
            }
            Err(error) if is_of_registers => {
                let mut reading = Reading::at_end(probe.clone(), Values::none());
                reading.lacks = Some(Lack::NotTold(Name::from(name), error.to_string()));
                Ok(reading)
            }
            Err(error) => Err(error),
        }
    }
}

/// Looks at one instrument's condition whenever the rig asks what is seen outside.
struct Watching<'a> {
    attendant: &'a mut dyn Attendant,
    driven: &'a mut [Driven],
    condition: Condition,
    /// Values so far, with when they were taken.
    history: Vec<(Instant, f64)>,
    last: Option<Instant>,
    /// The longest time between two looks, the asking included.
    longest: Duration,
    trouble: Option<RigError>,
}

impl Watching<'_> {
    fn look(&mut self) -> bool {
        let (Condition::Reading { probe, .. } | Condition::Stable { probe, .. }) = &self.condition
        else {
            return false;
        };
        let found = self.driven.iter_mut().find(|d| d.measures(probe.of.as_str()));
        let Some(found) = found else { return false };
        let asked = Instant::now();
        let value = match found.measure(probe.of.as_str()) {
            Ok(value) => value,
            Err(error) => {
                self.trouble = Some(error);
                return false;
            }
        };
        let now = Instant::now();
        self.longest = self.longest.max(now - self.last.unwrap_or(asked));
        self.last = Some(now);
        match &self.condition {
            Condition::Reading { relation, limit_si, .. } => relation.holds(value, *limit_si),
            Condition::Stable { within, time, .. } => {
                self.history.push((now, value));
                let window = Duration::try_from_secs_f64(time.value).unwrap_or(Duration::MAX);
                let old = self.history.iter().take_while(|(t, _)| now - *t > window).count();
                self.history.drain(..old.saturating_sub(1));
                let long_enough = self.history.first().is_some_and(|(t, _)| now - *t >= window);
                let values = || self.history.iter().map(|(_, v)| *v);
                let (low, high) = (
                    values().fold(f64::INFINITY, f64::min),
                    values().fold(f64::NEG_INFINITY, f64::max),
                );
                long_enough && high - low <= within * high.abs().max(low.abs())
            }
            _ => false,
        }
    }
}

impl Attendant for Watching<'_> {
    fn ask(&mut self, question: &Question) -> Answer {
        self.attendant.ask(question)
    }

    fn tell(&mut self, text: &str) {
        self.attendant.tell(text);
    }

    fn wish(&mut self, moment: &Moment<'_>) -> Wish {
        self.attendant.wish(moment)
    }

    fn mark(&mut self) -> bool {
        self.attendant.mark()
    }

    fn outside(&mut self) -> bool {
        self.look()
    }

    fn moves(&mut self, to: &Stand) {
        self.attendant.moves(to);
    }

    fn reason(&mut self) -> Option<String> {
        self.attendant.reason()
    }

    fn goes_off(&mut self) {
        self.attendant.goes_off();
    }

    fn begins(&mut self, stage: &str) {
        self.attendant.begins(stage);
    }

    fn awaits(&mut self, contacts: &[Name]) {
        self.attendant.awaits(contacts);
    }

    fn drains(&mut self) {
        self.attendant.drains();
    }

    fn discharged(&mut self, after: Time) {
        self.attendant.discharged(after);
    }

    fn abandons(&self) -> bool {
        self.attendant.abandons()
    }

    fn is_watching(&self) -> bool {
        self.attendant.is_watching()
    }

    fn sees(&mut self, present: &Present<'_>) {
        self.attendant.sees(present);
    }

    fn waits(&mut self, waiting: &Waiting) {
        self.attendant.waits(waiting);
    }

    fn wants_to_stop(&self) -> bool {
        self.trouble.is_some() || self.attendant.wants_to_stop()
    }
}

/// Puts what the computer tells in the place of a condition on an instrument.
fn replace(
    condition: &mut Condition,
    is_ours: &impl Fn(&Probe) -> bool,
    taken: &mut Vec<Condition>,
) {
    match condition {
        Condition::Reading { probe, .. } | Condition::Stable { probe, .. } if is_ours(probe) => {
            let ours = std::mem::replace(condition, Condition::Outside);
            if !taken.contains(&ours) {
                taken.push(ours);
            }
        }
        Condition::Any(inner) | Condition::All(inner) => {
            inner.iter_mut().for_each(|c| replace(c, is_ours, taken));
        }
        _ => {}
    }
}

impl Rig for WithInstruments {
    fn name(&self) -> String {
        self.base.name()
    }

    fn capability(&self) -> &Capability {
        &self.capability
    }

    fn play(
        &mut self,
        cleared: &Cleared,
        attendant: &mut dyn Attendant,
    ) -> Result<Observation, RigError> {
        let program = cleared.program();
        let mut taken = Vec::new();
        let mut plain: Program = program.clone();
        let is_ours = |probe: &Probe| self.is_ours(probe);
        for stop in plain.segments.iter_mut().flat_map(|s| &mut s.stops) {
            replace(&mut stop.when, &is_ours, &mut taken);
        }
        plain.reads.retain(|p| !self.is_ours(p));
        if taken.len() > 1 {
            return Err(RigError::TooManyWatched);
        }
        // Outputs are the same, and were cleared; only what is looked at differs.
        let plain = cleared.watching(plain).ok_or(RigError::TooManyWatched)?;
        let mut observation = match taken.pop() {
            None => self.base.play(&plain, attendant)?,
            Some(condition) => {
                let mut watching = Watching {
                    attendant,
                    driven: &mut self.driven,
                    condition,
                    history: Vec::new(),
                    last: None,
                    longest: Duration::ZERO,
                    trouble: None,
                };
                let mut seen = self.base.play(&plain, &mut watching)?;
                if let Some(trouble) = watching.trouble {
                    return Err(trouble);
                }
                seen.host_timing = Some(seconds(watching.longest.as_secs_f64()));
                seen
            }
        };
        if !observation.aborted() {
            let readings = std::mem::take(&mut observation.readings);
            let (placed, mut readings): (Vec<_>, Vec<_>) =
                readings.into_iter().partition(|r| r.place.is_some());
            observation.readings = placed;
            for probe in &program.reads {
                if let Some(at) = readings.iter().position(|r| r.probe == *probe) {
                    observation.readings.push(readings.remove(at));
                } else if self.is_ours(probe) {
                    observation.readings.push(self.reading(probe)?);
                }
            }
        }
        Ok(observation)
    }

    fn announce(&mut self, injection: &Announced<'_>) {
        self.base.announce(injection);
    }

    fn rest(&mut self, time: Time, attendant: &mut dyn Attendant) -> Result<(), RigError> {
        self.base.rest(time, attendant)
    }

    fn settings(&mut self) -> Result<Vec<ReadSetting>, RigError> {
        self.base.settings()
    }

    fn is_simulated(&self) -> bool {
        self.driven.is_empty() && self.base.is_simulated()
    }

    fn set(&mut self, parameter: &Name, value: ParameterValue) -> Result<(), RigError> {
        let ours = self.driven.iter_mut().find_map(|d| {
            let by = d.file.sets.iter().find(|s| s.parameter.name == *parameter)?.clone();
            Some((d, by))
        });
        let Some((driven, by)) = ours else { return self.base.set(parameter, value) };
        let no = || RigError::NoParameter { parameter: parameter.to_string() };
        let message = match (by.parameter.kind, value, by.messages.as_slice()) {
            (ParameterKind::Switch, ParameterValue::Switch(on), [yes, not]) => {
                if on {
                    yes.clone()
                } else {
                    not.clone()
                }
            }
            (ParameterKind::Quantity { most, .. }, ParameterValue::Si(si), [message])
                if si.is_finite() && si.abs() <= most =>
            {
                message.replace("{value}", &number(si))
            }
            _ => return Err(no()),
        };
        driven.touched = true;
        if !driven.set.contains(parameter) {
            driven.set.push(parameter.clone());
        }
        driven.link()?.tell(message.as_bytes())
    }

    fn send(&mut self, to: &Name, text: &str, answers: bool) -> Result<Option<String>, RigError> {
        let Some(driven) = self.driven.iter_mut().find(|d| d.file.name == *to) else {
            return self.base.send(to, text, answers);
        };
        let link = driven.link()?;
        let answer = if answers {
            link.ask(text).map(Some)
        } else {
            link.tell(text.as_bytes()).map(|()| None)
        };
        driven.touched = true;
        answer
    }

    fn end_test(&mut self) -> Result<(), RigError> {
        let base = self.base.end_test();
        // Every one is switched off, even if one before it fails, and each that is not is named.
        let (mut names, mut words) = (Vec::new(), Vec::new());
        for driven in &mut self.driven {
            if let Err(why) = driven.off() {
                names.push(driven.file.name.to_string());
                words.push(driven.left_on(&why));
            }
        }
        if names.is_empty() {
            return base;
        }
        words.extend(base.err().map(|error| error.to_string()));
        Err(RigError::LeftOn { names, words: words.join(". ") })
    }

    fn off(&mut self) -> Result<(), RigError> {
        self.base.off()
    }

    fn discharge(&mut self, attendant: &mut dyn Attendant) -> Result<Option<Discharged>, RigError> {
        self.base.discharge(attendant)
    }
}
