//! Drawing a time-current diagram with the plotting library.
//!
//! Grid and labels are drawn here rather than by the library: its logarithmic grid clumps and its
//! labels need rounding. Coordinates of the library are whole pixels, so everything is drawn
//! [`SCALE`] times larger and scaled down by the SVG's view box.

use super::PlotError;
use super::axis::LogAxis;
use super::model::{Mark, Outcome, TimeCurrent};
use plotters::coord::Shift;
use plotters::coord::combinators::LogCoord;
use plotters::element::DashedPathElement;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};
use plotters::style::{FontStyle, register_font};
use std::sync::Once;

/// Drawn pixels per pixel of the picture.
pub(super) const SCALE: u32 = 4;
/// The family name that the built-in fonts are registered under.
pub(super) const FONT: &str = "Open Sans";
/// The built-in regular face.
const REGULAR: &[u8] = include_bytes!("../../fonts/OpenSans-Regular.ttf");
/// The built-in semibold face.
const SEMIBOLD: &[u8] = include_bytes!("../../fonts/OpenSans-Semibold.ttf");

pub(super) const INK: RGBColor = RGBColor(0x1d, 0x24, 0x2b);
pub(super) const FAINT: RGBColor = RGBColor(0x5a, 0x66, 0x72);
pub(super) const GRID: RGBColor = RGBColor(0xe4, 0xe8, 0xec);
pub(super) const GRID_STRONG: RGBColor = RGBColor(0xc3, 0xcb, 0xd2);
const CURVE: RGBColor = RGBColor(0x1f, 0x4e, 0x79);
const BAND: RGBColor = RGBColor(0xc9, 0xdd, 0xee);
const STAGE: RGBColor = RGBColor(0x8a, 0x94, 0x9e);
const PASS: RGBColor = RGBColor(0x1b, 0x7f, 0x4d);
const FAIL: RGBColor = RGBColor(0xc0, 0x2b, 0x1d);
const OPEN: RGBColor = RGBColor(0xa8, 0x6a, 0x00);

type Area<B> = DrawingArea<B, Shift>;
type Log = LogCoord<f64>;
type Chart<'a, B> = ChartContext<'a, B, Cartesian2d<Log, Log>>;

/// A length in pixels of the picture, as drawn.
pub(super) fn px(value: f64) -> u32 {
    (value * f64::from(SCALE)).round() as u32
}

pub(super) fn drawing(error: impl std::fmt::Display) -> PlotError {
    PlotError::Drawing(error.to_string())
}

/// Makes the built-in fonts known to the library.
pub(super) fn fonts() {
    static ONCE: Once = Once::new();
    ONCE.call_once(|| {
        // Fails only on damaged font data, which is built in and covered by a test.
        let _ = register_font(FONT, FontStyle::Normal, REGULAR);
        let _ = register_font(FONT, FontStyle::Bold, SEMIBOLD);
    });
}

pub(super) fn label(size: f64, colour: &'static RGBColor) -> TextStyle<'static> {
    TextStyle::from((FONT, px(size) as f64).into_font()).color(colour)
}

pub(super) fn heading(size: f64) -> TextStyle<'static> {
    let font = FontDesc::new(FontFamily::Name(FONT), px(size) as f64, FontStyle::Bold);
    TextStyle::from(font).color(&INK)
}

/// A mark's place in the picture, in its pixels.
pub(super) struct Placed {
    pub(super) x: f64,
    pub(super) y: f64,
    pub(super) mark: usize,
}

/// Something that can be drawn.
pub(super) trait Picture {
    /// Draws on a backend [`SCALE`] times larger than the picture; returns where the marks are.
    ///
    /// # Errors
    /// [`PlotError`] when there is nothing to draw or the drawing library refuses.
    fn draw<B: DrawingBackend>(&self, height: u32, backend: B) -> Result<Vec<Placed>, PlotError>;

    /// What hovering a mark shows.
    fn note(&self, mark: usize) -> String;
}

