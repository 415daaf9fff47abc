//! Demagnetising, with the remanence before and after: a direct current into saturation of both signs tells
//! where the flux was; an alternating voltage that falls from beyond the knee takes it away.

use super::excitation::of_current;
use super::excite::{Excitation, Resolution};
use super::places::{spots, wanted};
use super::resistance::{DISCHARGED, Direct};
use super::staged::{Course, Seen, Staged, all_again, grade_again};
use crate::instrument::asset::{InstrumentTransformer, Spot, Wanted};
use crate::measure::{direct, injected, of as shown_of, point, probe};
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::grading::{Criterion, Finding, Grade, Judgement, Limits, Value, Values, Verdict};
use waltron_core::injection::measuring::{Probe, Property, Read, When};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Condition, Program, Relation, Segment, Stop, Then};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::procedure::{
    Bench, FamilyKeys, Method, Planned, PlannedPoint, Procedure, SetupError, TestHead,
};
use waltron_core::quantity::{Current, Measure, seconds, significant};
use waltron_core::text::document::{AnyQuantityText, Field, Problem, Problems, QuantityText, Text};
use waltron_core::text::name::Name;

/// What stays in the core is small.
const REMANENCE: Criterion = Criterion::named("remanence");

/// The share of its saturation flux below which a core is demagnetised.
const CLEAN: f64 = 0.1;

/// Demagnetises, and shows that it worked: the remanence before and after.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct DemagnetiseKeys {
    /// Direct current that saturates the core; half of the rated secondary current if not given.
    current: Option<QuantityText<Current>>,
    /// The winding's resistance as it is now; measured from the direct current if not given.
    resistance: Option<AnyQuantityText>,
    /// Of this phase only.
    phase: Option<Text>,
    /// Of this core only.
    core: Option<Text>,
    /// At this tap only; at the whole winding if not given.
    tap: Option<Text>,
}

/// A demagnetisation with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub struct DemagnetiseTest {
    test: Name,
    current: Option<Current>,
    resistance_ohm: Option<f64>,
    wanted: Wanted,
}

impl FamilyKeys for DemagnetiseKeys {
    type Family = InstrumentTransformer;

    fn read_for(
        &self,
        head: TestHead<'_>,
        of: &InstrumentTransformer,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        of_current(head, of, problems)?;
        let current = match &self.current {
            Some(field) => Some(field.positive(problems)?),
            None => None,
        };
        let resistance_ohm = match &self.resistance {
            Some(field) => {
                let dimension = waltron_core::quantity::Dimension::RESISTANCE;
                Some(field.positive_of(dimension, problems)?.si)
            }
            None => None,
        };
        let (phase, core, tap) = (self.phase.as_ref(), self.core.as_ref(), self.tap.as_ref());
        let wanted = wanted(phase, core, tap, head, of, problems)?;
        if current.is_some_and(|c| c.si().is_nan()) {
            problems.push(Problem::new(head.id.span(), "the current is no number"));
            return None;
        }
        Some(Arc::new(DemagnetiseTest { test: head.name(), current, resistance_ohm, wanted }))
    }
}

#[derive(Debug)]
struct PlaceWork {
    direct: Direct,
    /// Into saturation of one sign and of the other.
    out: [Stimulus; 2],
    current: Current,
    excitation: Excitation,
    flux: [Probe; 2],
    flowing: Probe,
    ratio: Probe,
}

const BEFORE: &str = "saturate";
const SECOND: &str = "saturate the other way";

