//! The report as one self-contained HTML page that prints well on A4.

mod again;
mod block;
mod hookup;
mod page;
mod tables;

pub use hookup::{by_test, page as hookup_page};
pub use page::{Told, html};
