//! What can be played at all.

use waltron_core::injection::measuring::{Read, When};
use waltron_core::injection::program::{Profile, Program};
use waltron_core::quantity::Measure;
use waltron_wire::scpi::{Fault, faults};

/// Longest program, in s.
pub(super) const LONGEST_S: f64 = 86_400.0;

/// Most levels of a program, and most repetitions of a recording.
const MOST_LEVELS: f64 = 1e6;

/// Refuses what only a mistaken or hostile client sends: times below zero or without end, more
/// levels than there is room for.
pub(super) fn is_playable(program: &Program) -> Result<(), Fault> {
    let mut levels = 0.0;
    for segment in &program.segments {
        let dwells = match &segment.profile {
            Profile::Hold(_) => [0.0, 0.0],
            Profile::Stairs(s) => {
                levels += 2.0 * (f64::from(s.steps) + 1.0);
                [s.dwell.si(), s.rest.as_ref().map_or(0.0, |r| r.time.si())]
            }
            Profile::Steps(s) => {
                levels += 2.0 * s.levels.len() as f64;
                [s.dwell.si(), s.rest.as_ref().map_or(0.0, |r| r.time.si())]
            }
            Profile::Slope(s) => {
                levels += 100.0 * s.through.len() as f64;
                [s.time.si(), 0.0]
            }
            Profile::Playback(p) => {
                levels += f64::from(p.times) * (1.0 + p.recording.count as f64 / 100.0);
                let rate = p.recording.rate_hz;
                let sane = rate > 0.0 && p.recording.frequency_hz > 0.0;
                [if sane { 0.0 } else { -1.0 }, 0.0]
            }
        };
        let negative = dwells.iter().any(|t| *t < 0.0);
        let longest = segment.longest().map_or(0.0, |t| t.si());
        levels += segment.reads.iter().map(|r| readings(r, longest)).sum::<f64>();
        if negative || !(0.0..=LONGEST_S).contains(&longest) {
            return Err(
                faults::OUT_OF_RANGE.because("a time that is negative, or longer than a day")
            );
        }
    }
    if levels > MOST_LEVELS {
        return Err(faults::TOO_MUCH_DATA.because("more levels than can be played"));
    }
    Ok(())
}

/// How many readings a segment takes of one thing, over its levels.
fn readings(read: &Read, longest: f64) -> f64 {
    match read.when {
        When::Every(time) if time.si() > 0.0 => longest / time.si(),
        When::Every(_) => f64::INFINITY,
        When::EachLevel => 0.0,
    }
}
