//! What a whole run does to the asset: heat of earlier injections, and the time it takes to cool.
//!
//! Above the continuous rating a channel takes up a share of what it withstands, as
//! [`crate::clearance`] counts it within one program. Below, the heat left goes down at the rate
//! that [`crate::asset::Withstand::cooling`] gives. It is a bookkeeping model on the safe side of an exponential
//! one, for ratings are all that a nameplate tells.

use crate::asset::{Ratings, Withstands};
use crate::injection::capability::Capability;
use crate::injection::observation::Observation;
use crate::injection::program::{Program, Segment};
use crate::injection::stimulus::{Drive, Stimulus};
use crate::quantity::{Current, Measure, Time, Voltage, seconds};
use crate::text::name::Name;

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
    withstands: Withstands<Q>,
    shares: Vec<(Name, f64)>,
}

impl Duty {
    /// A cold asset.
    pub fn new(ratings: &Ratings, rig: &Capability) -> Self {
        let currents = Heat { withstands: ratings.of_currents(rig), shares: Vec::new() };
        let voltages = Heat { withstands: ratings.of_voltages(rig), shares: Vec::new() };
        Self { currents, voltages }
    }

    /// An asset that an earlier run left warm, as [`Duty::warm`] of that run says.
    #[must_use]
    pub fn warmed(mut self, warm: &Warm) -> Self {
        self.currents.take(&warm.currents);
        self.voltages.take(&warm.voltages);
        self
    }

    /// Goes on where other ratings hold: the leads are at another place of the asset.
    pub fn rate(&mut self, ratings: &Ratings, rig: &Capability) {
        self.currents.withstands = ratings.of_currents(rig);
        self.voltages.withstands = ratings.of_voltages(rig);
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

    /// Counts a program at its worst: all of it for as long as it may take, and nothing cools meanwhile, since it may
    /// be cut anywhere.
    pub fn put_out_whole(&mut self, program: &Program) {
        for (stimulus, time) in program.segments.iter().flat_map(Segment::levels) {
            self.currents.heat_up(&stimulus.currents, time);
            self.voltages.heat_up(&stimulus.voltages, time);
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
        for (channel, value) in self.withstands.connections(drives) {
            let share = self.withstands.of(&channel).wear(value, time);
            if share > 0.0 {
                *slot(added, &channel) += share;
            }
        }
    }

    /// Seconds until the heat has room for what is to be added.
    fn rest(&self, added: &[(Name, f64)]) -> f64 {
        let rests = added.iter().map(|(channel, share)| {
            let cooling = self.withstands.of(channel).cooling(Q::from_si(0.0));
            let above = self.of(channel.as_str()) + share - 1.0;
            if above > 0.0 { above / cooling } else { 0.0 }
        });
        rests.fold(0.0, f64::max)
    }

    /// What is put out for a time adds; what flows in each connection.
    fn heat_up(&mut self, drives: &[Drive<Q>], lasted: Time) -> Vec<(Name, Q)> {
        let connections = self.withstands.connections(drives);
        for (channel, value) in &connections {
            *slot(&mut self.shares, channel) += self.withstands.of(channel).wear(*value, lasted);
        }
        connections
    }

    fn pass(&mut self, drives: &[Drive<Q>], lasted: Time) {
        let connections = self.heat_up(drives, lasted);
        for (channel, share) in &mut self.shares {
            let out = connections.iter().find(|(known, _)| known == channel);
            let out = out.map_or(Q::from_si(0.0), |(_, value)| *value);
            let cooling = self.withstands.of(channel).cooling(out);
            *share = (*share - cooling * lasted.si()).max(0.0);
        }
    }
}
