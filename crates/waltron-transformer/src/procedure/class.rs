//! Everything that a class asks, at every place, unattended: ratio and polarity, winding resistance,
//! excitation, remanence; then the verdict criterion by criterion.

use super::excitation::{KNEE, at_frequency, knee, until};
use super::excite::{Curve, Excitation, Resolution, read_curve};
use super::measure::{injected, point, probe, shown, transformer, voltage};
use super::places::{spots, wanted};
use super::plausible::{Doubt, Kind as DoubtKind, Look, verdict_of};
use super::ratio::{RATIO, graded_polarity, graded_ratio};
use super::remanence::{self, Remanence};
use super::resistance::{self, CHARGE, Direct, RESISTANCE};
use super::staged::{Course, Seen, Staged, all_again, grade_again};
use super::voltage::OfVoltageClass;
use crate::analysis::criteria::{Assessed, Met, Of};
use crate::analysis::{Burden, Class, Evidence, KneeKind, assess, meets};
use crate::asset::{InstrumentTransformer, Kind, Spot, Tap, Wanted};
use num_complex::Complex64;
use schemars::JsonSchema;
use serde::Deserialize;
use std::any::Any;
use std::sync::Arc;
use waltron_core::asset::Asset;
use waltron_core::grading::{
    Criterion, Finding, Grade, Judgement, Limits, Value, Values, Verdict, judge_between,
};
use waltron_core::injection::measuring::{Probe, Property, Read, When};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Program, Segment};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::procedure::{
    Bench, Method, Planned, PlannedPoint, Procedure, SetupError, TestHead, TestKeys,
};
use waltron_core::quantity::{
    Current, Dimension, Measure, Quantity, Voltage, seconds, significant,
};
use waltron_core::text::document::{
    AnyQuantityText, Field, Number, Problem, Problems, QuantityText, Text,
};
use waltron_core::text::name::Name;

/// What the nameplate does not tell, estimated.
const ESTIMATE: Criterion = Criterion::named("estimate");
/// A criterion of the class.
const CRITERION: Criterion = Criterion::named("class_criterion");

/// Every criterion of the class of every place: ratio and polarity, winding resistance, excitation and
/// remanence measured from the secondary, errors worked out from them.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ClassKeys {
    /// The windings' temperature, such as `23 degC`; what depends on it is inconclusive if not given.
    temperature: Option<AnyQuantityText>,
    /// `fine` (default) or `quick`.
    resolution: Option<Resolution>,
    /// Where excitation ends: a current, a voltage, or a flux such as `0.9 V/Hz`; where the class has seen
    /// enough if not given.
    until: Option<AnyQuantityText>,
    /// Direct current for the winding's resistance; a tenth of the rated secondary current if not given.
    current: Option<QuantityText<Current>>,
    /// What is really connected to the secondary in service, in VA; assessed besides the rated burden.
    connected: Option<AnyQuantityText>,
    /// Its power factor; 1 if not given.
    connected_power_factor: Option<Number>,
    /// Of this phase only.
    phase: Option<Text>,
    /// Of this core only.
    core: Option<Text>,
    /// At this tap only.
    tap: Option<Text>,
}

/// A class test with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub struct ClassTest {
    pub(super) test: Name,
    temperature_k: Option<f64>,
    pub(super) resolution: Resolution,
    until: Option<Quantity>,
    current: Option<Current>,
    /// Apparent power in VA and power factor.
    connected: Option<(f64, f64)>,
    wanted: Wanted,
}

impl TestKeys for ClassKeys {
    fn read(
        &self,
        head: TestHead<'_>,
        asset: &Asset,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        if let Err(error) = transformer(asset) {
            problems.push(Problem::new(head.id.span(), error.to_string()));
            return None;
        }
        let until = until(self.until.as_ref(), problems)?;
        let temperature_k = match &self.temperature {
            Some(field) => Some(field.positive_of(Dimension::TEMPERATURE, problems)?.si),
            None => None,
        };
        let current = match &self.current {
            Some(field) => Some(field.positive(problems)?),
            None => None,
        };
        let factor = match &self.connected_power_factor {
            Some(field) => {
                let factor = field.positive(problems)?;
                if factor > 1.0 {
                    let message = "a power factor lies between 0 and 1";
                    problems.push(Problem::new(field.span(), message));
                    return None;
                }
                factor
            }
            None => 1.0,
        };
        let connected = match &self.connected {
            Some(field) => Some((field.positive_of(Dimension::POWER, problems)?.si, factor)),
            None => None,
        };
        let (phase, core, tap) = (self.phase.as_ref(), self.core.as_ref(), self.tap.as_ref());
        let wanted = wanted(phase, core, tap, head, asset, problems)?;
        Some(Arc::new(ClassTest {
            test: head.name(),
            temperature_k,
            resolution: self.resolution.unwrap_or_default(),
            until,
            current,
            connected,
            wanted,
        }))
    }
}

