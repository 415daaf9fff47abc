//! What a whole run does to the asset: heat of earlier injections, and the time it takes to cool.
//!
//! Above the continuous rating Ic a channel takes up I²t, as [`crate::clearance`] counts it within
//! one program. Below, the heat left goes down by Ic² − i² a second: the rate at which the
//! continuous current would heat, which the asset gives off for ever. It is a bookkeeping model on
//! the safe side of an exponential one, for ratings are all that a nameplate tells.

use crate::asset::Ratings;
use crate::name::Name;
use crate::observation::Observation;
use crate::program::Program;
use crate::quantity::{Time, seconds};
use crate::stimulus::Stimulus;

/// The heat that earlier injections left, channel by channel.
#[derive(Clone, Debug)]
pub struct Duty {
    /// The continuous current, in A; `None` where the ratings do not say, and nothing is counted.
    continuous: Option<f64>,
    /// Short-time ratings: current in A, energy in A²s.
    short: Vec<(f64, f64)>,
    /// Heat of each channel, in A²s.
    heat: Vec<(Name, f64)>,
}

impl Duty {
    /// A cold asset.
    pub fn new(ratings: &Ratings) -> Self {
        let thermal = &ratings.thermal;
        let continuous = thermal.iter().filter(|r| r.duration.is_none()).map(|r| r.current.value);
        let short = |r: &crate::asset::ThermalRating| {
            let time = r.duration?.value;
            Some((r.current.value, r.current.value * r.current.value * time))
        };
        Self {
            continuous: continuous.reduce(f64::max),
            short: thermal.iter().filter_map(short).collect(),
            heat: Vec::new(),
        }
    }

    /// The heat of a channel, in A²s.
    pub fn heat(&self, channel: &str) -> f64 {
        self.heat.iter().find(|(c, _)| c == channel).map_or(0.0, |(_, heat)| *heat)
    }

    /// How long outputs must stay off before a program may be put out, so that together with the
    /// heat of earlier ones it stays within the short-time ratings. Zero where it may at once.
    pub fn rest_before(&self, program: &Program) -> Time {
        let Some(continuous) = self.continuous else { return seconds(0.0) };
        if self.heat.iter().all(|(_, heat)| *heat <= 0.0) {
            return seconds(0.0);
        }
        let levels = || program.segments.iter().flat_map(crate::program::Segment::levels);
        let mut rest = 0.0_f64;
        for (channel, heat) in &self.heat {
            let currents = || levels().map(|(s, t)| (rms(&s, channel), t.value));
            let largest = currents().map(|(i, _)| i).fold(0.0, f64::max);
            let added: f64 =
                currents().filter(|(i, _)| *i > continuous).map(|(i, t)| i * i * t).sum();
            let allowed = self.short.iter().filter(|(i, _)| *i >= largest).map(|(_, e)| *e);
            let allowed = allowed.fold(0.0, f64::max);
            if added > 0.0 {
                rest = rest.max((heat + added - allowed) / (continuous * continuous));
            }
        }
        seconds(rest)
    }

    /// Counts what was put out, by how long each segment really lasted.
    pub fn put_out(&mut self, program: &Program, observation: &Observation) {
        if self.continuous.is_none() {
            return;
        }
        for (segment, span) in program.segments.iter().zip(&observation.segments) {
            let mut left = (span.end - span.start).value;
            for (stimulus, time) in segment.levels() {
                let lasted = time.value.min(left);
                if lasted <= 0.0 {
                    break;
                }
                left -= lasted;
                self.pass(&stimulus, lasted);
            }
        }
    }

    /// Lets time pass with outputs off.
    pub fn cool(&mut self, time: Time) {
        self.pass(&Stimulus::off(), time.value);
    }

