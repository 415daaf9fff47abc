//! Plausibility: what readings look like when something is wrong, in words, with what to look at.

use super::excite::Curve;
use crate::instrument::asset::{InstrumentTransformer, Kind as Of, Spot};
use waltron_core::grading::{Finding, Judgement, Verdict};
use waltron_core::quantity::{Dimension, Quantity, significant};

/// Something odd about the readings of a place.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Doubt {
    pub(super) kind: Kind,
    /// What was seen, what it looks like, what to look at.
    pub(super) words: String,
}

/// What a doubt is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Kind {
    /// The hook-up: what was measured says nothing of the transformer.
    HookUp,
    /// The transformer.
    Defect,
    /// Something was not read, so nobody knows whether it is odd.
    Unread,
    /// Nothing that matters any more.
    Note,
}

/// What was measured of a place, as far as it was.
#[derive(Clone, Debug)]
pub(super) struct Look<'a> {
    pub(super) of: &'a InstrumentTransformer,
    pub(super) spot: &'a Spot,
    /// Voltage at the primary with nothing put out, and with the test voltage, in V.
    pub(super) primary_v: Option<[f64; 2]>,
    /// Secondary over primary turns; of a voltage transformer the other way round.
    pub(super) turns: Option<f64>,
    /// Whether the meter of the side with less voltage was beyond its range then.
    pub(super) is_beyond: bool,
    /// The flux that was in the core before, as a share of saturation.
    pub(super) before: Option<f64>,
    /// The winding's resistance at the reference temperature, in ohms.
    pub(super) winding_ohm: Option<f64>,
    pub(super) curve: Option<&'a Curve>,
}

/// The share of the test voltage's reading that may be there with nothing put out.
const HUM: f64 = 0.02;

/// The power factor above which an exciting current is that of a closed turn: iron alone has less.
const CLOSED_TURN: f64 = 0.82;

/// The same of what is a resistance and hardly anything else: a burden of power factor 1, or a closed primary.
const RESISTIVE: f64 = 0.97;

/// The share of its saturation flux from which on a core counts as magnetised.
const MAGNETISED: f64 = 0.3;

/// What was not read, in the order in which it was to be.
pub(super) fn unread<'a>(lacks: impl IntoIterator<Item = Option<&'a String>>) -> Option<Doubt> {
    let why = lacks.into_iter().flatten().next()?;
    Some(Doubt { kind: Kind::Unread, words: format!("not all was read: {why}") })
}

/// A voltage with nothing put out.
pub(super) fn hum(quiet: f64, tested: f64, side: &str) -> Option<Doubt> {
    (quiet > HUM * tested).then(|| Doubt {
        kind: Kind::HookUp,
        words: format!(
            "{} at the {side} with nothing put out: its earth is lifted on both sides, or a neighbour is live; earth one side of the {side}",
            volts(quiet)
        ),
    })
}

/// What the readings as a whole come to.
pub(super) fn verdict_of(found: Finding, doubts: &[Doubt]) -> Finding {
    let of = |kind: Kind| doubts.iter().any(|d| d.kind == kind);
    let words: Vec<&str> = doubts.iter().map(|d| d.words.as_str()).collect();
    found.judged(match doubts {
        [] => Judgement::new(Verdict::Pass, "nothing odd about the readings"),
        _ if of(Kind::HookUp) => Judgement::new(Verdict::Inconclusive, words.join("; ")),
        _ if of(Kind::Defect) => Judgement::new(Verdict::Fail, words.join("; ")),
        _ if of(Kind::Unread) => Judgement::new(Verdict::Inconclusive, words.join("; ")),
        _ => Judgement::new(Verdict::Pass, words.join("; ")),
    })
}

