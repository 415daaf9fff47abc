//! What a rig is off by: within what its file states, drawn once for each seed, and the same ever after.
//!
//! Every output, meter and instrument has a draw for the part of its accuracy that grows with the value, one for the
//! part that does not, and one for its angle; every input has one for when it notices a change, and the clock one for
//! how fast it goes, which times and frequencies have from it alike. A limit is drawn from evenly, an uncertainty
//! normally with half of it as deviation.

use std::collections::HashMap;
use waltron_core::injection::capability::{Capability, Channel};
use waltron_core::injection::measuring::Meter;
use waltron_core::injection::stimulus::{Drive, Stimulus};
use waltron_core::quantity::{Angle, Frequency, Measure, Time};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::{Accuracy, Means};
use waltron_specimen::Noise;

/// The largest share of a second by which a clock goes wrong: one that states more is not simulated as more.
const MOST_RATE: f64 = 0.5;

/// What one output, meter or instrument is off by, as shares of its stated widths.
#[derive(Clone, Copy, Debug, Default)]
struct Off {
    size: f64,
    offset: f64,
    angle: f64,
}

impl Off {
    /// By how much a value in SI is off.
    fn of(self, accuracy: &Accuracy, si: f64) -> f64 {
        let width = accuracy.width(si);
        let sign = if si < 0.0 { -1.0 } else { 1.0 };
        self.size * width.size * sign + self.offset * width.offset
    }
}

/// All that a rig is off by.
#[derive(Debug)]
pub(super) struct Errors {
    of: HashMap<Name, Off>,
    /// How late an input notices a change, by its meaning, in s.
    late: HashMap<Name, f64>,
    /// How much faster its clock goes than time, as a share.
    clock: f64,
    seed: u64,
}

/// A draw in widths.
fn draw(noise: &mut Noise, means: Means) -> f64 {
    match means {
        Means::Limit => noise.even(),
        Means::Uncertainty => noise.draw(0.5),
    }
}

impl Errors {
    /// What a rig is off by for a seed.
    pub(super) fn new(capability: &Capability, seed: u64) -> Self {
        let stream = |name: &str| Noise::of_name(seed, name);
        let off = |name: &Name, means| {
            let noise = &mut stream(name.as_str());
            let [size, offset, angle] = std::array::from_fn(|_| draw(noise, means));
            (name.clone(), Off { size, offset, angle })
        };
        let currents = capability.currents.iter().map(|c| off(&c.id, c.accuracy.means));
        let voltages = capability.voltages.iter().map(|c| off(&c.id, c.accuracy.means));
        let meters = capability.meters.iter().map(|m| off(&m.id, m.accuracy.means));
        let readings = capability.readings.iter();
        let readings = readings.filter_map(|r| Some(off(&r.name, r.accuracy?.means)));
        let timing = capability.timing_accuracy;
        let (rate, late_s) = timing.linear();
        let late = capability.inputs.iter().map(|input| {
            let drawn = draw(&mut stream(input.id.as_str()), timing.means);
            (input.meaning.clone(), drawn * late_s)
        });
        let clock = draw(&mut stream("clock"), timing.means) * rate;
        Self {
            of: currents.chain(voltages).chain(meters).chain(readings).collect(),
            late: late.collect(),
            clock: clock.clamp(-MOST_RATE, MOST_RATE),
            seed,
        }
    }

    /// What scatters beside what stays, in one injection.
    pub(super) fn noise(&self, shot: u64) -> Noise {
        Noise::of_name(self.seed.wrapping_add(shot.wrapping_mul(0x9e37_79b9_7f4a_7c15)), "meters")
    }

    fn off(&self, name: &Name) -> Off {
        self.of.get(name).copied().unwrap_or_default()
    }

    /// The moment of the world that the rig's clock tells, in s.
    pub(super) fn true_time(&self, told: f64) -> f64 {
        told / (1.0 + self.clock)
    }

    /// What the rig's clock tells at a moment of the world, in s.
    pub(super) fn told_time(&self, time: f64) -> f64 {
        time * (1.0 + self.clock)
    }

    /// When an input's change is told to be that came at a moment of the world.
    pub(super) fn told_change(&self, signal: &Name, time: Time) -> Time {
        let late = self.late.get(signal).copied().unwrap_or_default();
        Time::from_si((self.told_time(time.si()) + late).max(0.0))
    }

    /// What is really put out where this is asked for.
    pub(super) fn put_out(&self, capability: &Capability, asked: &Stimulus) -> Stimulus {
        let mut out = asked.clone();
        out.currents.iter_mut().for_each(|drive| self.drive(&capability.currents, drive));
        out.voltages.iter_mut().for_each(|drive| self.drive(&capability.voltages, drive));
        out
    }

    fn drive<Q: Measure>(&self, channels: &[Channel<Q>], drive: &mut Drive<Q>) {
        let Some(channel) = channels.iter().find(|c| c.id == drive.channel) else { return };
        let off = self.off(&channel.id);
        let rms = drive.phasor.rms().si();
        // What is off puts nothing out.
        if rms > 0.0 {
            let size = (rms + off.of(&channel.accuracy, rms)).max(0.0);
            let turned = off.angle * channel.angle_accuracy.si();
            let angle = drive.phasor.angle() + Angle::from_si(turned);
            drive.phasor = drive.phasor.with_rms(Q::from_si(size)).at(angle);
            drive.frequency = Frequency::from_si(self.told_time(drive.frequency.si()));
            drive.rate_hz_per_s = self.told_time(drive.rate_hz_per_s);
        }
        if let Some(dc) = drive.dc.filter(|dc| dc.value().si() != 0.0) {
            let value = dc.value().si();
            drive.dc = Some(dc.with_value(Q::from_si(value + off.of(&channel.accuracy, value))));
        }
    }

    /// What a meter is off by at a value in SI, without what scatters.
    pub(super) fn of_meter(&self, meter: &Meter, si: f64) -> f64 {
        self.off(&meter.id).of(&meter.accuracy, si)
    }

    /// What a meter's angle is off by, in radians.
    pub(super) fn angle_of_meter(&self, meter: &Meter) -> f64 {
        self.off(&meter.id).angle * meter.angle_accuracy.si()
    }

    /// How often its clock tells a second for one of the world: so much higher is a frequency that is counted by the
    /// world than by it.
    pub(super) fn told_frequency(&self, hertz: f64) -> f64 {
        hertz / (1.0 + self.clock)
    }

    /// What a meter samples of these true values, without what scatters. Where its accuracy is the larger of two, the
    /// largest of them says which.
    pub(super) fn sampled(&self, meter: &Meter, samples: &mut [f64]) {
        let off = self.off(&meter.id);
        let most = samples.iter().fold(0.0f64, |most, s| most.max(s.abs()));
        let width = meter.accuracy.width(most);
        let gain = if most > 0.0 { 1.0 + off.size * width.size / most } else { 1.0 };
        samples.iter_mut().for_each(|s| *s = *s * gain + off.offset * width.offset);
    }

    /// What an instrument reads of a true value in SI.
    pub(super) fn read(&self, capability: &Capability, name: &Name, si: f64) -> f64 {
        let accuracy = capability.reading(name.as_str()).and_then(|r| r.accuracy);
        accuracy.map_or(si, |accuracy| si + self.off(name).of(&accuracy, si))
    }
}
