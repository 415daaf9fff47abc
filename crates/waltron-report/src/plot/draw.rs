//! Drawing a chart with the plotting library's lines, areas and letters.
//!
//! Where things stand is worked out here: the library's logarithmic grid clumps and its labels need
//! rounding. Its coordinates are whole pixels, so everything is drawn [`SCALE`] times larger and scaled
//! down by the SVG's view box.

use super::PlotError;
use super::frame::{Area, Box, Frame};
use super::style::{
    BAND, CURVE, FAINT, GRID, GRID_STRONG, INK, SCALE, STAGE, TRACES, drawing, fonts, heading,
    label, px,
};
use super::symbol::symbol;
use super::trace::shown;
use plotters::element::DashedPathElement;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};
use waltron_core::section::{Bar, Chart, Curve, Mark, Outcome, Panel, Style};

/// A mark's place in the picture, in its pixels.
pub(super) struct Placed<'c> {
    pub(super) x: f64,
    pub(super) y: f64,
    pub(super) mark: &'c Mark,
}

/// How a backend joins the pieces of a line.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Joins {
    /// Round.
    Round,
    /// At their mitres, which on noise stand out as spikes.
    Mitred,
}

/// Draws a chart of `size` (width, height) on a backend [`SCALE`] times larger; returns where its marks
/// are.
///
/// # Errors
/// [`PlotError`] when there is nothing to draw or the drawing library refuses.
pub(super) fn draw<B: DrawingBackend>(
    chart: &Chart,
    size: (u32, u32),
    backend: B,
    joins: Joins,
) -> Result<Vec<Placed<'_>>, PlotError> {
    fonts();
    if chart.panels.is_empty() {
        return Err(PlotError::Empty("no channel has anything to show".to_owned()));
    }
    let root = backend.into_drawing_area();
    root.fill(&WHITE).map_err(drawing)?;
    let frame = Frame::of(chart, size);
    let left = Pos::new(HPos::Left, VPos::Top);
    let at = |y: f64| (px(frame.left) as i32, px(y) as i32);
    root.draw(&Text::new(chart.title.clone(), at(12.0), heading(19.0).pos(left)))
        .map_err(drawing)?;
    let subtitle = label(13.0, &FAINT).pos(left);
    root.draw(&Text::new(chart.subtitle.clone(), at(38.0), subtitle)).map_err(drawing)?;
    let mut placed = Vec::new();
    for (panel, area) in chart.panels.iter().zip(&frame.boxes) {
        grid(&root, chart, panel, *area)?;
        for region in &panel.regions {
            let corner = |(x, y): &(f64, f64)| {
                area.at(chart.x.place(chart.x.clamp(*x)), panel.y.place(panel.y.clamp(*y)))
            };
            let outline: Vec<(i32, i32)> = region.outline.iter().map(corner).collect();
            if outline.len() > 2 {
                root.draw(&Polygon::new(outline, BAND.filled())).map_err(drawing)?;
            }
        }
        for bar in &panel.bars {
            state(&root, chart, panel, bar, *area)?;
        }
        for curve in &panel.curves {
            line(&root, chart, panel, curve, *area, joins)?;
        }
        legend(&root, &frame, panel, *area)?;
    }
    lines(&root, chart, &frame)?;
    for (panel, area) in chart.panels.iter().zip(&frame.boxes) {
        for mark in &panel.marks {
            let place = chart.x.place(chart.x.clamp(mark.x));
            // What is beyond all stands just below the upper edge.
            let (x, y) = area.at(place, panel.y.place(panel.y.clamp(mark.y)).min(0.985));
            symbol(&root, (x, y), mark.outcome)?;
            let scale = f64::from(SCALE);
            placed.push(Placed { x: f64::from(x) / scale, y: f64::from(y) / scale, mark });
        }
        outline(&root, *area)?;
    }
    below(&root, chart, &frame)?;
    root.present().map_err(drawing)?;
    Ok(placed)
}

/// Lines of both axes, and the numbers of the panel's own.
fn grid<B: DrawingBackend>(
    root: &Area<B>,
    chart: &Chart,
    panel: &Panel,
    area: Box,
) -> Result<(), PlotError> {
    let style = |strong: bool| {
        if strong { GRID_STRONG.stroke_width(px(1.0)) } else { GRID.stroke_width(px(0.75)) }
    };
    for tick in chart.x.ticks(Frame::ACROSS) {
        let x = chart.x.place(tick.at);
        let path = vec![area.at(x, 0.0), area.at(x, 1.0)];
        root.draw(&PathElement::new(path, style(tick.is_strong))).map_err(drawing)?;
    }
    for tick in panel.y.ticks(area.parts()) {
        let y = panel.y.place(tick.at);
        let path = vec![area.at(0.0, y), area.at(1.0, y)];
        root.draw(&PathElement::new(path, style(tick.is_strong))).map_err(drawing)?;
        if let Some(text) = tick.text {
            let (x, y) = area.at(0.0, y);
            let style = label(14.0, &INK).pos(Pos::new(HPos::Right, VPos::Center));
            root.draw(&Text::new(text, (x - px(8.0) as i32, y), style)).map_err(drawing)?;
        }
    }
    Ok(())
}

