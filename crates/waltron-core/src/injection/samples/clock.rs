//! The phases of what is put out, followed as time passes.

use crate::injection::stimulus::{Drive, Stimulus};
use crate::quantity::Measure;
use crate::text::name::Name;
use std::f64::consts::TAU;

/// A frequency in Hz, its rate of change in Hz/s, and the phase at the moment from which they hold.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
struct Turning {
    phase: f64,
    hertz: f64,
    rate: f64,
}

impl Turning {
    fn after(self, seconds: f64) -> f64 {
        self.phase + TAU * (self.hertz * seconds + 0.5 * self.rate * seconds * seconds)
    }
}

/// Integrals of 2π·f since the begin, in radians: that of the common reference, against which angles are
/// told, and that of each channel, as [`render`](crate::injection::waveform::render) has them.
///
/// Where nothing is out the reference goes on as it did.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct PhaseClock {
    since: f64,
    common: Turning,
    channels: Vec<(Name, Turning)>,
}

impl PhaseClock {
    /// From a moment in s on, this is put out.
    pub fn apply(&mut self, now: f64, out: &Stimulus) {
        let passed = now - self.since;
        let phase = self.common.after(passed) % TAU;
        let before = std::mem::take(&mut self.channels);
        let mut go_on = |channel: &Name, hertz: f64, rate: f64| {
            let own = before.iter().find(|(known, _)| known == channel);
            let phase = own.map_or(phase, |(_, turning)| turning.after(passed) % TAU);
            self.channels.push((channel.clone(), Turning { phase, hertz, rate }));
        };
        fn each<Q: Measure>(drives: &[Drive<Q>], go_on: &mut impl FnMut(&Name, f64, f64)) {
            drives.iter().for_each(|d| go_on(&d.channel, d.frequency.si(), d.rate_hz_per_s));
        }
        each(&out.currents, &mut go_on);
        each(&out.voltages, &mut go_on);
        self.common = match out.reference() {
            Some((hertz, rate, _)) => Turning { phase, hertz, rate },
            None => Turning { phase, rate: 0.0, ..self.common },
        };
        self.since = now;
    }

    /// The common reference's phase at a moment in s, at or after the last change.
    pub fn common_at(&self, now: f64) -> f64 {
        self.common.after(now - self.since)
    }

    /// A channel's phase at the last change; the reference's where it is not driven.
    pub fn phase_of(&self, channel: &Name) -> f64 {
        let own = self.channels.iter().find(|(known, _)| known == channel);
        own.map_or(self.common.phase, |(_, turning)| turning.phase)
    }
}
