//! What a rig can put out and see. Planning checks against it before anything is energised.

mod measured;
mod output;
mod sources;

pub use output::{Ability, Channel};

use crate::injection::measuring::Meter;
use crate::injection::observation::Observation;
use crate::injection::stimulus::{Drive, Stimulus};
use crate::quantity::{Current, Dimension, Measure, Time, Voltage};
use crate::text::name::Name;
use crate::uncertainty::Accuracy;

/// A rig's outputs, inputs and accuracy.
#[derive(Clone, Debug, PartialEq)]
pub struct Capability {
    /// Current outputs.
    pub currents: Vec<Channel<Current>>,
    /// Voltage outputs.
    pub voltages: Vec<Channel<Voltage>>,
    /// Binary inputs.
    pub inputs: Vec<Input>,
    /// Binary outputs, such as the commands of coils.
    pub switches: Vec<Switch>,
    /// Measuring inputs.
    pub meters: Vec<Meter>,
    /// Values that instruments measure, such as `supply.current`.
    pub readings: Vec<Instrument>,
    /// What can be set besides the outputs, such as `supply.output`.
    pub parameters: Vec<Parameter>,
    /// Smallest difference between two contact times that it can tell.
    pub timing_resolution: Time,
    /// Accuracy of a measured time: its share is that of the clock, which every frequency has too.
    pub timing_accuracy: Accuracy,
    /// Instruments that take messages of their own, by name.
    pub instruments: Vec<Name>,
    /// The input that switches everything off: its meaning, and whether closing or opening does it.
    pub emergency_stop: Option<EmergencyStop>,
    /// How it sees that what it has charged is discharged, where it can charge anything. It waits for that
    /// whenever its outputs go off, for whatever reason.
    pub discharge: Option<Discharge>,
    /// Whether it takes its leads from one place of the asset to another by itself; else somebody does.
    pub switches_leads: bool,
    /// Whether it earths by itself what direct voltage has charged; else somebody does.
    pub earths: bool,
}

/// An input that switches all outputs off.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct EmergencyStop {
    /// The input's meaning.
    pub signal: Name,
    /// Whether it stops when it is closed, or when it is open as a wire-break-proof button is.
    pub when_closed: bool,
}

impl EmergencyStop {
    /// Whether it was in its stopping state when an injection ended.
    pub fn has_stopped(&self, seen: &Observation) -> bool {
        seen.is_closed_at_end(&self.signal) == self.when_closed
    }
}

/// When what a rig has charged may be touched.
#[derive(Clone, Debug, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct Discharge {
    /// The meter of the current that flows on: its meaning.
    pub meter: Name,
    /// Below which it counts as gone, in A.
    pub below_a: f64,
}

/// One binary input.
#[derive(Clone, Debug, PartialEq)]
pub struct Input {
    /// Its id on the rig, such as `BI1`.
    pub id: Name,
    /// What its closing means, such as `trip`.
    pub meaning: Name,
    /// Changes shorter than this are ignored; the time reported is that of the first contact.
    pub debounce: Time,
}

/// One binary output.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Switch {
    /// Its id on the rig, such as `BO1`.
    pub id: Name,
    /// What its closing does, such as `close command`.
    pub meaning: Name,
}

/// A value that an instrument measures.
#[derive(Clone, Debug, PartialEq)]
pub struct Instrument {
    /// Its dotted name, such as `supply.current`.
    pub name: Name,
    /// What it measures.
    pub dimension: Dimension,
    /// The largest value of either sign that it can show, in SI, where that is known.
    pub most: Option<f64>,
    /// Its accuracy, where that is stated.
    pub accuracy: Option<Accuracy>,
    /// Whether the computer looks at it while the rig plays, and not the rig.
    pub by_computer: bool,
    /// What its numbers mean where they stand for words, such as the name of a group of settings.
    pub words: Vec<(String, f64)>,
}

impl Instrument {
    /// The word that a number stands for, where it does.
    pub fn word(&self, si: f64) -> Option<&str> {
        let near = |(_, number): &&(String, f64)| (number - si).abs() < 1e-9;
        self.words.iter().find(near).map(|(word, _)| word.as_str())
    }
}

/// Something that can be set besides the outputs.
#[derive(Clone, Debug, PartialEq)]
pub struct Parameter {
    /// Its dotted name, such as `supply.output`.
    pub name: Name,
    /// What it takes.
    pub kind: ParameterKind,
    /// What it is set to where a test has left it otherwise.
    pub off: ParameterValue,
}

