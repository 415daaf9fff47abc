//! What a client tells.

use super::super::Phase;
use super::playable::{LONGEST_S, is_playable};
use super::{MOST_WAIT, Meaning, Session, entry};
use crate::Rig;
use crate::attendant::Unattended;
use crate::virtual_rig::{Seeds, VirtualRig};
use std::sync::Arc;
use std::time::Duration;
use waltron_core::asset::Ratings;
use waltron_core::clearance::clear;
use waltron_core::injection::capability::{ParameterKind, ParameterValue};
use waltron_core::injection::program::{Profile, Program};
use waltron_core::quantity::{Dimension, Frequency, Measure, seconds};
use waltron_core::text::name::Name;
use waltron_wire::scpi::{Fault, Parameter, SiUnit, Summary, faults};

impl Session {
    pub(super) fn tell(&mut self, meaning: Meaning, p: &[Parameter]) -> Result<(), Fault> {
        use Meaning as M;
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
                inner.watchdog = Some(super::super::WATCHDOG);
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
            M::Abort => self.set.off(self.id, &self.by("ABORt")),
            M::Release => self.set.release(self.id),
            M::Heartbeat => self.set.hear(self.id),
            M::Watchdog => self.watchdog(first()?)?,
            M::Define => {
                let mut program = Program::from_json(first()?.block()?)
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
            M::SegmentSwitch => self.edit(|program| entry::switch(program, p))?,
            M::SegmentRead => {
                let capability = self.set.capability();
                self.edit(|program| entry::read(program, p, capability))?;
            }
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
                self.set.off(self.id, &self.by("OUTPut OFF"));
                // What follows may rely on it.
                self.set.wait(MOST_WAIT);
            }
            M::Parameter => self.parameter(p)?,
            M::ParametersOff => self.set.with_rig(VirtualRig::parameters_off)?,
            M::Seed => {
                let seed = whole(first()?)?;
                let injections = p.get(1).map(whole).transpose()?;
                let specimen = p.get(2).map(whole).transpose()?.unwrap_or(seed);
                if !self.set.reseed(Seeds { rig: seed, specimen }) {
                    return Err(faults::SETTINGS_CONFLICT.because(
                        "a program is playing, something is charged, or the specimen is gone",
                    ));
                }
                if let Some(injections) = injections {
                    self.set.with_rig(|rig| rig.set_draw(injections))?;
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

fn unlimited() -> Ratings {
    Ratings::unknown(Some(Frequency::from_si(50.0)))
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
