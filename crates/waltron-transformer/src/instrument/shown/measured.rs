//! Curves, windings and ratios of all places, put together from the injections of a run.

use crate::instrument::analysis::{Burden, Evidence, Loop, Plate};
use crate::instrument::asset::{InstrumentTransformer, Spot, Wanted};
use crate::instrument::procedure::{Curve, read_curve};
use waltron_core::asset::Asset;
use waltron_core::grading::Grade;
use waltron_core::injection::measuring::Property;
use waltron_core::procedure::Served;
use waltron_core::quantity::Measure;
use waltron_core::uncertainty::Estimate;
use waltron_core::wing::Told;

/// What was measured of a place.
#[derive(Clone, Debug)]
pub(crate) struct Measured {
    pub(crate) spot: Spot,
    /// What it is called: `A 1S1-1S3`.
    pub(crate) name: String,
    pub(crate) curve: Curve,
    /// Resistance at the reference temperature, where it was told, and as measured, in ohms.
    pub(crate) winding_ohm: Option<f64>,
    /// Secondary over primary turns.
    pub(crate) turns: Option<f64>,
}

/// Every place with a curve, in the order of the asset.
pub(crate) fn measured(asset: &Asset, told: Told<'_>) -> Vec<Measured> {
    let Some(of) = asset.family::<InstrumentTransformer>() else { return Vec::new() };
    let hertz = asset.ratings.frequency.map_or(50.0, Measure::si);
    let spots = of.spots(&Wanted::default()).unwrap_or_default();
    spots.into_iter().filter_map(|spot| of_place(of, spot, told, hertz)).collect()
}

fn of_place(
    of: &InstrumentTransformer,
    spot: Spot,
    told: Told<'_>,
    hertz: f64,
) -> Option<Measured> {
    let here = |served: &&Served| {
        let is_at = served.program.connection == spot.connection;
        let names_it = |id: &String| {
            let point = id.split_once('/').map_or("", |(_, point)| point);
            point.starts_with(&spot.prefix)
        };
        is_at && served.points.iter().any(names_it)
    };
    let served: Vec<&Served> = told.served.iter().filter(here).collect();
    let as_measured = served.iter().rev().find_map(|served| resistance(served));
    let as_rated = of.tap(&spot).resistance_ohm;
    let seen: Vec<_> = served.iter().map(|s| (&*s.program, &s.observation)).collect();
    let ohm = as_measured.or(as_rated).unwrap_or(0.0);
    let curve = read_curve(&seen, ohm, hertz).ok()?;
    let value = |what: &str, name: &str| {
        let id = format!("/{}{what}", spot.prefix);
        let graded = |grade: &&Grade| {
            let from = grade.point.test.as_str().len();
            grade.point.id.get(from..) == Some(&id)
        };
        told.points.iter().rev().find(graded)?.measured.get(name)
    };
    let winding_ohm = value("resistance", "resistance");
    let turns = value("ratio", "ratio");
    let name = spot.connection.as_ref().map_or_else(String::new, ToString::to_string);
    Some(Measured { spot, name, curve, winding_ohm, turns })
}

/// The resistance that an injection has shown.
fn resistance(served: &Served) -> Option<f64> {
    let of_dc = served.observation.readings.iter().rev().find(|reading| {
        let names: Vec<&str> = reading.probe.of.names().iter().map(|n| n.as_str()).collect();
        reading.probe.what == Property::Dc
            && names == ["secondary voltage", "secondary current"]
            && reading.place.is_some()
    });
    of_dc?.value.get("value")
}

impl Measured {
    pub(crate) fn plate(&self, of: &InstrumentTransformer, hertz: f64) -> Option<Plate> {
        of.secondary(&self.spot).plate(of.tap(&self.spot), hertz)
    }

    /// What is known of it, for its class.
    pub(crate) fn evidence(&self) -> Evidence {
        let not = || "not measured".to_owned();
        Evidence {
            turns: self.turns.map(Estimate::exact).ok_or_else(not),
            winding: self.winding_ohm.map(Estimate::exact).ok_or_else(not),
            curve: Ok(self.curve.curve.clone()),
            remanence: Err(not()),
        }
    }

    /// Its secondary loop with a burden.
    pub(crate) fn with_burden(
        &self,
        of: &InstrumentTransformer,
        burden: Burden,
    ) -> Option<Loop<'_>> {
        let secondary = of.secondary(&self.spot);
        Some(Loop {
            curve: &self.curve.curve,
            turns: self.turns?,
            rated_ratio: secondary.ratio(of.tap(&self.spot))?,
            rated_a: secondary.secondary.si,
            winding_ohm: self.winding_ohm?,
            burden,
        })
    }

    /// Its rated burden, with the power factor that its class takes.
    pub(crate) fn rated_burden(&self, of: &InstrumentTransformer, share: f64) -> Option<Burden> {
        let (secondary, tap) = (of.secondary(&self.spot), of.tap(&self.spot));
        let va = tap.burden_va?;
        let cos = tap.power_factor.unwrap_or(if va >= 5.0 { 0.8 } else { 1.0 });
        let va = (va * share).max(1.0f64.min(va));
        Some(Burden::of_current(va, secondary.secondary.si, cos))
    }
}
