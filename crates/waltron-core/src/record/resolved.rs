//! What the asset's file meant when a run began.

use super::event::Change;
use crate::asset::readback::ReadSetting;
use crate::asset::{Asset, Identity};
use crate::text::expression::Names as _;
use crate::text::name::Name;
use serde::{Deserialize, Serialize};

/// What the asset's file meant when it was read: a record can be read by it when the form of files
/// has moved on.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Resolved {
    /// Nameplate and place.
    pub identity: Identity,
    /// Every setting by its name in expressions, with its unit, and in words what is no value:
    /// `51P.curve`, `51P.enabled`, `51P.tolerance.time`.
    pub settings: Vec<ReadSetting>,
}

impl Resolved {
    /// What differs from another one, by name, in the order of this one.
    pub fn changes_to(&self, now: &Self) -> Vec<Change> {
        let value = |of: &Self, name: &Name| {
            of.settings.iter().find(|s| s.name == *name).map(|s| s.value.clone())
        };
        let names = self.settings.iter().chain(&now.settings).map(|s| &s.name);
        let mut all: Vec<Change> = Vec::new();
        for name in names {
            let (then, new) = (value(self, name), value(now, name));
            if then != new && !all.iter().any(|change| *name == change.name.as_str()) {
                all.push(Change { name: name.to_string(), then, now: new });
            }
        }
        all
    }

    /// What an asset's file means.
    pub fn of(asset: &Asset) -> Self {
        let settings = asset.settings();
        let known = settings.known().into_iter();
        let mut all: Vec<ReadSetting> = known
            .filter_map(|name| {
                let value = settings.get(&name)?.exact();
                Some(ReadSetting { name: name.into(), value })
            })
            .collect();
        let mut add = |id: &str, key: &str, value: String| {
            all.push(ReadSetting { name: format!("{id}.{key}").into(), value });
        };
        let switch = |on: bool| if on { "on" } else { "off" }.to_owned();
        for e in &asset.elements {
            let id = e.id.as_str();
            add(id, "enabled", switch(e.enabled));
            e.words().into_iter().for_each(|(key, words)| add(id, key, words));
            add(id, "trip", e.trip.to_string());
            e.start.iter().for_each(|start| add(id, "start", start.to_string()));
            for (of, tolerance) in e.tolerances() {
                add(id, &format!("tolerance.{of}"), tolerance.to_string());
            }
        }
        for (name, value) in asset.own.words() {
            all.push(ReadSetting { name: name.into(), value });
        }
        Self { identity: asset.identity.clone(), settings: all }
    }
}
