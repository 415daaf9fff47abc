//! The built program, driven on files in a temporary folder.

mod bad_input;
mod contract;
mod demo;
mod sequences;
mod support;
mod wire;