    fn pass(&mut self, stimulus: &Stimulus, lasted_s: f64) {
        let Some(continuous) = self.continuous else { return };
        for drive in &stimulus.currents {
            if !self.heat.iter().any(|(c, _)| *c == drive.channel) {
                self.heat.push((drive.channel.clone(), 0.0));
            }
        }
        for (channel, heat) in &mut self.heat {
            let i = rms(stimulus, channel);
            let rate = if i > continuous { i * i } else { i * i - continuous * continuous };
            *heat = (*heat + rate * lasted_s).max(0.0);
        }
    }
}

fn rms(stimulus: &Stimulus, channel: &Name) -> f64 {
    let drive = stimulus.currents.iter().find(|d| d.channel == *channel);
    drive.map_or(0.0, |d| d.true_rms().value)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::asset::ThermalRating;
    use crate::fault_loop::FaultLoop;
    use crate::observation::{Ended, Span};
    use crate::program::Segment;
    use crate::quantity::{Frequency, Measure, amperes};
    use proptest::prelude::*;

    fn ratings() -> Ratings {
        let rating =
            |i, t: Option<f64>| ThermalRating { current: amperes(i), duration: t.map(seconds) };
        Ratings {
            current: None,
            voltage: None,
            frequency: Frequency::from_si(50.0),
            ct: None,
            vt: None,
            thermal: vec![rating(4.0, None), rating(100.0, Some(1.0))],
        }
    }

    fn pulse(current: f64, time: f64) -> Program {
        let phasors = FaultLoop::AN.currents(amperes(current));
        let stimulus = Stimulus::phase_currents(phasors, Frequency::from_si(50.0));
        Program::of(vec![Segment::hold("pulse", stimulus, seconds(time))])
    }

    fn lasted(time: f64) -> Observation {
        let span = Span { start: seconds(0.0), end: seconds(time), ended: Ended::Stop(0) };
        Observation { segments: vec![span], ..Default::default() }
    }

    /// By hand: 50 A for 2 s is 5000 A²s of the 10 000 allowed; a third pulse must wait until
    /// 5000 A²s are gone at 16 A²s a second: 312.5 s.
    #[test]
    fn pulses_add_up_and_rest_takes_their_heat_away() {
        let mut duty = Duty::new(&ratings());
        let pulse = pulse(50.0, 2.0);
        for _ in 0..2 {
            assert_eq!(duty.rest_before(&pulse).value, 0.0);
            duty.put_out(&pulse, &lasted(2.0));
        }
        assert!((duty.heat("ia") - 10_000.0).abs() < 1e-6);
        let rest = duty.rest_before(&pulse);
        assert!((rest.value - 312.5).abs() < 1e-6, "{}", rest.value);
        duty.cool(rest);
        assert!(duty.rest_before(&pulse).value.abs() < 1e-9);
    }

    #[test]
    fn only_what_was_really_put_out_counts_and_what_is_held_for_ever_heats_nothing() {
        let mut duty = Duty::new(&ratings());
        duty.put_out(&pulse(50.0, 2.0), &lasted(0.1));
        assert!((duty.heat("ia") - 250.0).abs() < 1e-9);
        assert_eq!(duty.rest_before(&pulse(4.0, 1e6)).value, 0.0);
        // 2 A takes 16 − 4 = 12 A²s a second away.
        duty.put_out(&pulse(2.0, 10.0), &lasted(10.0));
        assert!((duty.heat("ia") - 130.0).abs() < 1e-9);
    }

    proptest! {
        /// After the rest that is asked for, a program keeps the heat within the rating.
        #[test]
        fn heat_never_passes_the_rating(pulses in proptest::collection::vec((4.1f64..100.0, 0.01f64..1.0), 1..20)) {
            let mut duty = Duty::new(&ratings());
            for (current, time) in pulses {
                let program = pulse(current, time);
                duty.cool(duty.rest_before(&program));
                duty.put_out(&program, &lasted(time));
                prop_assert!(duty.heat("ia") <= 10_000.0 * (1.0 + 1e-9));
            }
        }
    }
}
