//! What a property is measured of: a named input, or what is worked out from two.

use crate::quantity::Dimension;
use crate::text::name::Name;
use serde::{Deserialize, Serialize};
use std::fmt;

/// A measured signal.
///
/// At the edge a name is a string, and what is worked out says how and from what:
/// `{"quotient": ["primary voltage", "secondary voltage"]}`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Signal {
    /// A meter's meaning, an output channel (`ia`), or an instrument's value (`supply.current`).
    Named(Name),
    /// Worked out from two.
    Worked(Box<Worked>),
}

/// How a signal is worked out from two; with phasors, as with complex numbers.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Worked {
    /// The first over the second: impedance, resistance, ratio with its angle.
    Quotient([Signal; 2]),
    /// The first times the conjugate of the second: of voltage and current the complex power, whose
    /// angle is that of the load (IEC 60050-131, 131-11-39).
    Product([Signal; 2]),
    /// The first less the second.
    Difference([Signal; 2]),
}

impl Worked {
    /// The names of the ways, and an example of each.
    pub const NAMES: [(&'static str, &'static str); 3] = [
        ("quotient", "quotient(va, ia)"),
        ("product", "product(va, ia)"),
        ("difference", "difference(va, vb)"),
    ];

    /// Builds one by the name of its way; `None` where there is none of this name.
    pub fn named(way: &str, of: [Signal; 2]) -> Option<Self> {
        match way {
            "quotient" => Some(Self::Quotient(of)),
            "product" => Some(Self::Product(of)),
            "difference" => Some(Self::Difference(of)),
            _ => None,
        }
    }

    fn parts(&self) -> (&'static str, &[Signal; 2]) {
        match self {
            Self::Quotient(of) => ("quotient", of),
            Self::Product(of) => ("product", of),
            Self::Difference(of) => ("difference", of),
        }
    }
}

impl Signal {
    /// Its name, where it is not worked out.
    pub fn name(&self) -> Option<&Name> {
        match self {
            Self::Named(name) => Some(name),
            Self::Worked(_) => None,
        }
    }

    /// Its name, or an empty text where it is worked out.
    pub fn as_str(&self) -> &str {
        self.name().map_or("", Name::as_str)
    }

    /// The names that it is worked out from, in order; some may be there twice.
    pub fn names(&self) -> Vec<&Name> {
        match self {
            Self::Named(name) => vec![name],
            Self::Worked(worked) => worked.parts().1.iter().flat_map(Self::names).collect(),
        }
    }

    /// What it measures, where what it is worked out from measures that.
    pub fn dimension(&self, of: &impl Fn(&Name) -> Option<Dimension>) -> Option<Dimension> {
        let Self::Worked(worked) = self else { return self.name().and_then(of) };
        let [a, b] = worked.parts().1;
        let (a, b) = (a.dimension(of)?, b.dimension(of)?);
        match **worked {
            Worked::Quotient(_) => Some(a.per(b)),
            Worked::Product(_) => Some(a.times(b)),
            Worked::Difference(_) => (a == b).then_some(a),
        }
    }
}

impl From<Name> for Signal {
    fn from(name: Name) -> Self {
        Self::Named(name)
    }
}

impl From<&Name> for Signal {
    fn from(name: &Name) -> Self {
        Self::Named(name.clone())
    }
}

impl From<&str> for Signal {
    fn from(name: &str) -> Self {
        Self::Named(name.into())
    }
}

impl From<Worked> for Signal {
    fn from(worked: Worked) -> Self {
        Self::Worked(Box::new(worked))
    }
}

impl PartialEq<Name> for Signal {
    fn eq(&self, other: &Name) -> bool {
        self.name() == Some(other)
    }
}

impl fmt::Display for Signal {
    /// As it is written in sequences: names of several words stand in backquotes.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Named(name) => {
                let plain = |c: char| c.is_alphanumeric() || c == '_' || c == '.';
                if name.as_str().chars().all(plain) {
                    write!(f, "{name}")
                } else {
                    write!(f, "`{name}`")
                }
            }
            Self::Worked(worked) => {
                let (way, [a, b]) = worked.parts();
                write!(f, "{way}({a}, {b})")
            }
        }
    }
}
