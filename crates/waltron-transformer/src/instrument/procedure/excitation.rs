//! The excitation curve by itself, with its knee points.

use super::excite::{Excitation, Resolution, read_curve};
use super::places::{spots, wanted};
use super::staged::{Course, Seen, Staged, all_again, grade_again};
use crate::instrument::analysis::{ExcitationCurve, KneeKind};
use crate::instrument::asset::{InstrumentTransformer, Kind, Spot, Wanted};
use crate::measure::{injected, point};
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::grading::{
    Criterion, Finding, Grade, Judgement, Limits, Value, Values, Verdict, judge_between,
};
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::Program;
use waltron_core::procedure::{
    Bench, FamilyKeys, Method, Planned, PlannedPoint, Procedure, SetupError, TestHead,
};
use waltron_core::quantity::{Dimension, Quantity, significant};
use waltron_core::text::document::{AnyQuantityText, Field, Problem, Problems, Text};
use waltron_core::text::name::Name;

/// Where the core begins to saturate.
pub(super) const KNEE: Criterion = Criterion::named("knee");

/// Excitation from beyond the knee downwards: the curve, knee points by every definition; the core is
/// left demagnetised.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ExcitationKeys {
    /// `fine` (default) or `quick`.
    resolution: Option<Resolution>,
    /// Where it ends: a current, a voltage, or a flux such as `0.9 V/Hz`; where the class has seen enough
    /// if not given.
    until: Option<AnyQuantityText>,
    /// Whether voltage and current of the saturated core are kept as waveforms beside the record; false if
    /// not given.
    waveforms: Option<bool>,
    /// The winding's resistance as it is now; the maker's value if not given.
    resistance: Option<AnyQuantityText>,
    /// Of this phase only.
    phase: Option<Text>,
    /// Of this core only.
    core: Option<Text>,
    /// At this tap only.
    tap: Option<Text>,
}

/// An excitation test with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub struct ExcitationTest {
    test: Name,
    resolution: Resolution,
    until: Option<Quantity>,
    waveforms: bool,
    resistance_ohm: Option<f64>,
    wanted: Wanted,
}

/// A current transformer's test, or why it is none.
pub(super) fn of_current(
    head: TestHead<'_>,
    of: &InstrumentTransformer,
    problems: &mut Problems,
) -> Option<()> {
    if of.kind == Kind::Current {
        return Some(());
    }
    problems.push(Problem::new(head.id.span(), "current transformers are tested so"));
    None
}

/// What `until` may be.
pub(super) fn until(
    field: Option<&AnyQuantityText>,
    problems: &mut Problems,
) -> Option<Option<Quantity>> {
    let Some(field) = field else { return Some(None) };
    let allowed = [Dimension::CURRENT, Dimension::VOLTAGE, Dimension::VOLTS_PER_HERTZ];
    let mut unheard = Problems::default();
    for dimension in allowed {
        if let Some(found) = field.positive_of(dimension, &mut unheard) {
            return Some(Some(found));
        }
    }
    let message = "`until` is a current, a voltage, or a flux such as `0.9 V/Hz`, above zero";
    problems.push(Problem::new(field.span(), message));
    None
}

impl FamilyKeys for ExcitationKeys {
    type Family = InstrumentTransformer;

    fn read_for(
        &self,
        head: TestHead<'_>,
        of: &InstrumentTransformer,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        of_current(head, of, problems)?;
        let until = until(self.until.as_ref(), problems)?;
        let resistance_ohm = match &self.resistance {
            Some(field) => Some(field.positive_of(Dimension::RESISTANCE, problems)?.si),
            None => None,
        };
        let (phase, core, tap) = (self.phase.as_ref(), self.core.as_ref(), self.tap.as_ref());
        let wanted = wanted(phase, core, tap, head, of, problems)?;
        let resolution = self.resolution.unwrap_or_default();
        let test = head.name();
        let waveforms = self.waveforms.unwrap_or(false);
        Some(Arc::new(ExcitationTest {
            test,
            resolution,
            until,
            waveforms,
            resistance_ohm,
            wanted,
        }))
    }
}

#[derive(Debug)]
struct OfExcitation {
    test: Name,
    of: InstrumentTransformer,
    resistance_ohm: Option<f64>,
    hertz: f64,
    /// With the place that it is of.
    excitations: Vec<(Spot, Excitation)>,
}

impl ExcitationTest {
    fn course(&self, bench: Bench<'_>) -> Result<(OfExcitation, Vec<Spot>), SetupError> {
        let (of, spots) = spots(bench.asset, &self.wanted)?;
        let with = |spot: &Spot| {
            let excitation = Excitation::new(of, spot, bench, self.resolution, self.until)?;
            let excitation = if self.waveforms { excitation.with_waves(spot) } else { excitation };
            Ok((spot.clone(), excitation))
        };
        let excitations = spots.iter().map(with).collect::<Result<_, SetupError>>()?;
        let hertz = waltron_core::quantity::Measure::si(bench.frequency()?);
        let (test, resistance_ohm) = (self.test.clone(), self.resistance_ohm);
        Ok((OfExcitation { test, of: of.clone(), resistance_ohm, hertz, excitations }, spots))
    }
}

