//! What a rig measures, and how well.

use super::{Capability, Instrument};
use crate::grading::Value;
use crate::injection::measuring::{Coupling, Meter, Probe, Property, Signal, Worth};
use crate::quantity::{Dimension, Measure, Quantity};
use crate::text::name::{Name, nearest};
use crate::uncertainty::{Accuracy, Cause, Estimate};
use num_complex::Complex64;

/// How well something is measured, or put out.
struct Stated<'a> {
    id: &'a Name,
    accuracy: Accuracy,
    angle: f64,
    dimension: Dimension,
}

impl Capability {
    /// The names that can be measured, meters first.
    pub fn measurable(&self) -> Vec<&Name> {
        let meters = self.meters.iter().map(|m| &m.meaning);
        let instruments = self.readings.iter().map(|r| &r.name);
        let outputs = self.currents.iter().map(|c| &c.id);
        meters
            .chain(instruments)
            .chain(outputs)
            .chain(self.voltages.iter().map(|c| &c.id))
            .collect()
    }

    /// What a named input measures, or an output is; `None` where there is none of this name.
    pub fn dimension_of(&self, name: &Name) -> Option<Dimension> {
        let name = name.as_str();
        let meter = self.meter(name).map(|m| m.dimension);
        meter
            .or_else(|| self.reading(name).map(|r| r.dimension))
            .or_else(|| self.channel_dimension(name))
    }

    /// Gives a probe the dimension of what it measures; it does not cross the edge of the program.
    pub fn restore(&self, probe: &mut Probe) {
        let of = match probe.what {
            Property::ActivePower | Property::ReactivePower => Some(Dimension::POWER),
            _ => probe.of.dimension(&|name| self.dimension_of(name)),
        };
        probe.dimension = probe.what.dimension(of.unwrap_or(Dimension::NUMBER));
    }

    /// Whether something can be measured.
    pub fn measures(&self, probe: &Probe) -> bool {
        self.why_unmeasured(probe).is_none()
    }

    /// Why something cannot be measured, as a sentence; `None` where it can.
    pub fn why_unmeasured(&self, probe: &Probe) -> Option<String> {
        if matches!(probe.what, Property::ActivePower | Property::ReactivePower) {
            return None;
        }
        if probe.of.name().is_none() && !probe.what.can_be_worked_out() {
            return Some(format!(
                "`{probe}` cannot be worked out: only magnitude, angle, true RMS and direct values can"
            ));
        }
        let by_computer = |n: &&Name| self.reading(n.as_str()).is_some_and(|r| r.by_computer);
        if probe.of.name().is_none()
            && let Some(name) = probe.of.names().into_iter().find(by_computer)
        {
            return Some(format!(
                "`{name}` is read by the computer, and the rig works out only what it reads itself"
            ));
        }
        for name in probe.of.names() {
            let is_instrument = self.reading(name.as_str()).is_some();
            if is_instrument != (probe.what == Property::Value) && is_instrument {
                return Some(format!(
                    "`{name}` has a value, and nothing else that could be told of it"
                ));
            }
            if self.dimension_of(name).is_none()
                || (probe.what == Property::Value && !is_instrument)
            {
                let all = self.measurable();
                let near = nearest(name.as_str(), all.iter().map(|n| n.as_str()));
                let near = near.map_or_else(String::new, |near| format!("; is `{near}` meant?"));
                return Some(format!("the rig does not measure `{name}`{near}"));
            }
            let coupling = self.meter(name.as_str()).map_or(Coupling::Both, |m| m.coupling);
            if !probe.what.fits(coupling) {
                let word = coupling.word();
                return Some(format!("the meter of `{name}` shows {word} only"));
            }
        }
        probe
            .of
            .dimension(&|name| self.dimension_of(name))
            .is_none()
            .then(|| format!("`{}` takes the difference of two different quantities", probe.of))
    }

    /// Whether a value is one that a probe can show.
    pub fn shows(&self, probe: &Probe, si: f64) -> bool {
        let most = match (&probe.of, probe.what) {
            (Signal::Named(name), Property::Value) => {
                self.reading(name.as_str()).and_then(|r| r.most)
            }
            _ => None,
        };
        si.is_finite() && most.is_none_or(|most| si.abs() <= most)
    }

