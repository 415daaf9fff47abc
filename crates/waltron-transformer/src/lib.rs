//! The wing of transformers: what their files say, and how they are tested.
//!
//! Instrument transformers, current and voltage, are in [`instrument`]: rated quantities and errors as in
//! IEC 61869-1, -2 and -3. Power transformers are in [`power`]: terms and limits as in IEC 60076-1.

#![forbid(unsafe_code)]
#![warn(clippy::unwrap_used)]

pub mod instrument;
mod material;
mod measure;
pub mod power;

pub use instrument::{InstrumentTransformer, Kind, Phase, Secondary, Spot, Tap, Wanted, analysis};
pub use material::Material;

use instrument::{
    BurdenKeys, ClassKeys, CoresKeys, DemagnetiseKeys, ErrorsKeys, ExcitationKeys,
    InstrumentTransformerForm, RatioKeys, ResistanceKeys,
};
use power::{
    CoreDemagnetisationKeys, ExcitingCurrentKeys, ImpedanceKeys, InsulationResistanceKeys,
    PowerTransformerForm, TanDeltaKeys, TurnsRatioKeys, WindingResistanceKeys,
};
use waltron_core::asset::Asset;
use waltron_core::defaults::{DefaultKey, Defaults};
use waltron_core::injection::capability::Capability;
use waltron_core::procedure::Registration;
use waltron_core::section::{Chart, Section, Table};
use waltron_core::text::document::{DocumentError, Source};
use waltron_core::text::name::Name;
use waltron_core::wing::{Depth, ReadOff, Reading, Told, Wing};

/// Transformers.
#[derive(Clone, Copy, Debug)]
pub struct TransformerWing;

impl Wing for TransformerWing {
    fn kinds(&self) -> &'static [&'static str] {
        &["current-transformer", "voltage-transformer", power::KIND]
    }

    fn asset_schema(&self) -> serde_json::Value {
        let instrument = waltron_core::text::document::schema::<InstrumentTransformerForm>();
        let power = waltron_core::text::document::schema::<PowerTransformerForm>();
        waltron_core::wing::joined(&[instrument, power])
    }

    fn asset(&self, source: &Source) -> Result<Asset, DocumentError> {
        match waltron_core::wing::kind_of(source).as_deref() {
            Some(power::KIND) => PowerTransformerForm::load(source),
            _ => InstrumentTransformerForm::load(source),
        }
    }

    fn procedures(&self) -> Vec<Registration> {
        vec![
            Registration::of::<ResistanceKeys>(
                "resistance",
                "direct current until the value is steady, at the reference temperature",
            ),
            Registration::of::<RatioKeys>("ratio", "both sides read: ratio and polarity"),
            Registration::of::<BurdenKeys>("burden", "what is connected to the secondary, in VA"),
            Registration::of::<ExcitationKeys>(
                "excitation",
                "from beyond the knee downwards: the curve and its knee points",
            ),
            Registration::of::<DemagnetiseKeys>(
                "demagnetise",
                "takes remanence away, and shows it before and after",
            ),
            Registration::of::<ErrorsKeys>(
                "errors",
                "the primary fed: ratio error and phase displacement at currents",
            ),
            Registration::of::<CoresKeys>(
                "cores",
                "one core fed, the others looked at: nothing may link them",
            ),
            Registration::of::<ClassKeys>(
                "class",
                "everything that the class asks, at every place, criterion by criterion",
            ),
            Registration::of::<TurnsRatioKeys>(
                "turns-ratio",
                "a power transformer's ratio at every tap, its vector group and exciting currents",
            ),
            Registration::of::<WindingResistanceKeys>(
                "winding-resistance",
                "a power transformer's windings by direct current, tap by tap, until nothing is left to come",
            ),
            Registration::of::<CoreDemagnetisationKeys>(
                "core-demagnetisation",
                "takes a power transformer's remanence away, exciting currents before and after",
            ),
            Registration::of::<ExcitingCurrentKeys>(
                "exciting-current",
                "a power transformer's exciting currents at high voltage, and their pattern",
            ),
            Registration::of::<ImpedanceKeys>(
                "impedance",
                "a power transformer's short-circuit and zero-sequence impedances at low voltage",
            ),
            Registration::of::<InsulationResistanceKeys>(
                "insulation-resistance",
                "a power transformer's insulation by direct voltage, by the rig or read by hand",
            ),
            Registration::of::<TanDeltaKeys>(
                "tan-delta",
                "capacitance and losses of a power transformer's insulation or bushings, told at 20 °C",
            ),
        ]
    }

    fn beside(&self, source: &Source) -> Vec<String> {
        power::file_of(source).into_iter().collect()
    }

    fn looks_at_injections(&self) -> bool {
        true
    }

    fn draws_captures(&self, kind: &str) -> bool {
        kind == power::KIND
    }

    fn sections(&self, asset: &Asset, told: Told<'_>) -> Vec<Section> {
        match asset.kind {
            power::KIND => power::sections(asset, told),
            _ => instrument::sections(asset, told),
        }
    }

    fn tables(&self, asset: &Asset) -> Vec<(String, Table)> {
        asset.family().map(power::ratios).unwrap_or_default()
    }

    fn leads(&self, asset: &Asset, places: &[Name]) -> Option<String> {
        power::drawing(asset.family()?, places)
    }

    fn charts(&self, asset: &Asset, told: Told<'_>) -> Vec<Chart> {
        match asset.kind {
            power::KIND => power::charts(asset, told),
            _ => instrument::charts(asset, told),
        }
    }

    fn read_off(
        &self,
        asset: &Asset,
        told: Told<'_>,
        wanted: &Reading<'_>,
    ) -> Option<Result<Vec<ReadOff>, String>> {
        Some(instrument::read_off(asset, told, wanted))
    }

    fn defaults(&self) -> Vec<DefaultKey> {
        power::DEFAULTS.to_vec()
    }

    fn new_asset(&self, kind: &str, own: &Defaults) -> Option<String> {
        match kind {
            power::KIND => Some(power::new_asset(own)),
            _ => instrument::new_asset(kind),
        }
    }

    fn new_tests(
        &self,
        asset: &Asset,
        rig: Option<&Capability>,
        depth: Depth,
        own: &Defaults,
    ) -> Option<String> {
        if let Some(of) = asset.family() {
            return Some(power::new_tests(of, rig, depth, own));
        }
        instrument::new_tests(asset.family()?, rig, depth)
    }
}
