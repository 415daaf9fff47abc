//! Values over time: oscillograms and envelopes, one panel a unit, one below the other.

use super::PlotError;
use super::axis::{Axis, number};
use super::draw::{
    FAINT, GRID, GRID_STRONG, INK, Picture, Placed, SCALE, drawing, fonts, heading, label, px,
};
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};

/// Values over time.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Oscillogram {
    /// Heading.
    pub title: String,
    /// What is shown, in a few words below the heading.
    pub subtitle: String,
    /// From when to when, in seconds.
    pub times: (f64, f64),
    /// Panels from top to bottom.
    pub panels: Vec<Panel>,
    /// Moments marked over all panels: time in seconds, and what begins or ends there.
    pub moments: Vec<(f64, String)>,
}

/// Traces of one unit.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Panel {
    /// What the axis shows, with its unit: `Current, A RMS`.
    pub axis: String,
    /// The traces.
    pub traces: Vec<Trace>,
}

/// One line.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Trace {
    /// Its name in the legend.
    pub name: String,
    /// Time in seconds and value.
    pub points: Vec<(f64, f64)>,
}

/// Colours of the traces, told apart by brightness too.
const TRACES: [RGBColor; 6] = [
    RGBColor(0x9c, 0x2f, 0x1f),
    RGBColor(0x1f, 0x6f, 0x4a),
    RGBColor(0x1f, 0x4e, 0x9a),
    RGBColor(0xb0, 0x7a, 0x10),
    RGBColor(0x6b, 0x3f, 0x8f),
    RGBColor(0x4a, 0x55, 0x60),
];

/// Most points drawn of a trace; of more, the extremes of each column are kept.
const COLUMNS: usize = 1500;

impl Trace {
    /// The points within the times shown, thinned to what can be seen: first, lowest, highest and
    /// last of each column, so that no peak is lost.
    fn seen(&self, (from, to): (f64, f64)) -> Vec<(f64, f64)> {
        let start = self.points.partition_point(|p| p.0 < from).saturating_sub(1);
        let end = (self.points.partition_point(|p| p.0 <= to) + 1).min(self.points.len());
        let inside = &self.points[start..end.max(start)];
        if inside.len() <= 4 * COLUMNS {
            return inside.to_vec();
        }
        let mut thinned = Vec::with_capacity(4 * COLUMNS);
        for column in inside.chunks(inside.len().div_ceil(COLUMNS)) {
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
}

impl Panel {
    fn range(&self, times: (f64, f64)) -> Axis {
        let values =
            self.traces.iter().flat_map(|t| t.seen(times)).map(|p| p.1).filter(|v| v.is_finite());
        let (low, high) =
            values.fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), v| (l.min(v), h.max(v)));
        if !low.is_finite() {
            return Axis::between(0.0, 1.0);
        }
        // Magnitudes stand on zero, unless all of them lie in a narrow band far from it.
        let low = if low >= 0.0 && (low < 0.7 * high || low == high) { 0.0 } else { low };
        let room = ((high - low) * 0.08).max(high.abs() * 1e-3).max(1e-9);
        Axis::between(if low == 0.0 { 0.0 } else { low - room }, high + room)
    }
}

impl Picture for Oscillogram {
    fn draw<B: DrawingBackend>(&self, height: u32, backend: B) -> Result<Vec<Placed>, PlotError> {
        fonts();
        if self.panels.is_empty() {
            return Err(PlotError::Empty("no channel has anything to show".to_owned()));
        }
        let root = backend.into_drawing_area();
        root.fill(&WHITE).map_err(drawing)?;
        let left = Pos::new(HPos::Left, VPos::Top);
        let at = |x: f64, y: f64| (px(x) as i32, px(y) as i32);
        root.draw(&Text::new(self.title.clone(), at(76.0, 12.0), heading(19.0).pos(left)))
            .map_err(drawing)?;
        root.draw(&Text::new(self.subtitle.clone(), at(76.0, 40.0), label(13.0, &FAINT).pos(left)))
            .map_err(drawing)?;
        let (top, bottom) = (84.0, 46.0);
        let each = (f64::from(height) - top - bottom) / self.panels.len() as f64;
        let width = f64::from(root.dim_in_pixel().0) / f64::from(SCALE);
        for (index, panel) in self.panels.iter().enumerate() {
            let y = top + each * index as f64;
            let last = index + 1 == self.panels.len();
            self.panel(&root, panel, (y, each), width, last)?;
        }
        let tops: Vec<f64> = (0..self.panels.len()).map(|k| top + each * k as f64).collect();
        self.marked(&root, (&tops, each), width)?;
        root.present().map_err(drawing)?;
        Ok(Vec::new())
    }

