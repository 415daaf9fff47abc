//! What reports and charts show of a power transformer.

mod ratio;

use super::asset::PowerTransformer;
use waltron_core::asset::Asset;
use waltron_core::section::{Block, Chart, Section};
use waltron_core::wing::Told;

/// Ratios over positions.
pub(crate) fn charts(asset: &Asset, told: Told<'_>) -> Vec<Chart> {
    let Some(of) = asset.family::<PowerTransformer>() else { return Vec::new() };
    ratio::charts(&asset.identity.tag, of, told)
}

/// Nameplate and limits; what was measured.
pub(crate) fn sections(asset: &Asset, told: Told<'_>) -> Vec<Section> {
    let Some(own) = &asset.own else { return Vec::new() };
    let mut all = vec![Section::new("Nameplate and limits", vec![Block::Facts(own.facts())])];
    let Some(of) = asset.family::<PowerTransformer>() else { return all };
    let mut ratios: Vec<Block> = charts(asset, told).into_iter().map(Block::Chart).collect();
    ratios.extend(ratio::blocks(of, told));
    if !ratios.is_empty() {
        all.push(Section::new("Ratio and exciting currents", ratios));
    }
    all
}
