//! What a run has measured, as its report and its charts show it.

mod charts;
mod measured;
mod read_off;
mod sections;

pub(crate) use charts::charts;
pub(crate) use read_off::read_off;
pub(crate) use sections::sections;