/// A bar; one to compare with is hollow, and lies below the other.
fn state<B: DrawingBackend>(
    root: &Area<B>,
    chart: &Chart,
    panel: &Panel,
    bar: &Bar,
    area: Box,
) -> Result<(), PlotError> {
    let middle = panel.y.row(bar.row);
    let (low, high) = if bar.is_aside { (-0.42, -0.26) } else { (-0.22, 0.3) };
    let place =
        |x: f64, y: f64| area.at(chart.x.place(chart.x.clamp(x)), panel.y.place(panel.y.clamp(y)));
    let ends = [place(bar.from, middle + high), place(bar.to, middle + low)];
    let style = if bar.is_aside { STAGE.stroke_width(px(1.2)) } else { CURVE.filled() };
    root.draw(&Rectangle::new(ends, style)).map_err(drawing)
}

fn stroke(style: Style) -> (RGBColor, f64) {
    match style {
        Style::Expected => (CURVE, 2.4),
        Style::Aside => (STAGE, 1.3),
        Style::Trace(number) | Style::Dashed { number, .. } => (TRACES[number % TRACES.len()], 1.5),
    }
}

fn line<B: DrawingBackend>(
    root: &Area<B>,
    chart: &Chart,
    panel: &Panel,
    curve: &Curve,
    area: Box,
    joins: Joins,
) -> Result<(), PlotError> {
    let points = shown(&curve.points, &chart.x, &panel.y);
    let points: Vec<(i32, i32)> = points.into_iter().map(|(x, y)| area.at(x, y)).collect();
    let (colour, width) = stroke(curve.style);
    let stroke = colour.stroke_width(px(width));
    if let (false, Some((x, y))) = (curve.label.is_empty(), points.last()) {
        let width = px(7.0 * curve.label.chars().count() as f64) as i32;
        let fits = x + px(10.0) as i32 + width < area.at(1.0, 0.0).0;
        // Where it would be cut off it stands above the line instead of behind it.
        let (place, at) = match fits {
            true => (Pos::new(HPos::Left, VPos::Center), (x + px(10.0) as i32, *y)),
            false => {
                (Pos::new(HPos::Right, VPos::Bottom), (x - px(4.0) as i32, y - px(4.0) as i32))
            }
        };
        let style = label(12.0, &FAINT).pos(place);
        root.draw(&Text::new(curve.label.clone(), at, style)).map_err(drawing)?;
    }
    match dashes(curve.style) {
        Some((dash, gap)) => {
            let dashed = DashedPathElement::new(points, px(dash), px(gap), stroke);
            root.draw(&dashed).map_err(drawing)
        }
        None if points.len() > DENSE && joins == Joins::Mitred => points
            .windows(2)
            .try_for_each(|pair| root.draw(&PathElement::new(pair.to_vec(), stroke)))
            .map_err(drawing),
        None => root.draw(&PathElement::new(points, stroke)).map_err(drawing),
    }
}

/// How many points make a line so dense that its joins are not seen.
const DENSE: usize = 400;

/// Dash and gap of a line; none of one that goes through.
fn dashes(style: Style) -> Option<(f64, f64)> {
    match style {
        Style::Aside => Some((6.0, 4.0)),
        Style::Dashed { dashes, .. } => match dashes % 3 {
            1 => Some((8.0, 4.0)),
            2 => Some((2.0, 3.0)),
            _ => None,
        },
        Style::Expected | Style::Trace(_) => None,
    }
}

