//! The asset's settings and the plan's own values, by name.

use super::evaluate::Names;
use super::value::Value;
use crate::asset::{Asset, Element, Ratings, Stage};
use crate::characteristic::Form;
use crate::quantity::{Current, Frequency, Measure, Quantity, Ratio, Voltage};
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
        asset.stages.iter().for_each(|s| settings.stage(s));
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

    /// Adds an element's settings: `pickup`, `reset_ratio`, `tms`, `delay`, …
    pub fn element(&mut self, element: &Element) {
        let id = &element.id;
        let mut add = |key: &str, value: Quantity| self.insert(format!("{id}.{key}"), value);
        add("pickup", Quantity::of(element.pickup));
        if let Some(ratio) = element.reset_ratio {
            add("reset_ratio", Quantity::of::<Ratio>(ratio));
        }
        let c = &element.characteristic;
        match &c.form {
            Form::Definite { delay } => add("delay", Quantity::of(*delay)),
            Form::Inverse { tms, .. } | Form::Table { tms, .. } => {
                add("tms", Quantity::number(*tms))
            }
            Form::SquaredCurrent { at_pickup } => add("k", Quantity::of(*at_pickup)),
            Form::Thermal { tau, preload } => {
                add("tau", Quantity::of(*tau));
                add("preload", Quantity::number(*preload));
            }
        }
        if c.reset_time().si() > 0.0 {
            add("reset_time", Quantity::of(c.reset_time()));
        }
    }

    /// Adds a stage's settings: `pickup`, `delay`, `reset_ratio`.
    pub fn stage(&mut self, stage: &Stage) {
        let id = &stage.id;
        self.insert(format!("{id}.pickup"), stage.pickup);
        self.insert(format!("{id}.delay"), Quantity::of(stage.delay));
        if let Some(ratio) = stage.reset_ratio {
            self.insert(format!("{id}.reset_ratio"), Quantity::of::<Ratio>(ratio));
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
