//! Samples of what a program puts out.
//!
//! The phase of each channel is the integral of its frequency, so it runs through every change of
//! segment and every frequency ramp without a jump. A channel that comes on takes its angle against
//! the common [`Reference`], as if it had been there all along. Held waves are made by rotating phasors, a few
//! operations a sample; they are brought back to their exact angle at every block, so that rounding
//! does not add up.

use super::reference::Reference;
use crate::injection::observation::Observation;
use crate::injection::program::{Condition, Profile, Program, Segment};
use crate::injection::stimulus::{Drive, Stimulus};
use crate::quantity::{Measure, Time, seconds};
use crate::text::name::Name;
use std::borrow::Cow;
use std::f64::consts::{FRAC_PI_2, SQRT_2, TAU};

/// Samples of several channels at one rate.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Waveform {
    /// Samples a second.
    pub rate_hz: f64,
    /// The channels, all of the same length.
    pub channels: Vec<WaveformChannel>,
}

/// Samples of one channel.
#[derive(Clone, Debug, PartialEq)]
pub struct WaveformChannel {
    /// The rig's channel.
    pub name: Name,
    /// Amperes, else volts.
    pub is_current: bool,
    /// Instantaneous values in A or V.
    pub samples: Vec<f64>,
}

/// A stretch of time in which a stimulus is held, or moves to another.
#[derive(Clone, Debug, PartialEq)]
pub struct Piece<'a> {
    /// What is out at its start.
    pub from: Stimulus,
    /// What is out at its end, where it moves there linearly.
    pub to: Option<Stimulus>,
    /// Its start since the program's.
    pub start: Time,
    /// Its length.
    pub length: Time,
    /// The recording that is out instead, and where in it the piece starts.
    pub playback: Option<&'a crate::injection::program::Playback>,
    /// The segment it belongs to.
    pub segment: usize,
}

/// More samples than are made at once.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
#[error(
    "{samples} samples on each of {channels} channels are more than {MOST_SAMPLES} in all; take a lower rate or a shorter part"
)]
pub struct TooLong {
    /// Samples on each channel.
    pub samples: u64,
    /// Number of channels.
    pub channels: usize,
}

/// Most samples made at once over all channels: 1.6 GB.
pub const MOST_SAMPLES: u64 = 200_000_000;

/// What is put out in order, each piece as long as it was seen to be out, or as long as it can be
/// where nothing has been observed yet.
pub fn pieces<'a>(program: &'a Program, observed: Option<&Observation>) -> Vec<Piece<'a>> {
    let mut all = Vec::new();
    let mut now = seconds(0.0);
    for (index, segment) in program.segments.iter().enumerate() {
        let length = match observed {
            Some(o) => match o.segments.get(index) {
                Some(span) => span.end - span.start,
                None => break,
            },
            None => settled(segment, &all).longest().unwrap_or_default(),
        };
        let end = now + length;
        let mut add = |from: Stimulus, to: Option<Stimulus>, whole: Time, playback| {
            let left = end - now;
            if left.si() <= 0.0 {
                return false;
            }
            let part = whole.min(left);
            // A slope that was stopped early ends where it was stopped.
            let to =
                to.map(|to| if part < whole { from.toward(&to, (part / whole).value) } else { to });
            all.push(Piece { from, to, start: now, length: part, playback, segment: index });
            now += part;
            true
        };
        match &segment.profile {
            Profile::Hold(stimulus) => {
                add(stimulus.clone(), None, length, None);
            }
            Profile::Slope(slope) => {
                let parts = slope.through.len().saturating_sub(1);
                for pair in slope.through.windows(2) {
                    let whole = slope.time / parts as f64;
                    if !add(pair[0].clone(), Some(pair[1].clone()), whole, None) {
                        break;
                    }
                }
            }
            Profile::Playback(playback) => {
                add(Stimulus::off(), None, length, Some(playback));
            }
            Profile::Stairs(_) | Profile::Steps(_) => {
                for (stimulus, whole) in segment.levels() {
                    if !add(stimulus.into_owned(), None, whole, None) {
                        break;
                    }
                }
            }
        }
        now = end;
    }
    all
}

