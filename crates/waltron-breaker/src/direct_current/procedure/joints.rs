//! Resistances of contacts and joints: a direct current through each, four wires.

use super::judging::{Found, JOINT, judged, point, quantity, required};
use super::source::{CLOSE, direct};
use crate::direct_current::asset::{DcBreaker, Joint, amps};
use crate::four_wire;
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::grading::{Finding, Judgement, Values, Verdict};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::Probe;
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Program, Segment, Switching};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::procedure::{
    Bench, FamilyKeys, Measuring, Method, Planned, PlannedPoint, SetupError, Shot, Shots, TestHead,
};
use waltron_core::quantity::{Current, Dimension, Time, seconds};
use waltron_core::text::document::{Field, Problem, Problems, QuantityText};
use waltron_core::text::name::Name;

/// The output that feeds what is measured, and the meters at it.
const PLACE_A: &str = "joint current";
const PLACE_V: &str = "joint voltage";

/// The resistance of the contacts and of every joint.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct JointResistanceKeys {
    /// The current, at least 50 A; 100 A, or what breaker and rig allow, if not given.
    current: Option<QuantityText<Current>>,
    /// How long it flows; 2 s if not given.
    time: Option<QuantityText<Time>>,
}

#[derive(Clone, Debug, PartialEq)]
struct JointResistance {
    test: Name,
    current: Option<Current>,
    time: Time,
}

impl FamilyKeys for JointResistanceKeys {
    type Family = DcBreaker;

    fn read_for(
        &self,
        head: TestHead<'_>,
        of: &DcBreaker,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        if of.joints.is_empty() {
            let problem =
                Problem::new(head.id.span(), "the breaker's file names no joint to be measured");
            problems.push(problem.help("add `[[joint]]` with `id = \"main contacts\"` to it"));
            return None;
        }
        let current = four_wire::current(self.current.as_ref(), of.rated_a, problems)?;
        let time = self.time.as_ref().map_or(Some(seconds(2.0)), |t| t.positive(problems))?;
        Some(Arc::new(JointResistance { test: head.name(), current, time }))
    }
}

impl JointResistance {
    /// What is fed, and how the resistance is read.
    fn setup(
        &self,
        of: &DcBreaker,
        rig: &Capability,
    ) -> Result<(f64, Stimulus, Probe), SetupError> {
        let channel = four_wire::output(rig, PLACE_A)?;
        let fed = four_wire::fed(self.current, channel, of.rated_a)?;
        let probe = four_wire::quotient(rig, PLACE_V, PLACE_A)?;
        let out = Stimulus { currents: vec![direct(channel, fed)], voltages: Vec::new() };
        Ok((fed, out, probe))
    }

    fn program(&self, joint: &Joint, out: &Stimulus, probe: &Probe, rig: &Capability) -> Program {
        let mut segments = Vec::new();
        let output: Name = CLOSE.into();
        if rig.switches(&output) {
            for (name, closed) in [("close", true), ("settle", false)] {
                let mut segment = Segment::hold(name, Stimulus::off(), seconds(0.3));
                segment.switches = vec![Switching { output: output.clone(), closed }];
                segments.push(segment);
            }
        }
        segments.push(Segment::hold("current", out.clone(), self.time));
        let mut program = Program::of(segments);
        program.reads = vec![probe.clone()];
        program.connection = Some(joint.name.as_str().into());
        program
    }
}

fn graded(
    of: &DcBreaker,
    found: Finding,
    joint: &str,
    probe: &Probe,
    seen: &Observation,
) -> Finding {
    let untold =
        |found: Finding, why: String| found.judged(Judgement::new(Verdict::Inconclusive, why));
    match four_wire::reading(seen, probe) {
        Err(why) => untold(found, format!("{why}; is it closed?")),
        Ok(estimate) => {
            let of_value = |si| quantity(si, Dimension::RESISTANCE);
            let measured = Values::none().with_quantity("resistance", of_value(estimate.value));
            let note = format!("resistance of {joint}");
            judged(of, found, Found { measured, estimate, note })
        }
    }
}

impl Measuring for JointResistance {
    const WORD: &'static str = "joint-resistance";

    fn shots(&self, bench: Bench<'_>) -> Result<Shots, SetupError> {
        let of: &DcBreaker = bench.family()?;
        let (fed, out, probe) = self.setup(of, bench.capability)?;
        let shot = |joint: &Joint| {
            let at = point(&self.test, &format!("resistance/{}", joint.name));
            let stimulus = Values::none().with_quantity("current", amps(fed));
            let found = Finding::not_tested(at.clone(), JOINT, stimulus.clone(), "");
            let limits = required(of, &found);
            let found = Finding { limits: limits.clone(), ..found };
            let planned = Planned {
                points: vec![PlannedPoint::certain(at, JOINT)],
                stimulus,
                expected: Values::none(),
                limits,
                program: Arc::new(self.program(joint, &out, &probe, bench.capability)),
                likely: self.time + seconds(0.6),
                place: None,
                not_tested: None,
                is_exact: true,
                also: Vec::new(),
            };
            let (of, probe, name) = (of.clone(), probe.clone(), joint.name.clone());
            let grade =
                move |seen: &Observation| vec![graded(&of, found.clone(), &name, &probe, seen)];
            Shot { planned, grade: Arc::new(grade) }
        };
        Ok(Shots::new(of.joints.iter().map(shot).collect()))
    }

    fn first_see_to(&self) -> Vec<String> {
        vec!["Connect current and voltage to each joint by wires of their own (four wires), the voltage inside".to_owned()]
    }
}
