//! Ratios over positions: deviations in their corridor, exciting currents against each other.

use super::points::{letter, of, one, outcome, place, positions, tests, worst};
use crate::power::asset::PowerTransformer;
use crate::power::procedure::{EXCITING, RATIO};
use waltron_core::grading::{Grade, Verdict};
use waltron_core::quantity::{Dimension, Quantity, fixed};
use waltron_core::section::{Axis, Bar, Block, Chart, Curve, Mark, Panel, Region, Style, Table};
use waltron_core::text::name::Name;
use waltron_core::wing::Told;

/// Charts of each test: over the positions where there are several, and the exciting currents.
pub(super) fn charts(tag: &str, of_asset: &PowerTransformer, told: Told<'_>) -> Vec<Chart> {
    let mut all = Vec::new();
    for test in tests(told, &RATIO) {
        all.extend(deviations(tag, of_asset, told, test));
    }
    all.extend(tests(told, &EXCITING).into_iter().filter_map(|test| pattern(tag, told, test)));
    all
}

fn deviations(
    tag: &str,
    of_asset: &PowerTransformer,
    told: Told<'_>,
    test: &Name,
) -> Option<Chart> {
    let positions = positions(of_asset, told, test, &RATIO);
    let last = positions.len() as f64 + 0.5;
    let at = |position: &str| positions.iter().position(|p| *p == position).map(|k| k as f64 + 1.0);
    let (mut curves, mut currents, mut marks) = (Vec::new(), Vec::new(), Vec::new());
    let (mut low, mut high, mut most) = (0.0f64, 0.0f64, 0.0f64);
    let mut limits: Option<(f64, f64)> = None;
    for phase in 0..3u8 {
        let name = letter(phase);
        let mut points = Vec::new();
        let mut amps = Vec::new();
        for grade in of(told, test, &RATIO).into_iter().filter(|g| place(g).1 == name) {
            let Some(x) = at(place(grade).0) else { continue };
            let Some(off) = grade.deviation.get("ratio") else { continue };
            let percent = off * 100.0;
            let expected = grade.expected.get("ratio").unwrap_or(f64::NAN);
            let end = |limit: Option<f64>| limit.map(|l| (l / expected - 1.0) * 100.0);
            if let (Some(a), Some(b)) = (end(grade.limits.lower()), end(grade.limits.upper())) {
                limits = Some((a, b));
                (low, high) = (low.min(a), high.max(b));
            }
            (low, high) = (low.min(percent), high.max(percent));
            points.push((x, percent));
            if let Some(si) = grade.measured.get("exciting") {
                amps.push((x, si * 1e3));
                most = most.max(si * 1e3);
            }
            if grade.verdict != Verdict::Pass {
                let notes = vec![format!("{} %", fixed(percent, 3)), grade.reason.clone()];
                let id = grade.point.id.clone();
                marks.push(Mark { x, y: percent, outcome: outcome(grade.verdict), id, notes });
            }
        }
        for points in [&mut points, &mut amps] {
            points.sort_by(|a, b| a.0.total_cmp(&b.0));
        }
        let style = Style::Trace(usize::from(phase));
        let curve =
            |points| Curve { name: format!("phase {name}"), label: String::new(), style, points };
        curves.push(curve(points));
        currents.push(Curve { name: String::new(), ..curve(amps) });
    }
    if positions.len() < 2 {
        return None;
    }
    let room = 0.12 * (high - low).max(0.1);
    let mut upper =
        Panel::empty(Axis::linear("Deviation of the ratio, %", low - room, high + room));
    if let Some((a, b)) = limits {
        upper.regions = vec![Region::between("allowed", &[(0.5, a, b), (last, a, b)])];
    }
    upper.curves = curves;
    upper.marks = marks;
    let mut lower = Panel::empty(Axis::linear("Exciting current, mA", 0.0, 1.15 * most));
    lower.curves = currents;
    let changer = one(of_asset).map_or("tap changers".to_owned(), |c| c.name.clone());
    let failed = of(told, test, &RATIO).iter().filter(|g| g.verdict == Verdict::Fail).count();
    let count = of(told, test, &RATIO).len();
    let subtitle = match failed {
        0 => format!("{count} ratios, all within their limits"),
        n => format!("{n} of {count} ratios beyond their limits"),
    };
    let names = positions.iter().map(|p| (*p).to_owned()).collect();
    Some(Chart {
        of: vec![test.clone()],
        title: format!("{tag} · ratio over positions"),
        subtitle,
        x: Axis::of_places(format!("Position, {changer}"), names),
        panels: vec![upper, lower],
        lines: Vec::new(),
    })
}

