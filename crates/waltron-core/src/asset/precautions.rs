//! What somebody must see to at an asset before and after.

use super::Ratings;
use crate::text::name::Name;

/// Lines that the connection sheet has besides its own.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Precautions {
    /// Before everything else.
    pub first: Vec<String>,
    /// Last, before outputs come on.
    pub before: Vec<String>,
    /// Afterwards, before any lead is taken off.
    pub after_first: Vec<String>,
    /// Afterwards, once the leads are off.
    pub after: Vec<String>,
    /// At the very end.
    pub last: Vec<String>,
}

/// What of an asset a rig is connected to.
#[derive(Clone, Debug)]
pub struct Connected<'a> {
    /// What the outputs and meters that are used are connected to.
    pub names: Vec<Name>,
    /// Whether currents are fed in.
    pub currents: bool,
    /// Whether voltages are fed in.
    pub voltages: bool,
    /// The contacts that what is put out can operate.
    pub contacts: Vec<Name>,
    /// What the asset is made for.
    pub ratings: &'a Ratings,
}

impl Connected<'_> {
    /// Whether an output or a meter is connected to this.
    pub fn has(&self, name: &str) -> bool {
        self.names.iter().any(|known| *known == *name)
    }
}

/// `a`, `a and b`, `a, b and c`.
pub fn listed(names: &[&str]) -> String {
    match names {
        [first @ .., before, last] => {
            let first: String = first.iter().map(|n| format!("{n}, ")).collect();
            format!("{first}{before} and {last}")
        }
        [only] => (*only).to_owned(),
        [] => String::new(),
    }
}
