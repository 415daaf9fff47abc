//! Where the parts of a chart stand in its picture.

use super::style::px;
use plotters::coord::Shift;
use plotters::prelude::DrawingArea;
use waltron_core::section::{Chart, Line};

pub(super) type Area<B> = DrawingArea<B, Shift>;

/// Where a panel's values are drawn, in pixels of the picture.
#[derive(Clone, Copy, Debug)]
pub(super) struct Box {
    /// Where the line above it with its words begins.
    pub(super) heading: f64,
    pub(super) left: f64,
    pub(super) right: f64,
    pub(super) top: f64,
    pub(super) bottom: f64,
}

impl Box {
    /// A place given as shares from the lower left corner, as drawn.
    pub(super) fn at(self, x: f64, y: f64) -> (i32, i32) {
        let across = self.left + x * (self.right - self.left);
        (px(across) as i32, px(self.bottom - y * (self.bottom - self.top)) as i32)
    }

    /// How many lines of a grid there is room for.
    pub(super) fn parts(self) -> f64 {
        ((self.bottom - self.top) / 38.0).clamp(2.0, 10.0)
    }
}

/// The places of all parts.
#[derive(Clone, Debug)]
pub(super) struct Frame {
    pub(super) left: f64,
    /// A panel each, from top to bottom.
    pub(super) boxes: Vec<Box>,
}

/// Height of a line of words above a panel.
const ROW: f64 = 17.0;

impl Frame {
    /// About how many parts the shared axis is cut into.
    pub(super) const ACROSS: f64 = 10.0;

    pub(super) fn of(chart: &Chart, (width, height): (u32, u32)) -> Self {
        let rows = chart.panels.iter().flat_map(|panel| panel.y.rows());
        let longest = rows.map(|name| name.chars().count()).max().unwrap_or(0);
        // Names of rows stand left of their panel.
        let left = (20.0 + 8.0 * longest as f64).clamp(76.0, f64::from(width) / 3.0);
        let right = f64::from(width) - 24.0;
        let worded = worded(chart, left, right);
        let rows = worded.iter().filter_map(|(_, at)| Some(at.as_ref()?.1 + 1)).max().unwrap_or(0);
        let words = ROW * rows as f64;
        let first = if chart.subtitle.is_empty() { 42.0 } else { 60.0 };
        let room = f64::from(height) - first - words - 54.0;
        let each = room / chart.panels.len().max(1) as f64;
        let mut frame = Self { left, boxes: Vec::new() };
        for index in 0..chart.panels.len() {
            // Marked places have their words between the first panel and its heading.
            let above = if index == 0 { 0.0 } else { words };
            let heading = first + above + each * index as f64;
            let top = heading + 24.0 + words - above;
            let bottom = first + words + each * (index + 1) as f64 - 12.0;
            frame.boxes.push(Box { heading, left, right, top, bottom: bottom.max(top + 4.0) });
        }
        frame
    }

    /// Lines that are marked, each with the place of its words, where there is room for them.
    pub(super) fn lines<'c>(&self, chart: &'c Chart) -> Vec<(&'c Line, Option<(f64, f64)>)> {
        let Some(first) = self.boxes.first() else { return Vec::new() };
        let place = |(x, row): (f64, usize)| (x, first.top - 3.0 - ROW * row as f64);
        let worded = worded(chart, first.left, first.right).into_iter();
        worded.map(|(line, at)| (line, at.map(place))).collect()
    }
}

/// Marked places with where their words begin and in which row above the panel: in the upper one where
/// they would run into others, and nowhere where they would in both.
fn worded(chart: &Chart, left: f64, right: f64) -> Vec<(&Line, Option<(f64, usize)>)> {
    let mut free = [0.0_f64; 2];
    let mut lines: Vec<&Line> = chart.lines.iter().filter(|l| chart.x.contains(l.at)).collect();
    lines.sort_by(|a, b| a.at.total_cmp(&b.at));
    let placed = lines.into_iter().map(|line| {
        let x = left + chart.x.place(line.at) * (right - left);
        let length = 7.0 * line.name.chars().count() as f64;
        let from = (x + 3.0).min(right - length).max(4.0);
        let row = free.iter().position(|free| from >= *free);
        if let Some(row) = row {
            free[row] = from + length + 8.0;
        }
        (line, row.map(|row| (from, row)))
    });
    placed.collect()
}
