//! One client's line to the test set: its status, its error queue, its answers.

use super::commands::{Meaning, TREE};
use super::{Phase, TestSet, entry};
use crate::Rig;
use crate::attendant::Unattended;
use crate::virtual_rig::VirtualRig;
use std::sync::Arc;
use std::time::{Duration, Instant};
use waltron_core::asset::Ratings;
use waltron_core::capability::{ParameterKind, ParameterValue};
use waltron_core::clearance::clear;
use waltron_core::measuring::{Read, When};
use waltron_core::name::Name;
use waltron_core::program::{Profile, Program};
use waltron_core::quantity::{Dimension, Frequency, Measure, seconds};
use waltron_core::waveform::{pieces, render};
use waltron_wire::scpi::reply::{block, number, quoted};
use waltron_wire::scpi::{Event, Fault, Parameter, SiUnit, Status, Summary, Unit, faults, parse};

/// Longest that `PROGram:STATe?` waits.
const MOST_WAIT: Duration = Duration::from_secs(10);

/// Samples a second of fetched waveforms, where nothing else is asked for.
const WAVE_HZ: f64 = 10_000.0;

/// Most samples of a fetched waveform.
const MOST_SAMPLES: f64 = 4e6;

/// Bit 4 of the operation register: measuring, which here is playing (SCPI-1999 volume 1, 9.3).
const OPERATION_PLAYING: u16 = 1 << 4;

/// Bits 9 and 10 of the questionable register, which the standard leaves to the designer.
const QUESTIONABLE_WATCHDOG: u16 = 1 << 9;
const QUESTIONABLE_INTERLOCK: u16 = 1 << 10;

/// One client's line to the test set.
pub struct Session {
    set: Arc<TestSet>,
    id: u64,
    status: Status,
    opc: bool,
    swapped: bool,
}

/// What came of a command: an answer to a query, or nothing.
type Answer = Result<Option<Vec<u8>>, Fault>;

impl Session {
    /// Opens a line.
    pub fn new(set: Arc<TestSet>) -> Self {
        let id = set.open();
        Self { set, id, status: Status::default(), opc: false, swapped: false }
    }

    /// The client's number.
    pub fn id(&self) -> u64 {
        self.id
    }

    /// Queues an error that came about before a message could be read.
    pub fn fault(&mut self, fault: Fault) {
        self.status.fault(fault);
    }

    /// Carries a message out; what it answers, with its terminator, is empty where nothing was
    /// asked. Answers of one message are separated by semicolons.
    pub fn handle(&mut self, message: &[u8]) -> Vec<u8> {
        let (units, fault) = parse(message);
        let mut out: Vec<u8> = Vec::new();
        for unit in &units {
            // A unit before this one may have waited until its client was gone.
            if !self.set.is_present(self.id) {
                return Vec::new();
            }
            match self.unit(unit, !out.is_empty()) {
                Ok(Some(answer)) => {
                    if !out.is_empty() {
                        out.push(b';');
                    }
                    out.extend(answer);
                }
                Ok(None) => {}
                Err(fault) => self.status.fault(fault),
            }
        }
        if let Some(fault) = fault {
            self.status.fault(fault);
        }
        if !out.is_empty() {
            out.push(b'\n');
        }
        out
    }

    fn unit(&mut self, unit: &Unit, answers: bool) -> Answer {
        let meaning = TREE.find(&unit.header)?;
        let p = &unit.parameters;
        self.refresh();
        if needs_control(meaning) && !unit.header.query && !self.set.take_control(self.id) {
            return Err(faults::COMMAND_PROTECTED.because("another client controls"));
        }
        if unit.header.query {
            return self.ask(meaning, p, answers).map(Some);
        }
        self.tell(meaning, p).map(|()| None)
    }

    /// Brings the condition registers up to date.
    fn refresh(&mut self) {
        let (playing, tripped) = {
            let inner = self.set.lock();
            (inner.phase == Phase::Playing, inner.tripped)
        };
        if self.opc && !playing {
            self.opc = false;
            self.status.note(Event::OperationComplete);
        }
        let operation = if playing { OPERATION_PLAYING } else { 0 };
        self.status.set_condition(Summary::Operation, operation);
        let mut questionable = if tripped { QUESTIONABLE_WATCHDOG } else { 0 };
        if self.interlock() {
            questionable |= QUESTIONABLE_INTERLOCK;
        }
        self.status.set_condition(Summary::Questionable, questionable);
    }