impl Picture for TimeCurrent {
    fn draw<B: DrawingBackend>(&self, height: u32, backend: B) -> Result<Vec<Placed>, PlotError> {
        draw(self, height, backend)
    }

    fn note(&self, mark: usize) -> String {
        let mark = &self.marks[mark];
        format!("{}\n{}", mark.id, mark.notes.join("\n"))
    }
}

fn range(axis: LogAxis) -> std::ops::Range<f64> {
    let (low, high) = axis.ends();
    low..high
}

fn draw<B: DrawingBackend>(
    plot: &TimeCurrent,
    height: u32,
    backend: B,
) -> Result<Vec<Placed>, PlotError> {
    fonts();
    let root = backend.into_drawing_area();
    root.fill(&WHITE).map_err(drawing)?;
    let style = heading(19.0).pos(Pos::new(HPos::Left, VPos::Top));
    root.draw(&Text::new(plot.title.clone(), (px(72.0) as i32, px(14.0) as i32), style))
        .map_err(drawing)?;
    legend(&root, plot)?;
    let mut chart = ChartBuilder::on(&root)
        .margin_top(px(76.0))
        .margin_left(px(72.0))
        .margin_right(px(24.0))
        .margin_bottom(px(58.0))
        .build_cartesian_2d(range(plot.currents).log_scale(), range(plot.times).log_scale())
        .map_err(drawing)?;
    grid(&root, &chart, plot)?;
    band(&mut chart, plot)?;
    stages(&root, &mut chart, plot)?;
    line(&mut chart, &plot.curve, plot, CURVE.stroke_width(px(2.4)))?;
    let placed = marks(&root, &chart, plot)?;
    frame(&root, &chart, plot, height)?;
    root.present().map_err(drawing)?;
    Ok(placed)
}

fn grid<B: DrawingBackend>(
    root: &Area<B>,
    chart: &Chart<'_, B>,
    plot: &TimeCurrent,
) -> Result<(), PlotError> {
    let at = |x: f64, y: f64| chart.backend_coord(&(x, y));
    let ((x0, x1), (y0, y1)) = (plot.currents.ends(), plot.times.ends());
    let style = |strong: bool| {
        if strong { GRID_STRONG.stroke_width(px(1.0)) } else { GRID.stroke_width(px(0.75)) }
    };
    for (x, strong) in plot.currents.ticks() {
        let path = PathElement::new(vec![at(x, y0), at(x, y1)], style(strong));
        root.draw(&path).map_err(drawing)?;
        if plot.currents.is_labelled(x) {
            let (px_x, px_y) = at(x, y0);
            let style = label(14.0, &INK).pos(Pos::new(HPos::Center, VPos::Top));
            let text = waltron_core::quantity::significant(x, 3);
            root.draw(&Text::new(text, (px_x, px_y + px(7.0) as i32), style)).map_err(drawing)?;
        }
    }
    for (y, strong) in plot.times.ticks() {
        let path = PathElement::new(vec![at(x0, y), at(x1, y)], style(strong));
        root.draw(&path).map_err(drawing)?;
        if plot.times.is_labelled(y) {
            let (px_x, px_y) = at(x0, y);
            let style = label(14.0, &INK).pos(Pos::new(HPos::Right, VPos::Center));
            let text = waltron_core::quantity::significant(y, 3);
            root.draw(&Text::new(text, (px_x - px(8.0) as i32, px_y), style)).map_err(drawing)?;
        }
    }
    Ok(())
}

