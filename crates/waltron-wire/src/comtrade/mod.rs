//! COMTRADE: recorded waveforms, IEEE C37.111-1991, -1999 and -2013 (IEC 60255-24).
//!
//! A recording is a configuration (`.cfg`, text), its data (`.dat`, text or binary), and perhaps a
//! header and an information text (`.hdr`, `.inf`); since 2013 all of it may be one file (`.cff`).
//! [`Config::parse`] reads the configuration, [`Data`] is a view of the data's bytes that copies
//! nothing, [`Container`] takes a `.cff` apart, [`emit`] writes.
//!
//! Not supported: data of the revision of 1991 with its own maximum and minimum for missing values
//! beyond the ASCII mark 99999, and several data files for one configuration.

mod config;
mod container;
mod data;
pub mod emit;
mod error;

pub use config::{Analog, Config, Digital, Format, Rate, Revision, Side};
pub use container::Container;
pub use data::Data;
pub use error::{ConfigError, ContainerError, DataError};
