//! What an asset's file says in numbers, by name.

use super::{Asset, Element};
use crate::quantity::Quantity;
use crate::text::expression::Settings;

impl Asset {
    /// Everything that its file says in numbers: `nominal.voltage`, `51P.pickup`, …
    pub fn settings(&self) -> Settings {
        let mut settings = Settings::default();
        let ratings = &self.ratings;
        settings.nominal(ratings.frequency, ratings.current, ratings.voltage);
        settings.extend(self.named());
        settings
    }

    /// What its elements are set to, and what else its file says in numbers, each by its name.
    pub fn named(&self) -> impl Iterator<Item = (String, Quantity)> {
        let own = self.own.values();
        self.elements.iter().flat_map(Element::named).chain(own)
    }
}

impl Element {
    /// Its settings by name: `51P.pickup`, `51P.tms`, …
    pub fn named(&self) -> impl Iterator<Item = (String, Quantity)> {
        let named = |(key, value)| (format!("{}.{key}", self.id), value);
        self.values().into_iter().map(named)
    }
}
