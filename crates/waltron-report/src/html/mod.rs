//! The report as one self-contained HTML page that prints well on A4.

mod page;
mod tables;

pub use page::{ReportError, html};
