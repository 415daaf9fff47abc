//! The rig file.

mod meter;
mod output;

use crate::virtual_rig::Seeds;
use meter::{MeterForm, SwitchForm};
use output::{CurrentForm, Groups, VoltageForm};
use schemars::JsonSchema;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::ops::Range;
use waltron_core::injection::capability::{
    Capability, Discharge, EmergencyStop, Input, Instrument, Parameter, ParameterKind,
    ParameterValue, Switch,
};
use waltron_core::injection::measuring::Meter;
use waltron_core::quantity::tolerance::AnyTolerance;
use waltron_core::quantity::{Current, Dimension, Measure, Time, seconds, text};
use waltron_core::text::document::{
    AccuracyText, AnyQuantityText, DocumentError, Field, Form, Problem, Problems, QuantityText,
    Source, Spannable, Text, load,
};
use waltron_core::text::name::Name;
use waltron_core::uncertainty::{Accuracy, Means};

/// A rig: what injects, which channel is wired to what, ranges and accuracy.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RigForm {
    /// Which rig it is.
    rig: HeadForm,
    /// Current outputs, by id (`ia`, `ib`, `ic`).
    current: Option<Vec<CurrentForm>>,
    /// Voltage outputs, by id (`va`, `vb`, `vc`).
    voltage: Option<Vec<VoltageForm>>,
    /// Binary inputs and what their closing means.
    input: Option<Vec<InputForm>>,
    /// Binary outputs and what their closing does.
    switch: Option<Vec<SwitchForm>>,
    /// Measuring inputs and what they are connected to.
    meter: Option<Vec<MeterForm>>,
    /// Values that instruments measure, such as `supply.current`.
    reading: Option<Vec<ReadingForm>>,
    /// What can be set besides the outputs, such as `supply.output`.
    parameter: Option<Vec<ParameterForm>>,
}

impl Form for RigForm {
    const KIND: &'static str = "rig";
}

/// Kinds of rig.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum Kind {
    /// Computes instead of injecting.
    Virtual,
    /// A test set that is driven by SCPI commands over TCP.
    Scpi,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct HeadForm {
    /// The kind of rig.
    kind: Kind,
    /// What it is called in reports.
    name: String,
    /// The specimen's file, relative to this one (virtual).
    specimen: Option<Text>,
    /// Where the test set answers, host and port such as `192.0.2.7:5025` (scpi).
    address: Option<Text>,
    /// Seed of what the rig is off by and of how the specimen scatters; 1 if not given (virtual, or a simulated test
    /// set).
    seed: Option<u64>,
    /// Seed of how the specimen scatters alone; `seed` if not given.
    specimen_seed: Option<u64>,
    /// Files of further instruments, relative to this one.
    instruments: Option<Vec<Text>>,
    /// Ask once, with the maxima, before anything is put out; if not given, where the rig is real.
    confirm: Option<bool>,
    /// Smallest difference between contact times it can tell; 100 us if not given.
    timing_resolution: Option<QuantityText<Time>>,
    /// Accuracy of a measured time; `0.01 % + 100 us` if not given. Its share is that of the clock, which the
    /// frequencies of all outputs have too.
    timing_accuracy: Option<AccuracyText>,
    /// What every accuracy of this file means that does not say so itself; `limit` if not given.
    accuracy_means: Option<MeansForm>,
    /// Meaning of the input that switches everything off.
    emergency_stop: Option<Text>,
    /// Whether it takes its leads from one place of the asset to another by itself; somebody does it if
    /// not given.
    switches_leads: Option<bool>,
    /// Whether it earths by itself what its direct voltage has charged; somebody does it if not given.
    earths: Option<bool>,
    /// When what it has charged counts as discharged: the current that flows on, such as
    /// `{ meter = "winding current", below = "20 mA" }`. Outputs that go off are followed by that.
    discharge: Option<Spannable<DischargeForm>>,
    /// Whether that input stops by `closing` or by `opening`; `opening` if not given, which also
    /// notices a broken wire.
    emergency_stop_by: Option<StopsBy>,
}

/// What an accuracy means.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum MeansForm {
    /// A limit that no error exceeds, as data sheets state it.
    Limit,
    /// An uncertainty with k = 2, as calibration certificates state it.
    Uncertainty,
}

/// The most that may still flow of what counts as discharged, in A: a circuit of 100 H holds half a joule of it.
const MOST_DISCHARGED_A: f64 = 0.1;

