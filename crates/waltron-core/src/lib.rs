//! The core of Waltron: what is put out, what is expected, what came back, and whether it passes.
//!
//! Nothing here reads a file, a clock or a socket, prints, or starts a thread. The pipeline:
//!
//! 1. [`document`] turns the text of an asset or a plan into checked values, or into a list of
//!    errors with their places.
//! 2. [`procedure`] turns a test of the plan into [`program`]s, the timed stimulus of one
//!    injection, and is fed the [`observation`] of each.
//! 3. [`clearance`] is the only way from a program to energised outputs.
//! 4. [`grading`] judges what was measured against the [`characteristic`] and its [`tolerance`].
//! 5. [`record`] is the append-only log of all of it, from which every report is made.
//!
//! Inside, quantities are typed ([`quantity`]); at the edges they are text with a unit, or SI
//! numbers in fields whose names carry the unit.

#![forbid(unsafe_code)]
#![warn(clippy::unwrap_used)]

pub mod again;
pub mod asset;
pub mod capability;
pub mod characteristic;
pub mod clearance;
pub mod document;
pub mod duty;
pub mod edge;
pub mod expression;
pub mod fault_loop;
pub mod grading;
pub mod hookup;
pub mod measures;
pub mod measuring;
pub mod name;
pub mod observation;
pub mod phasor;
pub mod plan;
pub mod procedure;
pub mod program;
pub mod quantity;
pub mod readback;
pub mod record;
pub mod selection;
pub mod stimulus;
pub mod tolerance;
pub mod waveform;
pub mod wing;
