//! One look at everything that can be measured: meters, instruments, and the rig's own outputs.

use super::errors::Errors;
use super::input::{Inputs, Moment};
use super::output::Outputs;
use num_complex::Complex64;
use waltron_core::grading::Values;
use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::{
    Lack, Place, Probe, Property, Reading, Signal, Worth, work_out,
};
use waltron_core::quantity::{Dimension, Quantity};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::{Estimate, Part, combined};
use waltron_specimen::{Noise, Specimen};

/// A look at one moment.
pub(super) struct Look<'a> {
    capability: &'a Capability,
    specimen: &'a dyn Specimen,
    inputs: Inputs<'a>,
    outputs: Outputs<'a>,
    errors: &'a Errors,
}

/// What was measured, in SI, with what it is uncertain by where that is known here.
struct Measured {
    value: f64,
    angle: Option<f64>,
    hertz: Option<f64>,
    /// What makes its value uncertain, and its angle.
    parts: [Vec<Part>; 2],
}

impl Measured {
    fn plain(value: f64) -> Self {
        Self { value, angle: None, hertz: None, parts: Default::default() }
    }

    fn of(estimate: &Estimate) -> Self {
        Self { parts: [estimate.parts(), Vec::new()], ..Self::plain(estimate.value) }
    }
}

impl<'a> Look<'a> {
    pub(super) fn new(
        capability: &'a Capability,
        specimen: &'a dyn Specimen,
        moment: Moment<'a>,
        outputs: Outputs<'a>,
        errors: &'a Errors,
    ) -> Self {
        let inputs = Inputs::new(capability, specimen, moment, errors);
        Self { capability, specimen, inputs, outputs, errors }
    }

    /// A value in SI; `None` where there is none.
    pub(super) fn value(&mut self, probe: &Probe, noise: &mut Noise) -> Option<f64> {
        self.measured(probe, noise).ok().map(|m| m.value)
    }

    fn measured(&mut self, probe: &Probe, noise: &mut Noise) -> Result<Measured, Lack> {
        if let Signal::Named(name) = &probe.of {
            let meter = self.inputs.meter(name).filter(|_| probe.what != Property::Value);
            let Some(meter) = meter else {
                let read = match probe.what {
                    Property::Value => self.instrument(name),
                    Property::Phasor => {
                        let seen = self.seen(name, probe.what, &mut None, noise)?;
                        let hertz = self.outputs.read(name, Property::Frequency);
                        return Ok(Self::phasor(&seen, hertz.is_some(), hertz));
                    }
                    what => self.outputs.read(name, what),
                };
                return read.map(Measured::plain).ok_or_else(|| Lack::Nothing(name.clone()));
            };
            let is_of_samples = matches!(probe.what, Property::Peak | Property::Integral);
            if !probe.what.can_be_worked_out() && !is_of_samples {
                let (value, size) = self.inputs.own(meter, probe.what, noise)?;
                let estimate = self.capability.of_wave(probe, value, Some(size));
                return Ok(estimate.map_or_else(|| Measured::plain(value), |e| Measured::of(&e)));
            }
        }
        let (what, mut hertz) = (probe.what, None);
        let worth = work_out(&probe.of, &mut |name| self.seen(name, what, &mut hertz, noise))?;
        Ok(match what {
            // A product has no frequency of its own that anybody wants to know.
            Property::Phasor => {
                let hertz = hertz.filter(|_| probe.of.name().is_some());
                Self::phasor(&worth, worth.value != Complex64::ZERO, hertz)
            }
            Property::Magnitude => Measured::of(&worth.size()),
            Property::Phase => match worth.angle() {
                Some(angle) => Measured::of(&angle),
                None => Measured::plain(worth.value.arg()),
            },
            _ => Measured::of(&worth.real()),
        })
    }

    fn phasor(worth: &Worth, has_angle: bool, hertz: Option<f64>) -> Measured {
        let (size, angle) = (worth.size(), worth.angle().filter(|_| has_angle));
        let angle_parts = angle.as_ref().map(Estimate::parts).unwrap_or_default();
        let angle = has_angle.then(|| worth.value.arg());
        Measured { value: size.value, angle, hertz, parts: [size.parts(), angle_parts] }
    }

    /// What an instrument reads.
    fn instrument(&self, name: &Name) -> Option<f64> {
        let value = self.specimen.reading(name.as_str())?;
        Some(self.errors.read(self.capability, name, value))
    }

    /// What a name shows as a part of something that is worked out.
    fn seen(
        &mut self,
        name: &Name,
        what: Property,
        hertz: &mut Option<f64>,
        noise: &mut Noise,
    ) -> Result<Worth, Lack> {
        let nothing = || Lack::Nothing(name.clone());
        if what == Property::Value {
            let value = self.instrument(name).ok_or_else(nothing)?;
            return Ok(self.capability.seen(name, value.into()));
        }
        if let Some(meter) = self.inputs.meter(name) {
            let (seen, found) = self.inputs.seen(meter, what, noise)?;
            *hertz = hertz.or(found);
            return Ok(seen);
        }
        let mut read = |what| self.outputs.read(name, what);
        let value = match what {
            Property::Dc | Property::Rms => Complex64::from(read(what).ok_or_else(nothing)?),
            _ => {
                let size = read(Property::Magnitude).ok_or_else(nothing)?;
                // Of nothing there is no angle, and it does not matter.
                Complex64::from_polar(size, read(Property::Phase).unwrap_or_default())
            }
        };
        Ok(self.capability.seen(name, value))
    }

    /// A reading for the record; of meters and what is worked out with what it is uncertain by.
    pub(super) fn reading(
        &mut self,
        probe: &Probe,
        place: Option<Place>,
        noise: &mut Noise,
    ) -> Reading {
        let (angle, hertz) = (Dimension::ANGLE, Dimension::FREQUENCY);
        let mut reading = Reading { place, ..Reading::at_end(probe.clone(), Values::none()) };
        match self.measured(probe, noise) {
            Err(lack) => reading.lacks = Some(lack),
            Ok(m) => {
                let with = |values: Values, name, si: Option<f64>, dimension| match si {
                    Some(si) => values.with_quantity(name, Quantity { si, dimension }),
                    None => values,
                };
                let value = with(Values::none(), "value", Some(m.value), probe.dimension);
                let value = with(value, "angle", m.angle, angle);
                reading.value = with(value, "frequency", m.hertz, hertz);
                let u = |parts: &[Part]| Some(2.0 * combined(parts)).filter(|u| *u > 0.0);
                let [size, turn] = &m.parts;
                let size = with(Values::none(), "value", u(size), probe.dimension);
                reading.uncertainty = with(size, "angle", u(turn), angle);
                [reading.parts, reading.angle_parts] = m.parts;
            }
        }
        reading
    }
}