impl Look<'_> {
    pub(super) fn doubts(&self) -> Vec<Doubt> {
        let all =
            [self.hum(), self.leads(), self.tap(), self.load(), self.joint(), self.magnetised()];
        all.into_iter().flatten().collect()
    }

    fn hum(&self) -> Option<Doubt> {
        let [quiet, tested] = self.primary_v?;
        hum(quiet, tested, "primary")
    }

    fn rated(&self) -> Option<f64> {
        self.of.secondary(self.spot).ratio(self.of.tap(self.spot))
    }

    fn leads(&self) -> Option<Doubt> {
        let (high, low) = match self.of.kind {
            Of::Current => ("secondary", "primary"),
            Of::Voltage => ("primary", "secondary"),
        };
        let rated = self.rated();
        let is_swapped = self.turns.zip(rated).is_some_and(|(is, rated)| is < 1.0 && rated > 2.0);
        let is_dead = self.turns.zip(rated).is_some_and(|(is, rated)| is > 3.0 * rated);
        let words = if self.is_beyond {
            format!(
                "the {low} reads more than its meter can: the voltage leads are swapped with those of the {high}, or the meter's range is too small"
            )
        } else if is_swapped {
            format!("the {low} reads more than the {high}: their voltage leads are swapped")
        } else if is_dead {
            format!("the {low} reads almost nothing: it is shorted, or its leads are off")
        } else {
            return None;
        };
        Some(Doubt { kind: Kind::HookUp, words })
    }

    /// A ratio that is another tap's.
    fn tap(&self) -> Option<Doubt> {
        let (turns, rated) = (self.turns?, self.rated()?);
        if (turns / rated - 1.0).abs() < 0.02 {
            return None;
        }
        let secondary = self.of.secondary(self.spot);
        let other = secondary.taps.iter().find(|tap| {
            secondary.ratio(tap).is_some_and(|ratio| (turns / ratio - 1.0).abs() < 0.01)
        })?;
        Some(Doubt {
            kind: Kind::Defect,
            words: format!(
                "the ratio is that of {}: leads at the wrong tap, or two leads swapped",
                other.terminals
            ),
        })
    }

    /// What loads the winding besides its core: a burden, or a closed turn.
    fn load(&self) -> Option<Doubt> {
        let curve = &self.curve?.curve;
        let (low, high) = curve.span();
        // Well below saturation, where iron takes mostly reactive current.
        let at = (0.3 * high).max(low);
        let y = curve.admittance_at(at)?;
        let z = 1.0 / y.norm();
        let secondary = self.of.secondary(self.spot);
        let rated_a = secondary.secondary.si;
        let burden = self.of.tap(self.spot).burden_va.map_or(5.0, |va| va / (rated_a * rated_a));
        let winding = self.winding_ohm.unwrap_or(0.0);
        let share = y.re / y.norm();
        if z < 10.0 * (burden + winding) {
            // A burden has some inductance; what has none may be a primary that is closed.
            let words = match share > RESISTIVE {
                false => format!(
                    "the winding takes current as {} would: a burden was left on; take it off the secondary terminals",
                    ohms(z)
                ),
                true => format!(
                    "the winding takes current as a resistance of {} would: see that the primary is open, and that no burden was left on",
                    ohms(z)
                ),
            };
            return Some(Doubt { kind: Kind::HookUp, words });
        }
        (share > CLOSED_TURN).then(|| Doubt {
            kind: Kind::Defect,
            words: format!(
                "the exciting current is almost in phase with its voltage (power factor {}), as of a closed turn around the core: see that the primary is open; if it is, a turn is shorted",
                significant(share, 3)
            ),
        })
    }

    fn joint(&self) -> Option<Doubt> {
        let (measured, rated) = (self.winding_ohm?, self.of.tap(self.spot).resistance_ohm?);
        let most = self.of.resistance_tolerance.limits(rated).1;
        (measured > most).then(|| Doubt {
            kind: Kind::Defect,
            words: format!(
                "the winding has {} more than its maker measured: a bad joint, or leads that are not four wires",
                ohms(measured - rated)
            ),
        })
    }

    fn magnetised(&self) -> Option<Doubt> {
        let share = self.before?.abs();
        (share > MAGNETISED).then(|| Doubt {
            kind: Kind::Note,
            words: format!(
                "the core was magnetised before, by {} % of its saturation flux; it was demagnetised by the excitation",
                significant(share * 100.0, 2)
            ),
        })
    }
}

fn volts(si: f64) -> String {
    Quantity { si, dimension: Dimension::VOLTAGE }.to_string()
}

fn ohms(si: f64) -> String {
    Quantity { si, dimension: Dimension::RESISTANCE }.to_string()
}