impl Method for ExcitationTest {
    fn word(&self) -> &'static str {
        "excitation"
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

impl Course for OfExcitation {
    fn planned(&self, spot: &Spot) -> Planned {
        let of_place = point(&self.test, &format!("{}knee", spot.prefix));
        let excitation = self.excitations.iter().find(|(of, _)| of == spot).map(|(_, e)| e);
        let mut program = Program::of(excitation.map(Excitation::worst).unwrap_or_default());
        program.connection = spot.connection.clone();
        Planned {
            points: vec![PlannedPoint::certain(of_place, KNEE)],
            stimulus: excitation
                .map_or_else(Values::none, |e| Values::none().with("voltage", e.most())),
            expected: Values::none(),
            limits: rated_knee(&self.of, spot),
            program: Arc::new(program),
            likely: excitation.map(Excitation::likely).unwrap_or_default(),
            place: None,
            not_tested: None,
            is_exact: false,
            also: excitation.map_or_else(Vec::new, |e| self.of.arises(spot, e.most())),
        }
    }

    fn next(&self, spot: &Spot, seen: &[Seen<'_>]) -> Option<Program> {
        let (_, excitation) = self.excitations.iter().find(|(of, _)| of == spot)?;
        excitation.next(seen, self.resistance_ohm.or(self.of.tap(spot).resistance_ohm))
    }

    fn grade(&self, spot: &Spot, seen: &[Seen<'_>]) -> Vec<Finding> {
        let of_place = point(&self.test, &format!("{}knee", spot.prefix));
        let winding = self.resistance_ohm.or(self.of.tap(spot).resistance_ohm);
        let curve = read_curve(seen, winding.unwrap_or(0.0), self.hertz);
        let found = injected(of_place, KNEE, &Values::none());
        let mut found = knee(found, &self.of, spot, curve.as_ref().map(|c| &c.curve));
        if let Ok(curve) = &curve {
            found.reason.push_str(&at_frequency(curve.hertz, self.hertz));
        }
        if winding.is_none() {
            found.reason.push_str("; at the terminals, since no winding resistance is known");
        }
        vec![found]
    }
}

/// Says at which frequency a curve was measured, where that is not the rated one.
pub(super) fn at_frequency(hertz: f64, rated: f64) -> String {
    if (hertz / rated - 1.0).abs() < 1e-6 {
        return String::new();
    }
    format!(
        "; measured at {} Hz and told at {} Hz by the flux (eddy losses are a little higher there)",
        significant(hertz, 3),
        significant(rated, 3)
    )
}

/// What is required of a knee point: no less than the rated one.
pub(super) fn rated_knee(of: &InstrumentTransformer, spot: &Spot) -> Limits {
    let volts = |si| Value::Plain(Quantity { si, dimension: Dimension::VOLTAGE });
    match of.tap(spot).knee_v {
        Some(v) => Limits::Between { lower: Some(volts(v)), upper: None },
        None => Limits::None,
    }
}

/// Knee points of a curve by all definitions.
pub(super) fn knee(
    found: Finding,
    of: &InstrumentTransformer,
    spot: &Spot,
    curve: Result<&ExcitationCurve, &String>,
) -> Finding {
    let curve = match curve {
        Ok(curve) => curve,
        Err(why) => {
            return found.judged(Judgement::new(Verdict::Inconclusive, why.clone()));
        }
    };
    let volts = |si| Quantity { si, dimension: Dimension::VOLTAGE };
    let amps = |si| Quantity { si, dimension: Dimension::CURRENT };
    let knees = curve.knees();
    let limits = rated_knee(of, spot);
    let Some(first) = knees.iter().find(|k| k.kind == KneeKind::TenFifty) else {
        let (_, high) = curve.span();
        let why = format!(
            "no knee point up to {}: the core does not saturate in what was measured, so where it does is not proved",
            volts(high)
        );
        return Finding { limits, ..found }.judged(Judgement::new(Verdict::Inconclusive, why));
    };
    let mut measured = Values::none()
        .with_quantity("knee", volts(first.emf_v))
        .with_quantity("exciting_current", amps(first.current_a));
    for knee in knees.iter().filter(|k| k.kind != KneeKind::TenFifty) {
        let names = match knee.kind {
            KneeKind::Tangent45 => ["knee_45", "exciting_current_45"],
            _ => ["knee_30", "exciting_current_30"],
        };
        measured = measured
            .with_quantity(names[0], volts(knee.emf_v))
            .with_quantity(names[1], amps(knee.current_a));
    }
    let told = format!("{} at {}", volts(first.emf_v), amps(first.current_a));
    let judged = match limits.lower() {
        Some(low) => judge_between(volts(first.emf_v), low, f64::INFINITY),
        None => Judgement::new(Verdict::Measured, "the nameplate tells no rated knee point"),
    };
    let judged = Judgement { reason: format!("{}; {told} (10/50 %)", judged.reason), ..judged };
    let found = Finding { measured, limits, ..found };
    found.uncertain(&curve.knee_estimate(KneeKind::TenFifty, first.emf_v)).judged(judged)
}
