//! Measured samples as lines of a chart.

use waltron_core::procedure::Served;
use waltron_core::quantity::Measure;
use waltron_core::section::{Curve, Style};

/// What a meter saw from a time on, in s of that time, each value so many times larger. Thinned where the eye
/// cannot see it: the extremes of each stretch stay.
pub(crate) fn trace(served: &Served, of: &str, zero_s: f64, scale: f64) -> Option<Vec<(f64, f64)>> {
    let captured = served.observation.captures.iter();
    let (captured, track) = captured
        .filter_map(|c| Some((c, c.tracks.iter().find(|t| t.of == *of)?)))
        .find(|(_, t)| !t.samples.is_empty())?;
    let at = |k: usize| captured.start.si() + k as f64 / captured.rate_hz - zero_s;
    Some(track.samples.iter().enumerate().map(|(k, v)| (at(k), v * scale)).collect())
}

/// A line of what was seen, or of what was seen earlier.
pub(crate) fn curve(name: &str, number: usize, points: Vec<(f64, f64)>, is_earlier: bool) -> Curve {
    let style = if is_earlier { Style::Aside } else { Style::Trace(number) };
    // What the earlier ones are stands in the legend once.
    let name = if is_earlier { String::new() } else { name.to_owned() };
    Curve { name, label: String::new(), style, points }
}

/// The least and the most of lines between two places, with zero and a little room.
pub(crate) fn range(curves: &[Curve], from: f64, to: f64) -> (f64, f64) {
    let inside = curves.iter().flat_map(|c| &c.points).filter(|p| (from..=to).contains(&p.0));
    let (low, high) = inside.fold((0.0f64, 0.0f64), |(l, h), p| (l.min(p.1), h.max(p.1)));
    let room = 0.08 * (high - low).max(1e-9);
    (if low < -room / 4.0 { low - room } else { 0.0 }, high + room)
}
