//! A recorded waveform, mapped to the rig's channels.

use super::spectrum;
use crate::injection::stimulus::{Drive, Stimulus};
use crate::quantity::phasor::Phasor;
use crate::quantity::{Angle, Frequency, Measure, Time, seconds};
use crate::text::name::Name;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// A recorded waveform on the rig's channels.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Recording {
    /// Samples a second.
    pub rate_hz: f64,
    /// The power system's frequency, over whose cycle RMS values are taken.
    pub frequency_hz: f64,
    /// Number of samples on each channel.
    pub count: usize,
    /// First 16 hex digits of the BLAKE3 hash over all samples.
    pub digest: String,
    /// The channels.
    pub channels: Vec<Track>,
}

/// One channel of a recording.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Track {
    /// The rig's channel.
    pub channel: Name,
    /// Amperes, else volts.
    pub is_current: bool,
    /// The samples, in A or V; a run's record does not keep them.
    #[serde(skip)]
    pub samples: Arc<Vec<f64>>,
}

impl Recording {
    /// A recording of these channels, which have the same number of samples.
    pub fn new(rate_hz: f64, frequency_hz: f64, channels: Vec<Track>) -> Self {
        let count = channels.iter().map(|c| c.samples.len()).min().unwrap_or(0);
        let mut hash = blake3::Hasher::new();
        for track in &channels {
            track.samples.iter().for_each(|s| {
                hash.update(&s.to_le_bytes());
            });
        }
        let digest = hash.finalize().to_hex()[..16].to_owned();
        Self { rate_hz, frequency_hz, count, digest, channels }
    }

    /// Its length, once.
    pub fn length(&self) -> Time {
        seconds(self.count as f64 / self.rate_hz)
    }

    fn cycle(&self) -> usize {
        ((self.rate_hz / self.frequency_hz).round() as usize).clamp(1, self.count.max(1))
    }

    /// The phasors of the cycle that ends at a time; the first cycle's before one has passed.
    pub fn phasors_at(&self, time: Time) -> Stimulus {
        let end =
            ((time.si() * self.rate_hz) as usize).clamp(self.cycle(), self.count.max(self.cycle()));
        let start = end - self.cycle();
        self.window(start, end, |samples| {
            let phasor = spectrum::phasor(samples, self.rate_hz, self.frequency_hz, 0.0);
            // Against a common reference that runs through the whole recording.
            let turned = start as f64 / self.rate_hz * self.frequency_hz * std::f64::consts::TAU;
            (phasor.norm(), phasor.arg() - turned)
        })
    }

    fn window(&self, start: usize, end: usize, measure: impl Fn(&[f64]) -> (f64, f64)) -> Stimulus {
        let mut stimulus = Stimulus::off();
        let frequency = Frequency::from_si(self.frequency_hz);
        for track in &self.channels {
            let Some(samples) = track.samples.get(start..end) else { continue };
            let (rms, angle) = measure(samples);
            if track.is_current {
                let phasor = Phasor::new(Measure::from_si(rms), Angle::from_si(angle));
                stimulus.currents.push(Drive::sine(track.channel.clone(), phasor, frequency));
            } else {
                let phasor = Phasor::new(Measure::from_si(rms), Angle::from_si(angle));
                stimulus.voltages.push(Drive::sine(track.channel.clone(), phasor, frequency));
            }
        }
        stimulus
    }

    /// The true RMS values of each cycle, with the time they are out for.
    pub fn levels(&self, times: u32) -> Vec<(Stimulus, Time)> {
        let cycle = self.cycle();
        let time = seconds(cycle as f64 / self.rate_hz) * f64::from(times);
        let starts = (0..self.count).step_by(cycle);
        let level = |start: usize| {
            let end = (start + cycle).min(self.count);
            (self.window(start, end, |samples| (spectrum::rms(samples), 0.0)), time)
        };
        starts.map(level).collect()
    }
}