impl ClassTest {
    fn course(&self, bench: Bench<'_>) -> Result<(Arc<dyn Course>, Vec<Spot>), SetupError> {
        let (of, spots) = spots(bench.asset, &self.wanted)?;
        if of.kind == Kind::Voltage {
            let course = OfVoltageClass::new(self, of, &spots, bench)?;
            return Ok((Arc::new(course), spots));
        }
        let places =
            spots.iter().map(|spot| Ok((spot.clone(), PlaceWork::new(self, of, spot, bench)?)));
        let places = places.collect::<Result<_, SetupError>>()?;
        let hertz = bench.frequency()?.si();
        let course = OfClass { of: of.clone(), settings: self.clone(), hertz, places };
        Ok((Arc::new(course), spots))
    }
}

impl Method for ClassTest {
    fn word(&self) -> &'static str {
        "class"
    }

    fn set_up(&self, bench: Bench<'_>) -> Result<Box<dyn Procedure>, SetupError> {
        let (course, spots) = self.course(bench)?;
        Ok(Box::new(Staged::new(course, spots)))
    }

    fn precautions(&self) -> Vec<String> {
        vec![
            "Connect current and voltage to the winding by wires of their own (four wires)"
                .to_owned(),
        ]
    }

    fn grade_again(
        &self,
        bench: Bench<'_>,
        measured: &Grade,
        served: &[(&Program, &Observation)],
    ) -> Result<Finding, String> {
        let (course, spots) = self.course(bench).map_err(|e| e.to_string())?;
        grade_again(&*course, &spots, measured, served)
    }

    fn all_again(
        &self,
        bench: Bench<'_>,
        served: &[(&Program, &Observation)],
    ) -> Option<Vec<Finding>> {
        let (course, spots) = self.course(bench).ok()?;
        all_again(&*course, &spots, served)
    }

    fn as_any(&self) -> &dyn Any {
        self
    }

    fn is_same(&self, other: &dyn Method) -> bool {
        other.as_any().downcast_ref() == Some(self)
    }
}

/// What is done at a place.
#[derive(Debug)]
struct PlaceWork {
    ratio: RatioStage,
    direct: Direct,
    excitation: Excitation,
    remanence: Option<Remanence>,
}

/// With nothing out, then with a low voltage on the secondary.
#[derive(Debug)]
struct RatioStage {
    out: Stimulus,
    volts: Probe,
    amps: Probe,
    primary: Probe,
    quiet: Probe,
}

const QUIET: &str = "nothing out";

