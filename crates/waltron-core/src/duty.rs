//! What a whole run does to the asset: heat of earlier injections, and the time it takes to cool.
//!
//! Above the continuous rating a channel takes up a share of what it withstands, as
//! [`crate::clearance`] counts it within one program. Below, the heat left goes down at the rate
//! that [`Withstand::cooling`] gives. It is a bookkeeping model on the safe side of an exponential
//! one, for ratings are all that a nameplate tells.

use crate::asset::{Ratings, Withstand};
use crate::name::Name;
use crate::observation::Observation;
use crate::program::{Program, Segment};
use crate::quantity::{Current, Measure, Time, Voltage, seconds};
use crate::stimulus::{Drive, Stimulus};

/// The heat that earlier injections left, channel by channel: the share that it has of what the
/// asset withstands.
#[derive(Clone, Debug)]
pub struct Duty {
    currents: Heat<Current>,
    voltages: Heat<Voltage>,
}

/// The heat of the channels of one kind.
#[derive(Clone, Debug)]
struct Heat<Q> {
    withstand: Withstand<Q>,
    shares: Vec<(Name, f64)>,
}

impl Duty {
    /// A cold asset.
    pub fn new(ratings: &Ratings) -> Self {
        let currents = Heat { withstand: ratings.currents.clone(), shares: Vec::new() };
        let voltages = Heat { withstand: ratings.voltages.clone(), shares: Vec::new() };
        Self { currents, voltages }
    }

    /// An asset that an earlier run left warm, as [`Duty::warm`] of that run says.
    #[must_use]
    pub fn warmed(mut self, warm: &Warm) -> Self {
        self.currents.take(&warm.currents);
        self.voltages.take(&warm.voltages);
        self
    }

    /// The channels that are not cold.
    pub fn warm(&self) -> Warm {
        Warm { currents: self.currents.warm(), voltages: self.voltages.warm() }
    }

    /// The heat of a channel: 1 is all that is withstood.
    pub fn heat(&self, channel: &str) -> f64 {
        self.currents.of(channel).max(self.voltages.of(channel))
    }

    /// How long outputs must stay off before a program may be put out, so that together with the
    /// heat of earlier ones it stays within the short-time ratings. Zero where it may at once.
    pub fn rest_before(&self, program: &Program) -> Time {
        if self.currents.is_cold() && self.voltages.is_cold() {
            return seconds(0.0);
        }
        let (mut currents, mut voltages) = (Vec::new(), Vec::new());
        for (stimulus, time) in program.segments.iter().flat_map(Segment::levels) {
            self.currents.add_wear(&stimulus.currents, time, &mut currents);
            self.voltages.add_wear(&stimulus.voltages, time, &mut voltages);
        }
        seconds(self.currents.rest(&currents).max(self.voltages.rest(&voltages)))
    }

    /// Counts what was put out, by how long each segment really lasted.
    pub fn put_out(&mut self, program: &Program, observation: &Observation) {
        for (segment, span) in program.segments.iter().zip(&observation.segments) {
            let mut left = (span.end - span.start).si();
            for (stimulus, time) in segment.levels() {
                let lasted = time.si().min(left);
                if lasted <= 0.0 {
                    break;
                }
                left -= lasted;
                self.pass(&stimulus, seconds(lasted));
            }
        }
    }

    /// Lets time pass with outputs off.
    pub fn cool(&mut self, time: Time) {
        self.pass(&Stimulus::off(), time);
    }

    fn pass(&mut self, stimulus: &Stimulus, lasted: Time) {
        self.currents.pass(&stimulus.currents, lasted);
        self.voltages.pass(&stimulus.voltages, lasted);
    }
}

/// The heat of an asset's inputs as a record keeps it: shares of what they withstand, by channel.
#[derive(Clone, Debug, Default, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct Warm {
    /// Current inputs.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub currents: Vec<(Name, f64)>,
    /// Voltage inputs.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub voltages: Vec<(Name, f64)>,
}

impl Warm {
    /// Whether everything is cold.
    pub fn is_cold(&self) -> bool {
        self.currents.is_empty() && self.voltages.is_empty()
    }
}

/// Adds to a channel's entry, which is made where there is none.
fn slot<'a>(all: &'a mut Vec<(Name, f64)>, channel: &Name) -> &'a mut f64 {
    let at = all.iter().position(|(c, _)| c == channel).unwrap_or_else(|| {
        all.push((channel.clone(), 0.0));
        all.len() - 1
    });
    &mut all[at].1
}

impl<Q: Measure> Heat<Q> {
    fn take(&mut self, warm: &[(Name, f64)]) {
        for (channel, share) in warm.iter().filter(|(_, share)| *share > 0.0) {
            *slot(&mut self.shares, channel) = *share;
        }
    }

