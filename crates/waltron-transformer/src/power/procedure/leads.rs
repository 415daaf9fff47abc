//! Where the leads are while insulation is measured, in words that places have: what is energised, what is measured,
//! what is guarded.

use crate::power::asset::{LETTERS, PowerTransformer};

/// The windings' letters, the high-voltage one first.
pub(super) fn letters(of: &PowerTransformer) -> &'static [&'static str] {
    &LETTERS[..of.windings.len().min(LETTERS.len())]
}

/// All letters but one.
pub(super) fn others(letters: &[&'static str], own: &str) -> Vec<&'static str> {
    letters.iter().copied().filter(|l| *l != own).collect()
}

/// A winding to all others and the tank.
pub(super) fn to_all(own: &str, others: &[&str]) -> String {
    format!("{own}: {}+tank measured", others.join("+"))
}

/// A winding to the tank, the others guarded.
pub(super) fn to_tank(own: &str, others: &[&str]) -> String {
    format!("{own}: tank measured, {} guarded", others.join("+"))
}

/// A winding to another one, the tank and the rest guarded.
pub(super) fn to_other(own: &str, other: &str, others: &[&str]) -> String {
    let rest = others.iter().copied().filter(|l| *l != other);
    let guarded: Vec<&str> = std::iter::once("tank").chain(rest).collect();
    format!("{own}: {other} measured, {} guarded", guarded.join("+"))
}
