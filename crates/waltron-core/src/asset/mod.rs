//! The asset: the thing under test, with nameplate, ratings, tolerances and settings.

mod element;
mod family;
mod ratings;
mod stage;
mod withstand;

pub use element::{Element, Measures};
pub use family::Family;
pub use ratings::{Ratings, Withstands};
pub use stage::{Stage, StageFunction};
pub use withstand::{Longest, Rating, Withstand};

use crate::name::{Name, nearest};
use crate::quantity::{Angle, Current, Ratio, Time};
use crate::tolerance::Tolerance;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// A relay with its protection elements.
#[derive(Clone, Debug, PartialEq)]
pub struct Asset {
    /// Who and where it is.
    pub identity: Identity,
    /// What it is made for and what it withstands.
    pub ratings: Ratings,
    /// Its overcurrent elements, in file order.
    pub elements: Vec<Element>,
    /// Its voltage and frequency stages, in file order.
    pub stages: Vec<Stage>,
    /// Tolerances that are taken since its file gives none, in words.
    pub assumed: Vec<String>,
    /// What is written at its terminals, by rig channel (`ia`) or contact (`trip`).
    pub terminals: Vec<(Name, String)>,
    /// What is peculiar to its family; none of a relay, whose elements stand above.
    pub own: Option<Arc<dyn Family>>,
}

/// Nameplate and location, as text.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Identity {
    /// Operating designation, such as `Q07-F1`.
    pub tag: String,
    /// Substation.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub site: Option<String>,
    /// Bay.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub bay: Option<String>,
    /// Operator of the site.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub operator: Option<String>,
    /// Maker.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub maker: Option<String>,
    /// Model.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub model: Option<String>,
    /// Serial number.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub serial: Option<String>,
}

/// How far measured values may lie from the settings.
#[derive(Clone, Debug, PartialEq)]
pub struct Tolerances {
    /// Of currents: pickup, and carried through the time characteristic.
    pub current: Tolerance<Current>,
    /// Of operate times.
    pub time: Tolerance<Time>,
    /// Of angles, where given.
    pub angle: Option<Tolerance<Angle>>,
    /// Of the reset ratio.
    pub reset_ratio: Tolerance<Ratio>,
}

impl Asset {
    /// What is peculiar to it, as its wing knows it.
    pub fn family<F: 'static>(&self) -> Option<&F> {
        self.own.as_ref().and_then(|own| own.as_any().downcast_ref())
    }

    /// Finds an element by its id.
    pub fn element(&self, id: &str) -> Option<&Element> {
        self.elements.iter().find(|e| e.id == id)
    }

    /// Finds a voltage or frequency stage by its id.
    pub fn stage(&self, id: &str) -> Option<&Stage> {
        self.stages.iter().find(|s| s.id == id)
    }

    /// The meanings of all its contacts, each once.
    pub fn contacts(&self) -> Vec<Name> {
        let of_elements =
            self.elements.iter().flat_map(|e| std::iter::once(&e.trip).chain(&e.start));
        let of_stages = self.stages.iter().flat_map(|s| [&s.trip, &s.start]);
        let mut all: Vec<Name> = Vec::new();
        for name in of_elements.chain(of_stages) {
            if !all.contains(name) {
                all.push(name.clone());
            }
        }
        all
    }

    /// How long outputs must be off until nothing that was injected has a part in what follows.
    pub fn settling(&self) -> Time {
        // Contacts open and measuring windows empty well within half a second.
        self.longest_reset() + crate::quantity::seconds(0.5)
    }

    /// The longest that any element that is on may take to fall back fully: a new point must find
    /// every integral at zero.
    pub fn longest_reset(&self) -> Time {
        let enabled = self.elements.iter().filter(|e| e.enabled);
        enabled.map(Element::settling).fold(Time::default(), Time::max)
    }

    /// The id nearest to one that does not exist.
    pub fn nearest_element(&self, id: &str) -> Option<&Name> {
        let near = nearest(id, self.elements.iter().map(|e| e.id.as_str()))?;
        self.element(near).map(|e| &e.id)
    }

    /// The elements that are on and close a given trip contact.
    pub fn tripping<'a>(&'a self, signal: &'a Name) -> impl Iterator<Item = &'a Element> {
        self.elements.iter().filter(move |e| e.enabled && e.trip == *signal)
    }
}
