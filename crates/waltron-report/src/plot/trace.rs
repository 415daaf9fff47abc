//! Lines of values, cut to what is shown and thinned to what can be seen.

use waltron_core::section::Axis;

/// Most columns of a line that are told apart; of more points, the extremes of each are kept.
const COLUMNS: usize = 1500;

/// The points of a line as shares of both axes, from 0 to 1: cut where it leaves the shared axis and
/// where it leaves its own above. What is below runs along the lower edge, as an element does that
/// operates at once. What is no number is left out.
pub(super) fn shown(points: &[(f64, f64)], x: &Axis, y: &Axis) -> Vec<(f64, f64)> {
    let (from, to) = x.ends();
    // Measured curves may step back a little: what lies between the first and the last place that is shown counts.
    let first = points.iter().position(|p| p.0 >= from).unwrap_or(points.len());
    let last = points.iter().rposition(|p| p.0 <= to).map_or(0, |last| last + 1);
    let (start, end) = (first.saturating_sub(1), (last + 1).min(points.len()));
    let near = thinned(&points[start..end.max(start)]);
    let placed =
        near.iter().filter(|p| !p.1.is_nan()).map(|p| (x.place(p.0), y.place(p.1).max(0.0)));
    let mut inside: Vec<(f64, f64)> = Vec::new();
    let mut before: Option<(f64, f64)> = None;
    for point in placed {
        if let Some(before) = before {
            let crossings = crossings(before, point);
            inside.extend(crossings.into_iter().flatten());
        }
        if is_inside(point) {
            inside.push(point);
        }
        before = Some(point);
    }
    inside
}

fn is_inside((x, y): (f64, f64)) -> bool {
    (0.0..=1.0).contains(&x) && y <= 1.0
}

/// Where the way between two points crosses an edge of what is shown, in their order.
fn crossings(a: (f64, f64), b: (f64, f64)) -> [Option<(f64, f64)>; 3] {
    let at = |share: f64| {
        let y = if b.1.is_finite() { a.1 + (b.1 - a.1) * share } else { a.1 };
        (a.0 + (b.0 - a.0) * share, y)
    };
    let crossed = |from: f64, to: f64, edge: f64| {
        let crosses = (from < edge && edge < to) || (to < edge && edge < from);
        crosses.then(|| if (to - from).is_finite() { (edge - from) / (to - from) } else { 0.0 })
    };
    let across = [0.0, 1.0].map(|edge| {
        let (x, y) = crossed(a.0, b.0, edge).map(at)?;
        is_inside((edge, y)).then_some((if x.is_finite() { edge } else { x }, y))
    });
    let above = crossed(a.1, b.1, 1.0).map(|share| {
        // From beyond all, the line comes down straight.
        let share = if a.1.is_finite() { share } else { 1.0 };
        (a.0 + (b.0 - a.0) * share, 1.0)
    });
    [across[0], above.filter(|p| is_inside(*p)), across[1]]
}

/// First, lowest, highest and last of each column, so that no peak is lost.
fn thinned(points: &[(f64, f64)]) -> Vec<(f64, f64)> {
    if points.len() <= 4 * COLUMNS {
        return points.to_vec();
    }
    let mut thinned = Vec::with_capacity(4 * COLUMNS);
    for column in points.chunks(points.len().div_ceil(COLUMNS)) {
        let index = |pick: fn(f64, f64) -> bool| {
            (0..column.len())
                .fold(0, |best, i| if pick(column[i].1, column[best].1) { i } else { best })
        };
        let mut kept = [0, index(|a, b| a < b), index(|a, b| a > b), column.len() - 1];
        kept.sort_unstable();
        thinned.extend(kept.iter().map(|i| column[*i]));
    }
    thinned.dedup();
    thinned
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn thinning_keeps_every_peak() {
        let points: Vec<(f64, f64)> =
            (0..100_000).map(|i| (f64::from(i), if i == 54_321 { 9.0 } else { 0.0 })).collect();
        let (x, y) = (Axis::linear("", 0.0, 100_000.0), Axis::linear("", 0.0, 9.0));
        let seen = shown(&points, &x, &y);
        assert!(seen.len() <= 4 * COLUMNS + 4 && seen.contains(&(0.543_21, 1.0)));
        assert!(seen.is_sorted_by(|a, b| a.0 <= b.0));
        let narrow = shown(&points, &Axis::linear("", 10.5, 12.5), &y);
        let xs: Vec<f64> = narrow.iter().map(|p| p.0).collect();
        assert_eq!(xs, [0.0, 0.25, 0.75, 1.0], "cut at both ends of what is shown");
    }

    #[test]
    fn a_line_that_steps_back_is_whole() {
        let points =
            [(0.5, 0.2), (1.2, 0.3), (0.9, 0.35), (1.5, 0.4), (3.0, 0.6), (2.8, 0.7), (4.5, 0.8)];
        let seen = shown(&points, &Axis::linear("", 1.0, 4.0), &Axis::linear("", 0.0, 1.0));
        let due = [1.2, 1.5, 3.0, 2.8].map(|x| (x - 1.0) / 3.0);
        assert!(due.iter().all(|x| seen.iter().any(|p| (p.0 - x).abs() < 1e-9)), "{seen:?}");
        assert!(seen.iter().all(|p| is_inside(*p)) && (seen[seen.len() - 1].0 - 1.0).abs() < 1e-9);
    }

    #[test]
    fn a_line_is_cut_where_it_leaves_above_and_runs_along_the_lower_edge() {
        let (x, y) = (Axis::linear("", 0.0, 4.0), Axis::linear("", 0.0, 1.0));
        let points = [(0.0, f64::INFINITY), (1.0, 0.5), (2.0, -3.0), (3.0, 1.5), (4.0, f64::NAN)];
        let seen = shown(&points, &x, &y);
        let near = |(a, b): (f64, f64), (c, d): (f64, f64)| (a - c).abs() + (b - d).abs() < 1e-9;
        // From the lower edge at 2 up to 1.5 at 3: at 1 after two thirds.
        let due = [(0.25, 1.0), (0.25, 0.5), (0.5, 0.0), ((2.0 + 2.0 / 3.0) / 4.0, 1.0)];
        assert!(seen.len() == 4 && seen.iter().zip(due).all(|(a, b)| near(*a, b)), "{seen:?}");
    }
}