    /// Whether the emergency stop is in its stopping state.
    fn interlock(&self) -> bool {
        let inner = self.set.lock();
        inner.observation.as_ref().is_some_and(|seen| self.set.is_stopped_by_input(seen))
    }

    fn ask(&mut self, meaning: Meaning, p: &[Parameter], answers: bool) -> Result<Vec<u8>, Fault> {
        use Meaning as M;
        let takes = match meaning {
            M::Waveform => 2,
            M::State => 1,
            _ => 0,
        };
        if p.len() > takes {
            return Err(faults::PARAMETER_NOT_ALLOWED);
        }
        let status = &mut self.status;
        let text = match meaning {
            M::Identity => {
                let name = self.set.description().name.replace([',', ';'], " ");
                format!("Waltron,{name},0,{}", env!("CARGO_PKG_VERSION"))
            }
            M::EventEnable => status.event_enable().to_string(),
            M::Events => status.take_events().to_string(),
            M::ServiceEnable => status.service_enable().to_string(),
            M::StatusByte => status.byte(answers).to_string(),
            M::Complete => {
                self.wait_until_done(Duration::MAX);
                "1".to_owned()
            }
            M::SelfTest => "0".to_owned(),
            M::Error => status.next_error().to_string(),
            M::ErrorCount => status.errors().to_string(),
            M::AllErrors => {
                let count = status.errors().max(1);
                let all: Vec<String> =
                    (0..count).map(|_| status.next_error().to_string()).collect();
                all.join(",")
            }
            M::Version => "1999.0".to_owned(),
            M::Headers => return Ok(block(TREE.headers().join(",").as_bytes())),
            M::Lock => u8::from(self.set.take_control(self.id)).to_string(),
            M::Owner => self.set.lock().controller.unwrap_or(0).to_string(),
            M::Client => self.id.to_string(),
            M::Watchdog => {
                let watchdog = self.set.lock().watchdog;
                number(watchdog.map_or(0.0, |d| d.as_secs_f64()))
            }
            M::OperationEvent => status.take_register(Summary::Operation).to_string(),
            M::OperationCondition => status.condition(Summary::Operation).to_string(),
            M::OperationEnable => status.enable(Summary::Operation).to_string(),
            M::QuestionableEvent => status.take_register(Summary::Questionable).to_string(),
            M::QuestionableCondition => status.condition(Summary::Questionable).to_string(),
            M::QuestionableEnable => status.enable(Summary::Questionable).to_string(),
            M::Capability => return json_block(self.set.description()),
            M::Settings => return json_block(&self.set.settings()),
            M::Outputs => listed(self.set.description().channels.iter().map(|c| c.id.as_str())),
            M::Inputs => {
                let inputs = self.set.description().inputs.iter();
                listed(inputs.flat_map(|(id, meaning)| [id.as_str(), meaning.as_str()]))
            }
            M::Define => return json_block(&self.set.lock().program),
            M::State => self.state(p)?,
            M::Cause => quoted(self.set.lock().cause.as_deref().unwrap_or_default()),
            M::Observation => {
                return json_block(&self.observed(|inner| inner.observation.clone())?);
            }
            M::Edges => {
                let seen = self.observed(|inner| inner.observation.clone())?;
                let edges = seen.edges.iter().map(|e| {
                    let state = if e.closed { "ON" } else { "OFF" };
                    format!("{},{state},{}", quoted(e.signal.as_str()), number(e.time.si()))
                });
                joined(edges)
            }
            M::Time => {
                let seen = self.observed(|inner| inner.observation.clone())?;
                number(seen.length().si())
            }
            M::Waveform => return self.waveform(p),
            M::ByteOrder => if self.swapped { "SWAP" } else { "NORM" }.to_owned(),
            M::LiveOutputs => {
                let live = self.live();
                let currents = live.out.currents.iter().map(|d| {
                    format!("{},{},A", quoted(d.channel.as_str()), number(d.true_rms().si()))
                });
                let voltages = live.out.voltages.iter().map(|d| {
                    format!("{},{},V", quoted(d.channel.as_str()), number(d.true_rms().si()))
                });
                joined(currents.chain(voltages))
            }
            M::LiveInputs => {
                let live = self.live();
                let inputs = self.set.description().inputs.iter().map(|(id, meaning)| {
                    let state = if live.closed.contains(meaning) { "ON" } else { "OFF" };
                    format!("{},{},{state}", quoted(id.as_str()), quoted(meaning.as_str()))
                });
                joined(inputs)
            }
            M::Live => {
                let live = self.live();
                return json_block(&(live.now_s, live.out, live.closed));
            }
            M::Output => u8::from(self.set.is_energised()).to_string(),
            M::Interlock => u8::from(self.interlock()).to_string(),
            M::Log => {
                let inner = self.set.lock();
                joined(
                    inner.log.iter().map(|(at, what)| format!("{},{}", number(*at), quoted(what))),
                )
            }
            _ => return Err(faults::UNDEFINED_HEADER),
        };
        Ok(text.into_bytes())
    }

