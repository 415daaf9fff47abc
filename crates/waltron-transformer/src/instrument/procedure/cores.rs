//! Between the cores of a unit: one fed from its secondary, the terminals of the others looked at.

use crate::instrument::asset::{InstrumentTransformer, Kind, Secondary, Spot, Wanted};
use crate::measure::{injected, point, probe, shown, voltage};
use schemars::JsonSchema;
use serde::Deserialize;
use std::sync::Arc;
use waltron_core::grading::{Criterion, Finding, Judgement, Limits, Value, Values, Verdict};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::Property;
use waltron_core::injection::observation::Observation;
use waltron_core::injection::program::{Program, Segment};
use waltron_core::procedure::{Bench, Measuring, Planned, PlannedPoint, SetupError, Shot, Shots};
use waltron_core::procedure::{FamilyKeys, Method, TestHead};
use waltron_core::quantity::{Dimension, Measure, Quantity, Voltage, seconds, significant};
use waltron_core::text::document::{Field, Problem, Problems, QuantityText, Text};
use waltron_core::text::name::Name;

/// What a core carries while another is fed.
const COUPLING: Criterion = Criterion::named("coupling");

/// The share of the fed core's volts a turn that another core may carry: with an open primary nothing
/// links them but stray fields.
const MOST: f64 = 0.01;

/// One core fed from its secondary, and the terminals of the unit's others looked at: with the primary open
/// they carry nothing.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CoresKeys {
    /// Voltage on the fed winding; as much as the meter of the primary voltage, and a tenth of what the
    /// windings withstand, allow if not given.
    level: Option<QuantityText<Voltage>>,
    /// Of this phase only.
    phase: Option<Text>,
    /// Feeds this core only; each after the other if not given.
    core: Option<Text>,
}

/// A test between cores with its parameters.
#[derive(Clone, Debug, PartialEq)]
pub struct CoresTest {
    test: Name,
    level: Option<Voltage>,
    phase: Option<String>,
    core: Option<String>,
}

impl FamilyKeys for CoresKeys {
    type Family = InstrumentTransformer;

    fn read_for(
        &self,
        head: TestHead<'_>,
        of: &InstrumentTransformer,
        problems: &mut Problems,
    ) -> Option<Arc<dyn Method>> {
        let why = match of.kind {
            Kind::Voltage => {
                Some("the windings of a voltage transformer share their core".to_owned())
            }
            Kind::Current if of.secondaries.len() < 2 => {
                Some("the asset has one core: there is nothing between cores".to_owned())
            }
            Kind::Current => of.secondaries.iter().find_map(|secondary| {
                let whole = secondary.whole();
                let lacks = match (whole.terminals.is_empty(), whole.primary) {
                    (true, _) => "terminals",
                    (_, None) => "ratio",
                    _ => return None,
                };
                Some(format!("nothing says the {lacks} of core {}", secondary.id))
            }),
        };
        if let Some(why) = why {
            problems.push(Problem::new(head.id.span(), why));
            return None;
        }
        let (phase, core) = (self.phase.as_ref(), self.core.as_ref());
        super::places::wanted(phase, core, None, head, of, problems)?;
        let level = match &self.level {
            Some(level) => Some(level.positive(problems)?),
            None => None,
        };
        let of = |text: &Option<Text>| text.as_ref().map(|t| t.as_str().to_owned());
        let (phase, core) = (of(&self.phase), of(&self.core));
        Some(Arc::new(CoresTest { test: head.name(), level, phase, core }))
    }
}

impl Measuring for CoresTest {
    const WORD: &'static str = "cores";

    fn shots(&self, bench: Bench<'_>) -> Result<Shots, SetupError> {
        let wanted =
            Wanted { phase: self.phase.clone(), core: self.core.clone(), ..Wanted::default() };
        let (of, spots) = super::places::spots(bench.asset, &wanted)?;
        let is_whole = |spot: &&Spot| std::ptr::eq(of.tap(spot), of.secondary(spot).whole());
        let mut shots = Vec::new();
        for spot in spots.iter().filter(is_whole) {
            let fed = of.secondary(spot);
            let others = of.secondaries.iter().filter(|s| s.id != fed.id);
            for other in others {
                shots.push(self.shot(of, spot, other, bench)?);
            }
        }
        Ok(Shots::new(shots))
    }
}

