//! Measuring inputs: what the specimen shows at them, sample by sample.
//!
//! A meter is off by what stays the same, as a calibrated instrument's is, and scatters from look to look where its file
//! says so.

use super::errors::Errors;
use num_complex::Complex64;
use waltron_core::grading::Value;
use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::{Lack, Meter, Property, Worth};
use waltron_core::injection::samples::PhaseClock;
use waltron_core::injection::samples::spectrum::{
    FEWEST_CYCLES, Spectrum, frequency_near, mean, rms,
};
use waltron_core::quantity::Quantity;
use waltron_core::text::name::Name;
use waltron_core::uncertainty::Cause;
use waltron_specimen::{Noise, Specimen, Window};

/// Samples a second for what alternates.
const RATE_HZ: f64 = 12_800.0;

/// Samples a second for direct values: whole numbers of them in a cycle of 50 and of 60 Hz.
const DC_RATE_HZ: f64 = 3_000.0;

/// Length of the measuring window: ten cycles of 50 Hz (IEC 61000-4-30, 4.4).
pub(super) const WINDOW_S: f64 = 0.2;

/// Highest harmonic that is measured (IEC 61000-4-7).
const ORDERS: u32 = 50;

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
    errors: &'a Errors,
    /// By how many standard deviations each meter scatters in this look.
    scatter: Vec<(Name, f64)>,
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
        errors: &'a Errors,
    ) -> Self {
        let (scatter, fundamentals) = (Vec::new(), Vec::new());
        Self { capability, specimen, moment, errors, scatter, fundamentals }
    }

    /// The meter of this name.
    pub(super) fn meter(&self, name: &Name) -> Option<&'a Meter> {
        self.capability.meter(name.as_str())
    }

    /// What a meter shows too much at a value in SI in this look.
    fn error(&mut self, meter: &Meter, si: f64, noise: &mut Noise) -> f64 {
        let stays = self.errors.of_meter(meter, si);
        let Some(width) = meter.noise else { return stays };
        let known = self.scatter.iter().find(|(id, _)| *id == meter.id).map(|(_, drawn)| *drawn);
        let drawn = known.unwrap_or_else(|| {
            let drawn = noise.draw(1.0);
            self.scatter.push((meter.id.clone(), drawn));
            drawn
        });
        stays + drawn * (width.limits(si.abs()).1 - si.abs())
    }

    /// What a meter shows, with what makes it uncertain.
    fn worth(&self, meter: &Meter, value: Complex64) -> Worth {
        let worth = self.capability.seen(&meter.meaning, value);
        let Some(width) = meter.noise else { return worth };
        let size = value.norm();
        let si = width.limits(size).1 - size;
        let deviation = Value::Plain(Quantity { si, dimension: meter.dimension });
        // Every look scatters by itself.
        let turn = if size > 0.0 { value / size } else { Complex64::ONE };
        worth.with(Cause::noise(&meter.id, self.moment.now, deviation), turn)
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
    fn integral(&mut self, meter: &Meter, noise: &mut Noise) -> Result<(Worth, Option<f64>), Lack> {
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
        let middle = true_value / length.max(1e-9);
        let shown = middle + self.error(meter, middle, noise);
        Ok((self.worth(meter, shown.into()).times(length), None))
    }

    /// What a meter shows of a property that can be worked on with others': a phasor, or a real number;
    /// and the frequency, where it is one.
    pub(super) fn seen(
        &mut self,
        meter: &Meter,
        what: Property,
        noise: &mut Noise,
    ) -> Result<(Worth, Option<f64>), Lack> {
        let (true_value, hertz) = match what {
            Property::Dc => (Complex64::from(self.direct(meter)?), None),
            Property::Rms => (Complex64::from(self.true_rms(meter)?), None),
            Property::Peak => (Complex64::from(self.peak(meter)?), None),
            Property::Integral => return self.integral(meter, noise),
            _ => {
                let seen = self.fundamental(meter)?;
                let common = self.moment.clock.common_at(seen.start_s);
                let turned = Complex64::from_polar(1.0, -common);
                let hertz = seen.hertz.map(|hertz| self.errors.told_frequency(hertz));
                (seen.spectrum.fundamental * turned, hertz)
            }
        };
        let is_real = matches!(what, Property::Dc | Property::Rms | Property::Peak);
        let size = if is_real { true_value.re } else { true_value.norm() };
        let by = self.error(meter, size, noise);
        // Of nothing, the error alone is shown.
        let value = match size {
            0.0 => Complex64::from(by),
            _ if is_real => Complex64::from(size + by),
            size => true_value * (1.0 + by / size),
        };
        let value = match what {
            Property::Rms | Property::Peak => Complex64::from(value.re.max(0.0)),
            Property::Dc => value,
            _ => value * Complex64::from_polar(1.0, self.errors.angle_of_meter(meter)),
        };
        Ok((self.worth(meter, value), hertz))
    }

    /// A property that belongs to one input alone, with the size of the wave that it is of.
    pub(super) fn own(
        &mut self,
        meter: &Meter,
        what: Property,
        noise: &mut Noise,
    ) -> Result<(f64, f64), Lack> {
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
        let share = self.error(meter, magnitude, noise) / magnitude.max(f64::MIN_POSITIVE);
        let value = match what {
            Property::Frequency => self.errors.told_frequency(hertz),
            Property::Harmonic(n) if reaches(n) => (seen.spectrum.share(n) + share).abs(),
            Property::HarmonicAngle(n) if reaches(n) && seen.spectrum.share(n) > 1e-6 => {
                seen.spectrum.harmonic_angle(n) + share / seen.spectrum.share(n)
            }
            Property::Thd => (seen.spectrum.thd() + share).abs(),
            _ => return Err(nothing()),
        };
        Ok((value, magnitude))
    }
}