    fn live(&self) -> super::player::Live {
        self.set.live.lock().map(|live| live.clone()).unwrap_or_default()
    }

    fn observed<T>(&self, get: impl Fn(&super::Inner) -> Option<T>) -> Result<T, Fault> {
        get(&self.set.lock()).ok_or_else(|| faults::STALE.because("nothing was played"))
    }

    /// `PROGram:STATe? [time]`: waits at most so long for a program to end; the state, and how many
    /// errors wait.
    fn state(&mut self, p: &[Parameter]) -> Result<String, Fault> {
        let seconds = p.first().map_or(Ok(0.0), |p| p.number(SiUnit::Second))?;
        let most = Duration::try_from_secs_f64(seconds).map_err(|_| faults::OUT_OF_RANGE)?;
        let phase = self.wait_until_done(most.min(MOST_WAIT));
        let word = match phase {
            Phase::Idle => "IDLE",
            Phase::Playing => "PLAY",
            Phase::Done => "DONE",
            Phase::Failed => {
                let why = self.set.lock().trouble.take();
                if let Some(why) = why {
                    self.status.fault(faults::SYSTEM.because(why));
                }
                "FAIL"
            }
        };
        Ok(format!("{word},{}", self.status.errors()))
    }

    fn waveform(&self, p: &[Parameter]) -> Result<Vec<u8>, Fault> {
        let channel = p.first().ok_or(faults::MISSING_PARAMETER)?.text()?.to_ascii_lowercase();
        let rate = p.get(1).map_or(Ok(WAVE_HZ), |p| p.number(SiUnit::Hertz))?;
        let (program, seen) =
            self.observed(|inner| Some((inner.played.clone()?, inner.observation.clone()?)))?;
        if !(1.0..=1e6).contains(&rate) || seen.length().si() * rate > MOST_SAMPLES {
            return Err(faults::OUT_OF_RANGE.because("too many samples; ask for a lower rate"));
        }
        let mut wave = render(&pieces(&program, Some(&seen)), rate)
            .map_err(|e| faults::EXECUTION.because(e.to_string()))?;
        wave.cut(&seen);
        let found = wave.channels.iter().find(|c| c.name == channel.as_str());
        let samples = found
            .map(|c| c.samples.as_slice())
            .ok_or_else(|| faults::ILLEGAL_VALUE.because(format!("{channel} was not put out")))?;
        let bytes = |v: &f64| {
            let v = *v as f32;
            if self.swapped { v.to_le_bytes() } else { v.to_be_bytes() }
        };
        Ok(block(&samples.iter().flat_map(bytes).collect::<Vec<u8>>()))
    }

    /// Waits until nothing plays, at most for a time; the phase then. The controller cannot speak
    /// meanwhile, and need not; another client's waiting has nothing to do with the watchdog.
    fn wait_until_done(&self, most: Duration) -> Phase {
        let controls = |set: &TestSet| set.lock().controller == Some(self.id);
        if controls(&self.set) {
            self.set.lock().waits = true;
        }
        let began = Instant::now();
        let phase = loop {
            let left = most.saturating_sub(began.elapsed());
            let phase = self.set.wait(left.min(Duration::from_millis(100)));
            if phase != Phase::Playing || left.is_zero() || !self.set.is_present(self.id) {
                break phase;
            }
        };
        if controls(&self.set) {
            let mut inner = self.set.lock();
            inner.waits = false;
            inner.heard = Instant::now();
        }
        phase
    }

