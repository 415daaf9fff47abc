//! The built program, driven on files in a temporary folder.

mod again;
mod bad_input;
mod breakers;
mod config;
mod contract;
mod demo;
mod documents;
mod every;
mod instruments;
#[cfg(unix)]
mod keys;
mod kinds;
mod measuring;
mod power_transformers;
mod registers;
mod regrade;
mod samples;
mod seams;
mod sequences;
mod support;
mod transformers;
mod waves;
mod wire;
mod written;
