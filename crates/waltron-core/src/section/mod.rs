//! What there is to show, as data: sections of a report and charts. Who writes pages, pictures or
//! screens takes them as they are and knows nothing of what they show.

mod axis;
mod chart;
mod compared;

pub use axis::{Axis, Scale, Tick};
pub use chart::{Bar, Chart, Curve, Line, Mark, Outcome, Panel, Region, Style};
pub use compared::compared;

/// A part of a report under its heading.
#[derive(Clone, Debug, PartialEq)]
pub struct Section {
    /// The heading.
    pub title: String,
    /// What stands under it, in order.
    pub blocks: Vec<Block>,
}

impl Section {
    /// A section from its heading and what stands under it.
    pub fn new(title: impl Into<String>, blocks: Vec<Block>) -> Self {
        Self { title: title.into(), blocks }
    }
}

/// Something that stands in a section.
#[derive(Clone, Debug, PartialEq)]
pub enum Block {
    /// Values by name.
    Facts(Vec<(String, String)>),
    /// Rows under headings.
    Table(Table),
    /// A chart.
    Chart(Chart),
    /// A sentence for the reader.
    Note(String),
    /// What is done one after the other.
    Steps(Vec<String>),
    /// A drawing, as SVG text.
    Picture(String),
}

/// Rows under headings.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Table {
    /// Headings from left to right.
    pub columns: Vec<Column>,
    /// Cells of each row; one that is missing is empty.
    pub rows: Vec<Vec<String>>,
}

/// A column of a table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Column {
    /// Its heading.
    pub name: String,
    /// Whether its cells are values, which stand one below the other by their ends.
    pub is_value: bool,
}

impl Table {
    /// A table without rows: a heading that begins with `#` is of values.
    pub fn of(headings: &[&str]) -> Self {
        let column = |heading: &&str| match heading.strip_prefix('#') {
            Some(name) => Column { name: name.to_owned(), is_value: true },
            None => Column { name: (*heading).to_owned(), is_value: false },
        };
        Self { columns: headings.iter().map(column).collect(), rows: Vec::new() }
    }

    /// Itself as a block, where it has rows.
    pub fn block(self) -> Option<Block> {
        (!self.rows.is_empty()).then_some(Block::Table(self))
    }
}
