//! Losses and capacitances of insulation over frequency, and what they are at 20 °C by either way.

use super::points::{of, outcome, tests};
use crate::power::procedure::{CAPACITANCE, LOSSES, SUM, over_frequency};
use waltron_core::grading::{Grade, Verdict};
use waltron_core::quantity::{Dimension, Quantity};
use waltron_core::section::{Axis, Block, Chart, Curve, Mark, Panel, Style, Table};
use waltron_core::text::name::Name;
use waltron_core::wing::Told;

/// Charts of each test that swept over frequency.
pub(super) fn charts(tag: &str, told: Told<'_>) -> Vec<Chart> {
    tests(told, &LOSSES).into_iter().filter_map(|test| chart(tag, told, test)).collect()
}

/// A part as points call it: `HL`, or `1U/C1`.
fn part<'g>(grade: &'g Grade, test: &Name) -> &'g str {
    let id = grade.point.id.as_str();
    id.strip_prefix(test.as_str()).unwrap_or(id).trim_start_matches('/')
}

fn chart(tag: &str, told: Told<'_>, test: &Name) -> Option<Chart> {
    let grades = of(told, test, &LOSSES);
    let (mut losses, mut farads, mut marks) = (Vec::new(), Vec::new(), Vec::new());
    let mut ends = (f64::INFINITY, 0.0f64);
    let (mut least, mut most, mut largest) = (f64::INFINITY, 0.0f64, 0.0f64);
    for grade in &grades {
        let served = told.served.iter().rfind(|s| s.serves(&grade.point.id));
        let read = served.map(|s| over_frequency(&s.observation)).unwrap_or_default();
        let sound = read.iter().all(|r| r.loss.tan_delta > 0.0);
        if read.len() < 3 || !sound {
            continue;
        }
        let number = losses.len();
        let points = |of: &dyn Fn(&crate::power::procedure::Read) -> f64| {
            read.iter().map(|r| (r.loss.hertz, of(r))).collect::<Vec<_>>()
        };
        for r in &read {
            ends = (ends.0.min(r.loss.hertz), ends.1.max(r.loss.hertz));
            let percent = r.loss.tan_delta * 100.0;
            (least, most) = (least.min(percent), most.max(percent));
            largest = largest.max(r.farad);
        }
        let (name, style) = (part(grade, test).to_owned(), Style::Trace(number));
        let curve = |name, points| Curve { name, label: String::new(), style, points };
        losses.push(curve(name, points(&|r| r.loss.tan_delta * 100.0)));
        farads.push(curve(String::new(), points(&|r| r.farad)));
        if let (Some(x), Some(y)) = (grade.measured.get("read_at"), grade.measured.get("by_sweep"))
        {
            let notes = vec![grade.reason.clone()];
            let (id, y) = (grade.point.id.clone(), y * 100.0);
            (least, most) = (least.min(y), most.max(y));
            marks.push(Mark { x, y, outcome: outcome(grade.verdict), id, notes });
        }
    }
    if losses.is_empty() {
        return None;
    }
    if let Some(limit) = grades.iter().find_map(|g| g.limits.upper()) {
        let limit = limit * 100.0;
        (least, most) = (least.min(limit), most.max(limit));
        losses.push(Curve {
            name: "allowed at most where marks are".to_owned(),
            label: String::new(),
            style: Style::Expected,
            points: vec![(ends.0, limit), (ends.1, limit)],
        });
    }
    let mut upper = Panel::empty(Axis::logarithmic("tan δ, %", 0.8 * least, 1.25 * most));
    upper.curves = losses;
    upper.marks = marks;
    let (unit, scale) = if largest < 1e-9 { ("pF", 1e12) } else { ("nF", 1e9) };
    for curve in &mut farads {
        curve.points.iter_mut().for_each(|p| p.1 *= scale);
    }
    let title = format!("Capacitance, {unit}");
    let mut lower = Panel::empty(Axis::linear(title, 0.0, 1.15 * largest * scale));
    lower.curves = farads;
    let failed = grades.iter().filter(|g| g.verdict == Verdict::Fail).count();
    let subtitle = match failed {
        0 => "curves as measured; marks where they are read to be told at 20 °C".to_owned(),
        n => format!("marks where the curves are read to be told at 20 °C: {n} beyond the limit"),
    };
    Some(Chart {
        of: vec![test.clone()],
        title: format!("{tag} · losses over frequency"),
        subtitle,
        x: Axis::logarithmic("Frequency, Hz", ends.0, ends.1),
        panels: vec![upper, lower],
        lines: Vec::new(),
    })
}

/// All parts with their losses at 20 °C by either way.
pub(super) fn blocks(told: Told<'_>) -> Vec<Block> {
    let mut all = Vec::new();
    for test in tests(told, &LOSSES) {
        let mut table = Table::of(&[
            "Insulation",
            "#Capacitance",
            "#Was",
            "#tan δ as measured",
            "#At 20 °C by sweep",
            "#By table",
            "#Allowed",
            "Verdict",
        ]);
        let capacitances = of(told, test, &CAPACITANCE);
        for grade in of(told, test, &LOSSES) {
            let own = part(grade, test);
            let fits = |g: &&&Grade| part(g, test).strip_suffix("/capacitance") == Some(own);
            let known = capacitances.iter().find(fits);
            let text = |name: &str| grade.measured.text(name).unwrap_or_default();
            let was = known.and_then(|g| g.expected.get("capacitance"));
            let was = was.map(|si| Quantity { si, dimension: Dimension::CAPACITANCE }.to_string());
            let worst = known.filter(|g| g.verdict == Verdict::Fail);
            table.rows.push(vec![
                own.to_owned(),
                text("capacitance"),
                was.unwrap_or_default(),
                text("tan_delta"),
                text("by_sweep"),
                text("by_table"),
                grade.limits.words().unwrap_or_default(),
                match worst {
                    Some(_) if grade.verdict != Verdict::Fail => "FAIL (capacitance)".to_owned(),
                    _ => grade.verdict.word().to_owned(),
                },
            ]);
        }
        all.extend(table.block());
        all.extend(sums(told, test));
    }
    all
}

/// What was measured together against its parts.
fn sums(told: Told<'_>, test: &Name) -> Option<Block> {
    let mut table =
        Table::of(&["Together", "#Measured", "#Sum of the parts", "#Off by", "Verdict"]);
    table.rows = of(told, test, &SUM)
        .into_iter()
        .map(|grade| {
            vec![
                part(grade, test).trim_end_matches("/sum").to_owned(),
                grade.measured.text("capacitance").unwrap_or_default(),
                grade.expected.text("capacitance").unwrap_or_default(),
                grade.deviation.deviation_text(),
                grade.verdict.word().to_owned(),
            ]
        })
        .collect();
    table.block()
}
