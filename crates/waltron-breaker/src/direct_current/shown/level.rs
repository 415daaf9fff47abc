//! The level over the rate of rise: every pulse, the mean of each rate, and the line to the setting itself.

use crate::direct_current::analysis::line::line;
use crate::direct_current::asset::{DcBreaker, amps};
use crate::direct_current::procedure::{LEVEL, SETTING, level_on};
use waltron_core::grading::{Grade, Verdict};
use waltron_core::quantity::{Dimension, Quantity};
use waltron_core::section::{Axis, Chart, Curve, Mark, Outcome, Panel, Region, Style};
use waltron_core::wing::Told;

/// A chart of each test that has found levels.
pub(super) fn charts(tag: &str, of: &DcBreaker, told: Told<'_>) -> Vec<Chart> {
    let settings = told.points.iter().filter(|g| g.criterion == SETTING);
    settings.filter_map(|setting| chart(tag, of, setting, told)).collect()
}

fn rate_and_level(grade: &Grade) -> Option<(f64, f64)> {
    Some((grade.stimulus.get("rate")?, grade.measured.get("current")?))
}

fn chart(tag: &str, of: &DcBreaker, setting: &Grade, told: Told<'_>) -> Option<Chart> {
    let test = &setting.point.test;
    let levels: Vec<&Grade> = told
        .points
        .iter()
        .filter(|g| g.criterion == LEVEL && g.point.test == *test && rate_and_level(g).is_some())
        .collect();
    let means: Vec<(f64, f64)> = levels.iter().filter_map(|g| rate_and_level(g)).collect();
    if means.is_empty() {
        return None;
    }
    let most = means.iter().map(|p| p.0).fold(0.0, f64::max);
    let x = Axis::linear("Rate of rise, A/s", 0.0, 1.12 * most);
    let mut marks = Vec::new();
    // Every pulse by itself, where its samples are there.
    for grade in &levels {
        let Some((rate, _)) = rate_and_level(grade) else { continue };
        let pulses = told.served.iter().filter(|s| s.serves(&grade.point.id));
        marks.extend(pulses.filter_map(|served| {
            let level = level_on(of, served)?;
            let notes = vec![format!("{}, rising by {}", amps(level), rise(rate))];
            let id = grade.point.id.clone();
            Some(Mark { x: rate, y: level, outcome: Outcome::Measured, id, notes })
        }));
    }
    let means_only = marks.is_empty();
    for grade in levels.iter().filter(|_| means_only) {
        let Some((rate, level)) = rate_and_level(grade) else { continue };
        marks.push(Mark {
            x: rate,
            y: level,
            outcome: Outcome::Measured,
            id: grade.point.id.clone(),
            notes: vec![grade.reason.clone()],
        });
    }
    let points: Vec<(f64, f64)> = marks.iter().map(|m| (m.x, m.y)).collect();
    let found = setting.measured.get("current");
    let mut curves = Vec::new();
    if let (Some(found), Some(fit)) = (found, line(&points)) {
        curves.push(Curve {
            name: "extrapolated to no rise".to_owned(),
            label: String::new(),
            style: Style::Aside,
            points: vec![(0.0, found), (1.12 * most, found + fit.slope * 1.12 * most)],
        });
    }
    let file = of.setting.value;
    curves.push(Curve {
        name: "setting of the file".to_owned(),
        label: String::new(),
        style: Style::Expected,
        points: vec![(0.0, file), (1.12 * most, file)],
    });
    if let Some(found) = found {
        let outcome = match setting.verdict {
            Verdict::Pass => Outcome::Pass,
            Verdict::Fail => Outcome::Fail,
            _ => Outcome::Open,
        };
        let notes = vec![format!("setting {}", amps(found)), setting.reason.clone()];
        marks.push(Mark { x: 0.0, y: found, outcome, id: setting.point.id.clone(), notes });
    }
    let (low, high) = of.band();
    let inside = marks.iter().map(|m| m.y);
    let (least, largest) = inside.fold((low, high), |(l, h), y| (l.min(y), h.max(y)));
    let room = 0.25 * (largest - least);
    let mut panel = Panel::empty(Axis::linear("Current, A", least - room, largest + room));
    panel.regions = vec![Region::between("allowed", &[(0.0, low, high), (1.12 * most, low, high)])];
    panel.curves = curves;
    panel.marks = marks;
    let subtitle = match found {
        Some(found) => format!("setting found {}; {}", amps(found), setting.reason),
        None => setting.reason.clone(),
    };
    Some(Chart {
        of: vec![format!("{test}/level").as_str().into()],
        title: format!("{tag} · level at which it opens"),
        subtitle,
        x,
        panels: vec![panel],
        lines: Vec::new(),
    })
}

fn rise(rate: f64) -> Quantity {
    Quantity { si: rate, dimension: Dimension::CURRENT_RATE }
}
