//! Instrument transformers: current and voltage transformers.

pub mod analysis;
mod asset;
mod procedure;
mod scaffold;
mod shown;

pub use asset::{
    InstrumentTransformer, InstrumentTransformerForm, Kind, Phase, Secondary, Spot, Tap, Wanted,
};
pub use procedure::{
    BurdenKeys, BurdenTest, ClassKeys, ClassTest, CoresKeys, CoresTest, DemagnetiseKeys,
    DemagnetiseTest, ErrorsKeys, ErrorsTest, ExcitationKeys, ExcitationTest, RatioKeys, RatioTest,
    ResistanceKeys, ResistanceTest, Resolution,
};
pub(crate) use scaffold::{asset as new_asset, tests as new_tests};
pub(crate) use shown::{charts, read_off, sections};