    fn tell(&mut self, meaning: Meaning, p: &[Parameter]) -> Result<(), Fault> {
        use Meaning as M;
        let takes = match meaning {
            M::SegmentCurrent | M::SegmentVoltage => 4,
            M::SegmentStop | M::Recording => 3,
            M::Parameter => 2,
            M::EventEnable
            | M::ServiceEnable
            | M::OperationEnable
            | M::QuestionableEnable
            | M::Watchdog
            | M::Define
            | M::SegmentNew
            | M::SegmentTime
            | M::Finish
            | M::ByteOrder
            | M::Seed
            | M::Draw
            | M::Rest
            | M::Output => 1,
            _ => 0,
        };
        if p.len() > takes {
            return Err(faults::PARAMETER_NOT_ALLOWED);
        }
        let first = || p.first().ok_or(faults::MISSING_PARAMETER);
        match meaning {
            M::Reset => {
                self.set.all_off(&self.by("*RST"));
                self.set.wait(MOST_WAIT);
                let mut inner = self.set.lock();
                inner.program = None;
                inner.observation = None;
                inner.played = None;
                inner.phase = Phase::Idle;
                inner.watchdog = Some(super::WATCHDOG);
                self.opc = false;
            }
            M::Clear => {
                self.opc = false;
                self.status.clear();
            }
            M::EventEnable => self.status.enable_events(mask(first()?, 255)? as u8),
            M::ServiceEnable => self.status.enable_service(mask(first()?, 255)? as u8),
            M::OperationEnable => {
                let mask = mask(first()?, 65535)?;
                self.status.set_enable(Summary::Operation, mask);
            }
            M::QuestionableEnable => {
                let mask = mask(first()?, 65535)?;
                self.status.set_enable(Summary::Questionable, mask);
            }
            M::Preset => self.status.preset(),
            M::Complete => self.opc = true,
            M::Wait => drop(self.wait_until_done(Duration::MAX)),
            M::Begin => self.begin()?,
            M::Abort => self.set.off(&self.by("ABORt")),
            M::Release => self.set.release(self.id),
            M::Heartbeat => self.set.hear(self.id),
            M::Watchdog => self.watchdog(first()?)?,
            M::Define => {
                let mut program: Program = serde_json::from_slice(first()?.block()?)
                    .map_err(|e| faults::INVALID_BLOCK.because(e.to_string()))?;
                self.dimensions(&mut program);
                self.set.lock().program = Some(program);
            }
            M::Recording => self.recording(p)?,
            M::Delete => self.set.lock().program = None,
            M::SegmentNew => self.edit(|program| entry::new_segment(program, p))?,
            M::SegmentCurrent => self.edit(|program| entry::drive(program, p, true))?,
            M::SegmentVoltage => self.edit(|program| entry::drive(program, p, false))?,
            M::SegmentTime => self.edit(|program| entry::time(program, p))?,
            M::SegmentStop => self.edit(|program| entry::stop(program, p))?,
            M::Finish => self.edit(|program| entry::finish(program, p))?,
            M::Mark => self.set.flags.mark(),
            M::Outside => self.set.flags.outside(first()?.switch()?),
            M::ByteOrder => {
                self.swapped = match first()?.text()? {
                    "NORM" | "NORMAL" => false,
                    "SWAP" | "SWAPPED" => true,
                    other => return Err(faults::ILLEGAL_VALUE.because(other)),
                }
            }
            M::Output => {
                if first()?.switch()? {
                    let why = "outputs come on with INITiate, by a program";
                    return Err(faults::SETTINGS_CONFLICT.because(why));
                }
                self.set.off(&self.by("OUTPut OFF"));
                // What follows may rely on it.
                self.set.wait(MOST_WAIT);
            }
            M::Parameter => self.parameter(p)?,
            M::ParametersOff => self.set.with_rig(VirtualRig::parameters_off)?,
            M::Seed => {
                let seed = whole(first()?)?;
                if !self.set.reseed(seed) {
                    return Err(faults::SETTINGS_CONFLICT
                        .because("a program is playing, or the specimen is gone"));
                }
            }
            M::Draw => {
                let draw = whole(first()?)?;
                self.set.with_rig(|rig| rig.set_draw(draw))?;
            }
            M::Rest => {
                let time = first()?.number(SiUnit::Second)?;
                if !(0.0..=LONGEST_S).contains(&time) {
                    return Err(faults::OUT_OF_RANGE.because("up to a day"));
                }
                // Real time passes by itself.
                if !self.set.description().real_time {
                    self.set
                        .with_rig(|rig| rig.rest(seconds(time), &mut Unattended))?
                        .map_err(|e| faults::EXECUTION.because(e.to_string()))?;
                }
            }
            _ => return Err(faults::UNDEFINED_HEADER),
        }
        Ok(())
    }

    /// Who switched off, and how.
    fn by(&self, command: &str) -> String {
        format!("client {}: {command}", self.id)
    }

