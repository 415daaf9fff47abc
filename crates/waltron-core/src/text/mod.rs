//! What people write: names, expressions, and files with the places of their mistakes.

pub mod document;
pub mod expression;
pub mod name;
mod problem;