    fn note(&self, _mark: usize) -> String {
        String::new()
    }
}

/// The points within the times; where the line crosses an end, it is cut there.
fn clipped(points: &[(f64, f64)], (from, to): (f64, f64)) -> Vec<(f64, f64)> {
    let finite: Vec<(f64, f64)> = points.iter().copied().filter(|p| p.1.is_finite()).collect();
    let mut kept: Vec<(f64, f64)> = Vec::with_capacity(finite.len());
    for (index, point) in finite.iter().enumerate() {
        if let Some(before) = index.checked_sub(1).map(|i| finite[i]) {
            for end in [from, to] {
                if before.0 < end && end < point.0 {
                    let share = (end - before.0) / (point.0 - before.0);
                    kept.push((end, before.1 + (point.1 - before.1) * share));
                }
            }
        }
        if (from..=to).contains(&point.0) {
            kept.push(*point);
        }
    }
    kept
}

/// Left and right margins, in pixels.
const LEFT: f64 = 76.0;
const RIGHT: f64 = 24.0;

impl Oscillogram {
    fn panel<B: DrawingBackend>(
        &self,
        root: &DrawingArea<B, plotters::coord::Shift>,
        panel: &Panel,
        (y, each): (f64, f64),
        width: f64,
        last: bool,
    ) -> Result<(), PlotError> {
        let area = root.clone().shrink((0, px(y) as i32), (px(width), px(each)));
        let axis = panel.range(self.times);
        let (low, high) = axis.ends();
        let across = Axis::between(self.times.0, self.times.1);
        let (from, to) = across.ends();
        let mut chart = ChartBuilder::on(&area)
            .margin_left(px(LEFT))
            .margin_right(px(RIGHT))
            .margin_top(px(26.0))
            .margin_bottom(px(8.0))
            .build_cartesian_2d(from..to, low..high)
            .map_err(drawing)?;
        let (values, value_step) = axis.ticks((each / 42.0).clamp(2.0, 10.0));
        let (times, time_step) = across.ticks(10.0);
        let line = |from: (f64, f64), to: (f64, f64), colour: RGBColor, stroke: f64| {
            PathElement::new(vec![from, to], colour.stroke_width(px(stroke)))
        };
        for t in &times {
            chart.draw_series([line((*t, low), (*t, high), GRID, 1.0)]).map_err(drawing)?;
        }
        for v in &values {
            let colour = if *v == 0.0 { GRID_STRONG } else { GRID };
            chart.draw_series([line((from, *v), (to, *v), colour, 1.0)]).map_err(drawing)?;
            let place = chart.backend_coord(&(from, *v));
            let style = label(12.0, &FAINT).pos(Pos::new(HPos::Right, VPos::Center));
            let text =
                Text::new(number(*v, value_step), (place.0 - px(8.0) as i32, place.1), style);
            root.draw(&text).map_err(drawing)?;
        }
        for (index, trace) in panel.traces.iter().enumerate() {
            let colour = TRACES[index % TRACES.len()];
            let seen = clipped(&trace.seen((from, to)), (from, to)).into_iter();
            let inside: Vec<_> = seen.map(|(t, v)| (t, axis.clamp(v))).collect();
            let path = PathElement::new(inside, colour.stroke_width(px(1.5)));
            chart.draw_series([path]).map_err(drawing)?;
        }
        // Heading and legend on one line above the panel.
        let style = label(13.0, &INK).pos(Pos::new(HPos::Left, VPos::Top));
        root.draw(&Text::new(
            panel.axis.clone(),
            (px(LEFT + 8.0) as i32, px(y + 6.0) as i32),
            style,
        ))
        .map_err(drawing)?;
        let mut x = LEFT + 190.0;
        for (index, trace) in panel.traces.iter().enumerate() {
            let colour = TRACES[index % TRACES.len()];
            let middle = px(y + 14.0) as i32;
            let stroke = vec![(px(x) as i32, middle), (px(x + 18.0) as i32, middle)];
            root.draw(&PathElement::new(stroke, colour.stroke_width(px(2.0)))).map_err(drawing)?;
            let style = label(12.0, &INK).pos(Pos::new(HPos::Left, VPos::Center));
            root.draw(&Text::new(trace.name.clone(), (px(x + 23.0) as i32, middle), style))
                .map_err(drawing)?;
            x += 40.0 + 8.0 * trace.name.chars().count() as f64;
        }
        // Short stretches read better in milliseconds.
        let short = across.span() <= 0.5;
        let (factor, unit) = if short { (1e3, "Time, ms") } else { (1.0, "Time, s") };
        if last {
            for t in &times {
                let place = chart.backend_coord(&(*t, low));
                let style = label(12.0, &FAINT).pos(Pos::new(HPos::Center, VPos::Top));
                let text = Text::new(
                    number(*t * factor, time_step * factor),
                    (place.0, place.1 + px(6.0) as i32),
                    style,
                );
                root.draw(&text).map_err(drawing)?;
            }
            let place = chart.backend_coord(&(to, low));
            let style = label(13.0, &INK).pos(Pos::new(HPos::Right, VPos::Top));
            root.draw(&Text::new(unit, (place.0, place.1 + px(22.0) as i32), style))
                .map_err(drawing)?;
        }
        Ok(())
    }