    fn edit(&self, change: impl FnOnce(&mut Program) -> Result<(), Fault>) -> Result<(), Fault> {
        change(self.set.lock().program.get_or_insert_default())
    }

    /// What a probe measures is not written in programs: what it is measured of tells it.
    fn dimensions(&self, program: &mut Program) {
        program.probes_mut().for_each(|probe| self.set.capability().restore(probe));
    }

    /// `PROGram:RECording DIGEST,CHANNEL,BLOCK`: samples of a recording that the program plays, as
    /// big-endian doubles.
    fn recording(&self, p: &[Parameter]) -> Result<(), Fault> {
        let [digest, channel, samples] = p else { return Err(faults::MISSING_PARAMETER) };
        let (digest, channel) = (digest.text()?, Name::from(channel.text()?));
        let chunks = samples.block()?.chunks_exact(8);
        let samples: Vec<f64> =
            chunks.map(|c| f64::from_be_bytes(c.try_into().unwrap_or_default())).collect();
        if samples.iter().any(|v| !v.is_finite()) {
            return Err(faults::OUT_OF_RANGE.because("a sample is not finite"));
        }
        let samples = Arc::new(samples);
        let mut inner = self.set.lock();
        let segments = inner.program.iter_mut().flat_map(|p| &mut p.segments);
        let mut found = false;
        for segment in segments {
            if let Profile::Playback(playback) = &mut segment.profile
                && playback.recording.digest.eq_ignore_ascii_case(digest)
                && playback.recording.count == samples.len()
            {
                for track in &mut playback.recording.channels {
                    if track.channel == channel {
                        track.samples = Arc::clone(&samples);
                        found = true;
                    }
                }
            }
        }
        if found { Ok(()) } else { Err(faults::SETTINGS_CONFLICT.because("no such recording")) }
    }

    fn begin(&self) -> Result<(), Fault> {
        let Some(program) = self.set.lock().program.clone() else {
            return Err(faults::SETTINGS_CONFLICT.because("there is no program"));
        };
        let empty = program.segments.iter().any(|s| match &s.profile {
            Profile::Playback(p) => {
                p.recording.channels.iter().any(|c| c.samples.len() != p.recording.count)
            }
            _ => false,
        });
        if program.segments.is_empty() || empty {
            return Err(faults::SETTINGS_CONFLICT.because("the program has nothing to put out"));
        }
        is_playable(&program)?;
        // The asset's own ratings were checked by who made the program; here it is the rig's range.
        let cleared = clear(program, &unlimited(), self.set.capability()).map_err(|refusals| {
            let why = refusals.first().map_or_else(String::new, ToString::to_string);
            faults::OUT_OF_RANGE.because(why)
        })?;
        self.set.begin(cleared).map_err(|why| faults::INIT_IGNORED.because(why))
    }

    fn watchdog(&self, p: &Parameter) -> Result<(), Fault> {
        let time = match p {
            Parameter::Word(word) if word == "OFF" => None,
            p => match p.number(SiUnit::Second)? {
                0.0 => None,
                s if (0.05..=60.0).contains(&s) => Some(Duration::from_secs_f64(s)),
                _ => return Err(faults::OUT_OF_RANGE.because("50 ms to 60 s, or OFF")),
            },
        };
        self.set.lock().watchdog = time;
        Ok(())
    }

    fn parameter(&self, p: &[Parameter]) -> Result<(), Fault> {
        let [name, value] = p else { return Err(faults::MISSING_PARAMETER) };
        let name = Name::from(name.text()?);
        let Some(known) = self.set.capability().parameter(name.as_str()) else {
            return Err(faults::HARDWARE_MISSING.because(name.as_str()));
        };
        let value = match known.kind {
            ParameterKind::Switch => ParameterValue::Switch(value.switch()?),
            ParameterKind::Quantity { dimension, most } => {
                let unit = match dimension {
                    Dimension::CURRENT => SiUnit::Ampere,
                    Dimension::VOLTAGE => SiUnit::Volt,
                    Dimension::FREQUENCY => SiUnit::Hertz,
                    Dimension::TIME => SiUnit::Second,
                    Dimension::RESISTANCE => SiUnit::Ohm,
                    _ => SiUnit::None,
                };
                let si = value.number(unit)?;
                if si.abs() > most {
                    return Err(faults::OUT_OF_RANGE.because(format!("at most {most}")));
                }
                ParameterValue::Si(si)
            }
        };
        self.set.set(&name, value).map_err(|e| faults::EXECUTION.because(e.to_string()))
    }
}