impl PlaceWork {
    /// From where the flux is into saturation, then into that of the other sign.
    fn swing(&self) -> Program {
        let enough = |sign: f64| Condition::Reading {
            probe: self.flowing.clone(),
            relation: if sign > 0.0 { Relation::AtLeast } else { Relation::AtMost },
            limit_si: sign * self.current.si() * 0.95,
        };
        let [volts, amps] = &self.flux;
        let reads = [volts, amps, &self.ratio]
            .map(|probe| Read { probe: probe.clone(), when: When::EachLevel });
        let segment = |name: &str, k: usize, sign: f64| {
            // The resistance is read here, too: it must be that of the settled current.
            let settled =
                Condition::Stable { probe: self.ratio.clone(), within: 1e-3, time: seconds(0.5) };
            let when = Condition::All(vec![enough(sign), settled]);
            let stop = Stop { when, then: Then::Next };
            let mut segment = Segment::hold(name, self.out[k].clone(), seconds(20.0)).until(stop);
            segment.reads = reads.to_vec();
            segment
        };
        let discharge = || self.direct.discharge(self.current, DISCHARGED);
        let mut back = discharge();
        back.reads = reads[..2].to_vec();
        let second = segment(SECOND, 1, -1.0);
        self.direct.discharged(Program::of(vec![
            segment(BEFORE, 0, 1.0),
            back,
            second,
            discharge(),
        ]))
    }

    /// The flux before, as a share of that of saturation, and the saturation flux in V·s.
    fn flux(&self, seen: &Observation, ohm: Option<f64>) -> Option<(f64, f64)> {
        let read = |segment: usize, probe: &Probe| {
            let reading = seen.in_segment(segment, probe).last()?;
            shown_of(reading).ok().map(|shown| shown.value)
        };
        let ohm = ohm.or_else(|| read(0, &self.ratio))?;
        let [volts, amps] = &self.flux;
        let moved = |segment| Some(read(segment, volts)? - ohm * read(segment, amps)?);
        let rose = moved(0)?;
        // Back to nothing, and on to the other sign: twice the saturation flux in all.
        let fell = moved(1)? + moved(2)?;
        let saturation = -fell / 2.0;
        (saturation > 0.0).then_some(((saturation - rose) / saturation, saturation))
    }
}

#[derive(Debug)]
struct OfDemagnetising {
    test: Name,
    resistance_ohm: Option<f64>,
    places: Vec<(Spot, PlaceWork)>,
}

impl DemagnetiseTest {
    fn course(&self, bench: Bench<'_>) -> Result<(OfDemagnetising, Vec<Spot>), SetupError> {
        let (of, spots) = spots(bench.asset, &self.wanted)?;
        // A core is demagnetised by any of its taps: by the whole winding, if nothing else is wanted.
        let whole = |spot: &Spot| {
            self.wanted.tap.is_some() || std::ptr::eq(of.tap(spot), of.secondary(spot).whole())
        };
        let spots: Vec<Spot> = spots.into_iter().filter(whole).collect();
        let (rig, frequency) = (bench.capability, bench.frequency()?);
        let work = |spot: &Spot| {
            let rated = of.secondary(spot).secondary.si;
            let current = self.current.unwrap_or(Current::from_si(rated / 2.0));
            let sides = ["secondary voltage", "secondary current"];
            let work = PlaceWork {
                direct: Direct::new(of, spot, rig, Some(current), frequency)?,
                out: [
                    direct(rig, "secondary current", current, frequency)?,
                    direct(rig, "secondary current", -current, frequency)?,
                ],
                current,
                excitation: Excitation::new(of, spot, bench, Resolution::Quick, None)?,
                flux: [
                    probe(rig, &sides[..1], Property::Integral)?,
                    probe(rig, &sides[1..], Property::Integral)?,
                ],
                flowing: probe(rig, &sides[1..], Property::Dc)?,
                ratio: probe(rig, &sides, Property::Dc)?,
            };
            Ok((spot.clone(), work))
        };
        let places = spots.iter().map(work).collect::<Result<_, SetupError>>()?;
        let (test, resistance_ohm) = (self.test.clone(), self.resistance_ohm);
        Ok((OfDemagnetising { test, resistance_ohm, places }, spots))
    }
}

