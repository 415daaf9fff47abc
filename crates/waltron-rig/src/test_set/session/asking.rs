//! What a client asks.

use super::super::{Inner, Phase};
use super::{MOST_WAIT, Meaning, Session, TREE};
use crate::live::Live;
use std::time::Duration;
use waltron_core::injection::measuring::Reading;
use waltron_core::injection::program::Program;
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::injection::waveform::{pieces, render};
use waltron_core::quantity::Measure;
use waltron_wire::scpi::reply::{block, number, quoted};
use waltron_wire::scpi::{Fault, Parameter, SiUnit, Summary, faults};

/// Samples a second of fetched waveforms, where nothing else is asked for.
const WAVE_HZ: f64 = 10_000.0;

/// Most samples of a fetched waveform.
const MOST_SAMPLES: f64 = 4e6;

impl Session {
    pub(super) fn ask(
        &mut self,
        meaning: Meaning,
        p: &[Parameter],
        answers: bool,
    ) -> Result<Vec<u8>, Fault> {
        use Meaning as M;
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
            M::Switches => {
                let switches = self.set.description().switches.iter();
                listed(switches.flat_map(|(id, meaning)| [id.as_str(), meaning.as_str()]))
            }
            M::Meters => {
                let meters = self.set.description().meters.iter();
                listed(meters.flat_map(|m| [m.id.as_str(), m.meaning.as_str()]))
            }
            M::Define => {
                let program = self.set.lock().program.as_ref().map(Program::to_json);
                return sent(program.unwrap_or_else(|| Ok(b"null".to_vec())));
            }
            M::State => self.state(p)?,
            M::Cause => quoted(&self.set.cause(self.id)),
            M::Observation => {
                let seen = self.observed(|inner| inner.observation.clone())?;
                return sent(seen.to_json());
            }
            M::Edges => {
                let seen = self.observed(|inner| inner.observation.clone())?;
                let edges = seen.edges.iter().map(|e| {
                    let state = if e.closed { "ON" } else { "OFF" };
                    format!("{},{state},{}", quoted(e.signal.as_str()), number(e.time.si()))
                });
                joined(edges)
            }
            M::Readings => {
                let seen = self.observed(|inner| inner.observation.clone())?;
                joined(seen.readings.iter().map(one_reading))
            }
            M::Time => {
                let seen = self.observed(|inner| inner.observation.clone())?;
                number(seen.length().si())
            }
            M::Captured => return self.captured(p),
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
                return json_block(&self.live());
            }
            M::Output => u8::from(self.set.is_energised()).to_string(),
            M::Interlock => u8::from(self.interlock()).to_string(),
            M::Charged => match (self.set.is_charged(), self.set.is_unseen()) {
                (true, _) => "1".to_owned(),
                (false, is_unseen) => (if is_unseen { "2" } else { "0" }).to_owned(),
            },
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

    fn live(&self) -> Live {
        let mut live = self.set.live.lock().map(|live| live.clone()).unwrap_or_default();
        // Kept outputs are switched off between programs too, where nothing else looks.
        if !self.set.is_energised() {
            live.out = Stimulus::off();
        }
        live
    }

    fn observed<T>(&self, get: impl Fn(&Inner) -> Option<T>) -> Result<T, Fault> {
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

    /// `FETCh:CAPTure? NAME,METER`: the samples as big-endian doubles.
    fn captured(&self, p: &[Parameter]) -> Result<Vec<u8>, Fault> {
        let [name, of] = p else { return Err(faults::MISSING_PARAMETER) };
        let (name, of) = (name.text()?, of.text()?);
        let seen = self.observed(|inner| inner.observation.clone())?;
        let capture = seen.captures.iter().find(|c| c.name == name);
        let track = capture.and_then(|c| c.tracks.iter().find(|t| t.of == of));
        let track = track.ok_or_else(|| {
            faults::ILLEGAL_VALUE.because(format!("nothing was captured of {of} as {name}"))
        })?;
        let bytes: Vec<u8> = track.samples.iter().flat_map(|v| v.to_be_bytes()).collect();
        Ok(block(&bytes))
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
}

fn json_block(value: &impl serde::Serialize) -> Result<Vec<u8>, Fault> {
    sent(serde_json::to_vec(value))
}

/// JSON as a block.
fn sent(json: Result<Vec<u8>, serde_json::Error>) -> Result<Vec<u8>, Fault> {
    json.map(|bytes| block(&bytes)).map_err(|e| faults::SYSTEM.because(e.to_string()))
}

fn listed<'a>(texts: impl Iterator<Item = &'a str>) -> String {
    joined(texts.map(quoted))
}

/// Entries of a list; an empty string where there are none, since an answer is never empty.
fn joined(entries: impl Iterator<Item = String>) -> String {
    let all: Vec<String> = entries.collect();
    if all.is_empty() { "\"\"".to_owned() } else { all.join(",") }
}

/// A reading: what, segment and level from 1 with the time in s, or 0, 0 and the end; the value, its angle
/// in degrees, and what the value is uncertain by. What there is not is the standard's not-a-number.
fn one_reading(reading: &Reading) -> String {
    let or_none = |si: Option<f64>| si.map_or_else(|| NOT_A_NUMBER.to_owned(), number);
    let (segment, level, time) = match reading.place {
        Some(place) => (place.segment + 1, place.level + 1, Some(place.time.si())),
        None => (0, 0, None),
    };
    let angle = reading.value.get("angle").map(f64::to_degrees);
    [
        quoted(&reading.probe.to_string()),
        segment.to_string(),
        level.to_string(),
        or_none(time),
        or_none(reading.value.get("value")),
        or_none(angle),
        or_none(reading.uncertainty.get("value")),
    ]
    .join(",")
}

/// What stands for a number that there is not (SCPI-1999 volume 1, 7.2.1.5).
const NOT_A_NUMBER: &str = "9.91E37";
