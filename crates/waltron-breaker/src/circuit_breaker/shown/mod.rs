//! What a run has shown of a breaker, as its report and its charts show it.

mod dynamic;
mod motor;
mod operation;
mod sections;

pub(crate) use sections::{charts, sections};