/// The exciting currents of the phases side by side, at the position where they differ most.
fn pattern(tag: &str, told: Told<'_>, test: &Name) -> Option<Chart> {
    let spread = |g: &&Grade| g.measured.get("spread").unwrap_or(0.0);
    let failed = of(told, test, &EXCITING).into_iter().find(|g| g.verdict != Verdict::Pass);
    let widest =
        || of(told, test, &EXCITING).into_iter().max_by(|a, b| spread(a).total_cmp(&spread(b)));
    let grade = failed.or_else(widest)?;
    let amps: Vec<f64> = ["exciting_u", "exciting_v", "exciting_w"]
        .iter()
        .filter_map(|name| grade.measured.get(name))
        .collect();
    let most = amps.iter().copied().fold(0.0, f64::max) * 1e3;
    let rows = (0..3u8).map(|k| format!("phase {}", letter(k))).collect();
    let mut panel = Panel::empty(Axis::of_rows("", rows));
    let bar = |(row, si): (usize, &f64)| Bar { row, from: 0.0, to: si * 1e3, is_aside: false };
    panel.bars = amps.iter().enumerate().map(bar).collect();
    let at = match place(grade).0 {
        "" => String::new(),
        position => format!(" at position {position}"),
    };
    Some(Chart {
        of: vec![format!("{test}/exciting").as_str().into()],
        title: format!(
            "{tag} · exciting currents{at}, {}",
            grade.stimulus.text("voltage").unwrap_or_default()
        ),
        subtitle: grade.reason.clone(),
        x: Axis::linear("Exciting current, mA", 0.0, 1.1 * most),
        panels: vec![panel],
        lines: Vec::new(),
    })
}

/// Ratios of all positions as a table, with the exciting currents.
pub(super) fn blocks(of_asset: &PowerTransformer, told: Told<'_>) -> Vec<Block> {
    let mut all = Vec::new();
    for test in tests(told, &RATIO) {
        let mut table = Table::of(&[
            "Position",
            "#Expected",
            "#U",
            "#V",
            "#W",
            "#Deviation U",
            "#V",
            "#W",
            "#Exciting U",
            "#V",
            "#W",
            "Verdict",
        ]);
        for position in positions(of_asset, told, test, &RATIO) {
            let grades: Vec<Option<&Grade>> = (0..3u8)
                .map(|k| {
                    of(told, test, &RATIO)
                        .into_iter()
                        .find(|g| place(g) == (position, letter(k).as_str()))
                })
                .collect();
            let cell = |what: &dyn Fn(&Grade) -> Option<String>| -> Vec<String> {
                grades.iter().map(|g| g.and_then(what).unwrap_or_default()).collect()
            };
            let first = grades.iter().flatten().next();
            let expected = first.and_then(|g| g.expected.get("ratio")).map(|r| fixed(r, 5));
            let mut row = vec![position.to_owned(), expected.unwrap_or_default()];
            row.extend(cell(&|g| Some(fixed(g.measured.get("ratio")?, 5))));
            row.extend(cell(&|g| Some(g.deviation.deviation_text())));
            row.extend(cell(&|g| {
                let si = g.measured.get("exciting")?;
                Some(format!("{:#}", Quantity { si, dimension: Dimension::CURRENT }))
            }));
            row.push(worst(&grades));
            table.rows.push(row);
        }
        all.extend(table.block());
    }
    all
}
