//! Codecs of Waltron: bytes to values and back. No file and no socket is opened here.
//!
//! [`comtrade`] is IEEE C37.111 / IEC 60255-24, recorded waveforms; [`scpi`] is the text protocol of
//! instruments.

#![forbid(unsafe_code)]
#![warn(clippy::unwrap_used)]

pub mod comtrade;
pub mod scpi;
