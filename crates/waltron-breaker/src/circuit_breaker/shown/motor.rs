//! The motor's current while it charges the spring.

use super::sections::begin;
use crate::circuit_breaker::procedure::MOTOR_CURRENT;
use crate::traces::{curve, range, trace};
use waltron_core::grading::Grade;
use waltron_core::procedure::Served;
use waltron_core::quantity::Measure;
use waltron_core::section::{Axis, Chart, Line, Panel};

/// A chart of the charging; nothing where its samples are not there.
pub(super) fn chart(
    tag: &str,
    label: &str,
    served: &Served,
    points: &[&Grade],
    earlier: Option<&Served>,
) -> Option<Chart> {
    let zero_s = begin(served, "charge")?;
    let mut curves = vec![curve("motor", 0, trace(served, MOTOR_CURRENT, zero_s, 1.0)?, false)];
    let before = earlier.and_then(|e| trace(e, MOTOR_CURRENT, begin(e, "charge")?, 1.0));
    curves.extend(before.map(|points| curve("motor", 0, points, true)));
    let at = served.program.position("charge")?;
    let end = served.observation.segments.get(at)?.end.si() - zero_s;
    let (low, high) = range(&curves, 0.0, end);
    let mut panel = Panel::empty(Axis::linear("Motor current, A", low, high));
    panel.curves = curves;
    let values = points.iter().map(|grade| {
        let value = waltron_core::grading::words::main_value(&grade.measured, &grade.limits, true);
        let what = grade.point.id.rsplit('/').next().unwrap_or_default().replace('-', " ");
        format!("{what} {value}")
    });
    let subtitle = values.collect::<Vec<_>>().join(" · ");
    Some(Chart {
        of: vec![label.into()],
        title: format!("{tag} · {label}"),
        subtitle,
        x: Axis::linear("Time from the motor's start, s", 0.0, end * 1.03),
        panels: vec![panel],
        lines: vec![Line { at: end, name: "spring charged".to_owned(), is_tested: true }],
    })
}
