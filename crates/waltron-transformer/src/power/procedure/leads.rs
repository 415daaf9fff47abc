//! Where the leads are while insulation is measured, in words that places have: what is energised, what is measured,
//! what is guarded.

use crate::power::asset::{LETTERS, PowerTransformer};

/// What is joined while insulation is measured.
pub(super) const JOINED: &str = "While insulation is measured join all terminals of each winding, its neutral too: the whole winding has one potential";

/// What the places call it.
pub(super) const NAMED: &str =
    "H, L and T are the windings, the high-voltage one first; tank is what is earthed";

/// What becomes of the others.
pub(super) const NOT_NAMED: &str =
    "While insulation is measured short-circuit and earth every winding that a place does not name";

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
