//! Conditions that the rig watches while a segment plays.

use crate::injection::measuring::Probe;
use crate::quantity::edge;
use crate::quantity::{Angle, Quantity, Time, significant, text};
use crate::text::name::Name;
use serde::{Deserialize, Serialize};

/// A condition watched by the rig while a segment plays.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Condition {
    /// The segment has lasted this long.
    #[serde(rename = "after_s")]
    After(#[serde(with = "edge::si")] Time),
    /// The segment has lasted for a time, and its reference wave is at an angle: 0 is where it rises
    /// through zero.
    AtAngle {
        /// The time, since the segment's start.
        #[serde(rename = "after_s", with = "edge::si")]
        after: Time,
        /// The angle.
        #[serde(rename = "angle_deg", with = "edge::angle")]
        angle: Angle,
        /// The longest that this takes: a period more.
        #[serde(rename = "most_s", with = "edge::si")]
        most: Time,
    },
    /// The contact with this meaning is in this state.
    Contact {
        /// Its meaning on the rig, such as `trip`.
        signal: Name,
        /// Closed or open.
        closed: bool,
    },
    /// The contact with this meaning has changed since the segment began.
    Edge {
        /// Its meaning on the rig.
        signal: Name,
        /// To closed or to open.
        closed: bool,
    },
    /// A measured value has passed a limit.
    Reading {
        /// What is measured.
        probe: Probe,
        /// Above or below.
        relation: Relation,
        /// The limit, in SI; infinite where it is not known before.
        limit_si: f64,
    },
    /// A measured value has stayed within a band for a time.
    Stable {
        /// What is measured.
        probe: Probe,
        /// Width of the band as a share of the value.
        within: f64,
        /// For how long.
        #[serde(rename = "time_s", with = "edge::si")]
        time: Time,
    },
    /// The attendant has set a mark.
    Mark,
    /// What the computer watches outside the rig holds at present.
    Outside,
    /// At least one of these holds.
    Any(Vec<Condition>),
    /// All of these hold.
    All(Vec<Condition>),
}

/// On which side of a limit a value is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Relation {
    /// Below or at it.
    AtMost,
    /// Above or at it.
    AtLeast,
}

impl Relation {
    /// Whether a value is on this side.
    pub fn holds(self, value: f64, limit: f64) -> bool {
        match self {
            Self::AtMost => value <= limit,
            Self::AtLeast => value >= limit,
        }
    }

    /// The other side.
    #[must_use]
    pub fn opposite(self) -> Self {
        match self {
            Self::AtMost => Self::AtLeast,
            Self::AtLeast => Self::AtMost,
        }
    }
}

impl Condition {
    /// The condition itself and all those inside it.
    pub fn parts(&self) -> Vec<&Condition> {
        let mut all = vec![self];
        if let Self::Any(inner) | Self::All(inner) = self {
            all.extend(inner.iter().flat_map(Condition::parts));
        }
        all
    }

    /// The measured value that it looks at itself, where it is of one.
    pub fn probe(&self) -> Option<&Probe> {
        match self {
            Self::Reading { probe, .. } | Self::Stable { probe, .. } => Some(probe),
            _ => None,
        }
    }

    /// Every measured value that it looks at, to be changed.
    pub fn probes_mut(&mut self) -> Vec<&mut Probe> {
        match self {
            Self::Reading { probe, .. } | Self::Stable { probe, .. } => vec![probe],
            Self::Any(inner) | Self::All(inner) => {
                inner.iter_mut().flat_map(Self::probes_mut).collect()
            }
            _ => Vec::new(),
        }
    }

    /// Whether it, or a part of it, looks at a measured value.
    pub fn measures(&self) -> bool {
        self.parts().iter().any(|c| matches!(c, Self::Reading { .. } | Self::Stable { .. }))
    }

    /// The longest time until it holds for certain.
    pub fn bound(&self) -> Option<Time> {
        match self {
            Self::After(time) | Self::AtAngle { most: time, .. } => Some(*time),
            Self::Any(inner) => inner.iter().filter_map(Self::bound).reduce(Time::min),
            _ => None,
        }
    }
}

impl std::fmt::Display for Condition {
    /// As it reads in a preview: `trip closes, at most 5 s`.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let joined = |inner: &[Condition], word: &str| {
            let texts: Vec<String> = inner.iter().map(ToString::to_string).collect();
            texts.join(word)
        };
        match self {
            Self::After(time) => write!(f, "{}", text(*time)),
            Self::AtAngle { angle, .. } => write!(f, "the wave is at {}", text(*angle)),
            Self::Contact { signal, closed: true } => write!(f, "{signal}"),
            Self::Contact { signal, closed: false } => write!(f, "not {signal}"),
            Self::Edge { signal, closed: true } => write!(f, "{signal} closes"),
            Self::Edge { signal, closed: false } => write!(f, "{signal} opens"),
            Self::Reading { probe, relation, limit_si } => {
                let sign = if *relation == Relation::AtLeast { ">=" } else { "<=" };
                if limit_si.is_infinite() {
                    return write!(f, "{probe} {sign} as measured");
                }
                let limit = Quantity { si: *limit_si, dimension: probe.dimension };
                write!(f, "{probe} {sign} {limit}")
            }
            Self::Stable { probe, within, time } => {
                write!(
                    f,
                    "{probe} steady within {} % for {}",
                    significant(within * 100.0, 3),
                    text(*time)
                )
            }
            Self::Mark => f.write_str("the attendant's mark"),
            Self::Outside => f.write_str("what the computer watches"),
            Self::Any(inner) => f.write_str(&joined(inner, " or ")),
            Self::All(inner) => f.write_str(&joined(inner, " and ")),
        }
    }
}
