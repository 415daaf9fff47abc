//! What the person at the panel must see to.

/// Lines that the connection sheet has besides its own.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Precautions {
    /// Before everything else.
    pub first: Vec<String>,
    /// Last, before outputs come on.
    pub before: Vec<String>,
    /// Afterwards, before the tripping circuits are closed.
    pub after: Vec<String>,
}
