//! What the procedures share: the rig's outputs and meters by what they are connected to, and points.

use waltron_core::grading::{Criterion, Finding, Limits, PointId, Value, Values, Verdict};
use waltron_core::injection::capability::{Capability, Channel};
use waltron_core::injection::measuring::{Lack, Probe, Property, Signal, Worked};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::stimulus::{Dc, Drive, Stimulus};
use waltron_core::procedure::SetupError;
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::{Current, Dimension, Frequency, Measure, Quantity, Voltage, degrees};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::{Cause, Estimate, Part};

fn output<'r, Q>(channels: &'r [Channel<Q>], meaning: &str) -> Result<&'r Channel<Q>, SetupError> {
    channels.iter().find(|c| c.meaning == meaning).ok_or_else(|| SetupError::Lacks {
        lacks: format!("no output for `{meaning}`"),
        what: "outputs",
    })
}

/// An alternating voltage on the output that is connected so.
pub(crate) fn voltage(
    rig: &Capability,
    meaning: &str,
    rms: Voltage,
    frequency: Frequency,
) -> Result<Stimulus, SetupError> {
    let channel = output(&rig.voltages, meaning)?.id.clone();
    let drive = Drive::sine(channel, Phasor::new(rms, degrees(0.0)), frequency);
    Ok(Stimulus { currents: Vec::new(), voltages: vec![drive] })
}

/// An alternating current.
pub(crate) fn current(
    rig: &Capability,
    meaning: &str,
    rms: Current,
    frequency: Frequency,
) -> Result<Stimulus, SetupError> {
    let channel = output(&rig.currents, meaning)?.id.clone();
    let drive = Drive::sine(channel, Phasor::new(rms, degrees(0.0)), frequency);
    Ok(Stimulus { currents: vec![drive], voltages: Vec::new() })
}

/// A direct current.
pub(crate) fn direct(
    rig: &Capability,
    meaning: &str,
    value: Current,
    frequency: Frequency,
) -> Result<Stimulus, SetupError> {
    let channel = output(&rig.currents, meaning)?.id.clone();
    let nothing = Phasor::new(Current::from_si(0.0), degrees(0.0));
    let mut drive = Drive::sine(channel, nothing, frequency);
    drive.dc = Some(Dc::constant(value));
    Ok(Stimulus { currents: vec![drive], voltages: Vec::new() })
}

/// A property of what a meter shows, or of the first over the second of two.
pub(crate) fn probe(rig: &Capability, of: &[&str], what: Property) -> Result<Probe, SetupError> {
    for meaning in of {
        let meter = rig.meters.iter().find(|m| m.meaning == *meaning);
        let fits = meter.is_some_and(|m| what.fits(m.coupling));
        if !fits {
            let kind = if what == Property::Dc { " that shows DC" } else { "" };
            let lacks = format!("no meter for `{meaning}`{kind}");
            return Err(SetupError::Lacks { lacks, what: "meters" });
        }
    }
    let signal: Signal = match of {
        [a, b] => Worked::Quotient([Signal::from(*a), Signal::from(*b)]).into(),
        _ => Signal::from(of.first().copied().unwrap_or_default()),
    };
    let mut probe = Probe { of: signal, what, dimension: Dimension::NUMBER };
    rig.restore(&mut probe);
    Ok(probe)
}

/// A point of a test.
pub(crate) fn point(test: &Name, what: &str) -> PointId {
    PointId { id: format!("{test}/{what}"), test: test.clone(), element: None, fault_loop: None }
}

/// A point that was injected, with nothing measured yet.
pub(crate) fn injected(point: PointId, criterion: Criterion, stimulus: &Values) -> Finding {
    let finding = Finding::not_tested(point, criterion, stimulus.clone(), "");
    Finding { verdict: Verdict::Inconclusive, ..finding }
}

/// What a probe showed at the end, with what it is uncertain by; else why it showed nothing.
pub(crate) fn shown(seen: &Observation, probe: &Probe) -> Result<Shown, String> {
    let reading = seen.at_end(probe).ok_or_else(|| format!("`{probe}` was not measured"))?;
    of(reading)
}

/// Whether a probe's meter was driven beyond its range at the end.
pub(crate) fn is_beyond_range(seen: &Observation, probe: &Probe) -> bool {
    let lack = seen.at_end(probe).and_then(|reading| reading.lacks.as_ref());
    matches!(lack, Some(Lack::BeyondRange(_)))
}

/// A reading's numbers.
pub(crate) fn of(reading: &waltron_core::injection::measuring::Reading) -> Result<Shown, String> {
    match (&reading.lacks, reading.value.get("value")) {
        (Some(lack), _) => Err(format!("no value: {lack}")),
        (None, None) => Err(format!("`{}` shows nothing", reading.probe)),
        (None, Some(value)) if !value.is_finite() => {
            Err(format!("`{}` shows no number", reading.probe))
        }
        (None, Some(value)) => Ok(Shown {
            value,
            angle: reading.value.get("angle").filter(|angle| angle.is_finite()),
            u: reading.uncertainty.get("value"),
            angle_u: reading.uncertainty.get("angle"),
            parts: [reading.parts.clone(), reading.angle_parts.clone()],
            name: reading.probe.to_string().into(),
            dimension: reading.probe.dimension,
        }),
    }
}

/// A measured value in SI, its angle in radians, and what they are uncertain by.
#[derive(Clone, Debug)]
pub(crate) struct Shown {
    pub(crate) value: f64,
    pub(crate) angle: Option<f64>,
    pub(crate) u: Option<f64>,
    pub(crate) angle_u: Option<f64>,
    /// What makes the value uncertain, and the angle.
    parts: [Vec<Part>; 2],
    /// What was read, and its dimension.
    name: Name,
    dimension: Dimension,
}

impl Shown {
    /// The value with what makes it uncertain.
    pub(crate) fn estimate(&self) -> Estimate {
        self.of(self.value, &self.parts[0], self.u, self.dimension)
    }

    /// The angle with what makes it uncertain, in radians.
    pub(crate) fn angle_estimate(&self) -> Option<Estimate> {
        Some(self.of(self.angle?, &self.parts[1], self.angle_u, Dimension::ANGLE))
    }

    /// A value with its parts; where only their sum is known, with that.
    fn of(&self, value: f64, parts: &[Part], u: Option<f64>, dimension: Dimension) -> Estimate {
        match u.filter(|_| parts.is_empty()) {
            Some(u) => {
                let u = Value::Plain(Quantity { si: u, dimension });
                Estimate::exact(value).with(Cause::expanded(self.name.clone(), u), 1.0)
            }
            None => Estimate::of_parts(value, parts),
        }
    }
}

/// Limits of a value from a tolerance, in its dimension.
pub(crate) fn between((low, high): (f64, f64), dimension: Dimension) -> Limits {
    let value = |si| Some(Value::Plain(Quantity { si, dimension }));
    Limits::Between { lower: value(low), upper: value(high) }
}
