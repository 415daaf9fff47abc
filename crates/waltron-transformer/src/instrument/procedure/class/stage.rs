//! Ratio and polarity by a low voltage on the secondary, after a look with nothing put out.

use crate::instrument::asset::{InstrumentTransformer, Spot};
use crate::instrument::procedure::excite::wanted_emf;
use crate::measure::{is_beyond_range, of as shown_of, probe, shown, voltage};
use num_complex::Complex64;
use waltron_core::grading::Value;
use waltron_core::injection::measuring::{Probe, Property, Read, When};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Program, Segment};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::procedure::{Bench, SetupError};
use waltron_core::quantity::{Dimension, Measure, Quantity, Voltage, seconds};
use waltron_core::uncertainty::{Cause, Estimate};

/// With nothing out, then with a low voltage on the secondary.
#[derive(Debug)]
pub(super) struct RatioStage {
    out: Stimulus,
    volts: Probe,
    amps: Probe,
    primary: Probe,
    quiet: Probe,
}

pub(super) const QUIET: &str = "nothing out";

impl RatioStage {
    pub(super) fn new(
        of: &InstrumentTransformer,
        spot: &Spot,
        bench: Bench<'_>,
    ) -> Result<Self, SetupError> {
        let rig = bench.capability;
        let tap = of.tap(spot);
        let allowed = tap.test_voltage_v.unwrap_or(f64::INFINITY);
        // Well below the knee, where the core takes little.
        let wanted = wanted_emf(of, spot).map_or(allowed / 5.0, |e| e * 0.3);
        let range = rig.meter("secondary voltage").map_or(f64::INFINITY, |m| m.range);
        let output = rig.voltages.iter().find(|c| c.meaning == "secondary voltage");
        let source = output.map_or(f64::INFINITY, |c| c.range.si());
        let level = wanted.min(allowed / 2.0).min(range * 0.9).min(source);
        let volts = Voltage::from_si(level);
        Ok(Self {
            out: voltage(rig, "secondary voltage", volts, bench.frequency()?)?,
            volts: probe(rig, &["secondary voltage"], Property::Phasor)?,
            amps: probe(rig, &["secondary current"], Property::Phasor)?,
            primary: probe(rig, &["primary voltage"], Property::Phasor)?,
            quiet: probe(rig, &["primary voltage"], Property::Rms)?,
        })
    }

    pub(super) fn program(&self) -> Program {
        let mut quiet = Segment::hold(QUIET, Stimulus::off(), seconds(0.4));
        quiet.reads = vec![Read { probe: self.quiet.clone(), when: When::EachLevel }];
        let ratio = Segment::hold("ratio", self.out.clone(), seconds(2.0));
        let mut program = Program::of(vec![quiet, ratio]);
        program.reads = vec![self.volts.clone(), self.amps.clone(), self.primary.clone()];
        program
    }

    /// Whether the primary was beyond its meter's range.
    pub(super) fn is_beyond(&self, seen: &Observation) -> bool {
        is_beyond_range(seen, &self.primary)
    }

    /// What came of it, with the resistance that the winding had.
    pub(super) fn read(&self, seen: &Observation, winding_ohm: f64) -> Result<Ratio, String> {
        let of = |probe: &Probe| {
            let shown = shown(seen, probe)?;
            let angle =
                shown.angle_estimate().ok_or_else(|| format!("`{probe}` shows no phase"))?;
            Ok::<_, String>((shown.estimate(), angle))
        };
        let polar =
            |(size, angle): &(Estimate, Estimate)| Complex64::from_polar(size.value, angle.value);
        let (volts, primary) = (of(&self.volts)?, of(&self.primary)?);
        // What the meter cannot tell from nothing drops nothing.
        let amps = of(&self.amps).unwrap_or_default();
        let [v, p, i] = [&volts, &primary, &amps].map(polar);
        let emf = v - i * winding_ohm;
        let turns = emf.norm() / p.norm();
        // The drop is small: what it is uncertain by is told by its size alone.
        let dropped = volts.0.joined(&amps.0, emf.norm(), [emf.norm() / v.norm(), -winding_ohm]);
        let angle = primary.1.minus(&volts.1);
        // What is near nothing may have any angle.
        let vague = Cause::expanded(
            "primary voltage near nothing",
            Value::Plain(Quantity {
                si: primary.0.expanded() / p.norm(),
                dimension: Dimension::ANGLE,
            }),
        );
        let quiet = seen.in_segment(0, &self.quiet).last();
        let quiet = quiet.and_then(|r| shown_of(r).ok()).map_or(0.0, |s| s.value);
        Ok(Ratio {
            turns: dropped.over(&primary.0).function(turns, 1.0),
            angle: angle.function((p / emf).arg(), 1.0).with_beside(vague, 1.0),
            primary_v: [quiet, p.norm()],
        })
    }
}

/// What the ratio's measurement has shown.
#[derive(Clone, Debug)]
pub(super) struct Ratio {
    pub(super) turns: Estimate,
    pub(super) angle: Estimate,
    pub(super) primary_v: [f64; 2],
}
