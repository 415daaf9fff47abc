//! The rig's own look at its outputs.
//!
//! An output is measured as an instrument does it: by sampling what it is told to put out and analysing the
//! samples. What is really put out differs from that by the channel's error, which it does not see itself.

use num_complex::Complex64;
use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::Property;
use waltron_core::injection::samples::spectrum::{Spectrum, frequency};
use waltron_core::injection::stimulus::{PHASE_CURRENTS, PHASE_VOLTAGES, Stimulus};
use waltron_core::injection::waveform::{Piece, Waveform, render};
use waltron_core::quantity::{Measure, seconds};
use waltron_core::text::name::Name;

/// Samples a second of the measuring inputs.
const RATE_HZ: f64 = 12_800.0;

/// Length of the measuring window: ten cycles of 50 Hz (IEC 61000-4-30, 4.4).
const WINDOW_S: f64 = 0.2;

/// Highest harmonic that is measured (IEC 61000-4-7).
const ORDERS: u32 = 50;

/// Longest part of a recording that is analysed, in s: its last.
const LONGEST_S: f64 = 20.0;

/// The rig's outputs, looked at once.
pub(super) struct Outputs<'a> {
    capability: &'a Capability,
    /// What is analysed.
    pieces: Vec<Piece<'a>>,
    /// Its samples, once they are needed.
    wave: Option<Waveform>,
}

impl<'a> Outputs<'a> {
    /// Looks at what is out now, as if it stayed for a measuring window.
    pub(super) fn of_now(capability: &'a Capability, stimulus: &Stimulus) -> Self {
        let hertz = stimulus.frequency().map_or(50.0, Measure::si).max(1.0);
        let piece = Piece {
            from: stimulus.clone(),
            to: None,
            start: seconds(0.0),
            length: seconds(WINDOW_S.max(10.0 / hertz)),
            playback: None,
            segment: 0,
        };
        Self { capability, pieces: vec![piece], wave: None }
    }

    /// Looks at the end of the last segment that was played: a measuring window, or all of a recording.
    pub(super) fn of_last(capability: &'a Capability, all: Vec<Piece<'a>>) -> Self {
        let end = all.last().map_or(0.0, |p| (p.start + p.length).si());
        let segment = all.last().map(|p| p.segment);
        let of_last = all.iter().filter(|p| Some(p.segment) == segment);
        // A frequency that changes, or a size, is what it is at the end.
        let hertz = all.last().and_then(|p| p.from.frequency()).map_or(50.0, Measure::si).max(1.0);
        let window = match of_last.clone().any(|p| p.playback.is_some()) {
            true => LONGEST_S,
            false => WINDOW_S.max(10.0 / hertz),
        };
        let start = of_last.clone().next().map_or(0.0, |p| p.start.si()).max(end - window);
        let mut pieces = Vec::new();
        for piece in of_last {
            let (from, to) = (piece.start.si().max(start), (piece.start + piece.length).si());
            if to > from {
                pieces.push(part(piece, from, to, start));
            }
        }
        Self { capability, pieces, wave: None }
    }

    /// A property in SI; `None` where there is nothing to measure, such as the phase of nothing.
    pub(super) fn read(&mut self, of: &Name, what: Property) -> Option<f64> {
        if matches!(what, Property::ActivePower | Property::ReactivePower) {
            return Some(self.power(what));
        }
        let (samples, nominal) = self.samples(of)?;
        let found = frequency(&samples, RATE_HZ, nominal);
        let spectrum = Spectrum::of(&samples, RATE_HZ, found.unwrap_or(nominal), ORDERS);
        let shown = match what {
            Property::Rms => spectrum.rms,
            Property::Magnitude => spectrum.fundamental.norm(),
            Property::Dc => spectrum.dc,
            Property::Phase => {
                found?;
                spectrum.fundamental.arg()
            }
            Property::Frequency => found?,
            Property::Harmonic(n) => {
                found?;
                spectrum.share(n)
            }
            Property::HarmonicAngle(n) if spectrum.share(n) > 1e-6 => {
                found?;
                spectrum.harmonic_angle(n)
            }
            Property::Thd => {
                found?;
                spectrum.thd()
            }
            _ => return None,
        };
        Some(shown)
    }

    /// Samples of a channel, and the frequency that it is put out at.
    fn samples(&mut self, of: &Name) -> Option<(Vec<f64>, f64)> {
        let only = |s: &Stimulus| {
            let currents = s.currents.iter().filter(|d| d.channel == *of).cloned().collect();
            let voltages = s.voltages.iter().filter(|d| d.channel == *of).cloned().collect();
            Stimulus { currents, voltages }
        };
        // What is no output shows nothing at all, not zero.
        let currents = self.capability.currents.iter().map(|c| &c.id);
        let voltages = self.capability.voltages.iter().map(|c| &c.id);
        currents.chain(voltages).find(|id| *id == of)?;
        // The common reference follows all that is out, whatever is looked at.
        let hertz = |p: &Piece<'_>| {
            let own = only(&p.from).frequency().map(Measure::si).filter(|hz| *hz > 0.0);
            own.or_else(|| p.playback.map(|p| p.recording.frequency_hz))
        };
        let nominal = self.pieces.iter().find_map(hertz).unwrap_or(50.0);
        if self.wave.is_none() {
            self.wave = Some(render(&self.pieces, RATE_HZ).ok()?);
        }
        // A channel that is not driven is measured too: zero.
        let channels = self.wave.iter().flat_map(|w| &w.channels);
        let samples = channels.into_iter().find(|c| c.name == *of).map(|c| c.samples.clone());
        Some((samples.unwrap_or_else(|| vec![0.0; 2560]), nominal))
    }

    /// Three-phase power from the measured phasors of voltages and currents.
    fn power(&mut self, what: Property) -> f64 {
        let mut phasor = |channel: &str| {
            let channel = Name::from(channel);
            let mut read = |what| self.read(&channel, what);
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

/// What a piece puts out between two moments, told from another one.
fn part<'a>(piece: &Piece<'a>, from: f64, to: f64, start: f64) -> Piece<'a> {
    let (since, whole) = (from - piece.start.si(), piece.length.si());
    let begin = match &piece.to {
        Some(end) => piece.from.toward(end, since / whole),
        None => piece.from.after(since),
    };
    Piece {
        from: begin,
        to: piece.to.clone(),
        start: seconds(from - start),
        length: seconds(to - from),
        playback: piece.playback,
        segment: piece.segment,
    }
}
