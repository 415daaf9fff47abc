//! A chart's first panel on the terminal.

use crate::terminal::plain;
use ratatui::Frame;
use ratatui::layout::Rect;
use ratatui::style::{Color, Modifier, Style};
use ratatui::symbols::Marker;
use ratatui::text::Span;
use ratatui::widgets::{Axis, Block, Chart as Plot, Dataset, GraphType, Paragraph};
use waltron_core::quantity::significant;
use waltron_core::section::{self, Chart, Outcome, Scale};

const FAINT: Style = Style::new().fg(Color::DarkGray);

/// An axis as the terminal's library wants it: even, with numbers at even distances.
struct Even<'c> {
    of: &'c section::Axis,
    bounds: [f64; 2],
}

impl<'c> Even<'c> {
    fn of(axis: &'c section::Axis) -> Self {
        let (low, high) = axis.ends();
        // Numbers at even distances of a logarithmic axis are whole decades.
        let bounds = match axis.scale() {
            Scale::Linear => [low, high],
            Scale::Logarithmic => {
                let (low, high) = (low.log10() + 1e-9, high.log10() - 1e-9);
                [low.floor(), high.ceil()]
            }
        };
        Self { of: axis, bounds }
    }

    fn place(&self, value: f64) -> f64 {
        match self.of.scale() {
            Scale::Linear => value,
            Scale::Logarithmic => value.max(f64::MIN_POSITIVE).log10(),
        }
    }

    fn labels(&self) -> Vec<Span<'static>> {
        let rows = self.of.rows();
        if !rows.is_empty() {
            // From below, where the library begins.
            return rows.iter().rev().map(|row| Span::styled(plain(row), FAINT)).collect();
        }
        let [low, high] = self.bounds;
        let label = |value: f64| Span::styled(significant(value * self.of.times(), 3), FAINT);
        match self.of.scale() {
            Scale::Linear => [low, (low + high) / 2.0, high].map(label).to_vec(),
            Scale::Logarithmic => {
                let decades = (high - low).round() as i32;
                (0..=decades).map(|n| label(10f64.powf(low + f64::from(n)))).collect()
            }
        }
    }

    /// As the library has it; what it shows stands at its end.
    fn axis(&self) -> Axis<'static> {
        let title = Span::styled(plain(self.of.label()), FAINT.remove_modifier(Modifier::BOLD));
        Axis::default().title(title).bounds(self.bounds).labels(self.labels()).style(FAINT)
    }
}

