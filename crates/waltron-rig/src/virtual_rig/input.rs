//! Measuring inputs: what the specimen shows at them, sample by sample.
//!
//! A meter is off by a share of its accuracy that stays, as a calibrated instrument's is, and scatters
//! by much less from look to look.

use num_complex::Complex64;
use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::{Lack, Meter, Property, Seen};
use waltron_core::injection::samples::PhaseClock;
use waltron_core::injection::samples::spectrum::{
    FEWEST_CYCLES, Spectrum, frequency_near, mean, rms,
};
use waltron_core::text::name::Name;
use waltron_specimen::{Noise, Specimen, Window};

/// Samples a second for what alternates.
const RATE_HZ: f64 = 12_800.0;

/// Samples a second for direct values: whole numbers of them in a cycle of 50 and of 60 Hz.
const DC_RATE_HZ: f64 = 3_000.0;

/// Length of the measuring window: ten cycles of 50 Hz (IEC 61000-4-30, 4.4).
pub(super) const WINDOW_S: f64 = 0.2;

/// Highest harmonic that is measured (IEC 61000-4-7).
const ORDERS: u32 = 50;

/// Seed of what each meter is off by.
const OFFSET_SEED: u64 = 0x4f46_4653;

/// By how much smaller the scatter is than what stays.
const SCATTER: f64 = 0.05;

/// When a look is taken.
#[derive(Clone, Copy, Debug)]
pub(super) struct Moment<'a> {
    /// Since the program's start, in s.
    pub(super) now: f64,
    /// Since when the level has been out.
    pub(super) level_start: f64,
    /// The frequency that is put out, in Hz.
    pub(super) nominal: f64,
    pub(super) clock: &'a PhaseClock,
}

/// The rig's measuring inputs, looked at once.
pub(super) struct Inputs<'a> {
    capability: &'a Capability,
    specimen: &'a dyn Specimen,
    moment: Moment<'a>,
    /// What each meter is off by in this look, in accuracies: size and angle.
    errors: Vec<(Name, [f64; 2])>,
    /// The fundamentals that were looked at.
    fundamentals: Vec<(Name, Result<Alternating, Lack>)>,
}

/// What a window of alternating samples shows.
#[derive(Clone)]
struct Alternating {
    spectrum: Spectrum,
    rms: f64,
    /// The measured frequency, where there is a wave.
    hertz: Option<f64>,
    start_s: f64,
}

impl<'a> Inputs<'a> {
    pub(super) fn new(
        capability: &'a Capability,
        specimen: &'a dyn Specimen,
        moment: Moment<'a>,
    ) -> Self {
        Self { capability, specimen, moment, errors: Vec::new(), fundamentals: Vec::new() }
    }

