//! What the samples of a pulse say: of the circuit, of the breaker's opening, of many of them.

pub(crate) mod circuit;
pub(crate) mod line;
pub(crate) mod pulse;