/// What a parameter takes.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum ParameterKind {
    /// `on` or `off`.
    Switch,
    /// A quantity up to a limit.
    Quantity {
        /// What it measures.
        dimension: Dimension,
        /// The largest value, in SI.
        most: f64,
    },
}

/// What a parameter is set to.
#[derive(Clone, Copy, Debug, PartialEq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ParameterValue {
    /// On or off.
    Switch(bool),
    /// A quantity in SI.
    Si(f64),
}

impl Capability {
    /// A rig that can do nothing, to build on.
    pub fn none() -> Self {
        Self {
            currents: Vec::new(),
            voltages: Vec::new(),
            inputs: Vec::new(),
            switches: Vec::new(),
            meters: Vec::new(),
            readings: Vec::new(),
            parameters: Vec::new(),
            timing_resolution: Time::default(),
            timing_accuracy: Accuracy::exact(Dimension::TIME),
            instruments: Vec::new(),
            emergency_stop: None,
            discharge: None,
            switches_leads: false,
            earths: false,
        }
    }

    /// Finds an instrument's value by its name.
    pub fn reading(&self, name: &str) -> Option<&Instrument> {
        self.readings.iter().find(|r| r.name == name)
    }

    /// Finds a measuring input by its meaning, or by its id.
    pub fn meter(&self, name: &str) -> Option<&Meter> {
        let by_meaning = self.meters.iter().find(|m| m.meaning == name);
        by_meaning.or_else(|| self.meters.iter().find(|m| m.id == name))
    }

    /// Whether an analogue output or a meter is connected to what has this meaning.
    pub fn connects(&self, meaning: &str) -> bool {
        let outputs = self.currents.iter().map(|c| &c.meaning);
        let outputs = outputs.chain(self.voltages.iter().map(|c| &c.meaning));
        outputs.chain(self.meters.iter().map(|m| &m.meaning)).any(|m| *m == meaning)
    }

    /// Whether a binary output has this meaning.
    pub fn switches(&self, meaning: &Name) -> bool {
        self.switches.iter().any(|s| s.meaning == *meaning)
    }

    /// Finds a parameter by its name.
    pub fn parameter(&self, name: &str) -> Option<&Parameter> {
        self.parameters.iter().find(|p| p.name == name)
    }

    /// The outputs of a group in their order, and whether they are currents or voltages.
    pub fn group(&self, name: &str) -> Option<(Vec<Name>, Dimension)> {
        fn members<Q>(channels: &[Channel<Q>], name: &str) -> Vec<Name> {
            let of = channels.iter().filter(|c| c.group.as_ref().is_some_and(|g| *g == *name));
            of.map(|c| c.id.clone()).collect()
        }
        let currents = members(&self.currents, name);
        let voltages = members(&self.voltages, name);
        match (currents.is_empty(), voltages.is_empty()) {
            (false, _) => Some((currents, Dimension::CURRENT)),
            (true, false) => Some((voltages, Dimension::VOLTAGE)),
            (true, true) => None,
        }
    }

    /// Whether an output channel is a current, a voltage, or not there.
    pub fn channel_dimension(&self, id: &str) -> Option<Dimension> {
        if self.currents.iter().any(|c| c.id == id) {
            return Some(Dimension::CURRENT);
        }
        self.voltages.iter().any(|c| c.id == id).then_some(Dimension::VOLTAGE)
    }

    /// The largest uncertainty (k = 2) of what a stimulus puts out, as a share of it: of its
    /// currents, or of its voltages. `None` where it has none, or the rig has no such output.
    pub fn share_of(&self, stimulus: &Stimulus, dimension: Dimension) -> Option<f64> {
        fn widest<Q: Measure>(drives: &[Drive<Q>], channels: &[Channel<Q>]) -> Option<f64> {
            let share = |d: &Drive<Q>| {
                let accuracy = channels.iter().find(|c| c.id == d.channel)?.accuracy;
                let size = sources::size_of(d);
                (size > 0.0).then(|| accuracy.expanded(size) / size)
            };
            drives.iter().filter_map(share).reduce(f64::max)
        }
        match dimension {
            Dimension::CURRENT => widest(&stimulus.currents, &self.currents),
            Dimension::VOLTAGE => widest(&stimulus.voltages, &self.voltages),
            _ => None,
        }
    }

    /// Whether an input is wired to a contact of this meaning.
    pub fn sees(&self, meaning: &Name) -> bool {
        self.inputs.iter().any(|i| i.meaning == *meaning)
    }
}
