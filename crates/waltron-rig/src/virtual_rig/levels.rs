//! The levels of a profile, made one at a time.

use waltron_core::program::{Profile, Stairs};
use waltron_core::quantity::Time;
use waltron_core::stimulus::Stimulus;

/// Walks through a profile's levels; a held one lasts until something ends it.
pub(super) enum Levels<'a> {
    Hold(Option<&'a Stimulus>),
    Stairs { stairs: &'a Stairs, index: u32, resting: bool },
}

impl<'a> Levels<'a> {
    pub(super) fn of(profile: &'a Profile) -> Self {
        match profile {
            Profile::Hold(stimulus) => Self::Hold(Some(stimulus)),
            Profile::Stairs(stairs) => Self::Stairs { stairs, index: 0, resting: false },
        }
    }
}

impl Iterator for Levels<'_> {
    type Item = (Stimulus, Option<Time>);

    fn next(&mut self) -> Option<Self::Item> {
        match self {
            Self::Hold(stimulus) => stimulus.take().map(|s| (s.clone(), None)),
            Self::Stairs { stairs, index, resting } => {
                if *index > stairs.steps {
                    return None;
                }
                if let Some(rest) = stairs.rest.as_ref().filter(|_| *resting) {
                    *resting = false;
                    *index += 1;
                    return Some((rest.stimulus.clone(), Some(rest.time)));
                }
                let level = stairs.level(*index);
                if stairs.rest.is_some() {
                    *resting = true;
                } else {
                    *index += 1;
                }
                Some((level, Some(stairs.dwell)))
            }
        }
    }
}
