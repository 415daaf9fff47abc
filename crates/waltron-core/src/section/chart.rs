//! Charts: panels one below the other over one axis.

use super::axis::Axis;
use crate::text::name::Name;

/// A chart.
#[derive(Clone, Debug, PartialEq)]
pub struct Chart {
    /// What it shows, such as elements, so that it can be chosen among others.
    pub of: Vec<Name>,
    /// Its heading.
    pub title: String,
    /// What is shown, in a few words below the heading; may be empty.
    pub subtitle: String,
    /// The axis that all panels share.
    pub x: Axis,
    /// Panels from top to bottom.
    pub panels: Vec<Panel>,
    /// Places on the shared axis that are marked through all panels.
    pub lines: Vec<Line>,
}

/// Values over the shared axis.
#[derive(Clone, Debug, PartialEq)]
pub struct Panel {
    /// Its own axis.
    pub y: Axis,
    /// Areas, drawn first.
    pub regions: Vec<Region>,
    /// Bars, where the panel's own axis has rows.
    pub bars: Vec<Bar>,
    /// Lines of values.
    pub curves: Vec<Curve>,
    /// Single values, drawn last.
    pub marks: Vec<Mark>,
}

impl Panel {
    /// A panel with nothing on it.
    pub fn empty(y: Axis) -> Self {
        Self { y, regions: Vec::new(), bars: Vec::new(), curves: Vec::new(), marks: Vec::new() }
    }
}

/// An area.
#[derive(Clone, Debug, PartialEq)]
pub struct Region {
    /// What it is, in the legend.
    pub name: String,
    /// Its corners in order; where one lies beyond the panel, it is moved to the edge.
    pub outline: Vec<(f64, f64)>,
}

impl Region {
    /// What lies between two curves: for each place its lower and its upper value.
    pub fn between(name: impl Into<String>, edges: &[(f64, f64, f64)]) -> Self {
        let lower = edges.iter().map(|(x, low, _)| (*x, *low));
        let upper = edges.iter().rev().map(|(x, _, high)| (*x, *high));
        Self { name: name.into(), outline: lower.chain(upper).collect() }
    }
}

/// A state that lasts, such as a contact that is closed.
#[derive(Clone, Debug, PartialEq)]
pub struct Bar {
    /// The row, counted from the uppermost.
    pub row: usize,
    /// Where it begins.
    pub from: f64,
    /// Where it ends.
    pub to: f64,
    /// Whether it only stands there to be compared with.
    pub is_aside: bool,
}

/// A line of values.
#[derive(Clone, Debug, PartialEq)]
pub struct Curve {
    /// What it is, in the legend; empty where it needs no words.
    pub name: String,
    /// What stands at its last point, to tell it from its neighbours; may be empty.
    pub label: String,
    /// How it is drawn.
    pub style: Style,
    /// Its points as they are joined, by rising place but for scatter.
    pub points: Vec<(f64, f64)>,
}

/// How a curve is drawn.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Style {
    /// What should be.
    Expected,
    /// What else there is.
    Aside,
    /// One of several that are told apart, by its number.
    Trace(usize),
    /// One of several groups that are told apart by their dashes as well.
    Dashed {
        /// Which of the group.
        number: usize,
        /// Which group: the first one is not dashed.
        dashes: usize,
    },
}

/// A single value.
#[derive(Clone, Debug, PartialEq)]
pub struct Mark {
    /// Its place.
    pub x: f64,
    /// Its value; infinite where it is beyond all.
    pub y: f64,
    /// What it is, which is told by shape as well as by colour.
    pub outcome: Outcome,
    /// What it is called.
    pub id: String,
    /// Its values, a line each.
    pub notes: Vec<String>,
}

/// What came of a point.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// It passes.
    Pass,
    /// It fails.
    Fail,
    /// It proves neither.
    Open,
    /// Rightly nothing came, for as long as is shown.
    Nothing,
    /// Nothing is required of it.
    Measured,
    /// What a nameplate says.
    Rated,
}

impl Outcome {
    /// All of them, as legends tell them.
    pub const ALL: [(Self, &'static str); 6] = [
        (Self::Pass, "pass"),
        (Self::Nothing, "no operation, pass"),
        (Self::Fail, "fail"),
        (Self::Open, "inconclusive"),
        (Self::Measured, "measured"),
        (Self::Rated, "rated"),
    ];
}

/// A place that is marked through all panels.
#[derive(Clone, Debug, PartialEq)]
pub struct Line {
    /// Where.
    pub at: f64,
    /// What is there.
    pub name: String,
    /// Whether it belongs to what is tested.
    pub is_tested: bool,
}
