//! The core of Waltron: what is put out, what is expected, what came back, and whether it passes.
//!
//! Nothing here reads a file, a clock or a socket, prints, or starts a thread, and nothing knows a
//! family of assets: that is in wings. The rooms, each of which knows only those before it:
//!
//! - [`quantity`]: values with units, tolerances, phasors, fault loops.
//! - [`uncertainty`]: how well something is stated to be put out or measured, and what follows from it.
//! - [`text`]: what people write: names, expressions, files with the places of their mistakes.
//! - [`characteristic`]: times over multiples of a setting.
//! - [`grading`]: what is required, what was measured, the verdict.
//! - [`injection`]: what is put out and read, on what kind of rig, and what came back.
//! - [`asset`]: the thing under test, with its ratings and settings.
//! - [`section`]: what there is to show: parts of a report, and charts.
//! - [`clearance`]: the only way from a program to energised outputs, and the heat of a run.
//! - [`procedure`]: a test as [`injection::program`]s that are handed out and observations that are
//!   taken.
//! - [`defaults`]: what a user wants to stand in new files.
//! - [`wing`]: the seam behind which families of assets stand.
//! - [`plan`]: the list of tests, and what must be connected for them.
//! - [`record`]: the append-only log of all of it, from which every report is made, and which can be
//!   graded again.
//!
//! Inside, quantities are typed ([`quantity`]); at the edges they are text with a unit, or SI
//! numbers in fields whose names carry the unit.

#![forbid(unsafe_code)]
#![warn(clippy::unwrap_used)]

mod alike;
pub mod asset;
pub mod characteristic;
pub mod clearance;
pub mod defaults;
pub mod grading;
pub mod injection;
pub mod plan;
pub mod procedure;
pub mod quantity;
pub mod record;
pub mod section;
pub mod text;
pub mod uncertainty;
pub mod wing;