/// A segment that follows on from these pieces, with moments in place of the angles that it waits for.
pub fn settled<'a>(segment: &'a Segment, so_far: &[Piece<'_>]) -> Cow<'a, Segment> {
    fn settle(when: &Condition, held: Option<&Stimulus>, reference: &Reference) -> Condition {
        let all = |inner: &[Condition]| -> Vec<Condition> {
            inner.iter().map(|c| settle(c, held, reference)).collect()
        };
        match when {
            Condition::AtAngle { after, angle, most } => {
                let at = held.and_then(|held| reference.reaches(held, *angle, *after));
                Condition::After(at.unwrap_or(*most).min(*most))
            }
            Condition::Any(inner) => Condition::Any(all(inner)),
            Condition::All(inner) => Condition::All(all(inner)),
            other => other.clone(),
        }
    }
    if !segment.waits_for_angle() {
        return Cow::Borrowed(segment);
    }
    let reference = Reference::of(so_far);
    let held = match &segment.profile {
        Profile::Hold(held) => Some(held),
        _ => None,
    };
    let mut settled = segment.clone();
    for stop in &mut settled.stops {
        stop.when = settle(&stop.when, held, &reference);
    }
    Cow::Owned(settled)
}

/// Samples of everything a program puts out.
///
/// # Errors
/// [`TooLong`] where that would be more than [`MOST_SAMPLES`].
pub fn render(pieces: &[Piece<'_>], rate_hz: f64) -> Result<Waveform, TooLong> {
    let mut names: Vec<(Name, bool)> = Vec::new();
    for piece in pieces {
        let ends = [Some(&piece.from), piece.to.as_ref()];
        for stimulus in ends.into_iter().flatten() {
            let currents = stimulus.currents.iter().map(|d| (d.channel.clone(), true));
            let voltages = stimulus.voltages.iter().map(|d| (d.channel.clone(), false));
            names.extend(currents.chain(voltages));
        }
        let played = piece.playback.into_iter().flat_map(|p| p.channels());
        names.extend(played.map(|(name, is_current)| (name.clone(), is_current)));
        names.sort();
        names.dedup();
    }
    let end = pieces.last().map_or(0.0, |p| (p.start + p.length).si());
    let samples = (end * rate_hz).ceil() as u64;
    if samples.saturating_mul(names.len().max(1) as u64) > MOST_SAMPLES {
        return Err(TooLong { samples, channels: names.len() });
    }
    let reference = Reference::of(pieces);
    let channels = names
        .into_iter()
        .map(|(name, is_current)| {
            let mut samples_of = Vec::with_capacity(samples as usize);
            let mut phase = None;
            for (piece, common) in pieces.iter().zip(&reference.starts) {
                let end = index_at((piece.start + piece.length).si(), rate_hz);
                if let Some(playback) = piece.playback {
                    played(playback, &name, piece, rate_hz, end, &mut samples_of);
                    phase = None;
                } else {
                    let out = &mut samples_of;
                    let from = phase.unwrap_or(*common);
                    phase = through(piece, (&name, is_current), from, rate_hz, end, out);
                }
            }
            WaveformChannel { name, is_current, samples: samples_of }
        })
        .collect();
    Ok(Waveform { rate_hz, channels })
}

impl Waveform {
    /// Silences each channel from the moment on at which it was seen to go off.
    pub fn cut(&mut self, observation: &Observation) {
        for off in &observation.off_at {
            let from = index_at(off.time.si(), self.rate_hz);
            for channel in self.channels.iter_mut().filter(|c| c.name == off.channel) {
                channel.samples.iter_mut().skip(from).for_each(|s| *s = 0.0);
            }
        }
    }
}

/// The index of the first sample at or after a time.
pub(super) fn index_at(time_s: f64, rate_hz: f64) -> usize {
    (time_s * rate_hz - 1e-6).ceil().max(0.0) as usize
}

fn played(
    playback: &crate::injection::program::Playback,
    name: &Name,
    piece: &Piece<'_>,
    rate_hz: f64,
    end: usize,
    out: &mut Vec<f64>,
) {
    let recording = &playback.recording;
    let track = recording.channels.iter().find(|c| c.channel == *name);
    while out.len() < end {
        let since = out.len() as f64 / rate_hz - piece.start.si();
        let place = (since * recording.rate_hz).max(0.0);
        let (index, share) = (place.floor() as usize, place.fract());
        let sample = |i: usize| {
            let inside = i % recording.count.max(1);
            track.and_then(|t| t.samples.get(inside)).copied().unwrap_or(0.0)
        };
        out.push(sample(index) + (sample(index + 1) - sample(index)) * share);
    }
}

/// Appends the samples of a named channel over a piece; see [`waves`].
pub(super) fn through(
    piece: &Piece<'_>,
    (name, is_current): (&Name, bool),
    phase: f64,
    rate_hz: f64,
    end: usize,
    out: &mut Vec<f64>,
) -> Option<f64> {
    fn find<Q: Measure>(drives: &[Drive<Q>], name: &Name) -> Option<Drive<Q>> {
        drives.iter().find(|d| d.channel == *name).cloned()
    }
    if is_current {
        let of = |s: &Stimulus| find(&s.currents, name);
        waves(of(&piece.from), piece.to.as_ref().map(of), piece, phase, rate_hz, end, out)
    } else {
        let of = |s: &Stimulus| find(&s.voltages, name);
        waves(of(&piece.from), piece.to.as_ref().map(of), piece, phase, rate_hz, end, out)
    }
}

/// Appends the samples of one channel over a piece that begins at a phase, the integral of 2π·f in
/// radians, and returns the phase at its end; `None` where the channel is not driven at all.
fn waves<Q: Measure>(
    from: Option<Drive<Q>>,
    to: Option<Option<Drive<Q>>>,
    piece: &Piece<'_>,
    phase: f64,
    rate_hz: f64,
    end: usize,
    out: &mut Vec<f64>,
) -> Option<f64> {
    let length = piece.length.si();
    // A channel that only one end drives moves from or to zero.
    let (from, to) = match (from, to) {
        (Some(from), Some(None)) => (Some(from.clone()), Some(from.silent())),
        (None, Some(Some(to))) => (Some(to.silent()), Some(to)),
        (from, to) => (from, to.flatten()),
    };
    let count = end.saturating_sub(out.len());
    let Some(from) = from else {
        out.resize(out.len() + count, 0.0);
        return None;
    };
    let first_s = out.len() as f64 / rate_hz - piece.start.si();
    let f0 = from.frequency.si();
    let (to, rate) = match to {
        Some(to) => {
            let rate = (to.frequency.si() - f0) / length;
            (Some(to), rate)
        }
        None => (None, from.rate_hz_per_s),
    };
    let angle_at = |t: f64| TAU * (f0 * t + 0.5 * rate * t * t);
    match &to {
        None if rate == 0.0 => held(&from, phase + angle_at(first_s), rate_hz, first_s, count, out),
        _ => {
            for k in 0..count {
                let t = first_s + k as f64 / rate_hz;
                let share = if length > 0.0 { t / length } else { 0.0 };
                let now = to.as_ref().map_or_else(|| from.clone(), |to| from.toward(to, share));
                out.push(value(&now, phase + angle_at(t), t));
            }
        }
    }
    Some((phase + angle_at(length)) % TAU)
}

/// One sample: `phase` is the integral of 2π·f, `since` the time since the piece's start.
pub(super) fn value<Q: Measure>(drive: &Drive<Q>, phase: f64, since: f64) -> f64 {
    let psi = phase + drive.phasor.angle().si() + FRAC_PI_2;
    let harmonics: f64 = drive
        .harmonics
        .iter()
        .map(|h| h.share() * (f64::from(h.order()) * psi + h.angle().si()).sin())
        .sum();
    let dc = drive.dc.map_or(0.0, |dc| dc.after(since));
    SQRT_2 * drive.phasor.rms().si() * (psi.sin() + harmonics) + dc
}

/// Samples worked on at once, which the compiler can do side by side.
const LANES: usize = 8;
/// Samples after which the angle is worked out anew.
const BLOCK: usize = 1024;

/// Samples of a wave that does not change.
fn held<Q: Measure>(
    drive: &Drive<Q>,
    phase: f64,
    rate_hz: f64,
    first_s: f64,
    count: usize,
    out: &mut Vec<f64>,
) {
    let start = out.len();
    out.resize(start + count, 0.0);
    let psi = phase + drive.phasor.angle().si() + FRAC_PI_2;
    let step = TAU * drive.frequency.si() / rate_hz;
    let amplitude = SQRT_2 * drive.phasor.rms().si();
    let fundamental = (1.0, 1.0, 0.0);
    let waves = drive.harmonics.iter().map(|h| (f64::from(h.order()), h.share(), h.angle().si()));
    for (order, share, angle) in std::iter::once(fundamental).chain(waves) {
        for (block, samples) in out[start..].chunks_mut(BLOCK).enumerate() {
            let at = psi + step * (block * BLOCK) as f64;
            add_sine(samples, order * at + angle, order * step, amplitude * share);
        }
    }
    if let Some(dc) = drive.dc {
        for (k, sample) in out[start..].iter_mut().enumerate() {
            let t = first_s + k as f64 / rate_hz;
            *sample += dc.after(t);
        }
    }
}

/// Adds amplitude·sin(angle + k·step) to sample k, by rotating `LANES` phasors side by side.
fn add_sine(samples: &mut [f64], angle: f64, step: f64, amplitude: f64) {
    let (mut re, mut im) = ([0.0; LANES], [0.0; LANES]);
    for lane in 0..LANES {
        let (sin, cos) = (angle + step * lane as f64).sin_cos();
        re[lane] = amplitude * cos;
        im[lane] = amplitude * sin;
    }
    let (turn_im, turn_re) = (step * LANES as f64).sin_cos();
    let mut chunks = samples.chunks_exact_mut(LANES);
    for chunk in &mut chunks {
        for lane in 0..LANES {
            chunk[lane] += im[lane];
            let turned = re[lane] * turn_re - im[lane] * turn_im;
            im[lane] = re[lane] * turn_im + im[lane] * turn_re;
            re[lane] = turned;
        }
    }
    for (lane, sample) in chunks.into_remainder().iter_mut().enumerate() {
        *sample += im[lane];
    }
}