impl Drop for Session {
    fn drop(&mut self) {
        self.set.leave(self.id);
    }
}

/// Commands that only the controlling client may give. Switching off is everybody's.
fn needs_control(meaning: Meaning) -> bool {
    use Meaning as M;
    matches!(
        meaning,
        M::Reset
            | M::Begin
            | M::Define
            | M::Recording
            | M::Delete
            | M::SegmentNew
            | M::SegmentCurrent
            | M::SegmentVoltage
            | M::SegmentTime
            | M::SegmentStop
            | M::Finish
            | M::Mark
            | M::Outside
            | M::Watchdog
            | M::Parameter
            | M::ParametersOff
            | M::Seed
            | M::Draw
            | M::Rest
    )
}

/// Longest program, in s.
const LONGEST_S: f64 = 86_400.0;

/// Most levels of a program, and most repetitions of a recording.
const MOST_LEVELS: f64 = 1e6;

/// Refuses what only a mistaken or hostile client sends: times below zero or without end, more
/// levels than there is room for.
fn is_playable(program: &Program) -> Result<(), Fault> {
    let mut levels = 0.0;
    for segment in &program.segments {
        let dwells = match &segment.profile {
            Profile::Hold(_) => [0.0, 0.0],
            Profile::Stairs(s) => {
                levels += 2.0 * (f64::from(s.steps) + 1.0);
                [s.dwell.si(), s.rest.as_ref().map_or(0.0, |r| r.time.si())]
            }
            Profile::Steps(s) => {
                levels += 2.0 * s.levels.len() as f64;
                [s.dwell.si(), s.rest.as_ref().map_or(0.0, |r| r.time.si())]
            }
            Profile::Slope(s) => {
                levels += 100.0 * s.through.len() as f64;
                [s.time.si(), 0.0]
            }
            Profile::Playback(p) => {
                levels += f64::from(p.times) * (1.0 + p.recording.count as f64 / 100.0);
                let rate = p.recording.rate_hz;
                let sane = rate > 0.0 && p.recording.frequency_hz > 0.0;
                [if sane { 0.0 } else { -1.0 }, 0.0]
            }
        };
        let negative = dwells.iter().any(|t| *t < 0.0);
        let longest = segment.longest().map_or(0.0, |t| t.si());
        levels += segment.reads.iter().map(|r| readings(r, longest)).sum::<f64>();
        if negative || !(0.0..=LONGEST_S).contains(&longest) {
            return Err(
                faults::OUT_OF_RANGE.because("a time that is negative, or longer than a day")
            );
        }
    }
    if levels > MOST_LEVELS {
        return Err(faults::TOO_MUCH_DATA.because("more levels than can be played"));
    }
    Ok(())
}

/// How many readings a segment takes of one thing, over its levels.
fn readings(read: &Read, longest: f64) -> f64 {
    match read.when {
        When::Every(time) if time.si() > 0.0 => longest / time.si(),
        When::Every(_) => f64::INFINITY,
        When::EachLevel => 0.0,
    }
}

fn unlimited() -> Ratings {
    Ratings::unknown(Frequency::from_si(50.0))
}

/// A whole number that a double holds exactly.
fn whole(p: &Parameter) -> Result<u64, Fault> {
    let n = p.number(SiUnit::None)?;
    if n >= 0.0 && n.fract() == 0.0 && n <= 9_007_199_254_740_992.0 {
        return Ok(n as u64);
    }
    Err(faults::OUT_OF_RANGE.because("a whole number is wanted"))
}

fn mask(p: &Parameter, most: u16) -> Result<u16, Fault> {
    let value = p.number(SiUnit::None)?.round();
    if (0.0..=f64::from(most)).contains(&value) {
        Ok(value as u16)
    } else {
        Err(faults::OUT_OF_RANGE)
    }
}

fn json_block(value: &impl serde::Serialize) -> Result<Vec<u8>, Fault> {
    serde_json::to_vec(value)
        .map(|bytes| block(&bytes))
        .map_err(|e| faults::SYSTEM.because(e.to_string()))
}

fn listed<'a>(texts: impl Iterator<Item = &'a str>) -> String {
    joined(texts.map(quoted))
}

/// Entries of a list; an empty string where there are none, since an answer is never empty.
fn joined(entries: impl Iterator<Item = String>) -> String {
    let all: Vec<String> = entries.collect();
    if all.is_empty() { "\"\"".to_owned() } else { all.join(",") }
}