/// Draws a chart, or says that there is none yet.
pub(super) fn draw(frame: &mut Frame<'_>, area: Rect, chart: Option<&Chart>) {
    let block = Block::bordered().border_style(FAINT);
    let Some((chart, panel)) = chart.and_then(|chart| Some((chart, chart.panels.first()?))) else {
        let note = Paragraph::new("no characteristic under test yet").style(FAINT).block(block);
        return frame.render_widget(note, area);
    };
    let (x, y) = (Even::of(&chart.x), Even::of(&panel.y));
    let at = |(along, value): (f64, f64)| (x.place(along), y.place(panel.y.clamp(value)));
    // Each line by itself: the end of one does not lead to the begin of the next.
    let expected: Vec<Vec<(f64, f64)>> = panel
        .curves
        .iter()
        .filter(|c| c.style == section::Style::Expected)
        .map(|c| {
            // What lies beyond its axis is no part of the line.
            let inside = |p: &(f64, f64)| p.1 <= panel.y.ends().1 && chart.x.contains(p.0);
            c.points.iter().copied().filter(inside).map(at).collect()
        })
        .collect();
    let marks = |wanted: &[Outcome]| -> Vec<(f64, f64)> {
        let marks = panel.marks.iter().filter(|m| wanted.contains(&m.outcome));
        marks.map(|m| at((chart.x.clamp(m.x), m.y))).collect()
    };
    let passed = marks(&[Outcome::Pass, Outcome::Nothing]);
    let others = marks(&[Outcome::Fail, Outcome::Open]);
    let passed_by = marks(&[Outcome::Measured]);
    let traces: Vec<(Color, Vec<(f64, f64)>)> = traces(chart, panel, &at);
    let bars: Vec<[(f64, f64); 2]> = bars(chart, panel, &at);
    let set = |name, data, marker, kind, colour| {
        let style = Style::new().fg(colour);
        Dataset::default().name(name).data(data).marker(marker).graph_type(kind).style(style)
    };
    let mut sets = vec![
        set("pass", &passed[..], Marker::Dot, GraphType::Scatter, Color::Green),
        set("measured", &passed_by[..], Marker::Dot, GraphType::Scatter, Color::Gray),
        set("fail, open", &others[..], Marker::Block, GraphType::Scatter, Color::Red),
    ];
    // What is not there needs no words.
    let has = [!passed.is_empty(), !passed_by.is_empty(), !others.is_empty()];
    let mut has = has.into_iter();
    sets.retain(|_| has.next().unwrap_or(false));
    for (number, line) in expected.iter().enumerate() {
        let line = unnamed(line, Color::Cyan);
        sets.insert(0, if number == 0 { line.name("set") } else { line });
    }
    for (colour, line) in &traces {
        sets.insert(0, unnamed(line, *colour));
    }
    for bar in &bars {
        sets.insert(0, unnamed(bar, Color::Blue));
    }
    let plot = Plot::new(sets);
    let plot = plot.block(block.title(format!(" {} ", plain(&chart.title))));
    frame.render_widget(plot.x_axis(x.axis()).y_axis(y.axis()), area);
}

/// Points of a line that a terminal can tell apart.
const MOST_POINTS: usize = 2000;

fn unnamed(data: &[(f64, f64)], colour: Color) -> Dataset<'_> {
    let style = Style::new().fg(colour);
    Dataset::default().data(data).marker(Marker::Braille).graph_type(GraphType::Line).style(style)
}

/// Lines of what was measured over time, each in its colour.
fn traces(
    chart: &Chart,
    panel: &section::Panel,
    at: &impl Fn((f64, f64)) -> (f64, f64),
) -> Vec<(Color, Vec<(f64, f64)>)> {
    const COLOURS: [Color; 5] =
        [Color::Magenta, Color::Green, Color::Blue, Color::Yellow, Color::LightCyan];
    let line = |curve: &section::Curve| {
        let number = match curve.style {
            section::Style::Trace(number) | section::Style::Dashed { number, .. } => number,
            _ => return None,
        };
        let inside: Vec<(f64, f64)> =
            curve.points.iter().copied().filter(|p| chart.x.contains(p.0)).collect();
        let every = inside.len().div_ceil(MOST_POINTS).max(1);
        // The farthest of each stretch from the one before it: peaks stay.
        let mut before = 0.0;
        let thinned = inside.chunks(every).filter_map(|part| {
            let far = |a: &&(f64, f64), b: &&(f64, f64)| {
                (a.1 - before).abs().total_cmp(&(b.1 - before).abs())
            };
            let point = *part.iter().max_by(far)?;
            before = point.1;
            Some(at(point))
        });
        Some((COLOURS[number % COLOURS.len()], thinned.collect()))
    };
    panel.curves.iter().filter_map(line).collect()
}

/// States that last, as lines in their rows.
fn bars(
    chart: &Chart,
    panel: &section::Panel,
    at: &impl Fn((f64, f64)) -> (f64, f64),
) -> Vec<[(f64, f64); 2]> {
    let bars = panel.bars.iter().filter(|bar| !bar.is_aside);
    let line = |bar: &section::Bar| {
        let y = panel.y.row(bar.row);
        [bar.from, bar.to].map(|x| at((chart.x.clamp(x), y)))
    };
    bars.map(line).collect()
}