    /// The meter of this name.
    pub(super) fn meter(&self, name: &Name) -> Option<&'a Meter> {
        self.capability.meter(name.as_str())
    }

    fn error(&mut self, meter: &Meter, noise: &mut Noise) -> [f64; 2] {
        if let Some((_, known)) = self.errors.iter().find(|(id, _)| *id == meter.id) {
            return *known;
        }
        let bytes = meter.id.as_str().bytes();
        let seed = bytes.fold(OFFSET_SEED, |s, b| s.wrapping_mul(31).wrapping_add(u64::from(b)));
        let mut stays = Noise::of_shot(seed, 0);
        // Three deviations are the whole accuracy, with what scatters.
        let mut draw = || (stays.draw(1.0) + noise.draw(SCATTER)) / (3.0 * (1.0 + SCATTER));
        let drawn = [draw(), draw()];
        self.errors.push((meter.id.clone(), drawn));
        drawn
    }

    /// The latest window of measurement that lies in the level.
    fn window(&self, rate_hz: f64) -> Window {
        let Moment { now, level_start, nominal, .. } = self.moment;
        let length = WINDOW_S.max(10.0 / nominal).min(now - level_start);
        let count = (length * rate_hz + 1e-6).floor().max(0.0) as usize;
        Window { start_s: now - count as f64 / rate_hz, rate_hz, count }
    }

    fn samples(&self, meter: &Meter, rate_hz: f64) -> Result<(Vec<f64>, f64), Lack> {
        let window = self.window(rate_hz);
        let start_s = window.start_s;
        let nothing = || Lack::Nothing(meter.meaning.clone());
        let samples = self.specimen.samples(&meter.meaning, window).ok_or_else(nothing)?;
        if samples.is_empty() { Err(nothing()) } else { Ok((samples, start_s)) }
    }

    fn within(meter: &Meter, size: f64) -> Result<(), Lack> {
        if size <= meter.range { Ok(()) } else { Err(Lack::BeyondRange(meter.meaning.clone())) }
    }

    fn alternating(&self, meter: &Meter, orders: u32) -> Result<Alternating, Lack> {
        let ((samples, start_s), size) = self.coupled(meter)?;
        let nominal = self.moment.nominal;
        let cycles = samples.len() as f64 / RATE_HZ * nominal;
        if cycles < 1.0 {
            return Err(Lack::Nothing(meter.meaning.clone()));
        }
        let hertz = (cycles + 1e-6 >= FEWEST_CYCLES)
            .then(|| frequency_near(&samples, RATE_HZ, nominal))
            .flatten();
        let spectrum = Spectrum::of(&samples, RATE_HZ, hertz.unwrap_or(nominal), orders);
        Ok(Alternating { spectrum, rms: size, hertz, start_s })
    }

    /// What a meter shows of the fundamental; the same window is analysed once.
    fn fundamental(&mut self, meter: &Meter) -> Result<Alternating, Lack> {
        if let Some((_, known)) = self.fundamentals.iter().find(|(id, _)| *id == meter.id) {
            return known.clone();
        }
        let seen = self.alternating(meter, 1);
        self.fundamentals.push((meter.id.clone(), seen.clone()));
        seen
    }

    /// A direct value.
    fn direct(&self, meter: &Meter) -> Result<f64, Lack> {
        let window = self.window(DC_RATE_HZ);
        let known = Some(window).filter(|w| w.count > 0);
        let known = known.and_then(|window| self.specimen.mean(&meter.meaning, window));
        let value = match known {
            Some(value) => value,
            None => mean(&self.samples(meter, DC_RATE_HZ)?.0),
        };
        Self::within(meter, value)?;
        Self::within(meter, -value)?;
        Ok(value)
    }

    /// The RMS value, without looking for waves where nobody did before.
    fn true_rms(&self, meter: &Meter) -> Result<f64, Lack> {
        if let Some((_, known)) = self.fundamentals.iter().find(|(id, _)| *id == meter.id) {
            return known.as_ref().map(|seen| seen.rms).map_err(Clone::clone);
        }
        let (samples, size) = self.coupled(meter)?;
        if samples.0.len() as f64 / RATE_HZ * self.moment.nominal < 1.0 {
            return Err(Lack::Nothing(meter.meaning.clone()));
        }
        Ok(size)
    }

    /// Samples as the meter's coupling lets them through, with their start and their RMS value.
    fn coupled(&self, meter: &Meter) -> Result<((Vec<f64>, f64), f64), Lack> {
        let (mut samples, start_s) = self.samples(meter, RATE_HZ)?;
        if !meter.coupling.is_dc() {
            let direct = mean(&samples);
            samples.iter_mut().for_each(|s| *s -= direct);
        }
        let size = rms(&samples);
        Self::within(meter, size)?;
        Ok(((samples, start_s), size))
    }

    /// The largest size in the window; of what alternates around its mean.
    fn peak(&self, meter: &Meter) -> Result<f64, Lack> {
        let (samples, _) = self.samples(meter, RATE_HZ)?;
        let middle = if meter.coupling.is_dc() { 0.0 } else { mean(&samples) };
        let most = samples.iter().fold(0.0f64, |most, s| most.max((s - middle).abs()));
        Self::within(meter, most / std::f64::consts::SQRT_2)?;
        Ok(most)
    }

    /// The integral since the level began: the error of each sample stays the same.
    fn integral(&mut self, meter: &Meter, noise: &mut Noise) -> Result<(Seen, Option<f64>), Lack> {
        let Moment { now, level_start: start_s, .. } = self.moment;
        let length = now - start_s;
        let count = (length * DC_RATE_HZ).floor().max(0.0) as usize;
        let window = Window { start_s, rate_hz: DC_RATE_HZ, count: count + 1 };
        let nothing = || Lack::Nothing(meter.meaning.clone());
        let samples = self.specimen.samples(&meter.meaning, window).ok_or_else(nothing)?;
        let most = samples.iter().fold(0.0f64, |most, s| most.max(s.abs()));
        Self::within(meter, most)?;
        // Trapezoids, with the rest of a step behind the last sample.
        let ends = (samples.first().unwrap_or(&0.0) + samples.last().unwrap_or(&0.0)) / 2.0;
        let rest = length - count as f64 / DC_RATE_HZ;
        let whole = (samples.iter().sum::<f64>() - ends) / DC_RATE_HZ;
        let true_value = whole + rest * samples.last().unwrap_or(&0.0);
        let size = meter.uncertainty(true_value / length.max(1e-9)) * length;
        let value = true_value + size * self.error(meter, noise)[0];
        Ok((Seen { value: value.into(), size, angle: 0.0 }, None))
    }

    /// What a meter shows of a property that can be worked on with others': a phasor, or a real number;
    /// and the frequency, where it is one.
    pub(super) fn seen(
        &mut self,
        meter: &Meter,
        what: Property,
        noise: &mut Noise,
    ) -> Result<(Seen, Option<f64>), Lack> {
        let (true_value, hertz) = match what {
            Property::Dc => (Complex64::from(self.direct(meter)?), None),
            Property::Rms => (Complex64::from(self.true_rms(meter)?), None),
            Property::Peak => (Complex64::from(self.peak(meter)?), None),
            Property::Integral => return self.integral(meter, noise),
            _ => {
                let seen = self.fundamental(meter)?;
                let common = self.moment.clock.common_at(seen.start_s);
                let turned = Complex64::from_polar(1.0, -common);
                (seen.spectrum.fundamental * turned, seen.hertz)
            }
        };
        let [size, angle] = self.error(meter, noise);
        let by = meter.uncertainty(true_value.norm()) * size;
        // Of nothing, the error alone is shown.
        let value = match true_value.norm() {
            0.0 => Complex64::from(by),
            norm => true_value * (1.0 + by / norm),
        };
        let value = match what {
            Property::Dc | Property::Rms | Property::Peak => value,
            _ => value * Complex64::from_polar(1.0, meter.angle_uncertainty() * angle),
        };
        let seen =
            Seen { value, size: meter.uncertainty(value.norm()), angle: meter.angle_uncertainty() };
        Ok((seen, hertz))
    }

    /// A property that belongs to one input alone.
    pub(super) fn own(
        &mut self,
        meter: &Meter,
        what: Property,
        noise: &mut Noise,
    ) -> Result<f64, Lack> {
        let nothing = || Lack::Nothing(meter.meaning.clone());
        let orders = match what {
            Property::Harmonic(n) | Property::HarmonicAngle(n) => n,
            _ => ORDERS,
        };
        let seen = self.alternating(meter, orders)?;
        let hertz = seen.hertz.ok_or_else(nothing)?;
        let reaches = |n: u32| {
            meter.bandwidth.is_none_or(|most| {
                hertz * f64::from(n) <= waltron_core::quantity::Measure::si(most)
            })
        };
        let magnitude = seen.spectrum.fundamental.norm();
        let share = meter.uncertainty(magnitude) / magnitude.max(f64::MIN_POSITIVE);
        let [error, _] = self.error(meter, noise);
        Ok(match what {
            Property::Frequency => hertz * (1.0 + noise.draw(1e-6)),
            Property::Harmonic(n) if reaches(n) => (seen.spectrum.share(n) + share * error).abs(),
            Property::HarmonicAngle(n) if reaches(n) && seen.spectrum.share(n) > 1e-6 => {
                seen.spectrum.harmonic_angle(n) + share * error / seen.spectrum.share(n)
            }
            Property::Thd => (seen.spectrum.thd() + share * error).abs(),
            _ => return Err(nothing()),
        })
    }
}
