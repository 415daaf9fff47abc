//! Where what is moved by hand stands.

use crate::text::name::Name;
use serde::{Deserialize, Serialize};
use std::fmt;

/// Something of the asset that somebody moves from place to place, such as a tap changer, and where it
/// stands.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Stand {
    /// What is moved: `OLTC`.
    pub of: Name,
    /// Where it stands: `7`.
    pub at: Name,
}

impl Stand {
    /// Something at a place.
    pub fn new(of: impl Into<Name>, at: impl Into<Name>) -> Self {
        Self { of: of.into(), at: at.into() }
    }
}

impl fmt::Display for Stand {
    /// `OLTC 7`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.of, self.at)
    }
}