/// When what a rig has charged counts as discharged.
#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct DischargeForm {
    /// The meaning of the meter of the current that flows on.
    meter: Text,
    /// Below which it counts as gone.
    below: QuantityText<Current>,
}

/// What an emergency stop's input does to stop.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum StopsBy {
    /// It closes.
    Closing,
    /// It opens.
    Opening,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct InputForm {
    /// Its id on the rig, such as `BI1`.
    id: Text,
    /// Its sockets on the rig, for the hook-up sheet; the id if not given.
    terminal: Option<String>,
    /// What its closing means, such as `trip` or `start`.
    meaning: Text,
    /// Changes shorter than this do not count; none if not given.
    debounce: Option<QuantityText<Time>>,
}

/// Kinds of quantity.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum QuantityKind {
    /// In A.
    Current,
    /// In V.
    Voltage,
    /// In Hz.
    Frequency,
    /// In W, var or VA.
    Power,
    /// In Ohm.
    Resistance,
    /// In K.
    Temperature,
    /// In s.
    Time,
    /// Without unit.
    Number,
}

impl QuantityKind {
    pub(crate) fn dimension(self) -> Dimension {
        match self {
            Self::Current => Dimension::CURRENT,
            Self::Voltage => Dimension::VOLTAGE,
            Self::Frequency => Dimension::FREQUENCY,
            Self::Power => Dimension::POWER,
            Self::Resistance => Dimension::RESISTANCE,
            Self::Temperature => Dimension::TEMPERATURE,
            Self::Time => Dimension::TIME,
            Self::Number => Dimension::NUMBER,
        }
    }
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct ReadingForm {
    /// Its name in sequences, such as `supply.current`.
    name: Text,
    /// What it measures.
    measures: QuantityKind,
    /// The largest value of either sign that it can show; what follows from a reading is bounded by it.
    most: Option<AnyQuantityText>,
    /// Its accuracy, such as `0.1 % or 5 mV`; without it, its values have no uncertainty.
    accuracy: Option<AccuracyText>,
    /// What its numbers mean where they stand for words: `{ A = 1, B = 2 }`.
    words: Option<BTreeMap<String, f64>>,
}

#[derive(Clone, Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
struct ParameterForm {
    /// Its name in sequences, such as `supply.output`.
    name: Text,
    /// What it takes; a switch that takes `on` and `off` if not given.
    takes: Option<Spannable<QuantityKind>>,
    /// The largest value it may be set to; needed for a quantity.
    most: Option<AnyQuantityText>,
    /// What a quantity is set back to at the end of every test, whatever happens; zero if not given.
    /// A switch goes off.
    off: Option<AnyQuantityText>,
}

impl ParameterForm {
    fn read(&self, problems: &mut Problems) -> Option<Parameter> {
        if let (None, Some(off)) = (&self.takes, &self.off) {
            problems.push(Problem::new(off.span(), "a switch is off by itself"));
        }
        let mut off_value = ParameterValue::Switch(false);
        let kind = match (&self.takes, &self.most) {
            (None, None) => ParameterKind::Switch,
            (Some(takes), Some(most)) => {
                let dimension = takes.get().dimension();
                let most = most.positive_of(dimension, problems)?.si;
                let off = self.off.as_ref().map_or(Some(0.0), |off| {
                    let si = off.of(dimension, problems)?.si;
                    if si.abs() <= most {
                        return Some(si);
                    }
                    problems.push(Problem::new(off.span(), "this is more than `most`"));
                    None
                });
                off_value = ParameterValue::Si(off?);
                ParameterKind::Quantity { dimension, most }
            }
            (Some(takes), None) => {
                let message = format!("parameter `{}` has no `most`", self.name.as_str());
                problems.push(
                    Problem::new(takes.span(), message).help("say what it may be set to at most"),
                );
                return None;
            }
            (None, Some(most)) => {
                problems.push(Problem::new(most.span(), "a switch has no largest value"));
                return None;
            }
        };
        Some(Parameter { name: self.name.as_str().into(), kind, off: off_value })
    }
}

/// A rig's file, read.
#[derive(Clone, Debug, PartialEq)]
pub struct RigFile {
    /// What it is called in reports.
    pub name: String,
    /// What kind of rig it is, and where.
    pub kind: RigKind,
    /// What the simulation is drawn from, where there is one.
    pub seeds: Seeds,
    /// Files of further instruments as written, relative to the rig's.
    pub instruments: Vec<(String, Range<usize>)>,
    /// Whether to ask before anything is put out; `None`: where the rig is real.
    pub confirm: Option<bool>,
    /// Sockets of channels and inputs, by id, where the file names them.
    pub terminals: Vec<(Name, String)>,
    /// What it can put out and see.
    pub capability: Capability,
}

/// Kinds of rig, and where they are.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RigKind {
    /// Computes, with the specimen of this file, as written and relative to the rig's.
    Virtual {
        /// The specimen's file.
        specimen: String,
    },
    /// A test set that answers at this host and port.
    Scpi {
        /// Host and port.
        address: String,
    },
}