impl CoresTest {
    /// The most volts on a winding that neither it nor another core is harmed by, even where they are
    /// linked, and that the meter shows.
    fn most(of: &InstrumentTransformer, spot: &Spot, other: &Secondary, rig: &Capability) -> f64 {
        let fed = of.tap(spot);
        let carries = turns(other) / turns(of.secondary(spot));
        let withstands = other.whole().test_voltage_v.map_or(f64::INFINITY, |v| v / carries);
        let own = fed.test_voltage_v.unwrap_or(f64::INFINITY).min(withstands) / 10.0;
        let range = |meaning: &str| rig.meter(meaning).map_or(f64::INFINITY, |m| m.range);
        let source = rig.voltages.iter().find(|c| c.meaning == "secondary voltage");
        let source = source.map_or(f64::INFINITY, |c| c.range.si());
        let shown =
            (0.9 * range("primary voltage") / carries).min(0.9 * range("secondary voltage"));
        own.min(shown).min(source)
    }

    fn shot(
        &self,
        of: &InstrumentTransformer,
        spot: &Spot,
        other: &Secondary,
        bench: Bench<'_>,
    ) -> Result<Shot, SetupError> {
        let rig = bench.capability;
        let most = Self::most(of, spot, other, rig);
        let level = self.level.map_or(most, Measure::si);
        let at = other.whole().terminals.as_str();
        if level > most * (1.0 + 1e-9) {
            let volts = |si| Quantity { si, dimension: Dimension::VOLTAGE };
            let (level, most) = (volts(level), volts(most));
            return Err(SetupError::Unknown(format!(
                "{level} is more than the {most} that both cores and the meter at {at} are good for, should something link them"
            )));
        }
        let out = voltage(rig, "secondary voltage", Voltage::from_si(level), bench.frequency()?)?;
        let sides = ["primary voltage", "secondary voltage"];
        let carried = probe(rig, &sides[..1], Property::Phasor)?;
        let put_on = probe(rig, &sides[1..], Property::Phasor)?;
        let mut program = Program::of(vec![Segment::hold("between cores", out, seconds(1.0))]);
        program.reads = vec![carried.clone(), put_on.clone()];
        let place = spot.connection.as_ref().map_or("", |c| c.as_str());
        program.connection = Some(format!("{place}, primary meter at {at}").as_str().into());
        let stimulus = Values::none().with("voltage", Voltage::from_si(level));
        let id = point(&self.test, &format!("{}at-{at}", spot.prefix));
        let limits = Limits::Between { lower: None, upper: Some(Value::Percent(MOST)) };
        let planned = Planned {
            points: vec![PlannedPoint::certain(id.clone(), COUPLING)],
            stimulus: stimulus.clone(),
            expected: Values::none(),
            limits: limits.clone(),
            program: Arc::new(program),
            likely: seconds(1.0),
            place: None,
            not_tested: None,
            is_exact: true,
            also: Vec::new(),
        };
        let (fed_turns, other_turns) = (turns(of.secondary(spot)), turns(other));
        let at = at.to_owned();
        let grade = move |seen: &Observation| {
            let found =
                Finding { limits: limits.clone(), ..injected(id.clone(), COUPLING, &stimulus) };
            vec![graded(
                found,
                shown(seen, &carried),
                shown(seen, &put_on),
                fed_turns / other_turns,
                &at,
            )]
        };
        Ok(Shot { planned, grade: Arc::new(grade) })
    }
}

/// Turns of the whole winding over those of the primary, as its nameplate tells them.
fn turns(secondary: &Secondary) -> f64 {
    secondary.ratio(secondary.whole()).unwrap_or(1.0)
}

type Read = Result<crate::measure::Shown, String>;

fn graded(found: Finding, carried: Read, put_on: Read, scale: f64, at: &str) -> Finding {
    let open =
        |found: Finding, why: String| found.judged(Judgement::new(Verdict::Inconclusive, why));
    let put_on = match put_on {
        Ok(read) if read.value > 0.0 => read,
        Ok(_) => return open(found, "no voltage came onto the fed winding".to_owned()),
        Err(why) => return open(found, why),
    };
    let carried = match carried {
        Ok(read) => read.estimate(),
        Err(why) => return open(found, why),
    };
    let coupling = carried.over(&put_on.estimate()).times(scale);
    let (share, u) = (coupling.value, coupling.expanded());
    let measured = Values::none().with_percent("coupling", share);
    let found = Finding { measured, ..found }.uncertain(&coupling);
    let told =
        format!("{at} carries {} % of the fed core's volts a turn", significant(share * 100.0, 2));
    let (verdict, told) = if share > MOST {
        let cause = "the primary is closed and this core was left open, or leads of both cores are mixed up; open the primary, and short the cores that are not tested";
        (Verdict::Fail, format!("{told}: {cause}"))
    } else if share + u > MOST {
        (Verdict::Inconclusive, format!("{told}, which the meter cannot tell from too much"))
    } else {
        (Verdict::Pass, told)
    };
    found.judged(Judgement::new(verdict, told))
}
