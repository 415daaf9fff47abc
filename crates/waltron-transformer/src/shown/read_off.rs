//! Values read off excitation curves, both ways, with the knee points that they lie above.

use super::measured::{Measured, measured};
use waltron_core::asset::Asset;
use waltron_core::quantity::{Dimension, Quantity};
use waltron_core::section::{Block, Section, Table};
use waltron_core::wing::{Reading, Told};

/// Rows of a short table.
const SHORT: usize = 15;

/// Sections with what is wanted: a row for each place and value, or each place's curve.
///
/// # Errors
/// Nothing was measured, or a value that is neither a voltage nor a current.
pub(crate) fn read_off(
    asset: &Asset,
    told: Told<'_>,
    wanted: &Reading<'_>,
) -> Result<Vec<Section>, String> {
    let all = measured(asset, told);
    if all.is_empty() {
        return Err("the record has no excitation curve".to_owned());
    }
    let chosen: Vec<&Measured> = match wanted.place {
        None => all.iter().collect(),
        Some(place) => all.iter().filter(|m| m.name == place).collect(),
    };
    if chosen.is_empty() {
        let known: Vec<&str> = all.iter().map(|m| m.name.as_str()).collect();
        let place = wanted.place.unwrap_or_default();
        return Err(format!("no curve was measured at `{place}`; there are {}", known.join(", ")));
    }
    if wanted.at.is_empty() {
        return Ok(chosen.into_iter().map(|place| curve(place, wanted.whole)).collect());
    }
    let mut table = Table::of(&["Place", "#E.m.f.", "#Exciting current", "Above"]);
    for place in chosen {
        for at in wanted.at {
            table.rows.push(row(place, *at)?);
        }
    }
    Ok(vec![Section::new("", vec![Block::Table(table)])])
}

fn volts(si: f64) -> String {
    Quantity { si, dimension: Dimension::VOLTAGE }.to_string()
}

fn amps(si: f64) -> String {
    Quantity { si, dimension: Dimension::CURRENT }.to_string()
}

fn row(place: &Measured, at: Quantity) -> Result<Vec<String>, String> {
    let curve = &place.curve.curve;
    let (low, high) = curve.span();
    let name = place.name.clone();
    let beyond = |end: &str| vec![name.clone(), String::new(), String::new(), end.to_owned()];
    let read = match at.dimension {
        Dimension::VOLTAGE => curve.current_at(at.si).map(|i| (at.si, i)),
        Dimension::CURRENT => curve.emf_at(at.si).map(|e| (e, at.si)),
        _ => return Err(format!("`{at}` is neither a voltage nor a current")),
    };
    let Some((emf, current)) = read else {
        return Ok(beyond(&format!(
            "{at} lies beyond what was measured: {} to {}",
            volts(low),
            volts(high)
        )));
    };
    Ok(vec![name, volts(emf), amps(current), above(place, emf)])
}

/// The knee points below an e.m.f.
fn above(place: &Measured, emf: f64) -> String {
    let knees = place.curve.curve.knees();
    let below: Vec<&str> =
        knees.iter().filter(|k| k.emf_v <= emf).map(|k| k.kind.short()).collect();
    match (knees.is_empty(), below.is_empty()) {
        (true, _) => "no knee point was reached".to_owned(),
        (_, true) => "below every knee point".to_owned(),
        _ => below.join(", "),
    }
}

/// A place's curve as a table: whole, or a short one with its rows spread evenly around the knee.
fn curve(place: &Measured, whole: bool) -> Section {
    let points = place.curve.curve.points();
    let knee = place.curve.curve.knees().first().map(|k| k.emf_v);
    let mut table = Table::of(&["#E.m.f.", "#Exciting current", "#Peak", "Above"]);
    let mut add = |emf: f64, rms: f64, peak: Option<f64>| {
        let peak = peak.map_or_else(String::new, amps);
        table.rows.push(vec![volts(emf), amps(rms), peak, above(place, emf)]);
    };
    match (whole, knee) {
        (true, _) => points.iter().rev().for_each(|p| add(p.emf_v, p.rms_a, p.peak_a)),
        (false, knee) => {
            let (low, high) = place.curve.curve.span();
            let middle = knee.unwrap_or((low * high).sqrt());
            // As many above the knee as below it, down to a third of it.
            let bottom = (middle / 3.0).max(low);
            let half = SHORT / 2;
            for k in 0..SHORT {
                let emf = match k.checked_sub(half) {
                    None => high * (middle / high).powf(k as f64 / half as f64),
                    Some(k) => {
                        middle * (bottom / middle).powf(k as f64 / (SHORT - half - 1) as f64)
                    }
                };
                if let Some(rms) = place.curve.curve.current_at(emf) {
                    add(emf, rms, place.curve.curve.peak_at(emf));
                }
            }
        }
    }
    Section::new(place.name.clone(), vec![Block::Table(table)])
}
