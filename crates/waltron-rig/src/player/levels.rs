//! The levels of a profile, made one at a time; what moves is cut into short ticks.

use waltron_core::injection::program::{Profile, Rest};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::{Measure, Time, seconds};

/// A piece of a profile that is put out as it is.
pub(crate) struct Level {
    pub(crate) stimulus: Stimulus,
    /// How long it lasts; `None`: until something ends the segment.
    pub(crate) lasts: Option<Time>,
    /// Which level it belongs to.
    pub(crate) place: Place,
}

/// A level, counted from 0, or the rest behind it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Place {
    pub(crate) number: usize,
    pub(crate) rest: bool,
}

/// Length of a tick; a relay's measuring window is longer.
const TICK_S: f64 = 1e-3;

/// Most ticks of one profile: very long slopes get longer ones.
const MOST_TICKS: f64 = 50_000.0;

/// Walks through a profile's levels in order.
pub(crate) fn levels(profile: &Profile) -> Box<dyn Iterator<Item = Level> + '_> {
    match profile {
        Profile::Hold(stimulus) => held(stimulus.clone(), None, 0),
        Profile::Stairs(s) => Box::new(
            (0..=s.steps).flat_map(|i| pulse(s.level(i), s.dwell, s.rest.as_ref(), i as usize)),
        ),
        Profile::Steps(s) => Box::new(
            s.levels
                .iter()
                .enumerate()
                .flat_map(|(i, level)| pulse(level.clone(), s.dwell, s.rest.as_ref(), i)),
        ),
        Profile::Slope(slope) => ticks(slope.time, |at| slope.at(at)),
        Profile::Playback(playback) => ticks(playback.length(), |at| playback.phasors_at(at)),
    }
}

fn pulse<'a>(
    level: Stimulus,
    dwell: Time,
    rest: Option<&'a Rest>,
    number: usize,
) -> impl Iterator<Item = Level> + 'a {
    let rest = rest.map(|r| Level {
        stimulus: r.stimulus.clone(),
        lasts: Some(r.time),
        place: Place { number, rest: true },
    });
    held(level, Some(dwell), number).chain(rest)
}

fn held(stimulus: Stimulus, time: Option<Time>, number: usize) -> Box<dyn Iterator<Item = Level>> {
    let place = Place { number, rest: false };
    if !stimulus.is_moving() {
        return Box::new(std::iter::once(Level { stimulus, lasts: time, place }));
    }
    match time {
        Some(time) => Box::new(
            ticks(time, move |at| stimulus.after(at.si())).map(move |l| Level { place, ..l }),
        ),
        None => Box::new((0..).map(move |i| Level {
            stimulus: stimulus.after(f64::from(i) * TICK_S),
            lasts: Some(seconds(TICK_S)),
            place,
        })),
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
        let stimulus = at(tick * (f64::from(i) + 0.5));
        Level { stimulus, lasts: Some(tick), place: Place::default() }
    }))
}
