//! The wing of instrument transformers: current and voltage transformers, what their files say, and how
//! they are tested.
//!
//! Assets are read by [`InstrumentTransformerWing`]; its procedures are `ratio`, `burden` and
//! `resistance`. Rated quantities and errors are those of IEC 61869-1, -2 and -3.

#![forbid(unsafe_code)]
#![warn(clippy::unwrap_used)]

pub mod analysis;
mod asset;
mod procedure;
mod scaffold;
mod shown;

pub use asset::{
    InstrumentTransformer, InstrumentTransformerForm, Kind, Material, Phase, Secondary, Spot, Tap,
    Wanted,
};
pub use procedure::{
    BurdenKeys, BurdenTest, ClassKeys, ClassTest, CoresKeys, CoresTest, DemagnetiseKeys,
    DemagnetiseTest, ErrorsKeys, ErrorsTest, ExcitationKeys, ExcitationTest, RatioKeys, RatioTest,
    ResistanceKeys, ResistanceTest, Resolution,
};

use waltron_core::asset::Asset;
use waltron_core::injection::capability::Capability;
use waltron_core::procedure::Registration;
use waltron_core::section::{Chart, Section};
use waltron_core::text::document::{DocumentError, Source};
use waltron_core::wing::{Depth, ReadOff, Reading, Told, Wing};

/// Current and voltage transformers.
#[derive(Clone, Copy, Debug)]
pub struct InstrumentTransformerWing;

impl Wing for InstrumentTransformerWing {
    fn kinds(&self) -> &'static [&'static str] {
        &["current-transformer", "voltage-transformer"]
    }

    fn asset_schema(&self) -> serde_json::Value {
        waltron_core::text::document::schema::<InstrumentTransformerForm>()
    }

    fn asset(&self, source: &Source) -> Result<Asset, DocumentError> {
        InstrumentTransformerForm::load(source)
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
        ]
    }

    fn looks_at_injections(&self) -> bool {
        true
    }

    fn sections(&self, asset: &Asset, told: Told<'_>) -> Vec<Section> {
        shown::sections(asset, told)
    }

    fn charts(&self, asset: &Asset, told: Told<'_>) -> Vec<Chart> {
        shown::charts(asset, told)
    }

    fn read_off(
        &self,
        asset: &Asset,
        told: Told<'_>,
        wanted: &Reading<'_>,
    ) -> Option<Result<Vec<ReadOff>, String>> {
        Some(shown::read_off(asset, told, wanted))
    }

    fn new_asset(&self, kind: &str) -> Option<String> {
        scaffold::asset(kind)
    }

    fn new_tests(&self, asset: &Asset, rig: Option<&Capability>, depth: Depth) -> Option<String> {
        scaffold::tests(asset.family()?, rig, depth)
    }
}
