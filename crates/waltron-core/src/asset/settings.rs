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
        settings.extend(self.elements.iter().flat_map(Element::named));
        settings.extend(self.own.iter().flat_map(|own| own.values()));
        settings
    }
}

impl Element {
    /// Its settings by name: `51P.pickup`, `51P.tms`, …
    pub fn named(&self) -> impl Iterator<Item = (String, Quantity)> {
        let named = |(key, value)| (format!("{}.{key}", self.id), value);
        self.values().into_iter().map(named)
    }
}