impl RatioStage {
    fn new(of: &InstrumentTransformer, spot: &Spot, bench: Bench<'_>) -> Result<Self, SetupError> {
        let rig = bench.capability;
        let tap = of.tap(spot);
        let allowed = tap.test_voltage_v.unwrap_or(f64::INFINITY);
        // Well below the knee, where the core takes little.
        let wanted = super::excite::wanted_emf(of, spot).map_or(allowed / 5.0, |e| e * 0.3);
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

    fn program(&self) -> Program {
        let mut quiet = Segment::hold(QUIET, Stimulus::off(), seconds(0.4));
        quiet.reads = vec![Read { probe: self.quiet.clone(), when: When::EachLevel }];
        let ratio = Segment::hold("ratio", self.out.clone(), seconds(2.0));
        let mut program = Program::of(vec![quiet, ratio]);
        program.reads = vec![self.volts.clone(), self.amps.clone(), self.primary.clone()];
        program
    }

    /// What came of it, with the resistance that the winding had.
    fn read(&self, seen: &Observation, winding_ohm: f64) -> Result<Ratio, String> {
        let of = |probe: &Probe| {
            let shown = shown(seen, probe)?;
            let angle = shown.angle.ok_or_else(|| format!("`{probe}` shows no phase"))?;
            let u = shown.u.unwrap_or(0.0);
            Ok::<_, String>((Complex64::from_polar(shown.value, angle), u, shown.angle_u))
        };
        let ((v, u_v, a_v), (p, u_p, a_p)) = (of(&self.volts)?, of(&self.primary)?);
        // What the meter cannot tell from nothing drops nothing.
        let (i, u_i, _) = of(&self.amps).unwrap_or_default();
        let emf = v - i * winding_ohm;
        let turns = emf.norm() / p.norm();
        let shares = [u_v / v.norm(), u_p / p.norm(), u_i * winding_ohm / v.norm()];
        let quiet = seen.in_segment(0, &self.quiet).last();
        let quiet = quiet.and_then(|r| super::measure::of(r).ok()).map_or(0.0, |s| s.value);
        Ok(Ratio {
            turns,
            u: turns * shares.iter().map(|s| s * s).sum::<f64>().sqrt(),
            angle: (p / emf).arg(),
            angle_u: a_v.zip(a_p).map(|(a, b)| a.hypot(b)).map(|u| u.max(u_p / p.norm())),
            primary_v: [quiet, p.norm()],
        })
    }
}

/// What the ratio's measurement has shown.
#[derive(Clone, Debug)]
struct Ratio {
    turns: f64,
    u: f64,
    angle: f64,
    angle_u: Option<f64>,
    primary_v: [f64; 2],
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

#[derive(Debug)]
struct OfClass {
    of: InstrumentTransformer,
    settings: ClassTest,
    hertz: f64,
    places: Vec<(Spot, PlaceWork)>,
}

/// Everything that was measured at a place.
struct Gathered {
    ratio: Result<Ratio, String>,
    curve: Result<Curve, String>,
    /// As measured, in ohms.
    winding: Result<(f64, Option<f64>), String>,
    evidence: Evidence,
    /// The flux that was in the core before, as a share of saturation.
    before: Option<f64>,
}

impl OfClass {
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
        let ohm = winding.as_ref().map_or(0.0, |(ohm, _)| *ohm);
        let ratio = match last(QUIET) {
            Some(seen) => work.ratio.read(seen, ohm),
            None => Err(not("ratio")),
        };
        let curve = match &winding {
            Ok(_) => read_curve(seen, ohm, self.hertz),
            Err(why) => Err(why.clone()),
        };
        let at_reference = winding.clone().and_then(|(ohm, u)| {
            let kelvin = self
                .settings
                .temperature_k
                .ok_or("the winding's temperature is not known: give the test's `temperature`")?;
            let factor = resistance::factor(&self.of, spot, kelvin);
            Ok((ohm * factor, u.unwrap_or(0.0) * factor))
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
            turns: ratio.as_ref().map(|r| (r.turns, r.u)).map_err(Clone::clone),
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
        Gathered { ratio, curve, winding, evidence, before }
    }

    fn point(&self, spot: &Spot, what: &str) -> waltron_core::grading::PointId {
        point(&self.settings.test, &format!("{}{what}", spot.prefix))
    }
}

/// Nothing was measured.
fn nothing() -> Evidence {
    let not = || "not measured".to_owned();
    Evidence { turns: Err(not()), winding: Err(not()), curve: Err(not()), remanence: Err(not()) }
}

impl Course for OfClass {
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
            stimulus: Values::none(),
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
        if let Some(program) = work.excitation.next(seen, winding.map(|(ohm, _)| ohm)) {
            return Some(program);
        }
        work.remanence.as_ref().and_then(|remanence| remanence.next(seen))
    }

