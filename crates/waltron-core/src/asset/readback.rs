//! The asset's settings as it tells them itself, beside those of its file.

use crate::asset::Asset;
use crate::quantity::{Dimension, Quantity, parse_as};
use crate::text::expression::Settings;
use crate::text::name::Name;
use serde::{Deserialize, Serialize};

/// A setting as the asset tells it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ReadSetting {
    /// Its name as in expressions: `51P.pickup`, `51P.tms`, `50P.enabled`.
    pub name: Name,
    /// Its value with its unit, or `on` and `off`.
    pub value: String,
}

/// A setting that the file and the asset tell differently.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Difference {
    /// Its name.
    pub name: Name,
    /// What the file says.
    pub file: String,
    /// What the asset says.
    pub device: String,
}

/// Values nearer than this share are the same: devices show a few digits only.
const SAME: f64 = 1e-6;

enum Known {
    Switch(bool),
    Number(Quantity),
}

fn known(asset: &Asset, settings: &Settings, name: &str) -> Option<Known> {
    if let Some(id) = name.strip_suffix(".enabled") {
        return asset.element(id).map(|e| Known::Switch(e.enabled));
    }
    settings.get(name).map(Known::Number)
}

fn switch(text: &str) -> Option<bool> {
    match text.trim().to_ascii_lowercase().as_str() {
        "on" | "true" | "1" | "yes" => Some(true),
        "off" | "false" | "0" | "no" => Some(false),
        _ => None,
    }
}

/// Everything that the asset tells differently from its file, in the asset's order. What the file
/// does not have is not compared; what cannot be read counts as different.
pub fn differences(asset: &Asset, read: &[ReadSetting]) -> Vec<Difference> {
    let settings = asset.settings();
    let differs = |setting: &ReadSetting| {
        let device = setting.value.clone();
        let file = match known(asset, &settings, setting.name.as_str())? {
            Known::Switch(on) if switch(&device) == Some(on) => return None,
            Known::Switch(on) => if on { "on" } else { "off" }.to_owned(),
            Known::Number(q) => match number(&device, q.dimension) {
                Some(si) if (si - q.si).abs() <= SAME * q.si.abs().max(si.abs()) => return None,
                _ => q.to_string(),
            },
        };
        Some(Difference { name: setting.name.clone(), file, device })
    };
    read.iter().filter_map(differs).collect()
}

fn number(text: &str, dimension: Dimension) -> Option<f64> {
    parse_as(text, dimension).ok()
}

/// The asset with the device's values in place of the file's.
///
/// # Errors
/// The name of a setting that cannot be taken over.
pub fn with_device(asset: &Asset, differences: &[Difference]) -> Result<Asset, Name> {
    let mut asset = asset.clone();
    for difference in differences {
        apply(&mut asset, difference).ok_or_else(|| difference.name.clone())?;
    }
    Ok(asset)
}

fn apply(asset: &mut Asset, difference: &Difference) -> Option<()> {
    let (id, key) = difference.name.as_str().rsplit_once('.')?;
    let text = difference.device.as_str();
    let element = asset.elements.iter_mut().find(|e| e.id == id)?;
    match key {
        "enabled" => element.enabled = switch(text)?,
        _ => element.function = element.function.with(key, text)?,
    }
    Some(())
}
