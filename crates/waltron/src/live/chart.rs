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
        let [low, high] = self.bounds;
        let label = |value: f64| Span::styled(significant(value, 3), FAINT);
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
    let line = |style: section::Style| -> Vec<(f64, f64)> {
        let curves = panel.curves.iter().filter(|c| c.style == style);
        // What lies beyond its axis is no part of the line.
        let inside = |p: &(f64, f64)| p.1 <= panel.y.ends().1 && chart.x.contains(p.0);
        curves.flat_map(|c| &c.points).copied().filter(inside).map(at).collect()
    };
    let marks = |wanted: &[Outcome]| -> Vec<(f64, f64)> {
        let marks = panel.marks.iter().filter(|m| wanted.contains(&m.outcome));
        marks.map(|m| at((chart.x.clamp(m.x), m.y))).collect()
    };
    let expected = line(section::Style::Expected);
    let passed = marks(&[Outcome::Pass, Outcome::Nothing]);
    let others = marks(&[Outcome::Fail, Outcome::Open]);
    let set = |name, data, marker, kind, colour| {
        let style = Style::new().fg(colour);
        Dataset::default().name(name).data(data).marker(marker).graph_type(kind).style(style)
    };
    let plot = Plot::new(vec![
        set("set", &expected, Marker::Braille, GraphType::Line, Color::Cyan),
        set("pass", &passed, Marker::Dot, GraphType::Scatter, Color::Green),
        set("fail, open", &others, Marker::Block, GraphType::Scatter, Color::Red),
    ]);
    let plot = plot.block(block.title(format!(" {} ", plain(&chart.title))));
    frame.render_widget(plot.x_axis(x.axis()).y_axis(y.axis()), area);
}
