//! What a test set tells of itself, on both ends of the line.

use serde::{Deserialize, Serialize};
use waltron_core::injection::capability::{
    Capability, Channel, Discharge, EmergencyStop, ParameterKind,
};
use waltron_core::injection::measuring::Coupling;
use waltron_core::quantity::{Dimension, Measure};
use waltron_core::text::name::Name;

/// The answer to `INSTrument:CAPability?`, as JSON.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Description {
    /// What it is called.
    pub name: String,
    /// Whether it only computes.
    pub simulated: bool,
    /// Whether a second takes a second.
    pub real_time: bool,
    /// Outputs.
    pub channels: Vec<ChannelDescription>,
    /// Binary inputs: id and meaning.
    pub inputs: Vec<(Name, Name)>,
    /// Binary outputs: id and meaning.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub switches: Vec<(Name, Name)>,
    /// Measuring inputs.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub meters: Vec<MeterDescription>,
    /// Values that can be measured besides the outputs.
    pub readings: Vec<Name>,
    /// What can be set besides the outputs.
    pub parameters: Vec<ParameterDescription>,
    /// Smallest difference between two contact times that it can tell, in s.
    pub timing_resolution_s: f64,
    /// The input that switches everything off, where it watches one.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub emergency_stop: Option<EmergencyStop>,
    /// Whether it takes its leads from one place of the asset to another by itself.
    #[serde(skip_serializing_if = "std::ops::Not::not", default)]
    pub switches_leads: bool,
    /// Whether it earths by itself what its direct voltage has charged.
    #[serde(default)]
    pub earths: bool,
    /// How it sees that what it has charged is discharged.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub discharge: Option<Discharge>,
}

/// An output.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ChannelDescription {
    /// Its id.
    pub id: Name,
    /// Largest RMS value of a current, in A.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub range_a: Option<f64>,
    /// Largest RMS value of a voltage, in V.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub range_v: Option<f64>,
    /// Accuracy of what it puts out, as a tolerance.
    pub accuracy: String,
    /// What it puts out: `ac`, `dc`, `both`.
    #[serde(default)]
    pub coupling: Coupling,
    /// The lowest and the highest frequency, in Hz, where it tells them.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub frequency_hz: Option<[f64; 2]>,
}

impl ChannelDescription {
    fn of<Q: Measure>(channel: &Channel<Q>) -> Self {
        let ability = &channel.ability;
        Self {
            id: channel.id.clone(),
            range_a: None,
            range_v: None,
            accuracy: channel.accuracy.to_string(),
            coupling: ability.coupling,
            frequency_hz: ability.frequency.map(|(low, high)| [low.si(), high.si()]),
        }
    }
}

/// A measuring input.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct MeterDescription {
    /// Its id.
    pub id: Name,
    /// What it is connected to.
    pub meaning: Name,
    /// Largest current that it shows, in A.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub range_a: Option<f64>,
    /// Largest voltage that it shows, in V.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub range_v: Option<f64>,
    /// What it shows: `ac`, `dc`, `both`.
    #[serde(default)]
    pub coupling: Coupling,
}

/// What can be set.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ParameterDescription {
    /// Its name.
    pub name: Name,
    /// The largest value in SI; absent for a switch.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub most: Option<f64>,
}

impl Description {
    /// Describes a capability.
    pub fn of(name: &str, capability: &Capability, simulated: bool, real_time: bool) -> Self {
        let currents = capability.currents.iter().map(|c| ChannelDescription {
            range_a: Some(c.range.si()),
            ..ChannelDescription::of(c)
        });
        let voltages = capability.voltages.iter().map(|c| ChannelDescription {
            range_v: Some(c.range.si()),
            ..ChannelDescription::of(c)
        });
        let meters = capability.meters.iter().map(|m| {
            let of = |dimension| (m.dimension == dimension).then_some(m.range);
            MeterDescription {
                id: m.id.clone(),
                meaning: m.meaning.clone(),
                range_a: of(Dimension::CURRENT),
                range_v: of(Dimension::VOLTAGE),
                coupling: m.coupling,
            }
        });
        let parameters = capability.parameters.iter().map(|p| ParameterDescription {
            name: p.name.clone(),
            most: match p.kind {
                ParameterKind::Switch => None,
                ParameterKind::Quantity { most, .. } => Some(most),
            },
        });
        Self {
            name: name.to_owned(),
            simulated,
            real_time,
            channels: currents.chain(voltages).collect(),
            inputs: capability.inputs.iter().map(|i| (i.id.clone(), i.meaning.clone())).collect(),
            switches: capability
                .switches
                .iter()
                .map(|s| (s.id.clone(), s.meaning.clone()))
                .collect(),
            meters: meters.collect(),
            readings: capability.readings.iter().map(|r| r.name.clone()).collect(),
            parameters: parameters.collect(),
            timing_resolution_s: capability.timing_resolution.si(),
            emergency_stop: capability.emergency_stop.clone(),
            switches_leads: capability.switches_leads,
            earths: capability.earths,
            discharge: capability.discharge.clone(),
        }
    }

