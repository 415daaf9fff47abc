//! What an asset is made for, and what its inputs withstand.

use super::withstand::Withstand;
use crate::injection::capability::{Capability, Channel};
use crate::injection::stimulus::Drive;
use crate::quantity::{Current, Frequency, Measure, Voltage};
use crate::text::name::Name;

/// Nominal values and withstand.
#[derive(Clone, Debug, PartialEq)]
pub struct Ratings {
    /// Nominal secondary current.
    pub current: Option<Current>,
    /// Nominal secondary voltage.
    pub voltage: Option<Voltage>,
    /// Nominal frequency; `None` of what knows direct quantities only.
    pub frequency: Option<Frequency>,
    /// Current transformer, as text (`600:1`).
    pub ct: Option<String>,
    /// Voltage transformer, as text (`20 kV:110 V`).
    pub vt: Option<String>,
    /// What each current input withstands.
    pub currents: Withstand<Current>,
    /// What each voltage input withstands.
    pub voltages: Withstand<Voltage>,
    /// What the connections with these meanings withstand instead.
    pub own_currents: Vec<(Name, Withstand<Current>)>,
    /// The same of voltages.
    pub own_voltages: Vec<(Name, Withstand<Voltage>)>,
}

/// What the connections of a rig's outputs of one kind withstand. Outputs that are connected to the same are one
/// connection: together they must be withstood.
#[derive(Clone, Debug)]
pub struct Withstands<Q> {
    any: Withstand<Q>,
    own: Vec<(Name, Withstand<Q>)>,
    /// The first output of each connection, by every output's id.
    first: Vec<(Name, Name)>,
}

impl<Q: Measure> Withstands<Q> {
    fn new(any: &Withstand<Q>, own: &[(Name, Withstand<Q>)], channels: &[Channel<Q>]) -> Self {
        let connected = channels.iter().filter_map(|channel| {
            let found = own.iter().find(|(meaning, _)| *meaning == channel.meaning);
            found.map(|(_, withstand)| (channel.id.clone(), withstand.clone()))
        });
        let first = channels.iter().map(|channel| {
            let first = channels.iter().find(|c| c.meaning == channel.meaning);
            (channel.id.clone(), first.unwrap_or(channel).id.clone())
        });
        Self { any: any.clone(), own: connected.collect(), first: first.collect() }
    }

    /// What a channel's connection withstands.
    pub fn of(&self, channel: &Name) -> &Withstand<Q> {
        let own = self.own.iter().find(|(id, _)| id == channel);
        own.map_or(&self.any, |(_, withstand)| withstand)
    }

    /// What flows into each connection, by its first output: of several outputs the sum of their true RMS values,
    /// which is the most that they can come to.
    pub fn connections(&self, drives: &[Drive<Q>]) -> Vec<(Name, Q)> {
        let mut all: Vec<(Name, Q)> = Vec::with_capacity(drives.len());
        for drive in drives {
            let first = self.first.iter().find(|(id, _)| *id == drive.channel);
            let connection = first.map_or(&drive.channel, |(_, first)| first);
            match all.iter_mut().find(|(known, _)| known == connection) {
                Some((_, value)) => *value = Q::from_si(value.si() + drive.true_rms().si()),
                None => all.push((connection.clone(), drive.true_rms())),
            }
        }
        all
    }
}

impl Ratings {
    /// Nothing known but the nominal frequency: nothing is limited.
    pub fn unknown(frequency: Option<Frequency>) -> Self {
        Self {
            current: None,
            voltage: None,
            frequency,
            ct: None,
            vt: None,
            currents: Withstand::default(),
            voltages: Withstand::default(),
            own_currents: Vec::new(),
            own_voltages: Vec::new(),
        }
    }

    /// What the connections of a rig's current outputs withstand.
    pub fn of_currents(&self, rig: &Capability) -> Withstands<Current> {
        Withstands::new(&self.currents, &self.own_currents, &rig.currents)
    }

    /// What the connections of a rig's voltage outputs withstand.
    pub fn of_voltages(&self, rig: &Capability) -> Withstands<Voltage> {
        Withstands::new(&self.voltages, &self.own_voltages, &rig.voltages)
    }
}