impl RigFile {
    /// What is written at a channel's or an input's sockets.
    pub fn terminal<'a>(&'a self, id: &'a str) -> &'a str {
        self.terminals.iter().find(|(known, _)| known == id).map_or(id, |(_, t)| t)
    }
}

impl RigForm {
    /// Its JSON Schema, for editors.
    pub fn schema() -> serde_json::Value {
        waltron_core::text::document::schema::<Self>()
    }

    /// Reads a rig file.
    ///
    /// # Errors
    /// Every problem of its text.
    pub fn load(source: &Source) -> Result<RigFile, DocumentError> {
        load(source, |form: Self, problems| form.read(problems))
    }

    fn read(self, problems: &mut Problems) -> Option<RigFile> {
        let means = match self.rig.accuracy_means {
            Some(MeansForm::Uncertainty) => Means::Uncertainty,
            Some(MeansForm::Limit) | None => Means::Limit,
        };
        let mut ids: Vec<String> = Vec::new();
        let mut known = |id: &Text, problems: &mut Problems| {
            if ids.iter().any(|i| i == id.as_str()) {
                let message = format!("`{}` is there twice", id.as_str());
                problems.push(Problem::new(id.span(), message));
            }
            ids.push(id.as_str().to_owned());
        };
        let mut terminals: Vec<(Name, String)> = Vec::new();
        let mut place = |id: &Text, terminal: &Option<String>| {
            terminals.extend(terminal.clone().map(|t| (Name::from(id.as_str()), t)));
        };
        let mut groups = Groups::default();
        let mut currents = Vec::new();
        for form in self.current.unwrap_or_default() {
            known(&form.id, problems);
            place(&form.id, &form.terminal);
            groups.note(form.group.as_ref());
            currents.extend(form.read(means, problems));
        }
        let mut voltages = Vec::new();
        for form in self.voltage.unwrap_or_default() {
            known(&form.id, problems);
            place(&form.id, &form.terminal);
            groups.note(form.group.as_ref());
            voltages.extend(form.read(means, problems));
        }
        groups.check(&currents, &voltages, problems);
        let mut inputs: Vec<Input> = Vec::new();
        for form in self.input.unwrap_or_default() {
            known(&form.id, problems);
            place(&form.id, &form.terminal);
            if inputs.iter().any(|i| i.meaning == form.meaning.as_str()) {
                let message = format!("two inputs mean `{}`", form.meaning.as_str());
                problems.push(Problem::new(form.meaning.span(), message));
            }
            let debounce = form.debounce.map_or(Some(seconds(0.0)), |d| d.not_negative(problems));
            inputs.extend(debounce.map(|debounce| Input {
                id: form.id.as_str().into(),
                meaning: form.meaning.as_str().into(),
                debounce,
            }));
        }
        let mut switches: Vec<Switch> = Vec::new();
        for form in self.switch.unwrap_or_default() {
            known(&form.id, problems);
            place(&form.id, &form.terminal);
            if switches.iter().any(|s| s.meaning == form.meaning.as_str()) {
                let message = format!("two switches mean `{}`", form.meaning.as_str());
                problems.push(Problem::new(form.meaning.span(), message));
            }
            switches.push(form.read());
        }
        let mut meters: Vec<Meter> = Vec::new();
        for form in self.meter.unwrap_or_default() {
            known(&form.id, problems);
            place(&form.id, &form.terminal);
            let meaning = &form.meaning;
            let taken = meters.iter().any(|m| m.meaning == meaning.as_str())
                || currents.iter().any(|c| c.id == meaning.as_str())
                || voltages.iter().any(|c| c.id == meaning.as_str());
            if taken {
                let message = format!("`{}` is measured or put out already", meaning.as_str());
                let problem = Problem::new(meaning.span(), message);
                problems.push(problem.help("readings are called by it: choose another name"));
            }
            meters.extend(form.read(means, problems));
        }
        let mut readings = Vec::new();
        for form in self.reading.unwrap_or_default() {
            known(&form.name, problems);
            let dimension = form.measures.dimension();
            let most = form.most.and_then(|m| m.positive_of(dimension, problems)).map(|q| q.si);
            let accuracy = form.accuracy.and_then(|a| a.read(dimension, means, problems));
            let name = form.name.as_str().into();
            let words = form.words.unwrap_or_default().into_iter().collect();
            readings.push(Instrument {
                name,
                dimension,
                most,
                accuracy,
                by_computer: false,
                words,
            });
        }
        let mut parameters = Vec::new();
        for form in self.parameter.unwrap_or_default() {
            parameters.extend(form.read(problems));
        }
        let head = self.rig;
        let kind = head.kind_of(problems);
        let emergency_stop = head.emergency_stop.as_ref().map(|text| {
            if !inputs.iter().any(|i| i.meaning == text.as_str()) {
                let message = format!("no input means `{}`", text.as_str());
                problems.push(
                    Problem::new(text.span(), message).help("name the meaning of an `[[input]]`"),
                );
            }
            let when_closed = head.emergency_stop_by == Some(StopsBy::Closing);
            EmergencyStop { signal: text.as_str().into(), when_closed }
        });
        let timing_resolution =
            head.timing_resolution.and_then(|f| f.not_negative(problems)).unwrap_or(seconds(1e-4));
        let timing_accuracy = match head.timing_accuracy {
            Some(text) => text.read(Dimension::TIME, means, problems),
            None => {
                let usual = AnyTolerance::symmetric(Dimension::TIME, 1e-4, 1e-4);
                Some(Accuracy::limit(usual).meaning(means))
            }
        };
        let discharge = match &head.discharge {
            None => None,
            Some(form) => {
                let of = form.get();
                let fits = |m: &&Meter| {
                    m.meaning == *of.meter.as_str()
                        && m.dimension == Dimension::CURRENT
                        && m.coupling.is_dc()
                };
                if !meters.iter().any(|m| fits(&m)) {
                    let message =
                        format!("no meter for `{}` shows a direct current", of.meter.as_str());
                    problems.push(Problem::new(of.meter.span(), message));
                }
                let below_a = of.below.positive(problems)?.si();
                if below_a > MOST_DISCHARGED_A {
                    let message = format!(
                        "{} still flowing is not discharged: {} at most",
                        text(Current::from_si(below_a)),
                        text(Current::from_si(MOST_DISCHARGED_A))
                    );
                    problems.push(Problem::new(of.below.span(), message));
                }
                Some(Discharge { meter: of.meter.as_str().into(), below_a })
            }
        };
        Some(RigFile {
            kind: kind?,
            name: head.name,
            seeds: {
                let rig = head.seed.unwrap_or(1);
                Seeds { rig, specimen: head.specimen_seed.unwrap_or(rig) }
            },
            instruments: head
                .instruments
                .iter()
                .flatten()
                .map(|text| (text.as_str().to_owned(), text.span()))
                .collect(),
            confirm: head.confirm,
            terminals,
            capability: Capability {
                currents,
                voltages,
                inputs,
                switches,
                meters,
                readings,
                parameters,
                timing_resolution,
                timing_accuracy: timing_accuracy?,
                instruments: Vec::new(),
                emergency_stop,
                discharge,
                switches_leads: head.switches_leads.unwrap_or(false),
                earths: head.earths.unwrap_or(false),
            },
        })
    }
}

impl HeadForm {
    fn kind_of(&self, problems: &mut Problems) -> Option<RigKind> {
        let (wanted, foreign, what) = match self.kind {
            Kind::Virtual => (&self.specimen, &self.address, "specimen"),
            Kind::Scpi => (&self.address, &self.specimen, "address"),
        };
        if let Some(text) = foreign {
            let message = format!("a rig of this kind has a `{what}` instead");
            problems.push(Problem::new(text.span(), message));
        }
        let Some(text) = wanted else {
            problems.push(Problem::new(0..0, format!("`[rig]` has no `{what}`")).help(
                match self.kind {
                    Kind::Virtual => "name the file of the simulated asset",
                    Kind::Scpi => "say where the test set answers, such as \"192.0.2.7:5025\"",
                },
            ));
            return None;
        };
        let text = text.as_str().to_owned();
        Some(match self.kind {
            Kind::Virtual => RigKind::Virtual { specimen: text },
            Kind::Scpi => RigKind::Scpi { address: text },
        })
    }
}
