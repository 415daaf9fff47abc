//! What reports and charts show of a power transformer.

use super::asset::{PowerTransformer, ratios};
use waltron_core::asset::Asset;
use waltron_core::section::{Block, Section};
use waltron_core::wing::Told;

/// Nameplate and limits; expected ratios.
pub(crate) fn sections(asset: &Asset, _told: Told<'_>) -> Vec<Section> {
    let Some(own) = &asset.own else { return Vec::new() };
    let mut all = vec![Section::new("Nameplate and limits", vec![Block::Facts(own.facts())])];
    if let Some(of) = asset.family::<PowerTransformer>() {
        let tables = ratios(of).into_iter();
        all.extend(tables.map(|(name, table)| Section::new(name, vec![Block::Table(table)])));
    }
    all
}
