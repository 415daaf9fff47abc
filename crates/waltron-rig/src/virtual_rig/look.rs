//! One look at everything that can be measured: meters, instruments, and the rig's own outputs.

use super::input::{Inputs, Moment};
use super::output::Outputs;
use num_complex::Complex64;
use waltron_core::grading::Values;
use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::{
    Lack, Place, Probe, Property, Reading, Seen, Signal, work_out,
};
use waltron_core::quantity::{Dimension, Quantity};
use waltron_core::text::name::Name;
use waltron_specimen::{Noise, Specimen};

/// A look at one moment.
pub(super) struct Look<'a> {
    capability: &'a Capability,
    specimen: &'a dyn Specimen,
    inputs: Inputs<'a>,
    outputs: Outputs<'a>,
}

/// What was measured, in SI, with what it is uncertain by where that is known here.
struct Measured {
    value: f64,
    angle: Option<f64>,
    hertz: Option<f64>,
    uncertain: Option<(f64, f64)>,
}

impl Measured {
    fn plain(value: f64) -> Self {
        Self { value, angle: None, hertz: None, uncertain: None }
    }
}

impl<'a> Look<'a> {
    pub(super) fn new(
        capability: &'a Capability,
        specimen: &'a dyn Specimen,
        moment: Moment<'a>,
        outputs: Outputs<'a>,
    ) -> Self {
        let inputs = Inputs::new(capability, specimen, moment);
        Self { capability, specimen, inputs, outputs }
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
                    Property::Value => self.specimen.reading(name.as_str()),
                    Property::Phasor => {
                        let seen = self.seen(name, probe.what, &mut None, noise)?;
                        let hertz = self.outputs.read(name, Property::Frequency, noise);
                        return Ok(Measured {
                            value: seen.value.norm(),
                            angle: hertz.map(|_| seen.value.arg()),
                            hertz,
                            uncertain: Some((seen.size, seen.angle)),
                        });
                    }
                    what => self.outputs.read(name, what, noise),
                };
                return read.map(Measured::plain).ok_or_else(|| Lack::Nothing(name.clone()));
            };
            let is_of_samples = matches!(probe.what, Property::Peak | Property::Integral);
            if !probe.what.can_be_worked_out() && !is_of_samples {
                return self.inputs.own(meter, probe.what, noise).map(Measured::plain);
            }
        }
        let (what, mut hertz) = (probe.what, None);
        let worth = work_out(&probe.of, &mut |name| self.seen(name, what, &mut hertz, noise))?;
        let (size, angle) = (worth.size_uncertainty(), worth.angle_uncertainty());
        let value = worth.value;
        Ok(match what {
            Property::Phasor => Measured {
                value: value.norm(),
                angle: (value != Complex64::ZERO).then(|| value.arg()),
                // A product has no frequency of its own that anybody wants to know.
                hertz: hertz.filter(|_| probe.of.name().is_some()),
                uncertain: Some((size, angle)),
            },
            Property::Magnitude => {
                Measured { uncertain: Some((size, angle)), ..Measured::plain(value.norm()) }
            }
            Property::Phase => {
                let uncertain = Some((angle, angle));
                Measured { uncertain, ..Measured::plain(value.arg()) }
            }
            _ => Measured { uncertain: Some((size, angle)), ..Measured::plain(value.re) },
        })
    }

    /// What a name shows as a part of something that is worked out.
    fn seen(
        &mut self,
        name: &Name,
        what: Property,
        hertz: &mut Option<f64>,
        noise: &mut Noise,
    ) -> Result<Seen, Lack> {
        let nothing = || Lack::Nothing(name.clone());
        if what == Property::Value {
            let value = self.specimen.reading(name.as_str()).ok_or_else(nothing)?;
            let size = self.capability.accuracy_of(name, value).map_or(0.0, |(size, _)| size);
            return Ok(Seen { value: value.into(), size, angle: 0.0 });
        }
        if let Some(meter) = self.inputs.meter(name) {
            let (seen, found) = self.inputs.seen(meter, what, noise)?;
            *hertz = hertz.or(found);
            return Ok(seen);
        }
        let mut read = |what| self.outputs.read(name, what, noise);
        let value = match what {
            Property::Dc | Property::Rms => Complex64::from(read(what).ok_or_else(nothing)?),
            _ => {
                let size = read(Property::Magnitude).ok_or_else(nothing)?;
                // Of nothing there is no angle, and it does not matter.
                Complex64::from_polar(size, read(Property::Phase).unwrap_or_default())
            }
        };
        let (size, angle) = self.capability.accuracy_of(name, value.norm()).unwrap_or_default();
        Ok(Seen { value, size, angle })
    }

    /// A reading for the record; of meters and what is worked out with what it is uncertain by.
    pub(super) fn reading(
        &mut self,
        probe: &Probe,
        place: Option<Place>,
        noise: &mut Noise,
    ) -> Reading {
        let (angle, hertz) = (Dimension::ANGLE, Dimension::FREQUENCY);
        let mut reading = Reading {
            probe: probe.clone(),
            place,
            value: Values::none(),
            uncertainty: Values::none(),
            lacks: None,
        };
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
                if let Some((size, turn)) = m.uncertain {
                    let size = with(Values::none(), "value", Some(size), probe.dimension);
                    reading.uncertainty = with(size, "angle", m.angle.map(|_| turn), angle);
                }
            }
        }
        reading
    }
}
