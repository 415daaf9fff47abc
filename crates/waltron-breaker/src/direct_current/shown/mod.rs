//! What reports and charts show of a direct-current breaker.

mod level;
mod waves;

use super::asset::DcBreaker;
use super::procedure::{CIRCUIT, JOINT};
use waltron_core::asset::Asset;
use waltron_core::grading::{Criterion, Grade, words};
use waltron_core::quantity::{Dimension, Quantity};
use waltron_core::section::{Block, Chart, Section, Table};
use waltron_core::wing::Told;

/// The level over the rate of rise with its regression, and the pulses over time.
pub(crate) fn charts(asset: &Asset, told: Told<'_>) -> Vec<Chart> {
    let Some(of) = asset.family::<DcBreaker>() else { return Vec::new() };
    let tag = &asset.identity.tag;
    let level = level::charts(tag, of, told);
    level.into_iter().chain(waves::charts(tag, of, told)).collect()
}

/// Nameplate and limits; the circuit; the pulses; the resistances.
pub(crate) fn sections(asset: &Asset, told: Told<'_>) -> Vec<Section> {
    let own = &asset.own;
    let mut all = vec![Section::new("Nameplate and limits", vec![Block::Facts(own.facts())])];
    let mut pulses: Vec<Block> = charts(asset, told).into_iter().map(Block::Chart).collect();
    pulses.extend(circuits(told).block());
    if !pulses.is_empty() {
        all.push(Section::new("Pulses", pulses));
    }
    let mut joints = Table::of(&["Resistance", "#Measured", "#Allowed", "Verdict"]);
    joints.rows = of(told, &JOINT).map(resistance).collect();
    all.extend(joints.block().map(|table| Section::new("Contacts and joints", vec![table])));
    all
}

fn of<'t>(told: Told<'t>, criterion: &'t Criterion) -> impl Iterator<Item = &'t Grade> {
    told.points.iter().filter(move |g| g.criterion == *criterion && !g.measured.is_empty())
}

fn circuits(told: Told<'_>) -> Table {
    let mut table =
        Table::of(&["Circuit", "#Resistance", "#Inductance", "#Largest current", "#Quickest rise"]);
    let row = |grade: &Grade| {
        let value = |name: &str, dimension| {
            let si = grade.measured.get(name);
            si.map(|si| Quantity { si, dimension }.to_string()).unwrap_or_default()
        };
        vec![
            grade.point.test.to_string(),
            value("resistance", Dimension::RESISTANCE),
            value("inductance", Dimension::INDUCTANCE),
            value("reach", Dimension::CURRENT),
            value("quickest", Dimension::CURRENT_RATE),
        ]
    };
    table.rows = of(told, &CIRCUIT).map(row).collect();
    table
}

fn resistance(grade: &Grade) -> Vec<String> {
    let name = grade.point.id.rsplit('/').next().unwrap_or_default().replace('-', " ");
    vec![
        name,
        words::main_value(&grade.measured, &grade.limits, true),
        grade.limits.words().unwrap_or_default(),
        grade.verdict.word().to_owned(),
    ]
}
