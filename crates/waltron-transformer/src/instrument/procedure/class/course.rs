//! The course of a class through a place: its stages, and what comes of them.

use super::estimate::estimate;
use super::graded::{criterion, verdict};
use super::stage::{QUIET, Ratio, RatioStage};
use super::{ClassTest, how_warm};
use crate::instrument::analysis::criteria::Assessed;
use crate::instrument::analysis::{Burden, Evidence, assess};
use crate::instrument::asset::{InstrumentTransformer, Spot};
use crate::instrument::procedure::excitation::{KNEE, at_frequency, knee};
use crate::instrument::procedure::excite::{Curve, Excitation, read_curve};
use crate::instrument::procedure::plausible::{Kind as DoubtKind, Look, unread, verdict_of};
use crate::instrument::procedure::ratio::{RATIO, graded_polarity, graded_ratio};
use crate::instrument::procedure::remanence::{self, Remanence};
use crate::instrument::procedure::resistance::{self, CHARGE, Direct, RESISTANCE};
use crate::instrument::procedure::staged::{Course, Seen};
use crate::material::of_temperature;
use crate::measure::{between, injected, point};
use std::sync::Arc;
use waltron_core::grading::{Criterion, Finding, Judgement, Limits, PointId, Values, Verdict};
use waltron_core::injection::program::Program;
use waltron_core::procedure::{Answer, Bench, Planned, PlannedPoint, Question, SetupError};
use waltron_core::quantity::{Dimension, Measure, Quantity, seconds};
use waltron_core::uncertainty::Estimate;

/// What the nameplate does not tell, estimated.
const ESTIMATE: Criterion = Criterion::named("estimate");
/// A criterion of the class.
const CRITERION: Criterion = Criterion::named("class_criterion");

/// What is done at a place.
#[derive(Debug)]
struct PlaceWork {
    ratio: RatioStage,
    direct: Direct,
    excitation: Excitation,
    remanence: Option<Remanence>,
}

impl PlaceWork {
    fn new(
        test: &ClassTest,
        of: &InstrumentTransformer,
        spot: &Spot,
        bench: Bench<'_>,
    ) -> Result<Self, SetupError> {
        let frequency = bench.frequency()?;
        let direct = Direct::new(of, spot, bench.capability, test.current, frequency)?;
        let excitation = Excitation::new(of, spot, bench, test.resolution, test.until)?;
        let remanence = match remanence::is_wanted(of, spot) {
            true => Some(Remanence::new(of, spot, bench, &direct)?),
            false => None,
        };
        let ratio = RatioStage::new(of, spot, bench)?;
        Ok(Self { ratio, direct, excitation, remanence })
    }
}

#[derive(Clone, Debug)]
pub(super) struct OfClass {
    of: InstrumentTransformer,
    settings: ClassTest,
    hertz: f64,
    places: Arc<[(Spot, PlaceWork)]>,
}

/// Everything that was measured at a place.
struct Gathered {
    ratio: Result<Ratio, String>,
    /// Whether the primary was beyond its meter's range.
    is_beyond: bool,
    curve: Result<Curve, String>,
    /// As measured, in ohms.
    winding: Result<Estimate, String>,
    evidence: Evidence,
    /// The flux that was in the core before, as a share of saturation.
    before: Option<f64>,
}

impl OfClass {
    pub(super) fn new(
        test: &ClassTest,
        of: &InstrumentTransformer,
        spots: &[Spot],
        bench: Bench<'_>,
    ) -> Result<Self, SetupError> {
        let work = |spot: &Spot| Ok((spot.clone(), PlaceWork::new(test, of, spot, bench)?));
        let places = spots.iter().map(work).collect::<Result<_, SetupError>>()?;
        let hertz = bench.frequency()?.si();
        Ok(Self { of: of.clone(), settings: test.clone(), hertz, places })
    }

    fn work(&self, spot: &Spot) -> Option<&PlaceWork> {
        self.places.iter().find(|(of, _)| of == spot).map(|(_, work)| work)
    }