fn frame<B: DrawingBackend>(
    root: &Area<B>,
    chart: &Chart<'_, B>,
    plot: &TimeCurrent,
    height: u32,
) -> Result<(), PlotError> {
    let ((x0, x1), (y0, y1)) = (plot.currents.ends(), plot.times.ends());
    let (left, bottom) = chart.backend_coord(&(x0, y0));
    let (right, top) = chart.backend_coord(&(x1, y1));
    let box_ = Rectangle::new([(left, top), (right, bottom)], INK.stroke_width(px(1.2)));
    root.draw(&box_).map_err(drawing)?;
    let centre = Pos::new(HPos::Center, VPos::Bottom);
    let middle = (left + right) / 2;
    let baseline = (height * SCALE) as i32 - px(8.0) as i32;
    let style = label(15.0, &INK).pos(centre);
    root.draw(&Text::new(plot.current_axis.clone(), (middle, baseline), style)).map_err(drawing)?;
    let turned =
        TextStyle::from((FONT, px(15.0) as f64).into_font().transform(FontTransform::Rotate270))
            .color(&INK)
            .pos(Pos::new(HPos::Center, VPos::Top));
    let at = (px(10.0) as i32, (top + bottom) / 2);
    root.draw(&Text::new("Trip time, s", at, turned)).map_err(drawing)
}

/// A polyline cut to the diagram's area.
fn line<B: DrawingBackend>(
    chart: &mut Chart<'_, B>,
    points: &[(f64, f64)],
    plot: &TimeCurrent,
    style: ShapeStyle,
) -> Result<(), PlotError> {
    let inside = clip(points, plot.times);
    chart.draw_series([PathElement::new(inside, style)]).map_err(drawing)?;
    Ok(())
}

/// Points within the time range; where the line leaves it above, a point on the edge. What is below
/// it runs along the lower edge, as an element does that operates at once.
fn clip(points: &[(f64, f64)], axis: LogAxis) -> Vec<(f64, f64)> {
    let (low, high) = axis.ends();
    let mut inside: Vec<(f64, f64)> = Vec::new();
    let mut before: Option<(f64, f64)> = None;
    for (x, y) in points.iter().map(|(x, y)| (*x, y.max(low))) {
        if y <= high {
            if let Some((px, py)) = before.filter(|(_, py)| *py > high) {
                let share = if py.is_finite() { (high / y).ln() / (py / y).ln() } else { 0.0 };
                inside.push((x * (px / x).powf(share), high));
            }
            inside.push((x, y));
        }
        before = Some((x, y));
    }
    inside
}

fn band<B: DrawingBackend>(chart: &mut Chart<'_, B>, plot: &TimeCurrent) -> Result<(), PlotError> {
    let clamp = |t: f64| plot.times.clamp(t);
    let lower = plot.band.iter().map(|(i, earliest, _)| (*i, clamp(*earliest)));
    let upper = plot.band.iter().rev().map(|(i, _, latest)| (*i, clamp(*latest)));
    let outline: Vec<(f64, f64)> = lower.chain(upper).collect();
    if outline.len() > 2 {
        chart.draw_series([Polygon::new(outline, BAND.filled())]).map_err(drawing)?;
    }
    Ok(())
}

fn stages<B: DrawingBackend>(
    root: &Area<B>,
    chart: &mut Chart<'_, B>,
    plot: &TimeCurrent,
) -> Result<(), PlotError> {
    for stage in &plot.stages {
        if plot.stages.len() > 1 {
            let points = clip(&stage.curve, plot.times);
            let style = STAGE.stroke_width(px(1.3));
            let dashes = DashedPathElement::new(points, px(6.0), px(4.0), style);
            chart.draw_series([dashes]).map_err(drawing)?;
        }
        if !plot.currents.contains(stage.pickup_a) {
            continue;
        }
        let colour = if stage.under_test { CURVE } else { STAGE };
        let (low, high) = plot.times.ends();
        let (x, top) = chart.backend_coord(&(stage.pickup_a, high));
        let (_, bottom) = chart.backend_coord(&(stage.pickup_a, low));
        let path = DashedPathElement::new(
            [(x, top), (x, bottom)],
            px(2.0),
            px(3.0),
            colour.stroke_width(px(1.2)),
        );
        root.draw(&path).map_err(drawing)?;
        let style = label(13.0, if stage.under_test { &CURVE } else { &FAINT })
            .pos(Pos::new(HPos::Center, VPos::Bottom));
        let at = (x, top - px(3.0) as i32);
        root.draw(&Text::new(stage.label.clone(), at, style)).map_err(drawing)?;
    }
    Ok(())
}

