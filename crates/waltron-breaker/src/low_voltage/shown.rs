//! What reports and charts show of a low-voltage breaker: its band on log-log axes, with the points on it.

use super::asset::{Acts, LvBreaker};
use super::procedure::CONNECTION;
use waltron_core::asset::Asset;
use waltron_core::grading::{Grade, Verdict, words};
use waltron_core::injection::program::Profile;
use waltron_core::procedure::Served;
use waltron_core::quantity::{Dimension, Measure, Quantity};
use waltron_core::section::{
    Axis, Block, Chart, Curve, Line, Mark, Outcome, Panel, Region, Section, Style, Table,
};
use waltron_core::wing::Told;

/// Places a decade of the band's edges.
const PER_DECADE: f64 = 120.0;
/// What is drawn of times that need never come, and of times that are none, in s.
const LONGEST: f64 = 10_000.0;
const SHORTEST: f64 = 0.01;

/// Nameplate and settings, the connections, the band with its points.
pub(crate) fn sections(asset: &Asset, told: Told<'_>) -> Vec<Section> {
    let own = &asset.own;
    let mut all = vec![Section::new("Nameplate and settings", vec![Block::Facts(own.facts())])];
    let mut table = Table::of(&["Leads at", "#Impedance", "#Largest current"]);
    let looks = told.points.iter().filter(|g| g.criterion == CONNECTION);
    for grade in looks.filter(|g| g.verdict == Verdict::Measured) {
        let of = |name: &str, dimension| {
            let si = grade.measured.get(name)?;
            Some(Quantity { si, dimension }.to_string())
        };
        let place = grade.point.id.rsplit('/').next().unwrap_or_default();
        table.rows.push(vec![
            format!("{place} ({})", grade.point.test),
            of("impedance", Dimension::RESISTANCE).unwrap_or_default(),
            of("reach", Dimension::CURRENT).unwrap_or_default(),
        ]);
    }
    let mut blocks: Vec<Block> = charts(asset, told).into_iter().map(Block::Chart).collect();
    blocks.extend(table.block());
    all.push(Section::new("Trip times", blocks));
    all
}

/// The band with the points of a run.
pub(crate) fn charts(asset: &Asset, told: Told<'_>) -> Vec<Chart> {
    let Some(of) = asset.family::<LvBreaker>() else { return Vec::new() };
    // A ground fault is another current than the poles'.
    let phase: Vec<Acts> =
        Acts::ALL.into_iter().filter(|acts| *acts != Acts::GroundFault).collect();
    let groups = [
        (phase, "phase functions", "phase"),
        (vec![Acts::GroundFault], "ground fault", "ground-fault"),
    ];
    let draw =
        |(acts, title, name): (Vec<Acts>, &str, &str)| chart(asset, of, &acts, title, name, told);
    groups.into_iter().filter_map(draw).collect()
}

