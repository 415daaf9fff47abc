//! What is measured by hand: readings by name, and what is worked out from them.

use super::Args;
use crate::failure::Failure;
use serde_json::{Map, Value};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::{Probe, Property, Reading, Signal};
use waltron_core::injection::program::Program;
use waltron_core::injection::stimulus::{Drive, Stimulus};
use waltron_core::quantity::Dimension;
use waltron_core::text::name::Name;

/// What is measured, and what it is called where it is worked out.
pub(super) struct Wanted {
    all: Vec<(Option<String>, Probe)>,
}

impl Wanted {
    /// What the arguments want to see of a program; all that there is, if they say nothing.
    ///
    /// # Errors
    /// Names that nothing measures, with the nearest one.
    pub(super) fn of(
        args: &Args,
        program: &Program,
        capability: &Capability,
    ) -> Result<Self, Failure> {
        let direct = program.segments.iter().all(|s| is_direct(&s.profile.last()));
        let whole = if direct { Property::Dc } else { Property::Phasor };
        let mut all: Vec<(Option<String>, Probe)> = Vec::new();
        for text in &args.read {
            all.push((None, probe(text, whole, capability)?));
        }
        if args.read.is_empty() {
            let outputs = driven(program, capability, direct);
            all.extend(outputs.into_iter().chain(meters(capability, whole)).map(|p| (None, p)));
            all.extend(instruments(capability).map(|p| (None, p)));
        }
        for text in &args.derive {
            let (name, worth) = text.split_once('=').ok_or_else(|| {
                Failure::usage(format!("`{text}` has no name"))
                    .help("write --derive \"ratio = secondary voltage / primary voltage\"")
            })?;
            let name = name.trim().to_owned();
            if all.iter().any(|(known, _)| *known == Some(name.clone())) {
                return Err(Failure::usage(format!("`{name}` is worked out twice")));
            }
            all.push((Some(name), probe(worth.trim(), whole, capability)?));
        }
        Ok(Self { all })
    }

    /// What the rig has to measure.
    pub(super) fn probes(&self) -> Vec<Probe> {
        self.all.iter().map(|(_, probe)| probe.clone()).collect()
    }

    /// The readings with what they are called.
    pub(super) fn named<'r>(&'r self, seen: &'r [Reading]) -> Vec<(String, &'r Reading)> {
        let name = |of: &'r (Option<String>, Probe)| {
            let reading = seen.iter().find(|r| r.place.is_none() && r.probe == of.1)?;
            let plain = match &of.1.of {
                Signal::Named(name) => name.to_string(),
                worked @ Signal::Worked(_) => worked.to_string(),
            };
            Some((of.0.clone().unwrap_or(plain), reading))
        };
        self.all.iter().filter_map(name).collect()
    }

    /// What was worked out, by name.
    pub(super) fn derived(&self, seen: &[Reading]) -> Map<String, Value> {
        let named = self
            .named(seen)
            .into_iter()
            .filter(|(name, _)| self.all.iter().any(|(known, _)| known.as_ref() == Some(name)));
        named.filter_map(|(name, r)| Some((name, serde_json::to_value(r).ok()?))).collect()
    }
}

/// Whether a stimulus has direct values only.
fn is_direct(out: &Stimulus) -> bool {
    fn alternates<Q: waltron_core::quantity::Measure>(drives: &[Drive<Q>]) -> bool {
        drives.iter().any(|d| d.phasor.rms().si() != 0.0)
    }
    !alternates(&out.currents) && !alternates(&out.voltages) && !out.is_off()
}

fn probe(text: &str, whole: Property, capability: &Capability) -> Result<Probe, Failure> {
    let known = capability.measurable();
    let list = || {
        let names: Vec<&str> = known.iter().map(|n| n.as_str()).collect();
        format!("the rig measures {}", names.join(", "))
    };
    let of = Signal::read(text, &known)
        .map_err(|p| Failure::usage(p.message).help(p.help.unwrap_or_else(list)))?;
    let of_values = of.names().iter().all(|n| capability.reading(n.as_str()).is_some());
    let what = if of_values { Property::Value } else { whole };
    let mut probe = Probe { of, what, dimension: Dimension::NUMBER };
    capability.restore(&mut probe);
    match capability.why_unmeasured(&probe) {
        Some(why) => Err(Failure::usage(why).help(list())),
        None => Ok(probe),
    }
}

/// What is measured of every output that is driven.
fn driven(program: &Program, capability: &Capability, direct: bool) -> Vec<Probe> {
    let whats: &[Property] = match direct {
        true => &[Property::Dc],
        false => &[
            Property::Magnitude,
            Property::Phase,
            Property::Frequency,
            Property::Rms,
            Property::Thd,
        ],
    };
    let mut probes = Vec::new();
    for (channel, _, _) in program.maxima() {
        let Some(dimension) = capability.channel_dimension(channel.as_str()) else { continue };
        for what in whats {
            let dimension = what.dimension(dimension);
            probes.push(Probe { of: channel.clone().into(), what: *what, dimension });
        }
    }
    probes
}

/// Every meter that shows such values.
fn meters(capability: &Capability, whole: Property) -> impl Iterator<Item = Probe> {
    capability.meters.iter().filter(move |m| whole.fits(m.coupling)).map(move |m| Probe {
        of: m.meaning.clone().into(),
        what: whole,
        dimension: m.dimension,
    })
}

/// Every value that an instrument tells.
fn instruments(capability: &Capability) -> impl Iterator<Item = Probe> {
    capability.readings.iter().map(|r| Probe {
        of: Name::clone(&r.name).into(),
        what: Property::Value,
        dimension: r.dimension,
    })
}

/// What is looked at while keys change what is out: sizes, since they are seen at a glance.
pub(super) fn at_a_glance(wanted: &[Probe]) -> Vec<Probe> {
    let glance = |p: &&Probe| {
        matches!(p.what, Property::Magnitude | Property::Value | Property::Phasor | Property::Dc)
    };
    wanted.iter().filter(glance).cloned().collect()
}