    fn warm(&self) -> Vec<(Name, f64)> {
        self.shares.iter().filter(|(_, share)| *share > 0.0).cloned().collect()
    }

    fn of(&self, channel: &str) -> f64 {
        self.shares.iter().find(|(c, _)| c == channel).map_or(0.0, |(_, share)| *share)
    }

    fn is_cold(&self) -> bool {
        self.shares.iter().all(|(_, share)| *share <= 0.0)
    }

    fn add_wear(&self, drives: &[Drive<Q>], time: Time, added: &mut Vec<(Name, f64)>) {
        for drive in drives {
            let share = self.withstand.wear(drive.true_rms(), time);
            if share > 0.0 {
                *slot(added, &drive.channel) += share;
            }
        }
    }

    /// Seconds until the heat has room for what is to be added.
    fn rest(&self, added: &[(Name, f64)]) -> f64 {
        let cooling = self.withstand.cooling(Q::from_si(0.0));
        let rests = added.iter().map(|(channel, share)| {
            let above = self.of(channel.as_str()) + share - 1.0;
            if above > 0.0 { above / cooling } else { 0.0 }
        });
        rests.fold(0.0, f64::max)
    }

    fn pass(&mut self, drives: &[Drive<Q>], lasted: Time) {
        for drive in drives {
            *slot(&mut self.shares, &drive.channel) +=
                self.withstand.wear(drive.true_rms(), lasted);
        }
        for (channel, share) in &mut self.shares {
            let drive = drives.iter().find(|d| d.channel == *channel);
            let out = drive.map_or(Q::from_si(0.0), Drive::true_rms);
            *share = (*share - self.withstand.cooling(out) * lasted.si()).max(0.0);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::asset::Rating;
    use crate::fault_loop::FaultLoop;
    use crate::observation::{Ended, Span};
    use crate::phasor::Phasor;
    use crate::program::Segment;
    use crate::quantity::{Frequency, amperes};
    use proptest::prelude::*;

    fn ratings() -> Ratings {
        let current = |i, t: Option<f64>| Rating { value: amperes(i), duration: t.map(seconds) };
        let voltage =
            |v, t: Option<f64>| Rating { value: Voltage::from_si(v), duration: t.map(seconds) };
        Ratings {
            currents: Withstand::new(vec![current(4.0, None), current(100.0, Some(1.0))]),
            voltages: Withstand::new(vec![voltage(250.0, None), voltage(300.0, Some(10.0))]),
            ..Ratings::unknown(Frequency::from_si(50.0))
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
        assert!((duty.heat("ia") - 1.0).abs() < 1e-9);
        let rest = duty.rest_before(&pulse);
        assert!((rest.value - 312.5).abs() < 1e-6, "{}", rest.value);
        duty.cool(rest);
        assert!(duty.rest_before(&pulse).value.abs() < 1e-9);
    }

    #[test]
    fn only_what_was_really_put_out_counts_and_what_is_held_for_ever_heats_nothing() {
        let mut duty = Duty::new(&ratings());
        duty.put_out(&pulse(50.0, 2.0), &lasted(0.1));
        assert!((duty.heat("ia") - 0.025).abs() < 1e-12);
        assert_eq!(duty.rest_before(&pulse(4.0, 1e6)).value, 0.0);
        // 2 A takes 16 − 4 = 12 A²s a second away.
        duty.put_out(&pulse(2.0, 10.0), &lasted(10.0));
        assert!((duty.heat("ia") - 0.013).abs() < 1e-12);
    }

    /// By hand: 280 V lasts 10·(300/280)² s; 8 s of it twice are 1.394 of it. What is left over
    /// cools by 250² in 300²·10 a second.
    #[test]
    fn voltages_heat_too_and_heat_outlives_the_run() {
        let drive = |v| {
            let phasor = Phasor::new(Voltage::from_si(v), Default::default());
            Drive::sine("va".into(), phasor, Frequency::from_si(50.0))
        };
        let out = Stimulus { currents: Vec::new(), voltages: vec![drive(280.0)] };
        let high = Program::of(vec![Segment::hold("high", out, seconds(8.0))]);
        let mut duty = Duty::new(&ratings());
        duty.put_out(&high, &lasted(8.0));
        let share = 8.0 / (10.0 * (300.0_f64 / 280.0).powi(2));
        assert!((duty.heat("va") - share).abs() < 1e-12);
        let text = serde_json::to_string(&duty.warm()).unwrap();
        let later = Duty::new(&ratings()).warmed(&serde_json::from_str(&text).unwrap());
        let rest = later.rest_before(&high);
        assert!((rest.si() - (2.0 * share - 1.0) / (62_500.0 / 900_000.0)).abs() < 1e-9);
        assert!(Duty::new(&ratings()).warm().is_cold());
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
                prop_assert!(duty.heat("ia") <= 1.0 + 1e-9);
            }
        }
    }
}
