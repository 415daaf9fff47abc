//! Power transformers (IEC 60076).

mod pairs;
mod vector_group;

pub use pairs::{Pair, Shot, Terminal, Windings};
pub use vector_group::{Connection, Side, VectorGroup};
