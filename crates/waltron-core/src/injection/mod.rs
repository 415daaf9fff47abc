//! One injection: what is put out and read, on what kind of rig, and what came back.
//!
//! A [`program::Program`] is a list of segments, each of which puts a [`stimulus::Stimulus`] out; a rig
//! whose [`capability`] allows it plays the whole of it and returns an [`observation::Observation`].

pub mod capability;
pub mod measuring;
pub mod observation;
pub mod program;
pub mod samples;
pub mod stimulus;
pub mod waveform;
