//! Remanence: a direct current into saturation and back to nothing; the flux that stays is the integral of
//! what the winding showed (IEC 61869-2:2012, 2E.2).

use super::resistance::Direct;
use super::staged::Seen;
use crate::instrument::analysis::Class;
use crate::instrument::asset::{InstrumentTransformer, Spot};
use crate::measure::{direct, of as shown_of, probe};
use std::f64::consts::{SQRT_2, TAU};
use waltron_core::grading::Value;
use waltron_core::injection::measuring::{Probe, Property, Read, When};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Condition, Program, Relation, Segment, Stop, Then};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::procedure::{Bench, SetupError};
use waltron_core::quantity::{Current, Measure, Time, seconds};
use waltron_core::uncertainty::{Cause, Estimate};

/// The segment in which the core is magnetised.
const MAGNETISE: &str = "magnetise";

/// The share of the current that counts as nothing: a core with a gap holds flux by little.
const GONE: f64 = 0.0005;

/// How the remanence of a place is measured. The core must be demagnetised before.
#[derive(Debug)]
pub(super) struct Remanence {
    current: Current,
    out: Stimulus,
    direct: Direct,
    volts: Probe,
    amps: Probe,
    flowing: Probe,
}

/// Whether a place's class limits remanence.
pub(super) fn is_wanted(of: &InstrumentTransformer, spot: &Spot) -> bool {
    match of.tap(spot).class {
        Some(
            Class::Protection { is_low_remanence, .. } | Class::KneePoint { is_low_remanence },
        ) => is_low_remanence,
        Some(Class::Transient(kind)) => kind.remanence().is_some(),
        _ => false,
    }
}

impl Remanence {
    pub(super) fn new(
        of: &InstrumentTransformer,
        spot: &Spot,
        bench: Bench<'_>,
        like: &Direct,
    ) -> Result<Self, SetupError> {
        let rig = bench.capability;
        let rated = of.secondary(spot).secondary.si;
        let output = rig.currents.iter().find(|c| c.meaning == "secondary current");
        let most = output.map_or(f64::INFINITY, |c| c.range.si());
        let current = Current::from_si((0.5 * rated).min(most));
        let frequency = bench.frequency()?;
        Ok(Self {
            current,
            out: direct(rig, "secondary current", current, frequency)?,
            direct: like.clone(),
            volts: probe(rig, &["secondary voltage"], Property::Integral)?,
            amps: probe(rig, &["secondary current"], Property::Integral)?,
            flowing: probe(rig, &["secondary current"], Property::Dc)?,
        })
    }

    pub(super) fn program(&self) -> Program {
        let reads = |probes: &[&Probe]| {
            let read = |p: &&Probe| Read { probe: (*p).clone(), when: When::EachLevel };
            probes.iter().map(read).collect::<Vec<_>>()
        };
        let there = Condition::Reading {
            probe: self.flowing.clone(),
            relation: Relation::AtLeast,
            limit_si: self.current.si() * 0.95,
        };
        let mut magnetise = Segment::hold(MAGNETISE, self.out.clone(), seconds(30.0))
            .until(Stop { when: there, then: Then::Next });
        magnetise.reads = reads(&[&self.volts, &self.amps]);
        let mut let_go = self.direct.discharge(self.current, GONE);
        let_go.reads = reads(&[&self.amps]);
        self.direct.discharged(Program::of(vec![magnetise, let_go]))
    }

    pub(super) fn likely(&self) -> Time {
        seconds(5.0)
    }

    pub(super) fn next(&self, seen: &[Seen<'_>]) -> Option<Program> {
        (!seen.iter().any(|(program, _)| is_of(program))).then(|| self.program())
    }

    /// The remanence factor; `saturation_v` is the e.m.f. of the saturation
    /// flux at a frequency.
    ///
    /// # Errors
    /// Why there is none.
    pub(super) fn read(
        &self,
        seen: &[Seen<'_>],
        winding_ohm: f64,
        saturation_v: Option<f64>,
        hertz: f64,
    ) -> Result<Estimate, String> {
        let found = seen.iter().rev().find(|(program, _)| is_of(program));
        let (_, seen) = found.ok_or("the remanence was not measured")?;
        let saturation = saturation_v.ok_or("the saturation flux was not reached")?;
        let whole = saturation * SQRT_2 / (TAU * hertz);
        let of = |segment: usize, probe: &Probe| of_segment(seen, segment, probe);
        let (volts, amps) = (of(0, &self.volts)?, of(0, &self.amps)?);
        let back = of(1, &self.amps)?;
        let most = volts.clone().minus(&amps.times(winding_ohm));
        if most.value < whole * 0.9 {
            return Err("the direct current did not saturate the core".to_owned());
        }
        let reached = most.value / whole;
        let stays = most.minus(&back.times(winding_ohm)).times(1.0 / whole);
        let method = Cause::expanded("method", Value::Percent(0.01));
        Ok(stays.with_beside(method, reached))
    }
}

fn is_of(program: &Program) -> bool {
    program.segments.first().is_some_and(|s| s.name == MAGNETISE)
}

fn of_segment(seen: &Observation, segment: usize, probe: &Probe) -> Result<Estimate, String> {
    let reading = seen.in_segment(segment, probe).last().ok_or("a reading is missing")?;
    Ok(shown_of(reading)?.estimate())
}