    fn connected(&self, spot: &Spot) -> Option<Burden> {
        let rated_a = self.of.secondary(spot).secondary.si;
        self.settings.connected.map(|(va, cos)| Burden::of_current(va, rated_a, cos))
    }

    fn assessed(&self, spot: &Spot, seen: &Evidence) -> Vec<Assessed> {
        let (secondary, tap) = (self.of.secondary(spot), self.of.tap(spot));
        match (tap.class, secondary.plate(tap, self.hertz)) {
            (Some(class), Some(plate)) => assess(class, &plate, seen, self.connected(spot)),
            _ => Vec::new(),
        }
    }

    fn gathered(&self, spot: &Spot, work: &PlaceWork, seen: &[Seen<'_>]) -> Gathered {
        let last = |name: &str| {
            let has = |program: &Program| program.segments.first().is_some_and(|s| s.name == name);
            seen.iter().rev().find(|(program, _)| has(program)).map(|(_, seen)| *seen)
        };
        let not = |what: &str| format!("the {what} was not measured");
        let winding = match last(CHARGE) {
            Some(seen) => work.direct.read(seen),
            None => Err(not("winding's resistance")),
        };
        let ohm = winding.as_ref().map_or(0.0, |ohm| ohm.value);
        let is_beyond = last(QUIET).is_some_and(|seen| work.ratio.is_beyond(seen));
        let ratio = match last(QUIET) {
            Some(seen) => work.ratio.read(seen, ohm),
            None => Err(not("ratio")),
        };
        let curve = match &winding {
            Ok(_) => read_curve(seen, ohm, self.hertz),
            Err(why) => Err(why.clone()),
        };
        let at_reference = winding.clone().and_then(|ohm| {
            let kelvin = self
                .settings
                .temperature_k
                .ok_or("the winding's temperature is not known: give the test's `temperature`")?;
            let factor = resistance::factor(&self.of, spot, kelvin);
            let slope = ohm.value * resistance::slope(&self.of, spot, kelvin);
            Ok(ohm.times(factor).with_beside(of_temperature(self.settings.temperature_u_k), slope))
        });
        let remanence = match (&work.remanence, &curve) {
            (None, _) => Err(not("remanence")),
            (Some(remanence), Ok(curve)) => {
                let saturation = curve.curve.saturation();
                remanence.read(seen, ohm, saturation, self.hertz)
            }
            (Some(_), Err(why)) => Err(why.clone()),
        };
        let evidence = Evidence {
            turns: ratio.as_ref().map(|r| r.turns.clone()).map_err(Clone::clone),
            winding: at_reference,
            curve: curve.as_ref().map(|c| c.curve.clone()).map_err(Clone::clone),
            remanence,
        };
        let before = (|| {
            let curve = &curve.as_ref().ok()?.curve;
            // Where the current went, the flux is that of the curve; what it rose less was there before.
            let end = curve.emf_at_peak(work.direct.current.si())?;
            let rose = work.direct.rise(last(CHARGE)?, ohm)?;
            let flux =
                |emf: f64| emf * std::f64::consts::SQRT_2 / (std::f64::consts::TAU * self.hertz);
            Some((flux(end) - rose) / flux(curve.saturation()?))
        })();
        Gathered { ratio, is_beyond, curve, winding, evidence, before }
    }

    fn point(&self, spot: &Spot, what: &str) -> PointId {
        point(&self.settings.test, &format!("{}{what}", spot.prefix))
    }
}

/// Nothing was measured.
fn nothing() -> Evidence {
    let not = || "not measured".to_owned();
    Evidence { turns: Err(not()), winding: Err(not()), curve: Err(not()), remanence: Err(not()) }
}

impl Course for OfClass {
    fn asks(&self) -> Option<Question> {
        self.settings.temperature_k.is_none().then(|| how_warm(&self.settings.test))
    }

    fn answered(&self, answer: &Answer) -> Option<Arc<dyn Course>> {
        let Answer::Si(kelvin) = answer else { return None };
        let settings = ClassTest { temperature_k: Some(*kelvin), ..self.settings.clone() };
        Some(Arc::new(Self { settings, ..self.clone() }))
    }

