//! The levels of a profile, made one at a time; what moves is cut into short ticks.

use waltron_core::program::{Profile, Rest};
use waltron_core::quantity::{Measure, Time, seconds};
use waltron_core::stimulus::Stimulus;

/// A stimulus with how long it lasts; `None`: until something ends the segment.
pub(super) type Level = (Stimulus, Option<Time>);

/// Length of a tick; a relay's measuring window is longer.
const TICK_S: f64 = 1e-3;

/// Most ticks of one profile: very long slopes get longer ones.
const MOST_TICKS: f64 = 50_000.0;

/// Walks through a profile's levels in order.
pub(super) fn levels(profile: &Profile) -> Box<dyn Iterator<Item = Level> + '_> {
    match profile {
        Profile::Hold(stimulus) => held(stimulus.clone(), None),
        Profile::Stairs(s) => {
            Box::new((0..=s.steps).flat_map(|i| pulse(s.level(i), s.dwell, s.rest.as_ref())))
        }
        Profile::Steps(s) => Box::new(
            s.levels.iter().flat_map(|level| pulse(level.clone(), s.dwell, s.rest.as_ref())),
        ),
        Profile::Slope(slope) => ticks(slope.time, |at| slope.at(at)),
        Profile::Playback(playback) => ticks(playback.length(), |at| playback.phasors_at(at)),
    }
}

fn pulse<'a>(
    level: Stimulus,
    dwell: Time,
    rest: Option<&'a Rest>,
) -> impl Iterator<Item = Level> + 'a {
    let rest = rest.map(|r| (r.stimulus.clone(), Some(r.time)));
    held(level, Some(dwell)).chain(rest)
}

fn held(stimulus: Stimulus, time: Option<Time>) -> Box<dyn Iterator<Item = Level>> {
    if !stimulus.is_moving() {
        return Box::new(std::iter::once((stimulus, time)));
    }
    match time {
        Some(time) => Box::new(ticks(time, move |at| stimulus.after(at.si()))),
        None => Box::new(
            (0..).map(move |i| (stimulus.after(f64::from(i) * TICK_S), Some(seconds(TICK_S)))),
        ),
    }
}

fn ticks<'a>(
    time: Time,
    at: impl Fn(Time) -> Stimulus + 'a,
) -> Box<dyn Iterator<Item = Level> + 'a> {
    let count = (time.si() / TICK_S).ceil().clamp(1.0, MOST_TICKS);
    let tick = time / count;
    Box::new((0..count as u32).map(move |i| {
        // The middle of the tick stands for it.
        (at(tick * (f64::from(i) + 0.5)), Some(tick))
    }))
}
