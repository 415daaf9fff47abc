//! SVG text of a diagram, with what hovering a point shows.

use super::PlotError;
use super::draw::{Joins, draw};
use super::frame::Frame;
use super::style::{FONT, SCALE};
use plotters::prelude::SVGBackend;
use serde_json::{Value, json};
use std::fmt::Write;
use waltron_core::section::{Axis, Chart, Scale};

/// Families to fall back on where the built-in font is not at hand.
const FAMILIES: &str = "Open Sans, Segoe UI, Helvetica, Arial, sans-serif";

/// Draws a chart as SVG text of `size` (width, height) in pixels.
///
/// Every point carries a title, which browsers show on hovering, and the class `point` with its
/// id, for the report's own read-out.
///
/// # Errors
/// [`PlotError`] when there is nothing to draw or the drawing library refuses.
pub fn svg(chart: &Chart, size: (u32, u32)) -> Result<String, PlotError> {
    let mut text = String::new();
    let (width, height) = size;
    let drawn_size = (width * SCALE, height * SCALE);
    let placed = draw(chart, size, SVGBackend::with_string(&mut text, drawn_size), Joins::Round)?;
    // The library writes its drawn size; the picture's own size goes beside a view box.
    let drawn = format!("<svg width=\"{}\" height=\"{}\"", width * SCALE, height * SCALE);
    let axes = escape(&axes(chart, size).to_string());
    let wanted = format!(
        "<svg width=\"{width}\" height=\"{height}\" role=\"img\" stroke-linejoin=\"round\" data-axes=\"{axes}\""
    );
    let mut text = text
        .replacen(&drawn, &wanted, 1)
        .replace(&format!("font-family=\"{FONT}\""), &format!("font-family=\"{FAMILIES}\""));
    let end = text.rfind("</svg>").unwrap_or(text.len());
    text.truncate(end);
    let scale = f64::from(SCALE);
    for place in placed {
        let notes = format!("{}\n{}", place.mark.id, place.mark.notes.join("\n"));
        // Writing to a string cannot fail.
        let _ = writeln!(
            text,
            "<circle class=\"point\" cx=\"{:.0}\" cy=\"{:.0}\" r=\"{:.0}\" fill=\"transparent\">\
             <title>{}</title></circle>",
            place.x * scale,
            place.y * scale,
            9.0 * scale,
            escape(&notes)
        );
    }
    text.push_str("</svg>\n");
    Ok(crate::clean::document(text))
}

/// What a reader of the picture needs to tell values from places in it.
fn axes(chart: &Chart, size: (u32, u32)) -> Value {
    let axis = |axis: &Axis| {
        let (low, high) = axis.ends();
        let is_log = axis.scale() == Scale::Logarithmic;
        if !axis.rows().is_empty() {
            return json!({ "low": low, "high": high, "rows": axis.rows() });
        }
        json!({ "label": axis.label(), "low": low, "high": high, "log": is_log, "times": axis.times() })
    };
    let frame = Frame::of(chart, size);
    let panels = chart.panels.iter().zip(&frame.boxes).map(|(panel, area)| {
        let mut of = axis(&panel.y);
        of["box"] = json!([area.left, area.top, area.right, area.bottom]);
        of
    });
    json!({ "width": size.0, "x": axis(&chart.x), "panels": panels.collect::<Vec<_>>() })
}

fn escape(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}