    fn grade(&self, spot: &Spot, seen: &[Seen<'_>]) -> Vec<Finding> {
        let Some(work) = self.work(spot) else { return Vec::new() };
        let all = self.gathered(spot, work, seen);
        let doubts = self.look(spot, &all).doubts();
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
            turns: ratio.map(|r| r.turns),
            before: all.before,
            winding_ohm: all.evidence.winding.as_ref().ok().map(|(ohm, _)| *ohm),
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
            super::measure::between(self.of.ratio_tolerance.limits(ratio), Dimension::NUMBER)
        });
        let of_ratio = injected(self.point(spot, "ratio"), RATIO, &Values::none());
        let of_ratio = Finding { expected, limits, ..of_ratio };
        let polarity =
            injected(self.point(spot, "polarity"), Criterion::CONDITION, &Values::none());
        match &all.ratio {
            Ok(ratio) => {
                let mut of_ratio = graded_ratio(of_ratio, ratio.turns, Some(ratio.u), rated);
                if all.winding.is_ok() {
                    of_ratio.reason.push_str("; the drop in the winding is taken off");
                }
                [of_ratio, graded_polarity(polarity, Some(ratio.angle), ratio.angle_u)]
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
            let told = resistance::Told { temperature_k: reference_k, reference_k, factor: 1.0 };
            let found = resistance::graded(found, &work.direct, seen, told);
            let why = "the winding's temperature is not known: give the test's `temperature`";
            let verdict =
                if found.limits.is_none() { Verdict::Measured } else { Verdict::Inconclusive };
            return found.judged(Judgement::new(verdict, why));
        };
        let factor = resistance::factor(&self.of, spot, temperature_k);
        let told = resistance::Told { temperature_k, reference_k, factor };
        resistance::graded(found, &work.direct, seen, told)
    }
}

/// What a place may be by its values, where its nameplate does not tell its ratio or its class.
fn estimate(
    found: Finding,
    of: &InstrumentTransformer,
    spot: &Spot,
    seen: &Evidence,
    hertz: f64,
) -> Finding {
    let (secondary, tap) = (of.secondary(spot), of.tap(spot));
    let Ok((turns, u)) = &seen.turns else {
        return found.judged(Judgement::new(Verdict::Inconclusive, "the ratio was not measured"));
    };
    let measured_a = turns * secondary.secondary.si;
    let primary_a = tap.primary.map_or_else(|| standard(measured_a), |p| p.si);
    let off = measured_a / primary_a - 1.0;
    let mut told = format!(
        "estimated: {} A / {}, from a ratio of {} ± {} ({} % from the standard value)",
        significant(primary_a, 4),
        secondary.secondary,
        significant(*turns, 5),
        significant(*u, 2),
        significant(off * 100.0, 2)
    );
    if let Ok(curve) = &seen.curve {
        let knee = curve.knees().into_iter().find(|k| k.kind == KneeKind::TenFifty);
        told.push_str(&knee.map_or_else(
            || "; no knee point was reached".to_owned(),
            |k| format!("; knee point {} V", significant(k.emf_v, 4)),
        ));
    }
    let with = Tap {
        primary: Some(Quantity { si: primary_a, ..secondary.secondary }),
        burden_va: tap.burden_va.or(Some(ESTIMATED_VA)),
        ..tap.clone()
    };
    if tap.class.is_none()
        && let Some(plate) = secondary.plate(&with, hertz)
    {
        let met = meets::table(&plate, seen).into_iter().filter(|m| m.met == Met::Yes);
        let met: Vec<String> = met.map(|m| m.class).collect();
        let va = significant(with.burden_va.unwrap_or_default(), 3);
        told.push_str(&match met.is_empty() {
            true => format!("; at {va} VA it meets no class that could be told"),
            false => format!("; at {va} VA it would meet {}", met.join(", ")),
        });
    }
    told.push_str("; put what holds into the asset's file and grade again");
    let ratio = Quantity::number(*turns);
    let measured = Values::none().with_quantity("ratio", ratio);
    Finding { measured, ..found }.judged(Judgement::new(Verdict::Measured, told))
}

/// The burden at which an unknown class is estimated, where the nameplate tells none.
const ESTIMATED_VA: f64 = 10.0;

/// The nearest standard primary current (IEC 61869-2, 5.201.1).
fn standard(amps: f64) -> f64 {
    const STEPS: [f64; 11] = [1.0, 1.25, 1.5, 2.0, 2.5, 3.0, 4.0, 5.0, 6.0, 7.5, 8.0];
    let decade = 10f64.powf(amps.log10().floor());
    let all = STEPS.iter().chain(&[10.0, 12.0]).map(|step| step * decade);
    let off = |v: &f64| (v / amps).ln().abs();
    all.min_by(|a, b| off(a).total_cmp(&off(b))).unwrap_or(amps)
}

/// The verdict of a class as a whole.
pub(super) fn verdict(class: Class, assessed: &[Assessed], doubts: &[Doubt]) -> Judgement {
    let (met, why) = meets::decided(assessed);
    let doubtful = doubts.iter().find(|d| d.kind == DoubtKind::HookUp);
    let defect = doubts.iter().find(|d| d.kind == DoubtKind::Defect);
    match (met, doubtful, defect) {
        (_, Some(doubt), _) => {
            Judgement::new(Verdict::Inconclusive, format!("doubtful: {}", doubt.words))
        }
        // Whoever puts it into service must not read a pass.
        (Met::Yes, None, Some(_)) => Judgement::new(
            Verdict::Inconclusive,
            format!("class {class} is met by the values, but see the readings"),
        ),
        (Met::Yes, None, None) => {
            Judgement::new(Verdict::Pass, format!("class {class} is met; closest: {why}"))
        }
        (Met::No, ..) => Judgement::new(Verdict::Fail, format!("class {class} is not met: {why}")),
        (Met::Open, ..) => {
            Judgement::new(Verdict::Inconclusive, format!("class {class} is not proved: {why}"))
        }
    }
}

/// A criterion as a point.
pub(super) fn criterion(found: Finding, a: &Assessed, doubtful: Option<&Doubt>) -> Finding {
    let value = |si: f64| match a.of {
        Of::Share => Value::Percent(si),
        Of::Minutes => Value::Minutes((si / 60.0).to_radians()),
        Of::Number => Value::Plain(Quantity::number(si)),
        Of::Volt => Value::Plain(Quantity { si, dimension: Dimension::VOLTAGE }),
        Of::Ampere => Value::Plain(Quantity { si, dimension: Dimension::CURRENT }),
        Of::Ohm => Value::Plain(Quantity { si, dimension: Dimension::RESISTANCE }),
    };
    let limits = match (a.lower, a.upper) {
        (None, None) => Limits::None,
        (lower, upper) => Limits::Between { lower: lower.map(value), upper: upper.map(value) },
    };
    let found = Finding { limits, ..found };
    let si = match &a.value {
        Ok(si) => *si,
        Err(why) => {
            let why = format!("{}: {why}", a.what);
            return found.judged(Judgement::new(Verdict::Inconclusive, why));
        }
    };
    let name = match a.of {
        Of::Share => "error",
        Of::Minutes => "phase",
        Of::Number => "factor",
        Of::Volt => "voltage",
        Of::Ampere => "current",
        Of::Ohm => "resistance",
    };
    let mut measured = Values::none().with_value(name, value(si));
    let mut words = a.what.clone();
    if let Some(margin) = a.margin() {
        measured = measured.with_percent("margin", margin);
        words.push_str(&format!(", margin {} %", significant(margin * 100.0, 2)));
    }
    let uncertainty = Values::none().with_value("u", value(a.u));
    let found = Finding { measured, uncertainty, ..found };
    let quantity = match value(si) {
        Value::Plain(q) => q,
        other => Quantity::number(other.si()),
    };
    let (low, high) = (found.limits.lower(), found.limits.upper());
    let judged = match (low, high) {
        (None, None) => Judgement::new(Verdict::Measured, "nothing is rated"),
        (low, high) => {
            judge_between(quantity, low.unwrap_or(f64::NEG_INFINITY), high.unwrap_or(f64::INFINITY))
        }
    };
    let judged = match doubtful {
        Some(doubt) => {
            Judgement::new(Verdict::Inconclusive, format!("{words}; doubtful: {}", doubt.words))
        }
        None if a.of == Of::Minutes && judged.verdict == Verdict::Fail => {
            Judgement::new(Verdict::Fail, format!("{words}: outside the limits"))
        }
        None if judged.verdict == Verdict::Fail => {
            Judgement { reason: format!("{words}: {}", judged.reason), ..judged }
        }
        None => Judgement { reason: words, ..judged },
    };
    found.judged(judged)
}