fn marks<B: DrawingBackend>(
    root: &Area<B>,
    chart: &Chart<'_, B>,
    plot: &TimeCurrent,
) -> Result<Vec<Placed>, PlotError> {
    let mut placed = Vec::new();
    for (index, mark) in plot.marks.iter().enumerate() {
        let time = plot.times.clamp(mark.time_s).min(plot.times.ends().1 * 0.93);
        let at = chart.backend_coord(&(plot.currents.clamp(mark.current_a), time));
        symbol(root, at, mark.outcome)?;
        let scale = f64::from(SCALE);
        placed.push(Placed { x: f64::from(at.0) / scale, y: f64::from(at.1) / scale, mark: index });
    }
    Ok(placed)
}

fn symbol<B: DrawingBackend>(
    root: &Area<B>,
    (x, y): (i32, i32),
    outcome: Outcome,
) -> Result<(), PlotError> {
    let r = px(4.6) as i32;
    let halo = WHITE.stroke_width(px(1.0));
    match outcome {
        Outcome::Pass => {
            root.draw(&Circle::new((x, y), r, PASS.filled())).map_err(drawing)?;
            root.draw(&Circle::new((x, y), r, halo)).map_err(drawing)
        }
        Outcome::Fail => {
            let r = px(5.5) as i32;
            for dy in [-r, r] {
                let ends = vec![(x - r, y - dy), (x + r, y + dy)];
                let stroke = FAIL.stroke_width(px(2.6));
                root.draw(&PathElement::new(ends, stroke)).map_err(drawing)?;
            }
            Ok(())
        }
        Outcome::Open => {
            let ends = [(x - r, y - r), (x + r, y + r)];
            root.draw(&Rectangle::new(ends, OPEN.stroke_width(px(2.0)))).map_err(drawing)
        }
        Outcome::NoTrip => {
            let points = vec![(x, y - r), (x + r, y + r), (x - r, y + r), (x, y - r)];
            root.draw(&PathElement::new(points, PASS.stroke_width(px(1.8)))).map_err(drawing)
        }
    }
}

fn legend<B: DrawingBackend>(root: &Area<B>, plot: &TimeCurrent) -> Result<(), PlotError> {
    let has = |o: Outcome| plot.marks.iter().any(|m: &Mark| m.outcome == o);
    let mut x = px(72.0) as i32;
    let y = px(50.0) as i32 - px(2.0) as i32;
    let style = || label(13.0, &FAINT).pos(Pos::new(HPos::Left, VPos::Center));
    let mut entry = |text: &str, room: f64, draw: &mut dyn FnMut(i32) -> Result<(), PlotError>| {
        draw(x + px(10.0) as i32)?;
        root.draw(&Text::new(text.to_owned(), (x + px(24.0) as i32, y), style()))
            .map_err(drawing)?;
        x += px(room) as i32;
        Ok::<(), PlotError>(())
    };
    entry("expected", 92.0, &mut |cx| {
        let ends = vec![(cx - px(9.0) as i32, y), (cx + px(9.0) as i32, y)];
        root.draw(&PathElement::new(ends, CURVE.stroke_width(px(2.4)))).map_err(drawing)
    })?;
    entry("acceptance band", 138.0, &mut |cx| {
        let r = px(6.0) as i32;
        let ends = [(cx - r - r / 2, y - r), (cx + r + r / 2, y + r)];
        root.draw(&Rectangle::new(ends, BAND.filled())).map_err(drawing)
    })?;
    let outcomes = [
        (Outcome::Pass, "pass", 64.0),
        (Outcome::NoTrip, "no trip, pass", 116.0),
        (Outcome::Fail, "fail", 60.0),
        (Outcome::Open, "inconclusive", 112.0),
    ];
    for (outcome, text, room) in outcomes.into_iter().filter(|(o, _, _)| has(*o)) {
        entry(text, room, &mut |cx| symbol(root, (cx, y), outcome))?;
    }
    Ok(())
}
