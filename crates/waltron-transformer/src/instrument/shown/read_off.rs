//! Values read off excitation curves, both ways, with the knee points that they lie above.

use super::measured::{Measured, measured};
use waltron_core::asset::Asset;
use waltron_core::grading::Values;
use waltron_core::quantity::{Dimension, Quantity};
use waltron_core::wing::{ReadOff, Reading, Told};

/// Rows of a short table.
const SHORT: usize = 15;

/// What is wanted: a row for each place and value, or each place's curve.
///
/// # Errors
/// Nothing was measured, or a value that is neither a voltage nor a current.
pub(crate) fn read_off(
    asset: &Asset,
    told: Told<'_>,
    wanted: &Reading<'_>,
) -> Result<Vec<ReadOff>, String> {
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
        return Ok(chosen.into_iter().flat_map(|place| curve(place, wanted.whole)).collect());
    }
    let asked = chosen.iter().flat_map(|place| wanted.at.iter().map(move |at| (place, *at)));
    asked.map(|(place, at)| row(place, at)).collect()
}

fn volts(si: f64) -> Quantity {
    Quantity { si, dimension: Dimension::VOLTAGE }
}

fn amps(si: f64) -> Quantity {
    Quantity { si, dimension: Dimension::CURRENT }
}

fn row(place: &Measured, at: Quantity) -> Result<ReadOff, String> {
    let curve = &place.curve.curve;
    let read = match at.dimension {
        Dimension::VOLTAGE => curve.current_at(at.si).map(|i| (at.si, i)),
        Dimension::CURRENT => curve.emf_at(at.si).map(|e| (e, at.si)),
        _ => return Err(format!("`{at}` is neither a voltage nor a current")),
    };
    let Some((emf, rms)) = read else {
        let (low, high) = curve.span();
        let why = format!("{at} lies beyond what was measured: {} to {}", volts(low), volts(high));
        let (values, above) = (Values::none(), Vec::new());
        return Ok(ReadOff { place: place.name.clone(), values, above, lacks: Some(why) });
    };
    Ok(told(place, emf, rms, curve.peak_at(emf)))
}

/// A point of a curve with the knee points below it.
fn told(place: &Measured, emf: f64, rms: f64, peak: Option<f64>) -> ReadOff {
    let mut values =
        Values::none().with_quantity("emf", volts(emf)).with_quantity("current", amps(rms));
    if let Some(peak) = peak {
        values = values.with_quantity("peak", amps(peak));
    }
    let knees = place.curve.curve.knees();
    let below = knees.iter().filter(|k| k.emf_v <= emf).map(|k| k.kind.short().to_owned());
    let lacks = knees.is_empty().then(|| "no knee point was reached".to_owned());
    ReadOff { place: place.name.clone(), values, above: below.collect(), lacks }
}

/// A place's curve: whole, or a short one with its rows spread evenly around the knee.
fn curve(place: &Measured, whole: bool) -> Vec<ReadOff> {
    let curve = &place.curve.curve;
    if whole {
        let points = curve.points().iter().rev();
        return points.map(|p| told(place, p.emf_v, p.rms_a, p.peak_a)).collect();
    }
    let (low, high) = curve.span();
    let middle = curve.knees().first().map_or((low * high).sqrt(), |k| k.emf_v);
    // As many above the knee as below it, down to a third of it.
    let bottom = (middle / 3.0).max(low);
    let half = SHORT / 2;
    let emf = |k: usize| match k.checked_sub(half) {
        None => high * (middle / high).powf(k as f64 / half as f64),
        Some(k) => middle * (bottom / middle).powf(k as f64 / (SHORT - half - 1) as f64),
    };
    let rows = (0..SHORT).map(emf);
    rows.filter_map(|emf| Some(told(place, emf, curve.current_at(emf)?, curve.peak_at(emf))))
        .collect()
}
