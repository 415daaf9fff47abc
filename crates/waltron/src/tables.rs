//! Tables on the terminal: no lines, wrapped where the terminal is narrow.

use crate::terminal::{Terminal, plain};
use comfy_table::{CellAlignment, ContentArrangement, Table};

/// An empty table with its header.
pub(crate) fn table<'a>(header: impl IntoIterator<Item = &'a str>, terminal: &Terminal) -> Table {
    let mut table = Table::new();
    table.load_style(comfy_table::presets::NOTHING);
    if let Some(width) = terminal.width() {
        table.set_content_arrangement(ContentArrangement::Dynamic);
        table.set_width(u16::try_from(width).unwrap_or(u16::MAX));
    }
    table.set_header(header);
    table
}

/// A table that a wing made, with its values to the right.
pub(crate) fn drawn(of: &waltron_core::section::Table, terminal: &Terminal) -> Table {
    let mut drawn = table(of.columns.iter().map(|c| c.name.as_str()), terminal);
    for row in &of.rows {
        drawn.add_row(row.iter().map(|cell| plain(cell)));
    }
    for (k, _) in of.columns.iter().enumerate().filter(|(_, c)| c.is_value) {
        align_right(&mut drawn, k..k + 1);
    }
    drawn
}

/// Aligns the columns from `first` up to `last` to the right, as numbers are.
pub(crate) fn align_right(table: &mut Table, columns: std::ops::Range<usize>) {
    for index in columns {
        if let Some(column) = table.column_mut(index) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
}
