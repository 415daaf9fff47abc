//! Power transformers (IEC 60076).

mod asset;
mod pairs;
mod shown;
mod vector_group;

pub use asset::{
    Allowed, ChangerKind, Position, PowerTransformer, PowerTransformerForm, Stand, TapChanger,
    Winding,
};
pub use pairs::{Pair, Shot, Terminal, Windings};
pub(crate) use shown::sections;
pub use vector_group::{Connection, Side, VectorGroup};

/// The kind of asset, as files name it.
pub(crate) const KIND: &str = "power-transformer";
