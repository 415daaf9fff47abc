//! Power transformers (IEC 60076).

mod asset;
mod identify;
mod pairs;
mod procedure;
mod scaffold;
mod shown;
mod vector_group;

pub(crate) use asset::ratios;
pub use asset::{
    Allowed, ChangerKind, Position, PowerTransformer, PowerTransformerForm, Stand, TapChanger,
    Winding,
};
pub use identify::{Explained, LINES, explain};
pub use pairs::{Pair, Shot, Terminal, Windings};
pub use procedure::{TurnsRatioKeys, TurnsRatioTest};
pub(crate) use scaffold::{new_asset, new_tests};
pub(crate) use shown::{charts, sections};
pub use vector_group::{Connection, Side, VectorGroup};

/// The kind of asset, as files name it.
pub(crate) const KIND: &str = "power-transformer";