    fn planned(&self, spot: &Spot) -> Planned {
        let mut points = vec![
            PlannedPoint::certain(self.point(spot, "readings"), Criterion::CONDITION),
            PlannedPoint::certain(self.point(spot, "ratio"), RATIO),
            PlannedPoint::certain(self.point(spot, "polarity"), Criterion::CONDITION),
            PlannedPoint::certain(self.point(spot, "resistance"), RESISTANCE),
            PlannedPoint::certain(self.point(spot, "knee"), KNEE),
        ];
        let criteria = self.assessed(spot, &nothing());
        let of_class = |a: &Assessed| PlannedPoint::certain(self.point(spot, &a.key), CRITERION);
        points.extend(criteria.iter().map(of_class));
        if self.is_unknown(spot) {
            points.push(PlannedPoint::certain(self.point(spot, "estimate"), ESTIMATE));
        }
        if self.of.tap(spot).class.is_some() {
            points.push(PlannedPoint::certain(self.point(spot, "class"), Criterion::CONDITION));
        }
        let work = self.work(spot);
        let mut segments = Vec::new();
        let mut reads = Vec::new();
        let mut likely = seconds(0.0);
        if let Some(work) = work {
            let ratio = work.ratio.program();
            likely += ratio.longest().unwrap_or_default() + work.direct.likely();
            reads = ratio.reads.clone();
            segments.extend(ratio.segments);
            segments.extend(work.direct.program().segments);
            segments.extend(work.excitation.worst());
            likely += work.excitation.likely();
            if let Some(remanence) = &work.remanence {
                segments.extend(remanence.program().segments);
                likely += remanence.likely();
            }
        }
        let mut program = Program::of(segments);
        program.reads = reads;
        program.connection = spot.connection.clone();
        Planned {
            points,
            stimulus: self.work(spot).map_or_else(Values::none, |work| {
                Values::none().with("voltage", work.excitation.most())
            }),
            expected: Values::none(),
            limits: Limits::None,
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
        let has = |name: &str| {
            seen.iter().any(|(program, _)| program.segments.first().is_some_and(|s| s.name == name))
        };
        // Before direct current magnetises the core, so that what was there before shows.
        if !has(QUIET) {
            return Some(work.ratio.program());
        }
        if !has(CHARGE) {
            return Some(work.direct.program());
        }
        let charge =
            seen.iter().find(|(p, _)| p.segments.first().is_some_and(|s| s.name == CHARGE));
        let winding = charge.and_then(|(_, seen)| work.direct.read(seen).ok());
        if let Some(program) = work.excitation.next(seen, winding.map(|ohm| ohm.value)) {
            return Some(program);
        }
        work.remanence.as_ref().and_then(|remanence| remanence.next(seen))
    }

    fn grade(&self, spot: &Spot, seen: &[Seen<'_>]) -> Vec<Finding> {
        let Some(work) = self.work(spot) else { return Vec::new() };
        let all = self.gathered(spot, work, seen);
        let mut doubts = self.look(spot, &all).doubts();
        let lacks =
            [all.ratio.as_ref().err(), all.winding.as_ref().err(), all.curve.as_ref().err()];
        doubts.extend(unread(lacks));
        let of_readings =
            injected(self.point(spot, "readings"), Criterion::CONDITION, &Values::none());
        let mut found = vec![verdict_of(of_readings, &doubts)];
        found.extend(self.ratio(spot, &all));
        found.push(self.resistance(spot, work, seen));
        let of_knee = injected(self.point(spot, "knee"), KNEE, &Values::none());
        let mut of_knee = knee(of_knee, &self.of, spot, all.evidence.curve.as_ref());
        if let Ok(curve) = &all.curve {
            of_knee.reason.push_str(&at_frequency(curve.hertz, self.hertz));
        }
        found.push(of_knee);
        if self.is_unknown(spot) {
            let of_estimate = injected(self.point(spot, "estimate"), ESTIMATE, &Values::none());
            found.push(estimate(of_estimate, &self.of, spot, &all.evidence, self.hertz));
        }
        let assessed = self.assessed(spot, &all.evidence);
        let doubtful = doubts.iter().find(|d| d.kind == DoubtKind::HookUp);
        found.extend(assessed.iter().map(|a| {
            let found = injected(self.point(spot, &a.key), CRITERION, &Values::none());
            criterion(found, a, doubtful)
        }));
        if let Some(class) = self.of.tap(spot).class {
            let found_class =
                injected(self.point(spot, "class"), Criterion::CONDITION, &Values::none());
            let judged = verdict(class, &assessed, &doubts);
            found.push(found_class.judged(judged));
        }
        found
    }
}

impl OfClass {
    /// Whether the nameplate lacks what can be estimated.
    fn is_unknown(&self, spot: &Spot) -> bool {
        self.of.tap(spot).primary.is_none()
    }

    fn look<'a>(&'a self, spot: &'a Spot, all: &'a Gathered) -> Look<'a> {
        let ratio = all.ratio.as_ref().ok();
        Look {
            of: &self.of,
            spot,
            primary_v: ratio.map(|r| r.primary_v),
            turns: ratio.map(|r| r.turns.value),
            is_beyond: all.is_beyond,
            before: all.before,
            winding_ohm: all.evidence.winding.as_ref().ok().map(|ohm| ohm.value),
            curve: all.curve.as_ref().ok(),
        }
    }

