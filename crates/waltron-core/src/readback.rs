//! The asset's settings as it tells them itself, beside those of its file.

use crate::asset::Asset;
use crate::characteristic::Form;
use crate::expression::Settings;
use crate::name::Name;
use crate::quantity::{Dimension, Measure, Quantity, parse_as};
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
        let of_element = asset.element(id).map(|e| e.enabled);
        return of_element.or_else(|| asset.stage(id).map(|s| s.enabled)).map(Known::Switch);
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
    let settings = Settings::of(asset);
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
    if let Some(stage) = asset.stages.iter_mut().find(|s| s.id == id) {
        match key {
            "enabled" => stage.enabled = switch(text)?,
            "pickup" => stage.pickup.si = number(text, stage.pickup.dimension)?,
            "delay" => stage.delay = Measure::from_si(number(text, Dimension::TIME)?),
            _ => return None,
        }
        return Some(());
    }
    let element = asset.elements.iter_mut().find(|e| e.id == id)?;
    match (key, &mut element.characteristic.form) {
        ("enabled", _) => element.enabled = switch(text)?,
        ("pickup", _) => {
            element.pickup =
                Measure::from_si(number(text, Dimension::CURRENT).filter(|i| *i > 0.0)?);
        }
        ("reset_ratio", _) => {
            element.reset_ratio = Some(Measure::from_si(number(text, Dimension::NUMBER)?));
        }
        ("tms", Form::Inverse { tms, .. } | Form::Table { tms, .. }) => {
            *tms = number(text, Dimension::NUMBER).filter(|n| *n > 0.0)?;
        }
        ("delay", Form::Definite { delay }) => {
            *delay = Measure::from_si(number(text, Dimension::TIME)?);
        }
        _ => return None,
    }
    Some(())
}