    /// Dashed lines over all panels, with their words above; words that would overlap are left out.
    fn marked<B: DrawingBackend>(
        &self,
        root: &DrawingArea<B, plotters::coord::Shift>,
        (tops, each): (&[f64], f64),
        width: f64,
    ) -> Result<(), PlotError> {
        let across = Axis::between(self.times.0, self.times.1);
        let (begin, end) = across.ends();
        let mut free_from = 0.0;
        for (time, word) in self.moments.iter().filter(|(t, _)| *t >= begin && *t <= end) {
            let x = LEFT + (time - begin) / across.span() * (width - LEFT - RIGHT);
            let style = FAINT.stroke_width(px(0.8));
            // Panels only: the words between them stay readable.
            for top in tops {
                let ends = [px(top + 26.0) as i32, px(top + each - 8.0) as i32];
                let line = ends.map(|y| (px(x) as i32, y)).to_vec();
                root.draw(&plotters::element::DashedPathElement::new(
                    line,
                    px(4.0),
                    px(4.0),
                    style,
                ))
                .map_err(drawing)?;
            }
            let top = tops.first().copied().unwrap_or_default();
            let length = 6.6 * word.chars().count() as f64;
            let from = if x + length + 6.0 > width { x - length - 4.0 } else { x + 4.0 };
            if from >= free_from {
                let style = label(12.0, &INK).pos(Pos::new(HPos::Left, VPos::Bottom));
                let place = (px(from) as i32, px(top - 4.0) as i32);
                root.draw(&Text::new(word.clone(), place, style)).map_err(drawing)?;
                free_from = from + length + 6.0;
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn thinning_keeps_every_peak() {
        let points: Vec<(f64, f64)> =
            (0..100_000).map(|i| (f64::from(i), if i == 54_321 { 9.0 } else { 0.0 })).collect();
        let trace = Trace { name: "a".into(), points };
        let seen = trace.seen((0.0, 100_000.0));
        assert!(seen.len() <= 4 * COLUMNS + 4 && seen.contains(&(54_321.0, 9.0)));
        assert!(seen.is_sorted_by(|a, b| a.0 <= b.0));
        assert_eq!(trace.seen((10.0, 12.0)).len(), 5);
    }
}
