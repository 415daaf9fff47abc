//! What a report tells of instrument transformers.

use super::charts::charts;
use super::measured::{Measured, measured};
use crate::instrument::analysis::criteria::Met;
use crate::instrument::analysis::transient::{loop_time_constant, magnetising_inductance};
use crate::instrument::analysis::{Class, KneeKind, Limit, meets};
use crate::instrument::asset::{InstrumentTransformer, Wanted};
use waltron_core::asset::Asset;
use waltron_core::grading::Grade;
use waltron_core::quantity::{Dimension, Measure, Quantity, significant};
use waltron_core::section::{Block, Section, Table};
use waltron_core::wing::Told;

/// Nameplate, charts, values of every place, classes that would be met.
pub(crate) fn sections(asset: &Asset, told: Told<'_>) -> Vec<Section> {
    let Some(of) = asset.family::<InstrumentTransformer>() else { return Vec::new() };
    let mut blocks = vec![Block::Facts(waltron_core::asset::Family::facts(of))];
    if !asset.assumed.is_empty() {
        let assumed = asset.assumed.join("; ");
        blocks.push(Block::Note(format!("Assumed, since the file gives none: {assumed}")));
    }
    let nameplate = Section::new("Nameplate and tolerances", blocks);
    let mut all: Vec<Section> = verdicts(of, told)
        .block()
        .into_iter()
        .map(|table| {
            let note =
                "What decides a place is told; margins of every criterion stand with the points.";
            Section::new("Verdict of every place", vec![table, Block::Note(note.to_owned())])
        })
        .collect();
    all.push(nameplate);
    let places = measured(asset, told);
    if places.is_empty() {
        return all;
    }
    let hertz = asset.ratings.frequency.map_or(50.0, Measure::si);
    let drawn: Vec<Block> = charts(asset, told).into_iter().map(Block::Chart).collect();
    all.push(Section::new("Excitation and errors", drawn));
    let mut blocks: Vec<Block> = values(of, &places, hertz).block().into_iter().collect();
    if let Some(slow) = places.iter().find(|p| (p.curve.hertz / hertz - 1.0).abs() > 1e-6) {
        blocks.push(Block::Note(format!(
            "{}: the source did not reach the knee at {hertz} Hz; measured at {} Hz and told at {hertz} Hz by the flux, eddy losses apart.",
            slow.name,
            significant(slow.curve.hertz, 3)
        )));
    }
    blocks.push(Block::Note(
        "E.m.f. and exciting current are told at the core: the drop in the winding is taken off. Currents are true RMS, e.m.f. the fundamental; the core was demagnetised by the way down. Ls and Ts from 20 % to 90 % of the saturation flux.".to_owned(),
    ));
    all.push(Section::new("Values of every place", blocks));
    let classes = classes(of, &places, hertz);
    all.extend(classes.block().map(|table| {
        let note = "By the values above at the rated burden of each place; where a class needs what was not measured, it is left open.";
        Section::new("Classes that would be met", vec![table, Block::Note(note.to_owned())])
    }));
    all
}

/// What each place comes to.
fn verdicts(of: &InstrumentTransformer, told: Told<'_>) -> Table {
    let mut table = Table::of(&["Place", "Nameplate", "Readings", "Class", "What decides"]);
    for spot in of.spots(&Wanted::default()).unwrap_or_default() {
        let graded = |what: &str| {
            let id = format!("{}{what}", spot.prefix);
            let is_it =
                |g: &&Grade| g.point.id.split_once('/').is_some_and(|(_, point)| point == id);
            told.points.iter().rev().find(is_it)
        };
        let Some(class) = graded("class") else { continue };
        let word = |grade: Option<&Grade>| {
            grade.map_or_else(|| "–".to_owned(), |g| g.verdict.word().to_owned())
        };
        table.rows.push(vec![
            spot.connection.as_ref().map_or_else(|| "the unit".to_owned(), ToString::to_string),
            of.secondary(&spot).words(of.tap(&spot)),
            word(graded("readings")),
            word(Some(class)),
            class.reason.clone(),
        ]);
    }
    table
}

fn of(si: Option<f64>, dimension: Dimension) -> String {
    si.map_or_else(|| "–".to_owned(), |si| Quantity { si, dimension }.to_string())
}

fn values(asset: &InstrumentTransformer, places: &[Measured], hertz: f64) -> Table {
    let mut table = Table::of(&[
        "Place",
        "#Ratio",
        "#Resistance",
        "#Knee 10/50 %",
        "#at",
        "#Knee 45°",
        "#at",
        "#Limit factor",
        "#Ls",
        "#Ts",
    ]);
    for place in places {
        let curve = &place.curve.curve;
        let knee = |kind| curve.knee(kind);
        let (iec, ieee) = (knee(KneeKind::TenFifty), knee(KneeKind::Tangent45));
        let share = match asset.tap(&place.spot).class {
            Some(Class::Protection { percent, .. }) => f64::from(percent) / 100.0,
            _ => 0.1,
        };
        let of_loop = place.rated_burden(asset, 1.0).and_then(|b| place.with_burden(asset, b));
        let limit = of_loop.map_or_else(
            || "–".to_owned(),
            |of_loop| match of_loop.limit(share) {
                Limit::At(x) => format!("{} ({} %)", significant(x, 3), share * 100.0),
                Limit::Above(x) => format!("> {} ({} %)", significant(x, 3), share * 100.0),
                Limit::Below(_) => "< 1".to_owned(),
            },
        );
        let ls = magnetising_inductance(curve, hertz);
        let ts =
            ls.zip(of_loop).map(|(ls, l)| loop_time_constant(ls, l.winding_ohm, l.burden.z.re));
        let henry = ls.map_or_else(|| "–".to_owned(), |ls| format!("{} H", significant(ls, 3)));
        table.rows.push(vec![
            place.name.clone(),
            place.turns.map_or_else(|| "–".to_owned(), |t| significant(t, 5)),
            of(place.winding_ohm, Dimension::RESISTANCE),
            of(iec.map(|k| k.emf_v), Dimension::VOLTAGE),
            of(iec.map(|k| k.current_a), Dimension::CURRENT),
            of(ieee.map(|k| k.emf_v), Dimension::VOLTAGE),
            of(ieee.map(|k| k.current_a), Dimension::CURRENT),
            limit,
            henry,
            of(ts, Dimension::TIME),
        ]);
    }
    table
}

fn classes(of: &InstrumentTransformer, places: &[Measured], hertz: f64) -> Table {
    let mut table = Table::of(&["Place", "Nameplate", "Met", "Not met", "Open"]);
    for place in places {
        let Some(plate) = place.plate(of, hertz) else { continue };
        let all = meets::table(&plate, &place.evidence());
        let list = |met: Met| {
            let of: Vec<&str> =
                all.iter().filter(|m| m.met == met).map(|m| m.class.as_str()).collect();
            of.join(", ")
        };
        let class = of.tap(&place.spot).class;
        table.rows.push(vec![
            place.name.clone(),
            class.map_or_else(|| "–".to_owned(), |c| c.to_string()),
            list(Met::Yes),
            list(Met::No),
            list(Met::Open),
        ]);
    }
    table
}
