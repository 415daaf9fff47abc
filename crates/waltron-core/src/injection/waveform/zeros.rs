//! Where a wave passes through zero, direct component and harmonics included.

use super::reference::Reference;
use super::synthesis::{Piece, through, value};
use crate::injection::stimulus::Drive;
use crate::quantity::{Measure, Time, seconds};
use crate::text::name::Name;
use std::f64::consts::TAU;

/// Looks a period of the highest component: between two of them no zero hides that matters.
const LOOKS: f64 = 64.0;

/// Most periods that a zero is waited for; a direct component may keep the wave off it for ever.
const MOST_PERIODS: f64 = 200.0;

/// When each channel passes through zero next after everything that was put out: the channel, and
/// the time since the program's start. A channel that does not pass through zero within 200 periods
/// is due at once, as is one that is at zero.
pub fn next_zeros(pieces: &[Piece<'_>]) -> Vec<(Name, Time)> {
    let Some(last) = pieces.last() else { return Vec::new() };
    let end = last.start + last.length;
    let stimulus = last.to.clone().unwrap_or_else(|| last.from.after(last.length.si()));
    let reference = Reference::of(pieces);
    let phase_of = |name: &Name, is_current: bool| {
        let mut phase = None;
        for (piece, common) in pieces.iter().zip(&reference.starts) {
            // No samples are wanted, only the phase that the pieces leave behind.
            let from = phase.unwrap_or(*common);
            phase = through(piece, (name, is_current), from, 1.0, 0, &mut Vec::new());
        }
        phase.unwrap_or(reference.at_end())
    };
    let currents = stimulus.currents.iter().map(|d| {
        let phase = phase_of(&d.channel, true);
        (d.channel.clone(), end + seconds(zero_of(d, phase)))
    });
    let voltages = stimulus.voltages.iter().map(|d| {
        let phase = phase_of(&d.channel, false);
        (d.channel.clone(), end + seconds(zero_of(d, phase)))
    });
    currents.chain(voltages).collect()
}

/// Seconds until a wave passes through zero, from a phase on.
fn zero_of<Q: Measure>(drive: &Drive<Q>, phase: f64) -> f64 {
    let hertz = drive.frequency.si();
    if hertz.is_nan() || hertz <= 0.0 || drive.true_rms().si() == 0.0 {
        return 0.0;
    }
    let rate = drive.rate_hz_per_s;
    let at = |t: f64| value(drive, phase + TAU * (hertz * t + 0.5 * rate * t * t), t);
    let highest = drive.harmonics.iter().map(|h| f64::from(h.order())).fold(1.0, f64::max);
    let step = 1.0 / hertz / highest / LOOKS;
    let count = (MOST_PERIODS * highest * LOOKS) as u32;
    let mut before = (0.0, at(0.0));
    if before.1 == 0.0 {
        return 0.0;
    }
    for k in 1..=count {
        let t = step * f64::from(k);
        let now = (t, at(t));
        if before.1.signum() != now.1.signum() {
            return bisect(&at, before.0, now.0);
        }
        before = now;
    }
    0.0
}

fn bisect(at: &impl Fn(f64) -> f64, mut low: f64, mut high: f64) -> f64 {
    let sign = at(low).signum();
    // Sixty halvings leave nothing of a period.
    for _ in 0..60 {
        let middle = 0.5 * (low + high);
        if at(middle).signum() == sign { low = middle } else { high = middle }
    }
    high
}
