//! Charts show what they are made of.

use waltron_core::section::{Axis, Chart, Scale, Style};

/// What is rounded, and the width of a line with its scatter, as shares of an axis.
const EXACT: f64 = 1e-9;
const A_LINE: f64 = 0.02;

/// Fails where something measured lies beyond what a chart shows, or is drawn on a row that is not there.
pub fn shows_all(charts: &[Chart]) {
    for chart in charts {
        assert!(!chart.of.is_empty() && !chart.title.is_empty(), "{chart:?}");
        let what = &chart.title;
        for panel in &chart.panels {
            let of = format!("{what}, {}", panel.y.label());
            for mark in &panel.marks {
                is_within(&chart.x, mark.x, EXACT, (&of, &mark.id));
                is_within(&panel.y, mark.y, EXACT, (&of, &mark.id));
            }
            for trace in &panel.curves {
                if !matches!(trace.style, Style::Trace(_) | Style::Dashed { .. }) {
                    continue;
                }
                // Beside the shared axis a line is cut, and on purpose.
                for (x, y) in trace.points.iter().filter(|p| chart.x.contains(p.0)) {
                    if !is_minute(*y, &panel.y) {
                        is_within(&panel.y, *y, A_LINE, (&format!("{of} at {x}"), &trace.name));
                    }
                }
            }
            for bar in &panel.bars {
                assert!(bar.from <= bar.to && bar.row < panel.y.rows().len(), "{of}: {bar:?}");
            }
        }
    }
}

/// Of many decades the lowest are left out.
fn is_minute(value: f64, axis: &Axis) -> bool {
    let (low, high) = axis.ends();
    axis.scale() == Scale::Logarithmic && high / low >= 1e3 && value < low
}

/// What is beyond all is drawn at the edge on purpose.
fn is_within(axis: &Axis, value: f64, slack: f64, (of, whose): (&str, &str)) {
    let (low, high) = axis.ends();
    let slack = slack * (high - low);
    let is = value.is_infinite() || (low - slack..=high + slack).contains(&value);
    assert!(is, "{of}: {whose} at {value} lies beyond {low} … {high} of {}", axis.label());
}
