//! The asset's settings and the plan's own values, by name.

use super::evaluate::Names;
use super::value::Value;
use crate::quantity::{Current, Frequency, Quantity, Voltage};
use std::collections::HashMap;

/// Named quantities: `nominal.voltage`, `51P.pickup`, and what `[let]` defines.
#[derive(Clone, Debug, Default)]
pub struct Settings {
    values: HashMap<String, Quantity>,
}

impl Settings {
    /// Adds a named value; an earlier one of the same name is replaced.
    pub fn insert(&mut self, name: impl Into<String>, value: Quantity) {
        self.values.insert(name.into(), value);
    }

    /// A named value.
    pub fn get(&self, name: &str) -> Option<Quantity> {
        self.values.get(name).copied()
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
}

impl Extend<(String, Quantity)> for Settings {
    fn extend<I: IntoIterator<Item = (String, Quantity)>>(&mut self, values: I) {
        self.values.extend(values);
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
