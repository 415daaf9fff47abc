//! What arises on the windings that nothing is fed to: the fed voltage by their ratio, open as they are.

use super::volts_text;
use crate::power::asset::{PowerTransformer, Stand};
use crate::power::pairs::{Pair, Shot};
use waltron_core::procedure::{Also, SetupError};
use waltron_core::quantity::{Measure, Voltage};

/// The share of its range that a meter is used to.
const USED: f64 = 0.95;

/// The most between two lines of every other winding while this voltage is on a pair of the fed one, at any of these
/// positions: as if it were on the pair that has the least of the fed winding's line voltage.
pub(super) fn arising(
    of: &PowerTransformer,
    stands: &[Stand],
    (fed, shots): (u8, &[Shot]),
    volts: Voltage,
) -> Vec<Also> {
    let share = shots.iter().map(|shot| shot.fed_share).fold(f64::INFINITY, f64::min);
    let others = of.windings.iter().map(|w| w.number).filter(|n| *n != fed);
    others
        .map(|n| {
            let ratios = stands.iter().map(|s| of.volts(n, s) / of.volts(fed, s));
            let most = volts.si() / share * ratios.fold(0.0, f64::max);
            let at = format!("winding {n}, between its lines, open");
            Also::Arises { at, most: Voltage::from_si(most) }
        })
        .collect()
}

/// The most that may be fed so that a meter of this range still shows what it reads: `lines` where lines of the other
/// winding are read as well.
pub(super) fn shown_up_to(
    of: &PowerTransformer,
    stands: &[Stand],
    (fed, read): (u8, u8),
    (shots, lines): (&[Shot], bool),
    range_v: f64,
) -> f64 {
    let ratio = |s: &Stand| of.volts(fed, s) / of.volts(read, s);
    let least = stands.iter().map(ratio).fold(f64::INFINITY, f64::min);
    let pairs = shots.iter().map(|shot| shot.factor * least);
    let of_lines = shots.iter().filter(|_| lines).map(|shot| shot.fed_share * least);
    range_v * USED * pairs.chain(of_lines).fold(f64::INFINITY, f64::min)
}

/// Refuses what a meter could not show, and would not withstand.
///
/// # Errors
/// With the most that may be fed.
pub(super) fn refuse_beyond(
    asked: Voltage,
    most_v: f64,
    read: &Pair,
    range_v: f64,
) -> Result<(), SetupError> {
    if asked.si() <= most_v * (1.0 + 1e-9) {
        return Ok(());
    }
    Err(SetupError::Unknown(format!(
        "{} would put {} on the meter of `induced voltage` at {read}, whose range is {}: {} at most, or feed the other winding",
        volts_text(asked.si()),
        volts_text(asked.si() / most_v * range_v * USED),
        volts_text(range_v),
        volts_text(most_v)
    )))
}