fn chart(
    asset: &Asset,
    of: &LvBreaker,
    acts: &[Acts],
    title: &str,
    name: &str,
    told: Told<'_>,
) -> Option<Chart> {
    let points = told.points;
    let on: Vec<_> = acts.iter().filter_map(|acts| of.function(*acts)).collect();
    let first = on.first()?;
    let off: Vec<&str> = of.functions.iter().filter(|f| !f.is_on).map(|f| f.acts.words()).collect();
    let without: Vec<Acts> = Acts::ALL.into_iter().filter(|a| !acts.contains(a)).collect();
    let mut marks: Vec<Mark> = points.iter().filter_map(|grade| mark(grade, acts)).collect();
    if acts.contains(&Acts::Instantaneous) {
        marks.extend(told.served.iter().flat_map(|served| pulses(served, points)));
    }
    let largest = on.iter().map(|f| f.pickup_a).fold(0.0f64, f64::max);
    let most = marks.iter().map(|m| m.x).fold(1.6 * largest, f64::max);
    let x = Axis::logarithmic("Current, A", 0.8 * first.pickup_a, 1.2 * most);
    let (low, high) = x.ends();
    let count = ((high / low).log10() * PER_DECADE) as usize;
    let mut places: Vec<f64> =
        (0..=count).map(|k| low * (high / low).powf(k as f64 / count as f64)).collect();
    // The edges are steep where a function begins.
    for function in &on {
        if let Some(region) = of.band.region(function.acts) {
            for share in [region.pickup.0, region.pickup.1] {
                let edge = share * function.pickup_a;
                places.extend([edge * (1.0 - 1e-6), edge * (1.0 + 1e-6)]);
            }
        }
    }
    places.retain(|amps| (low..=high).contains(amps));
    places.sort_by(f64::total_cmp);
    let times: Vec<(f64, f64, f64)> = places
        .iter()
        .map(|amps| {
            let times = of.times_of_all(*amps, &without);
            (*amps, times.earliest.clamp(SHORTEST, LONGEST), times.latest.clamp(SHORTEST, LONGEST))
        })
        .collect();
    let latest = times.iter().map(|t| t.2).filter(|t| *t < LONGEST).fold(1.0f64, f64::max);
    let slowest = marks.iter().map(|m| m.y).filter(|y| y.is_finite()).fold(latest, f64::max);
    let y = Axis::logarithmic("Time, s", SHORTEST, (1.5 * slowest).min(LONGEST));
    let edge = |pick: fn(&(f64, f64, f64)) -> f64| Curve {
        name: String::new(),
        label: String::new(),
        style: Style::Expected,
        points: times.iter().map(|t| (t.0, pick(t))).collect(),
    };
    let lines = on.iter().map(|f| Line {
        at: f.pickup_a,
        name: f.acts.words().to_owned(),
        is_tested: points.iter().any(|g| tests(g) == Some(f.acts)),
    });
    let mut panel = Panel::empty(y);
    panel.regions = vec![Region::between("band", &times)];
    panel.curves = vec![edge(|t| t.1), edge(|t| t.2)];
    panel.marks = marks;
    let mut subtitle = format!("band {}", of.band.told());
    if !off.is_empty() {
        subtitle.push_str(&format!(" · off: {}", off.join(", ")));
    }
    Some(Chart {
        of: vec![name.into()],
        title: format!("{} · {title}", asset.identity.tag),
        subtitle,
        x,
        panels: vec![panel],
        lines: lines.collect(),
    })
}

/// Which function a point tests.
fn tests(grade: &Grade) -> Option<Acts> {
    Acts::ALL.into_iter().find(|acts| acts.criterion() == grade.criterion)
}

/// The pulses that came before the one at which it opened: rightly nothing below the band, and on their way within
/// it.
fn pulses(served: &Served, points: &[Grade]) -> Vec<Mark> {
    let found = points.iter().find(|g| served.points.contains(&g.point.id));
    let steps = served.program.segments.first().map(|s| &s.profile);
    let (Some(grade), Some(Profile::Steps(steps))) = (found, steps) else { return Vec::new() };
    let opened = grade.measured.get("current").unwrap_or(f64::INFINITY);
    let lower = grade.limits.lower().unwrap_or(0.0);
    // At the test port something small stands for what flows through a pole.
    let through_pole = match (grade.stimulus.get("to"), grade.stimulus.get("port")) {
        (Some(most), Some(port)) if port > 0.0 => most / port,
        _ => 1.0,
    };
    let rms = steps.levels.iter().filter_map(|level| {
        let current = level.currents.first().map(|drive| drive.phasor.rms().si());
        current.or_else(|| Some(level.voltages.first()?.phasor.rms().si()))
    });
    let before = rms.map(|si| si * through_pole).filter(|amps| *amps < opened * (1.0 - 1e-9));
    let mark = |amps: f64| Mark {
        x: amps,
        y: steps.dwell.si(),
        outcome: if amps < lower { Outcome::Nothing } else { Outcome::Measured },
        id: grade.point.id.clone(),
        notes: vec![format!(
            "{} did not open it",
            Quantity { si: amps, dimension: Dimension::CURRENT }
        )],
    };
    before.map(mark).collect()
}

fn mark(grade: &Grade, acts: &[Acts]) -> Option<Mark> {
    tests(grade).filter(|of| acts.contains(of))?;
    let current = grade.measured.get("current").or_else(|| grade.stimulus.get("current"))?;
    let time = grade.measured.get("time");
    let outcome = match (grade.verdict, time) {
        (Verdict::Pass, _) => Outcome::Pass,
        (Verdict::Fail, _) => Outcome::Fail,
        _ => Outcome::Open,
    };
    let amps = Quantity { si: current, dimension: Dimension::CURRENT };
    let mut notes = vec![format!("at {amps}")];
    notes.push(format!("measured {}", words::main_value(&grade.measured, &grade.limits, true)));
    notes.extend(grade.limits.words().map(|allowed| format!("allowed {allowed}")));
    if grade.verdict != Verdict::Pass {
        notes.push(grade.reason.clone());
    }
    let y = time.map_or(f64::INFINITY, |t| t.max(SHORTEST));
    Some(Mark { x: current, y, outcome, id: grade.point.id.clone(), notes })
}
