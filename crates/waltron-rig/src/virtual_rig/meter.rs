//! What the rig measures: instruments on the specimen, and its own outputs.
//!
//! An output is measured as an instrument does it: by sampling what is put out and analysing the
//! samples, with the scatter of the channel's accuracy.

use num_complex::Complex64;
use waltron_core::capability::Capability;
use waltron_core::program::{Probe, Property};
use waltron_core::quantity::{Dimension, Measure, Time, seconds};
use waltron_core::stimulus::{PHASE_CURRENTS, PHASE_VOLTAGES, Stimulus};
use waltron_core::waveform::spectrum::{Spectrum, frequency};
use waltron_core::waveform::{Piece, Waveform, render};
use waltron_specimen::{Noise, Specimen};

/// Samples a second of the measuring inputs.
const RATE_HZ: f64 = 12_800.0;

/// Length of the measuring window: ten cycles of 50 Hz (IEC 61000-4-30, 4.4).
const WINDOW_S: f64 = 0.2;

/// Highest harmonic that is measured (IEC 61000-4-7).
const ORDERS: u32 = 50;

/// The rig's measuring inputs.
pub(super) struct Meter<'a> {
    pub(super) capability: &'a Capability,
    pub(super) specimen: &'a dyn Specimen,
    /// What is out now.
    pub(super) stimulus: &'a Stimulus,
}

impl Meter<'_> {
    /// A value in SI; `None` where there is nothing to measure, such as the phase of nothing.
    pub(super) fn read(&self, probe: &Probe, noise: &mut Noise) -> Option<f64> {
        let (samples, nominal) = match probe.what {
            Property::Value => return self.specimen.reading(probe.of.as_str()),
            Property::ActivePower | Property::ReactivePower => {
                return Some(self.power(probe.what, noise));
            }
            _ => self.samples(probe)?,
        };
        let found = frequency(&samples, RATE_HZ, nominal);
        let spectrum = Spectrum::of(&samples, RATE_HZ, found.unwrap_or(nominal), ORDERS);
        let magnitude = spectrum.fundamental.norm();
        let relative =
            |value: f64| self.deviation(probe, value) / value.abs().max(f64::MIN_POSITIVE);
        match probe.what {
            Property::Rms => Some(spectrum.rms + noise.draw(self.deviation(probe, spectrum.rms))),
            Property::Magnitude => Some(magnitude + noise.draw(self.deviation(probe, magnitude))),
            Property::Dc => Some(spectrum.dc + noise.draw(self.deviation(probe, spectrum.rms))),
            Property::Phase => {
                found?;
                Some(spectrum.fundamental.arg() + noise.draw(relative(magnitude)))
            }
            Property::Frequency => Some(found? * (1.0 + noise.draw(1e-6))),
            Property::Harmonic(n) => {
                found?;
                Some((spectrum.share(n) + noise.draw(relative(magnitude))).abs())
            }
            Property::HarmonicAngle(n) if spectrum.share(n) > 1e-6 => {
                found?;
                Some(
                    spectrum.harmonic_angle(n)
                        + noise.draw(relative(magnitude) / spectrum.share(n)),
                )
            }
            Property::Thd => {
                found?;
                Some((spectrum.thd() + noise.draw(relative(magnitude))).abs())
            }
            _ => None,
        }
    }

    /// Standard deviation of a measured value: a third of the channel's accuracy.
    fn deviation(&self, probe: &Probe, si: f64) -> f64 {
        let of = |id: &waltron_core::name::Name| *id == probe.of;
        let limits = |any: waltron_core::tolerance::AnyTolerance| any.limits(si).1 - si;
        let current = self.capability.currents.iter().find(|c| of(&c.id));
        let voltage = self.capability.voltages.iter().find(|c| of(&c.id));
        current
            .map(|c| limits(c.accuracy.any()))
            .or_else(|| voltage.map(|c| limits(c.accuracy.any())))
            .unwrap_or(0.0)
            / 3.0
    }

    fn samples(&self, probe: &Probe) -> Option<(Vec<f64>, f64)> {
        let is = |id: &waltron_core::name::Name| *id == probe.of;
        let currents = self.stimulus.currents.iter().filter(|d| is(&d.channel)).cloned().collect();
        let voltages = self.stimulus.voltages.iter().filter(|d| is(&d.channel)).cloned().collect();
        let only = Stimulus { currents, voltages };
        let nominal = only
            .currents
            .iter()
            .map(|d| d.frequency.si())
            .chain(only.voltages.iter().map(|d| d.frequency.si()))
            .next()
            .filter(|hz| *hz > 0.0)
            .unwrap_or(50.0);
        let piece = Piece {
            from: only,
            to: None,
            start: seconds(0.0),
            length: Time::from_si(WINDOW_S.max(10.0 / nominal)),
            playback: None,
            segment: 0,
        };
        let Waveform { channels, .. } = render(&[piece], RATE_HZ).ok()?;
        // A channel that is not driven is measured too: zero.
        let samples = channels.into_iter().next().map(|c| c.samples);
        Some((samples.unwrap_or_else(|| vec![0.0; 2560]), nominal))
    }

    /// Three-phase power from the measured phasors of voltages and currents.
    fn power(&self, what: Property, noise: &mut Noise) -> f64 {
        let mut phasor = |channel: &str| {
            let mut read = |what| {
                let probe = Probe { of: channel.into(), what, dimension: Dimension::NUMBER };
                self.read(&probe, noise)
            };
            // Nothing flowing has no phase, and no power.
            match (read(Property::Magnitude), read(Property::Phase)) {
                (Some(rms), Some(angle)) => Complex64::from_polar(rms, angle),
                _ => Complex64::ZERO,
            }
        };
        let phases = PHASE_VOLTAGES.into_iter().zip(PHASE_CURRENTS);
        let s: Complex64 = phases.map(|(v, i)| phasor(v) * phasor(i).conj()).sum();
        if what == Property::ActivePower { s.re } else { s.im }
    }
}
