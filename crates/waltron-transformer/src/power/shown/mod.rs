//! What reports and charts show of a power transformer.

mod leads;
mod losses;
mod points;
mod ratio;
mod resistance;
mod values;

pub(crate) use leads::drawing;

use super::asset::PowerTransformer;
use waltron_core::asset::Asset;
use waltron_core::section::{Block, Chart, Section};
use waltron_core::wing::Told;

/// Ratios and resistances over positions, changes of tap.
pub(crate) fn charts(asset: &Asset, told: Told<'_>) -> Vec<Chart> {
    let Some(of) = asset.family::<PowerTransformer>() else { return Vec::new() };
    let tag = &asset.identity.tag;
    let mut all = ratio::charts(tag, of, told);
    all.extend(resistance::charts(tag, of, told));
    all.extend(losses::charts(tag, told));
    all
}

/// Nameplate and limits; what was measured.
pub(crate) fn sections(asset: &Asset, told: Told<'_>) -> Vec<Section> {
    let own = &asset.own;
    let mut all = vec![Section::new("Nameplate and limits", vec![Block::Facts(own.facts())])];
    let Some(of) = asset.family::<PowerTransformer>() else { return all };
    let tag = &asset.identity.tag;
    let mut add = |title: &str, charts: Vec<Chart>, more: Vec<Block>| {
        let blocks: Vec<Block> = charts.into_iter().map(Block::Chart).chain(more).collect();
        if !blocks.is_empty() {
            all.push(Section::new(title, blocks));
        }
    };
    let ratios = (ratio::charts(tag, of, told), ratio::blocks(of, told));
    add("Ratio and exciting currents", ratios.0, ratios.1);
    let resistances = (resistance::charts(tag, of, told), resistance::blocks(of, told));
    add("Winding resistance and changes of tap", resistances.0, resistances.1);
    add("Impedances", Vec::new(), values::impedances(told));
    add("Insulation resistance", Vec::new(), values::insulation(told));
    add("Capacitance and tan δ", losses::charts(tag, told), losses::blocks(told));
    all
}