    fn ratio(&self, spot: &Spot, all: &Gathered) -> [Finding; 2] {
        let rated = self.of.secondary(spot).ratio(self.of.tap(spot));
        let expected = match rated {
            Some(ratio) => Values::none().with_quantity("ratio", Quantity::number(ratio)),
            None => Values::none(),
        };
        let limits = rated.map_or(Limits::None, |ratio| {
            between(self.of.ratio_tolerance.limits(ratio), Dimension::NUMBER)
        });
        let of_ratio = injected(self.point(spot, "ratio"), RATIO, &Values::none());
        let of_ratio = Finding { expected, limits, ..of_ratio };
        let polarity =
            injected(self.point(spot, "polarity"), Criterion::CONDITION, &Values::none());
        match &all.ratio {
            Ok(ratio) => {
                let mut of_ratio = graded_ratio(of_ratio, &ratio.turns, rated);
                if all.winding.is_ok() {
                    of_ratio.reason.push_str("; the drop in the winding is taken off");
                }
                [of_ratio, graded_polarity(polarity, Some(ratio.angle.clone()))]
            }
            Err(why) => {
                let open = |found: Finding| {
                    found.judged(Judgement::new(Verdict::Inconclusive, why.clone()))
                };
                [open(of_ratio), open(polarity)]
            }
        }
    }

    fn resistance(&self, spot: &Spot, work: &PlaceWork, seen: &[Seen<'_>]) -> Finding {
        let stimulus = Values::none().with("current", work.direct.current);
        let found = injected(self.point(spot, "resistance"), RESISTANCE, &stimulus);
        let (limits, expected) = resistance::required(&self.of, spot);
        let found = Finding { expected, limits, ..found };
        let has = |program: &Program| program.segments.first().is_some_and(|s| s.name == CHARGE);
        let Some((_, seen)) = seen.iter().rev().find(|(program, _)| has(program)) else {
            return found.judged(Judgement::new(Verdict::Inconclusive, "it was not measured"));
        };
        let reference_k = self.of.secondary(spot).reference_k;
        let Some(temperature_k) = self.settings.temperature_k else {
            let told = resistance::Told::as_measured(reference_k);
            let found = resistance::graded(found, &work.direct, seen, told);
            let why = "the winding's temperature is not known: give the test's `temperature`";
            let verdict =
                if found.limits.is_none() { Verdict::Measured } else { Verdict::Inconclusive };
            return found.judged(Judgement::new(verdict, why));
        };
        let told = resistance::Told {
            temperature_k,
            reference_k,
            factor: resistance::factor(&self.of, spot, temperature_k),
            slope: resistance::slope(&self.of, spot, temperature_k),
            uncertainty_k: self.settings.temperature_u_k,
        };
        resistance::graded(found, &work.direct, seen, told)
    }
}
