//! Power transformers (IEC 60076).

mod asset;
mod changeover;
mod identify;
mod insulation;
mod pairs;
mod procedure;
mod scaffold;
mod settling;
mod shown;
mod vector_group;

pub(crate) use asset::ratios;
pub use asset::{
    Allowed, Bushing, ChangerKind, Difference, Insulation, Known, Position, PowerTransformer,
    PowerTransformerForm, Stand, TapChanger, Winding,
};
pub use changeover::{Changeover, Samples, changeover, in_series};
pub use identify::{Explained, LINES, explain};
pub(crate) use insulation::file_of;
pub use insulation::{
    Beyond, Class, Condition, Corrected, Correction, CorrectionForm, Energy, Loss, at_reference,
    fit, shipped, shipped_names, turns,
};
pub use pairs::{Pair, Shot, Terminal, Windings};
pub use procedure::{
    CoreDemagnetisationKeys, CoreDemagnetisationTest, ExcitingCurrentKeys, ExcitingCurrentTest,
    ImpedanceKeys, ImpedanceTest, InsulationResistanceKeys, InsulationResistanceTest, TanDeltaKeys,
    TanDeltaTest, TurnsRatioKeys, TurnsRatioTest, WindingResistanceKeys, WindingResistanceTest,
};
pub(crate) use scaffold::{DEFAULTS, new_asset, new_tests};
pub use settling::{Settling, settling};
pub(crate) use shown::{charts, drawing, sections};
pub use vector_group::{Connection, Side, VectorGroup};

/// The kind of asset, as files name it.
pub(crate) const KIND: &str = "power-transformer";