/// What the panel shows and what its lines, areas and marks are, on one line above it.
fn legend<B: DrawingBackend>(
    root: &Area<B>,
    frame: &Frame,
    panel: &Panel,
    area: Box,
) -> Result<(), PlotError> {
    let y = px(area.heading + 10.0) as i32;
    let middle = Pos::new(HPos::Left, VPos::Center);
    let at = (px(frame.left) as i32, y);
    let axis = panel.y.label().to_owned();
    root.draw(&Text::new(axis.clone(), at, label(15.0, &INK).pos(middle))).map_err(drawing)?;
    let mut x = frame.left + (20.0 + 8.2 * axis.chars().count() as f64).max(120.0);
    let mut entry = |text: &str, draw: &mut dyn FnMut(i32) -> Result<(), PlotError>| {
        draw(px(x + 10.0) as i32)?;
        let at = (px(x + 24.0) as i32, y);
        let word = Text::new(text.to_owned(), at, label(14.0, &FAINT).pos(middle));
        root.draw(&word).map_err(drawing)?;
        x += 42.0 + 7.2 * text.chars().count() as f64;
        Ok::<(), PlotError>(())
    };
    for curve in panel.curves.iter().filter(|c| !c.name.is_empty()) {
        let (colour, width) = stroke(curve.style);
        entry(&curve.name, &mut |cx| {
            let ends = vec![(cx - px(9.0) as i32, y), (cx + px(9.0) as i32, y)];
            let stroke = colour.stroke_width(px(width.max(2.0)));
            match dashes(curve.style).filter(|_| curve.style != Style::Aside) {
                Some((dash, gap)) => {
                    let dashed =
                        DashedPathElement::new(ends, px(dash / 2.0), px(gap / 2.0), stroke);
                    root.draw(&dashed).map_err(drawing)
                }
                None => root.draw(&PathElement::new(ends, stroke)).map_err(drawing),
            }
        })?;
    }
    if panel.bars.iter().any(|bar| bar.is_aside) {
        let style = STAGE.stroke_width(px(1.2));
        entry("earlier", &mut |cx| {
            let r = px(4.0) as i32;
            let ends = [(cx - 2 * r, y - r / 2), (cx + 2 * r, y + r / 2)];
            root.draw(&Rectangle::new(ends, style)).map_err(drawing)
        })?;
    }
    for region in panel.regions.iter().filter(|r| r.outline.len() > 2) {
        entry(&region.name, &mut |cx| {
            let r = px(6.0) as i32;
            let ends = [(cx - r - r / 2, y - r), (cx + r + r / 2, y + r)];
            root.draw(&Rectangle::new(ends, BAND.filled())).map_err(drawing)
        })?;
    }
    let has = |o: Outcome| panel.marks.iter().any(|m| m.outcome == o);
    for (outcome, word) in Outcome::ALL.into_iter().filter(|(o, _)| has(*o)) {
        entry(word, &mut |cx| symbol(root, (cx, y), outcome))?;
    }
    Ok(())
}

/// Marked places: dashed through all panels, with their words above the first.
fn lines<B: DrawingBackend>(root: &Area<B>, chart: &Chart, frame: &Frame) -> Result<(), PlotError> {
    for (line, word) in frame.lines(chart) {
        let place = chart.x.place(line.at);
        let colour = if line.is_tested { CURVE } else { STAGE };
        for area in &frame.boxes {
            let path = [area.at(place, 1.0), area.at(place, 0.0)];
            let stroke = colour.stroke_width(px(1.1));
            let dashes = DashedPathElement::new(path, px(3.0), px(3.0), stroke);
            root.draw(&dashes).map_err(drawing)?;
        }
        let Some((x, y)) = word else { continue };
        let style = label(14.0, if line.is_tested { &CURVE } else { &FAINT });
        let style = style.pos(Pos::new(HPos::Left, VPos::Bottom));
        let at = (px(x) as i32, px(y) as i32);
        root.draw(&Text::new(line.name.clone(), at, style)).map_err(drawing)?;
    }
    Ok(())
}

fn outline<B: DrawingBackend>(root: &Area<B>, area: Box) -> Result<(), PlotError> {
    let ends = [area.at(0.0, 1.0), area.at(1.0, 0.0)];
    root.draw(&Rectangle::new(ends, INK.stroke_width(px(1.0)))).map_err(drawing)
}

/// The shared axis' numbers and what it shows.
fn below<B: DrawingBackend>(root: &Area<B>, chart: &Chart, frame: &Frame) -> Result<(), PlotError> {
    let Some(last) = frame.boxes.last() else { return Ok(()) };
    for tick in chart.x.ticks(Frame::ACROSS) {
        let Some(text) = tick.text else { continue };
        let (x, y) = last.at(chart.x.place(tick.at), 0.0);
        let style = label(14.0, &INK).pos(Pos::new(HPos::Center, VPos::Top));
        root.draw(&Text::new(text, (x, y + px(6.0) as i32), style)).map_err(drawing)?;
    }
    let (x, y) = last.at(0.5, 0.0);
    let style = label(15.0, &INK).pos(Pos::new(HPos::Center, VPos::Top));
    let at = (x, y + px(26.0) as i32);
    root.draw(&Text::new(chart.x.label().to_owned(), at, style)).map_err(drawing)
}
