//! The wing of instrument transformers: current and voltage transformers, what their files say, and how
//! they are tested.
//!
//! Assets are read by [`InstrumentTransformerWing`]; its procedures are `ratio`, `burden` and
//! `resistance`. Rated quantities and errors are those of IEC 61869-1, -2 and -3.

#![forbid(unsafe_code)]
#![warn(clippy::unwrap_used)]

pub mod analysis;
mod asset;
mod burden;
mod form;
mod measure;
mod ratio;
mod resistance;
mod scaffold;

pub use asset::{InstrumentTransformer, Kind, Material, Winding};
pub use burden::{BurdenKeys, BurdenTest};
pub use form::InstrumentTransformerForm;
pub use ratio::{RatioKeys, RatioTest};
pub use resistance::{ResistanceKeys, ResistanceTest};

use waltron_core::asset::Asset;
use waltron_core::injection::capability::Capability;
use waltron_core::procedure::Registration;
use waltron_core::text::document::{DocumentError, Source};
use waltron_core::wing::Wing;

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
        ]
    }

    fn new_asset(&self, kind: &str) -> Option<String> {
        scaffold::asset(kind)
    }

    fn new_tests(&self, asset: &Asset, _rig: Option<&Capability>) -> Option<String> {
        scaffold::tests(asset.family()?)
    }
}