impl Method for DemagnetiseTest {
    fn word(&self) -> &'static str {
        "demagnetise"
    }

    fn set_up(&self, bench: Bench<'_>) -> Result<Box<dyn Procedure>, SetupError> {
        let (course, spots) = self.course(bench)?;
        Ok(Box::new(Staged::new(Arc::new(course), spots)))
    }

    fn grade_again(
        &self,
        bench: Bench<'_>,
        measured: &Grade,
        served: &[(&Program, &Observation)],
    ) -> Result<Finding, String> {
        let (course, spots) = self.course(bench)?;
        grade_again(&course, &spots, measured, served)
    }

    fn all_again(
        &self,
        bench: Bench<'_>,
        served: &[(&Program, &Observation)],
    ) -> Option<Vec<Finding>> {
        let (course, spots) = self.course(bench).ok()?;
        all_again(&course, &spots, served)
    }
}

fn is_swing(program: &Program) -> bool {
    program.segments.first().is_some_and(|s| s.name == BEFORE)
}

impl OfDemagnetising {
    fn work(&self, spot: &Spot) -> Option<&PlaceWork> {
        self.places.iter().find(|(of, _)| of == spot).map(|(_, work)| work)
    }
}

impl Course for OfDemagnetising {
    fn planned(&self, spot: &Spot) -> Planned {
        let of_place = point(&self.test, &format!("{}remanence", spot.prefix));
        let (mut program, mut likely) = (Program::default(), seconds(20.0));
        if let Some(work) = self.work(spot) {
            program = work.swing();
            program.segments.extend(work.excitation.worst());
            likely += work.excitation.likely() * 2.0;
        }
        program.connection = spot.connection.clone();
        Planned {
            points: vec![PlannedPoint::certain(of_place, REMANENCE)],
            stimulus: Values::none(),
            expected: Values::none(),
            limits: limits(),
            program: Arc::new(program),
            likely,
            place: None,
            not_tested: None,
            is_exact: false,
            also: Vec::new(),
        }
    }

    fn next(&self, spot: &Spot, seen: &[Seen<'_>]) -> Option<Program> {
        let work = self.work(spot)?;
        let swings: Vec<usize> =
            seen.iter().enumerate().filter(|(_, (p, _))| is_swing(p)).map(|(k, _)| k).collect();
        match swings[..] {
            [] => Some(work.swing()),
            // Measuring what is left magnetises again, so that it is demagnetised twice.
            [first] => {
                work.excitation.next(&seen[first + 1..], None).or_else(|| Some(work.swing()))
            }
            [_, second, ..] => work.excitation.next(&seen[second + 1..], None),
        }
    }

    fn grade(&self, spot: &Spot, seen: &[Seen<'_>]) -> Vec<Finding> {
        let Some(work) = self.work(spot) else { return Vec::new() };
        let of_place = point(&self.test, &format!("{}remanence", spot.prefix));
        let stimulus = Values::none().with("current", work.current);
        let found = Finding { limits: limits(), ..injected(of_place, REMANENCE, &stimulus) };
        let swings: Vec<&Observation> =
            seen.iter().filter(|(p, _)| is_swing(p)).map(|(_, seen)| *seen).collect();
        let flux = |k: usize| swings.get(k).and_then(|s| work.flux(s, self.resistance_ohm));
        let (Some((before, whole)), Some((after, _))) = (flux(0), flux(1)) else {
            let why = "the flux was not measured before and after";
            return vec![found.judged(Judgement::new(Verdict::Inconclusive, why))];
        };
        let percent = |share: f64| significant(share.abs() * 100.0, 2);
        let told = format!(
            "before {} %, after {} % of {} V·s",
            percent(before),
            percent(after),
            significant(whole, 3)
        );
        let measured =
            Values::none().with_percent("after", after.abs()).with_percent("before", before.abs());
        let judged = match after.abs() <= CLEAN {
            true => Judgement::new(Verdict::Pass, told),
            false => Judgement::new(Verdict::Fail, format!("still magnetised: {told}")),
        };
        vec![Finding { measured, ..found }.judged(judged)]
    }
}

fn limits() -> Limits {
    Limits::Between { lower: None, upper: Some(Value::Percent(CLEAN)) }
}
