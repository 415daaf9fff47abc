//! The common reference that angles are told against: the wave of the first voltage that is on, else of
//! the first current, running on through everything that is put out.

use super::synthesis::Piece;
use crate::injection::stimulus::Stimulus;
use crate::quantity::{Angle, Measure, Time, seconds};
use std::f64::consts::{FRAC_PI_2, TAU};

/// The reference's phase: the integral of 2π·f since the program's start, in radians.
#[derive(Clone, Debug, PartialEq)]
pub struct Reference {
    /// At the start of each piece.
    pub(super) starts: Vec<f64>,
    /// At the end of the last one.
    end: f64,
}

/// A frequency in Hz and its rate of change in Hz/s over a piece.
type Pace = (f64, f64);

impl Reference {
    /// Follows the reference through pieces that were, or will be, put out one after another.
    pub fn of(pieces: &[Piece<'_>]) -> Self {
        let mut paces: Vec<Option<Pace>> = pieces.iter().map(pace).collect();
        // Where nothing is out, it runs as it will where something is next, or as it did before.
        let mut known: Option<Pace> = None;
        for pace in paces.iter_mut().rev() {
            match pace {
                Some((hertz, _)) => known = Some((*hertz, 0.0)),
                None => *pace = known,
            }
        }
        let mut last = None;
        let mut phase = 0.0;
        let mut starts = Vec::with_capacity(pieces.len());
        for (piece, pace) in pieces.iter().zip(paces) {
            starts.push(phase);
            let (hertz, rate) = pace.or(last).unwrap_or_default();
            let t = piece.length.si();
            phase = (phase + TAU * (hertz * t + 0.5 * rate * t * t)) % TAU;
            last = Some((hertz + rate * t, 0.0));
        }
        Self { starts, end: phase }
    }

    /// When a held stimulus that follows on from the pieces brings its reference wave to an angle
    /// first, at or after a time since its own start: 0 is where the wave rises through zero. `None`
    /// where it has no wave, or one whose frequency moves.
    pub fn reaches(&self, held: &Stimulus, angle: Angle, after: Time) -> Option<Time> {
        let (hertz, rate, theta) = held.reference()?;
        if rate != 0.0 || hertz <= 0.0 {
            return None;
        }
        let then = self.end + TAU * hertz * after.si() + theta.si() + FRAC_PI_2;
        let left = (angle.si() - then).rem_euclid(TAU);
        // What rounding leaves of a whole turn is none.
        let left = if TAU - left < 1e-9 { 0.0 } else { left };
        Some(after + seconds(left / TAU / hertz))
    }

    /// The phase of something that comes on where the pieces end.
    pub fn at_end(&self) -> f64 {
        self.end
    }
}

fn pace(piece: &Piece<'_>) -> Option<Pace> {
    if let Some(playback) = piece.playback {
        return Some((playback.recording.frequency_hz, 0.0));
    }
    let (hertz, rate, _) = piece.from.reference().or_else(|| piece.to.as_ref()?.reference())?;
    match piece.to.as_ref().and_then(Stimulus::reference) {
        Some((to, ..)) if piece.length.si() > 0.0 => {
            Some((hertz, (to - hertz) / piece.length.si()))
        }
        _ => Some((hertz, rate)),
    }
}
