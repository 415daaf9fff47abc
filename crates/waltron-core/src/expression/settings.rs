//! The asset's settings and the plan's own values, by name.

use super::evaluate::Names;
use super::value::Value;
use crate::asset::{Asset, Element, Ratings};
use crate::quantity::{Current, Frequency, Quantity, Voltage};
use std::collections::HashMap;

/// Named quantities: `nominal.voltage`, `51P.pickup`, and what `[let]` defines.
#[derive(Clone, Debug, Default)]
pub struct Settings {
    values: HashMap<String, Quantity>,
}

impl Settings {
    /// Everything an asset's file says in numbers.
    pub fn of(asset: &Asset) -> Self {
        let mut settings = Self::default();
        settings.ratings(&asset.ratings);
        asset.elements.iter().for_each(|e| settings.element(e));
        for (name, value) in asset.own.iter().flat_map(|own| own.values()) {
            settings.insert(name, value);
        }
        settings
    }

    /// Adds a named value; an earlier one of the same name is replaced.
    pub fn insert(&mut self, name: impl Into<String>, value: Quantity) {
        self.values.insert(name.into(), value);
    }

    /// A named value.
    pub fn get(&self, name: &str) -> Option<Quantity> {
        self.values.get(name).copied()
    }

    /// Adds `nominal.…`.
    pub fn ratings(&mut self, ratings: &Ratings) {
        self.nominal(Some(ratings.frequency), ratings.current, ratings.voltage);
    }

    /// Adds the values of `nominal.…` that are known.
    pub fn nominal(
        &mut self,
        frequency: Option<Frequency>,
        current: Option<Current>,
        voltage: Option<Voltage>,
    ) {
        let known = [
            ("frequency", frequency.map(Quantity::of)),
            ("current", current.map(Quantity::of)),
            ("voltage", voltage.map(Quantity::of)),
        ];
        for (name, value) in known {
            if let Some(value) = value {
                self.insert(format!("nominal.{name}"), value);
            }
        }
    }

    /// Adds an element's settings: `51P.pickup`, `51P.tms`, …
    pub fn element(&mut self, element: &Element) {
        for (key, value) in element.values() {
            self.insert(format!("{}.{key}", element.id), value);
        }
    }
}

impl Names for Settings {
    fn value(&self, path: &str) -> Option<Value> {
        self.get(path).map(Value::Quantity)
    }

    fn known(&self) -> Vec<String> {
        let mut names: Vec<String> = self.values.keys().cloned().collect();
        names.sort_unstable();
        names
    }
}
