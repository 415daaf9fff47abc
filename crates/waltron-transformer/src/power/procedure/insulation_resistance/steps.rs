//! Insulation resistances by the rig: a direct voltage that is held, and read at its times.

use super::graded::{Part, Reading, Required, parts};
use super::keys::InsulationResistanceTest;
use super::{HELD, INDEX, RESISTANCE};
use crate::measure::{of as shown, probe};
use crate::power::asset::PowerTransformer;
use crate::power::procedure::joint::{Joint, Step};
use crate::power::procedure::put_on::PutOn;
use std::sync::Arc;
use waltron_core::grading::{Values, Verdict};
use waltron_core::injection::measuring::{Probe, Property, Read, When};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Program, Segment};
use waltron_core::injection::stimulus::{Dc, Drive, Stimulus};
use waltron_core::procedure::{Bench, PlannedPoint, SetupError};
use waltron_core::quantity::phasor::Phasor;
use waltron_core::quantity::{Measure, Voltage, degrees, seconds};
use waltron_core::uncertainty::Estimate;

pub(super) fn joint(
    test: &InsulationResistanceTest,
    of: &PowerTransformer,
    bench: Bench<'_>,
) -> Result<Joint, SetupError> {
    let rig = bench.capability;
    let sides = ["insulation voltage", "leakage current"];
    let resistance = probe(rig, &sides, Property::Dc)?;
    let amps = probe(rig, &sides[1..], Property::Dc)?;
    let output = rig.voltages.iter().find(|c| c.meaning == *sides[0]);
    let output = output.ok_or_else(|| SetupError::Lacks {
        lacks: format!("no output for `{}`", sides[0]),
        what: "outputs",
    })?;
    let mut steps = Vec::new();
    let parts = parts(of);
    let put_on = put_on(test, &parts, output.range.si())?;
    for part in parts {
        let volts = put_on.on(part.most_v);
        let nothing = Phasor::new(Voltage::from_si(0.0), degrees(0.0));
        let mut drive = Drive::sine(output.id.clone(), nothing, bench.frequency()?);
        drive.dc = Some(Dc::constant(volts));
        let out = Stimulus { currents: Vec::new(), voltages: vec![drive] };
        let mut before = 0.0;
        let mut segments = Vec::new();
        for time in &test.times_s {
            let mut segment = Segment::hold(HELD, out.clone(), seconds(time - before));
            let read = |probe: &Probe| Read { probe: probe.clone(), when: When::EachLevel };
            segment.reads = [&resistance, &amps].into_iter().map(read).collect();
            segments.push(segment);
            before = *time;
        }
        let mut program = Program::of(segments);
        program.connection = Some(part.leads.as_str().into());
        program.earth = Some(part.name.as_str().into());
        let stimulus = Values::none().with("voltage", volts);
        let mut step = Step::of(program, stimulus, seconds(before));
        let required = Required::new(test, of, &part, Some(volts));
        step.planned.limits = required.limits();
        step.planned.points = vec![PlannedPoint::certain(required.resistance.clone(), RESISTANCE)];
        let index = required.index.iter().cloned();
        step.planned.points.extend(index.map(|id| PlannedPoint::certain(id, INDEX)));
        let (resistance, amps) = (resistance.clone(), amps.clone());
        step.grade = Arc::new(move |seen: &Observation| match readings(seen, &resistance, &amps) {
            Ok(readings) => required.graded(&readings, ""),
            Err(why) => required.none(Verdict::Inconclusive, &why),
        });
        steps.push(step);
    }
    Ok(Joint::new(steps, Vec::new()))
}

/// What is put on the parts.
pub(super) fn put_on(
    test: &InsulationResistanceTest,
    parts: &[Part],
    range_v: f64,
) -> Result<PutOn, SetupError> {
    PutOn::new(test.voltage, range_v, parts.iter().map(|part| (part.name.as_str(), part.most_v)))
}

/// What was read at the end of each segment, by the time since the voltage came.
fn readings(seen: &Observation, resistance: &Probe, amps: &Probe) -> Result<Vec<Reading>, String> {
    let mut all = Vec::new();
    for k in 0..seen.segments.len() {
        let last = |probe: &Probe| {
            let reading = seen.in_segment(k, probe).last();
            reading.ok_or_else(|| format!("`{probe}` was not measured"))
        };
        let reading = last(resistance)?;
        let time = reading.place.map(|p| p.time.si()).ok_or("a reading has no time")?;
        let current = shown(last(amps)?)?;
        let read = shown(reading)?;
        // Less than the meter knows is more than any resistance that it could tell.
        if current.u.is_some_and(|u| current.value.abs() < u) {
            return Err("the current is less than the meter knows: a lead is off, or a finer meter is wanted".to_owned());
        }
        all.push((time, reading.estimate().unwrap_or_else(|| Estimate::exact(read.value))));
    }
    Ok(all)
}