    /// What a rig file asks for that the test set does not have; empty where it has everything.
    pub fn lacks(&self, wanted: &Capability) -> Vec<String> {
        let mut all = Vec::new();
        let mut channel =
            |id: &Name, range: f64, unit: &str, has: fn(&ChannelDescription) -> Option<f64>| {
                match self.channels.iter().find(|c| c.id == *id).and_then(has) {
                    None => all.push(format!("it has no output `{id}` in {unit}")),
                    Some(most) if most < range => {
                        all.push(format!(
                            "its output `{id}` goes up to {most} {unit}, not {range} {unit}"
                        ));
                    }
                    Some(_) => {}
                }
            };
        for c in &wanted.currents {
            channel(&c.id, c.range.si(), "A", |c| c.range_a);
        }
        for c in &wanted.voltages {
            channel(&c.id, c.range.si(), "V", |c| c.range_v);
        }
        for input in &wanted.inputs {
            match self.inputs.iter().find(|(id, _)| *id == input.id) {
                None => all.push(format!("it has no input `{}`", input.id)),
                Some((_, meaning)) if *meaning != input.meaning => all.push(format!(
                    "its input {} is wired to `{meaning}`, not to `{}`",
                    input.id, input.meaning
                )),
                Some(_) => {}
            }
        }
        for switch in &wanted.switches {
            if !self.switches.iter().any(|(_, meaning)| *meaning == switch.meaning) {
                all.push(format!("it has no switch for `{}`", switch.meaning));
            }
        }
        for meter in &wanted.meters {
            let is_current = meter.dimension == Dimension::CURRENT;
            let range = |m: &MeterDescription| if is_current { m.range_a } else { m.range_v };
            match self.meters.iter().find(|m| m.meaning == meter.meaning).and_then(range) {
                None => all.push(format!("it has no meter for `{}`", meter.meaning)),
                Some(most) if most < meter.range => all.push(format!(
                    "its meter for `{}` goes up to {most}, not {}",
                    meter.meaning,
                    meter.range_text()
                )),
                Some(_) => {}
            }
        }
        // A stop that nobody watches is worse than none.
        if let Some(stop) = &wanted.emergency_stop
            && self.emergency_stop.as_ref() != Some(stop)
        {
            let by = |s: &EmergencyStop| if s.when_closed { "closing" } else { "opening" };
            all.push(match &self.emergency_stop {
                None => format!("it does not watch the emergency stop `{}`", stop.signal),
                Some(its) => format!(
                    "its emergency stop is `{}` by {}, not `{}` by {}",
                    its.signal,
                    by(its),
                    stop.signal,
                    by(stop)
                ),
            });
        }
        if wanted.earths && !self.earths {
            all.push("it does not earth what it has charged by itself".to_owned());
        }
        if wanted.switches_leads && !self.switches_leads {
            all.push("it does not switch its leads".to_owned());
        }
        // Nobody must believe that somebody else waits for it.
        if let Some(discharge) = &wanted.discharge
            && self.discharge.as_ref() != Some(discharge)
        {
            let meter = &discharge.meter;
            all.push(format!("it does not wait for `{meter}` to be discharged as the file says"));
        }
        for reading in &wanted.readings {
            if !self.readings.contains(&reading.name) {
                all.push(format!("it does not measure `{}`", reading.name));
            }
        }
        for parameter in &wanted.parameters {
            if !self.parameters.iter().any(|p| p.name == parameter.name) {
                all.push(format!("it has no parameter `{}`", parameter.name));
            }
        }
        all
    }
}
