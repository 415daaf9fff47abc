//! The asset: the thing under test, with nameplate, ratings, tolerances and settings.

mod element;
mod family;
mod form;
mod precautions;
mod ratings;
pub mod readback;
mod settings;
mod withstand;

pub use element::{Element, Function};
pub use family::{Called, Family, Own};
pub use form::IdentityForm;
pub use precautions::{Connected, Precautions, listed};
pub use ratings::{Ratings, Withstands};
pub use withstand::{Longest, Rating, Withstand};

use crate::characteristic::Acceptance;
use crate::injection::stimulus::Stimulus;
use crate::quantity::Time;
use crate::text::name::{Name, nearest};
use serde::{Deserialize, Serialize};
use std::any::Any;
use std::borrow::Cow;

/// The thing under test.
#[derive(Clone, Debug, PartialEq)]
pub struct Asset {
    /// Its kind as its file names it, which chooses the wing.
    pub kind: &'static str,
    /// Who and where it is.
    pub identity: Identity,
    /// What it is made for and what it withstands.
    pub ratings: Ratings,
    /// Its protection elements, in file order; none of what protects nothing.
    pub elements: Vec<Element>,
    /// Tolerances that are taken since its file gives none, in words.
    pub assumed: Vec<String>,
    /// What is written at its terminals, by rig channel (`ia`) or contact (`trip`).
    pub terminals: Vec<(Name, String)>,
    /// What its file says besides, and what must be seen to at an asset of its family.
    pub own: Own,
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

impl Asset {
    /// What is peculiar to it, as its wing knows it.
    pub fn family<F: 'static>(&self) -> Option<&F> {
        let own: &dyn Any = &*self.own;
        own.downcast_ref()
    }

    /// What it withstands where the leads are; everywhere, where they are not known.
    pub fn ratings_at(&self, place: Option<&Name>) -> Cow<'_, Ratings> {
        let own = place.and_then(|place| self.own.ratings_at(place, &self.ratings));
        own.map_or(Cow::Borrowed(&self.ratings), Cow::Owned)
    }

    /// Finds an element by its id.
    pub fn element(&self, id: &str) -> Option<&Element> {
        self.elements.iter().find(|e| e.id == id)
    }

    /// The meanings of all its contacts, each once.
    pub fn contacts(&self) -> Vec<Name> {
        let mut all: Vec<Name> = Vec::new();
        for name in self.elements.iter().flat_map(Element::contacts) {
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
        self.enabled().map(|e| e.settling()).fold(Time::default(), Time::max)
    }

    /// The id nearest to one that does not exist.
    pub fn nearest_element(&self, id: &str) -> Option<&Name> {
        let near = nearest(id, self.elements.iter().map(|e| e.id.as_str()))?;
        self.element(near).map(|e| &e.id)
    }

    /// The elements that are on.
    pub fn enabled(&self) -> impl Iterator<Item = &Element> {
        self.elements.iter().filter(|e| e.enabled)
    }

    /// The elements that are on and close a given trip contact.
    pub fn tripping<'a>(&'a self, signal: &'a Name) -> impl Iterator<Item = &'a Element> {
        self.enabled().filter(move |e| e.trip == *signal)
    }

    /// What else than one element is on and closes a trip contact, with what is required of it for what
    /// is put out.
    pub fn rivals(&self, trip: &Name, element: &Name, out: &Stimulus) -> Vec<(Name, Acceptance)> {
        let others = self.tripping(trip).filter(|e| e.id != *element);
        others.map(|e| (e.id.clone(), e.required(out))).collect()
    }
}