    /// What a meter, an instrument or an output shows, with what makes it uncertain: its own errors of size, offset and
    /// angle, each of which stays what it is from look to look.
    pub fn seen(&self, name: &Name, value: Complex64) -> Worth {
        let Some(stated) = self.stated(name) else { return Worth::seen(value, Vec::new()) };
        let Stated { id, accuracy, angle, dimension } = stated;
        let size = value.norm();
        let turn = if size > 0.0 { value / size } else { Complex64::ONE };
        let plain = |si, dimension| Value::Plain(Quantity { si, dimension });
        let cause =
            |what: &str, width: Value| Cause::of(accuracy.means, format!("{id} {what}"), width);
        let width = accuracy.width(size);
        let mut moves = Vec::new();
        if width.size > 0.0 && size > 0.0 {
            moves.push((cause("size", Value::Percent(width.size / size)), value));
        } else if width.size > 0.0 {
            moves.push((cause("size", plain(width.size, dimension)), turn));
        }
        if width.offset > 0.0 {
            moves.push((cause("offset", plain(width.offset, dimension)), turn));
        }
        if angle > 0.0 {
            moves.push((cause("angle", plain(angle, Dimension::ANGLE)), Complex64::I * value));
        }
        Worth::seen(value, moves)
    }

    /// How well something is measured, or put out.
    fn stated(&self, name: &Name) -> Option<Stated<'_>> {
        if let Some(Meter { id, accuracy, angle_accuracy, dimension, .. }) =
            self.meter(name.as_str())
        {
            let (accuracy, angle, dimension) = (*accuracy, angle_accuracy.si(), *dimension);
            return Some(Stated { id, accuracy, angle, dimension });
        }
        if let Some(Instrument { name: id, accuracy, dimension, .. }) = self.reading(name.as_str())
        {
            let (accuracy, dimension) = ((*accuracy)?, *dimension);
            return Some(Stated { id, accuracy, angle: 0.0, dimension });
        }
        let current = self.currents.iter().find(|c| c.id == *name);
        let current = current.map(|c| (&c.id, c.accuracy, c.angle_accuracy, Dimension::CURRENT));
        let voltage = self.voltages.iter().find(|c| c.id == *name);
        let voltage = voltage.map(|c| (&c.id, c.accuracy, c.angle_accuracy, Dimension::VOLTAGE));
        let (id, accuracy, angle, dimension) = current.or(voltage)?;
        Some(Stated { id, accuracy, angle: angle.si(), dimension })
    }

    /// What a meter's, an instrument's or an output's value of so much is uncertain by (k = 2), in SI:
    /// its size, and its angle in radians. `None` where nothing is stated.
    pub fn accuracy_of(&self, name: &Name, si: f64) -> Option<(f64, f64)> {
        let stated = self.stated(name)?;
        let angle = 2.0 * stated.accuracy.means.standard(stated.angle);
        Some((stated.accuracy.expanded(si), angle))
    }

    /// A measured value with what makes it uncertain; `None` where nothing is stated, and of what is worked out.
    pub fn estimate(&self, probe: &Probe, si: f64) -> Option<Estimate> {
        let name = probe.of.name()?;
        let has_size = matches!(
            probe.what,
            Property::Value
                | Property::Rms
                | Property::Magnitude
                | Property::Phasor
                | Property::Dc
                | Property::Peak
        );
        if !has_size {
            return self.of_wave(probe, si, None);
        }
        self.stated(name)?;
        Some(self.seen(name, si.into()).real())
    }

    /// A wave's frequency, angle, share of a harmonic or distortion, with what makes it uncertain; `None` where nothing
    /// is stated that tells it. `fundamental` is the size of the wave that it is of, in SI, where that is known: without
    /// it, an accuracy that does not go by the size alone tells nothing.
    pub fn of_wave(&self, probe: &Probe, si: f64, fundamental: Option<f64>) -> Option<Estimate> {
        let name = probe.of.name()?;
        if probe.what == Property::Frequency {
            let (share, _) = self.timing_accuracy.linear();
            let clock = Cause::of(self.timing_accuracy.means, "clock", Value::Percent(share));
            return (share > 0.0).then(|| Estimate::exact(si).with(clock, si));
        }
        let stated = self.stated(name)?;
        let (share, amount) = stated.accuracy.linear();
        let size = match (fundamental, amount) {
            (Some(size), _) if size > 0.0 => size,
            (_, 0.0) => 1.0,
            _ => return None,
        };
        let of_size = self.seen(name, size.into()).real().times(1.0 / size);
        match probe.what {
            Property::Harmonic(_) | Property::Thd => Some(of_size.function(si, 1.0)),
            Property::Phase if share + stated.angle > 0.0 => {
                let turned = self.seen(name, Complex64::from_polar(size, si)).angle()?;
                Some(turned.function(si, 1.0))
            }
            _ => None,
        }
    }

    /// The largest value that a named input shows, or an output puts out, with its unit.
    pub fn most_of(&self, name: &Name) -> Option<Quantity> {
        let dimension = self.dimension_of(name)?;
        let meter = self.meter(name.as_str()).map(|m| m.range);
        let si = meter.or_else(|| self.reading(name.as_str()).and_then(|r| r.most))?;
        Some(Quantity { si, dimension })
    }
}
