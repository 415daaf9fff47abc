//! COMTRADE: recorded waveforms, IEEE C37.111-1991, -1999 and -2013 (IEC 60255-24).
//!
//! A recording is a configuration (`.cfg`, text), its data (`.dat`, text or binary), and perhaps a
//! header and an information text (`.hdr`, `.inf`); since 2013 all of it may be one file (`.cff`).
//! [`Config::parse`] reads the configuration, [`Data`] is a view of the data's bytes that copies
//! nothing, [`Container`] takes a `.cff` apart, [`emit`] writes.
//!
//! A missing value is told by the edition's mark: an empty field or 99999 in ASCII data, 999999 in those
//! of 1991, the most negative integer in binary data, no number in floating point.
//!
//! Not supported: several data files for one configuration.

mod config;
mod container;
mod data;
pub mod emit;
mod error;
mod stamp;
mod survey;

pub use config::{Analog, Config, Digital, Format, Rate, Revision, Side};
pub use container::Container;
pub use data::Data;
pub use error::{ConfigError, ContainerError, DataError};
pub use stamp::Stamp;
pub use survey::{Changes, Extremes, KEPT, Seen, Survey};
