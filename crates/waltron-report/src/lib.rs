//! Documents and plots from run records.
//!
//! Everything here is a function from a [`waltron_core::record::Run`] or an asset to text or
//! bytes; writing files is the command line's business.
//!
//! - [`plot`]: time-current diagrams as SVG or PNG.
//! - [`hookup`]: the drawing of a connection sheet.
//! - [`html`]: the self-contained report page.

#![forbid(unsafe_code)]
#![warn(clippy::unwrap_used)]

mod clean;
pub mod hookup;
pub mod html;
pub mod plot;
