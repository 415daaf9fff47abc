//! A simulated current or voltage transformer: a circuit around a core with hysteresis, solved in time.

mod circuit;
mod form;
#[cfg(test)]
mod tests;
mod truth;

pub(crate) use form::TransformerForm;
pub use truth::{Burden, Terminal, TransformerTruth, Unit};

use crate::history::History;
use crate::iron::Core;
use crate::wave::{self, Source, Wave};
use crate::{Noise, Specimen, Unconnected, Window};
use circuit::{Branch, Circuit, Drive as Driven};
use std::f64::consts::{SQRT_2, TAU};
use truth::Part;
use waltron_core::injection::capability::{Capability, Channel};
use waltron_core::injection::observation::Edge;
use waltron_core::injection::samples::PhaseClock;
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::{Measure, Time};
use waltron_core::text::name::Name;

/// What stands before the terminals of another core, where the primary's voltmeter was taken to them.
const METER_AT: &str = "primary meter at ";

/// What stands behind a place where the primary is shorted for a test.
const SHORTED: &str = "primary shorted";

/// Steps a second while something alternates, and fewest in a period.
const RATE_HZ: f64 = 12_800.0;
const IN_A_PERIOD: f64 = 256.0;

/// Steps a second while nothing does.
const DC_RATE_HZ: f64 = 3_000.0;

/// What is kept of each moment: as many as there are [`Look`]s.
const KEPT: usize = 6;

/// Where something can be fed in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Feed {
    /// Nothing is fed in; the source shorts the secondary terminals.
    Off,
    PrimaryCurrent,
    PrimaryVoltage,
    SecondaryCurrent,
    SecondaryVoltage,
    BurdenCurrent,
}

/// What can be looked at, in the order in which it is kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Look {
    PrimaryCurrent,
    PrimaryVoltage,
    SecondaryCurrent,
    SecondaryVoltage,
    BurdenCurrent,
    BurdenVoltage,
}

impl Feed {
    const NAMES: [(&'static str, Self); 5] = [
        ("primary current", Self::PrimaryCurrent),
        ("primary voltage", Self::PrimaryVoltage),
        ("secondary current", Self::SecondaryCurrent),
        ("secondary voltage", Self::SecondaryVoltage),
        ("burden current", Self::BurdenCurrent),
    ];
}

impl Look {
    const NAMES: [(&'static str, Self); 6] = [
        ("primary current", Self::PrimaryCurrent),
        ("primary voltage", Self::PrimaryVoltage),
        ("secondary current", Self::SecondaryCurrent),
        ("secondary voltage", Self::SecondaryVoltage),
        ("burden current", Self::BurdenCurrent),
        ("burden voltage", Self::BurdenVoltage),
    ];
}

/// An output of the rig and where it feeds in.
#[derive(Clone, Debug)]
struct Outlet {
    channel: Name,
    feed: Feed,
    /// The voltage at which a current output can do no more.
    compliance_v: Option<f64>,
}

/// What is fed in at present.
#[derive(Clone, Debug)]
struct Fed {
    feed: Feed,
    /// Into the burden by itself: its current, and the voltage that this takes.
    burden: [Source; 2],
    /// Resistance that is parallel to a current source, where a burden was forgotten.
    beside_ohm: Option<f64>,
}

/// The simulated transformer in virtual time. It has no contacts.
#[derive(Clone, Debug)]
pub struct Transformer {
    truth: TransformerTruth,
    circuits: Vec<Circuit>,
    seed: u64,
    shot: u64,
    outlets: Vec<Outlet>,
    looks: Vec<(Name, Look)>,
    /// Which of its cores the leads are at, and which part of the winding.
    at: (usize, Part),
    /// Whether somebody has shorted the primary, and how many turns of it are linked.
    primary_shorted: bool,
    primary_turns: f64,
    /// The core that a closed primary links with the fed one.
    linked_core: Option<usize>,
    /// The core that the primary's voltmeter was taken to, and which part of its winding.
    meter_at: Option<(usize, Part)>,
    fed: Fed,
    history: History<KEPT>,
    clock: PhaseClock,
    now: f64,
    /// Up to where the circuit is solved, and the present steps.
    solved: f64,
    step: f64,
}

impl Transformer {
    /// A transformer with nothing put on it.
    ///
    /// # Panics
    /// Without any core; files always have one.
    pub fn new(truth: TransformerTruth, seed: u64) -> Self {
        let circuits = truth.units.iter().map(|unit| {
            let mut core = Core::new(unit.magnetics);
            if unit.remanence != 0.0 {
                core.magnetise(unit.remanence);
            }
            Circuit::new(core)
        });
        let circuits = circuits.collect();
        let whole = truth.units[0].whole();
        let fed = Fed { feed: Feed::Off, burden: Default::default(), beside_ohm: None };
        let mut all = Self {
            truth,
            circuits,
            seed,
            shot: 0,
            outlets: Vec::new(),
            looks: Vec::new(),
            at: (0, whole),
            primary_shorted: false,
            primary_turns: 1.0,
            linked_core: None,
            meter_at: None,
            fed,
            history: History::default(),
            clock: PhaseClock::default(),
            now: 0.0,
            solved: 0.0,
            step: 1.0 / DC_RATE_HZ,
        };
        all.begin(0);
        all
    }

    /// The flux that is left in the core at the leads, as a share of saturation.
    pub fn remanence(&self) -> f64 {
        self.circuits[self.at.0].core.remanence()
    }

    fn unit(&self) -> &Unit {
        &self.truth.units[self.at.0]
    }

    /// Solves the circuit up to now.
    fn solve(&mut self) {
        // A step that ends now belongs to it, whatever was rounded.
        while self.solved + self.step <= self.now + 1e-9 {
            self.circuits[self.at.0].step(self.step);
            self.solved += self.step;
            let kept = self.kept(self.step);
            self.history.push(kept);
        }
    }

    /// What is looked at, at the end of a step.
    fn kept(&mut self, dt: f64) -> [f64; KEPT] {
        let (unit, circuit) = (&self.truth.units[self.at.0], &self.circuits[self.at.0]);
        let [a, b] = &mut self.fed.burden;
        let burden = [a.next(dt), b.next(dt)];
        let e = circuit.e;
        let mut primary = [0.0, e * self.primary_turns];
        // The first branch is what is fed, the second what loads it.
        let branch = |k: usize| circuit.branches.get(k).map_or((0.0, 0.0), |b| (b.i, b.v));
        let (i, v) = branch(0);
        let loaded = |k: usize| circuit.branches.get(k).filter(|_| unit.burden.is_some());
        let at_burden = |b: &Branch| {
            let out = -b.i;
            let own = self.at.1;
            // What the e.m.f. is left with at the terminals.
            let rise = match b.henry {
                0.0 => 0.0,
                henry => (b.turns * e - b.ohm * out) / henry,
            };
            let v = b.turns * e - own.resistance_ohm * out - own.leakage_h * rise;
            [out, v]
        };
        let mut all = [0.0; KEPT];
        let secondary = match self.fed.feed {
            Feed::Off | Feed::BurdenCurrent => [i, 0.0],
            Feed::SecondaryVoltage => {
                let beside = if unit.burden_stays { branch(1).0 } else { 0.0 };
                [i + beside, v]
            }
            Feed::SecondaryCurrent => match self.fed.beside_ohm {
                Some(ohm) => [v / ohm, v - ohm * i],
                None => [i, v],
            },
            Feed::PrimaryCurrent => {
                primary[0] = i;
                match loaded(1) {
                    Some(b) => at_burden(b),
                    None => [0.0, self.at.1.turns * e],
                }
            }
            Feed::PrimaryVoltage => {
                let is_forced = unit.primary == (0.0, 0.0);
                let of_forced = [circuit.forced_at / self.primary_turns, e * self.primary_turns];
                primary = if is_forced { of_forced } else { [i, v] };
                match loaded(usize::from(!is_forced)) {
                    Some(b) => at_burden(b),
                    None => [0.0, self.at.1.turns * e],
                }
            }
        };
        if !matches!(self.fed.feed, Feed::PrimaryCurrent | Feed::PrimaryVoltage) && unit.hum.0 > 0.0
        {
            let (rms, hertz) = unit.hum;
            primary[1] += rms * SQRT_2 * (TAU * hertz * self.solved).sin();
        }
        if let Some((of, part)) = self.meter_at {
            // What nothing links carries nothing.
            let is_it = self.beside().is_some_and(|(k, _)| k == of);
            let e = circuit.linked.as_ref().filter(|_| is_it).map_or(0.0, |linked| linked.e);
            primary[1] = part.turns * e;
        }
        let mut secondary = secondary;
        if unit.swapped {
            std::mem::swap(&mut primary[1], &mut secondary[1]);
        }
        all[..2].copy_from_slice(&primary);
        all[2..4].copy_from_slice(&secondary);
        let is_loaded = matches!(self.fed.feed, Feed::PrimaryCurrent | Feed::PrimaryVoltage);
        let burden = if is_loaded && unit.burden.is_some() { secondary } else { burden };
        all[4..].copy_from_slice(&burden);
        all
    }

    /// The other core of the same phase that a closed primary links with the fed one because its secondary
    /// was left open, and the resistance of that loop. Those that are shorted add nothing to it.
    fn beside(&self) -> Option<(usize, f64)> {
        let unit = self.unit();
        let ohm = unit.primary_loop_ohm.filter(|ohm| *ohm > 0.0)?;
        let others = self.truth.units.iter().enumerate();
        let mut others = others.filter(|(k, other)| *k != self.at.0 && other.phase == unit.phase);
        let (k, _) = others.find(|(_, other)| other.left_open)?;
        Some((k, ohm))
    }

    /// Takes what two cores have in common apart, or together again.
    fn link(&mut self, is_linked: bool) {
        let beside = self.beside();
        for fed in 0..self.circuits.len() {
            if let Some(linked) = self.circuits[fed].linked.take()
                && let Some(k) = self.linked_core
            {
                self.circuits[k].core = linked.core;
            }
        }
        self.linked_core = beside.filter(|_| is_linked).map(|(k, _)| k);
        if let Some((k, ohm)) = beside.filter(|_| is_linked) {
            let (core, turns) = (self.circuits[k].core.clone(), self.primary_turns);
            let ohm = ohm / (turns * turns);
            self.circuits[self.at.0].linked = Some(circuit::Linked { core, ohm, e: 0.0 });
        }
    }

    /// Puts something else on the transformer, from now on.
    fn feed(&mut self, feed: Feed, waves: Vec<Wave>, compliance_v: Option<f64>, burden: Vec<Wave>) {
        self.solve();
        let fastest = waves.iter().chain(&burden).map(|w| w.s.im.abs() / TAU).fold(0.0, f64::max);
        self.step = match fastest {
            0.0 => 1.0 / DC_RATE_HZ,
            hertz => 1.0 / RATE_HZ.max(IN_A_PERIOD * hertz),
        };
        // Waves begin now; what is solved may be a fraction of a step behind.
        let late = self.now - self.solved;
        if late > 1e-9 {
            self.circuits[self.at.0].step(late);
        }
        self.solved = self.now;
        let unit = self.unit().clone();
        let part = self.at.1;
        let source = Source::new(waves);
        let closed = |ohm: f64, henry: f64| {
            Branch::closed(part.turns, part.resistance_ohm + ohm, part.leakage_h + henry)
        };
        let load = unit.burden.map(|b| closed(b.resistance_ohm, b.inductance_h));
        let (mut branches, mut forced, mut beside_ohm) = (Vec::new(), None, None);
        let fed = |drive| Branch::new(part.turns, part.resistance_ohm, part.leakage_h, drive);
        match feed {
            Feed::Off | Feed::BurdenCurrent => branches.push(closed(0.0, 0.0)),
            Feed::SecondaryVoltage => {
                branches.push(fed(Driven::Voltage(source.clone())));
                if let Some(b) = unit.burden.filter(|_| unit.burden_stays) {
                    let drive = Driven::Voltage(source);
                    branches.push(Branch::new(0.0, b.resistance_ohm, b.inductance_h, drive));
                }
            }
            Feed::SecondaryCurrent => match unit.burden.filter(|_| unit.burden_stays) {
                // Source and burden side by side are a voltage behind the burden's resistance.
                Some(b) => {
                    beside_ohm = Some(b.resistance_ohm);
                    let drive = Driven::Voltage(source.times(b.resistance_ohm));
                    let ohm = part.resistance_ohm + b.resistance_ohm;
                    branches.push(Branch::new(part.turns, ohm, part.leakage_h, drive));
                }
                None => {
                    let most = compliance_v.unwrap_or(f64::INFINITY);
                    branches.push(fed(Driven::Current(source, most)));
                }
            },
            Feed::PrimaryCurrent => {
                let drive = Driven::Current(source, f64::INFINITY);
                branches.push(Branch::new(self.primary_turns, 0.0, 0.0, drive));
                branches.extend(load);
            }
            Feed::PrimaryVoltage => {
                let (ohm, henry) = unit.primary;
                if unit.primary == (0.0, 0.0) {
                    forced = Some(source.times(1.0 / self.primary_turns));
                } else {
                    let drive = Driven::Voltage(source);
                    branches.push(Branch::new(self.primary_turns, ohm, henry, drive));
                }
                branches.extend(load);
            }
        }
        if let Some((turns, ohm)) = unit.shorted {
            branches.push(Branch::closed(turns, ohm, 0.0));
        }
        let is_primary = matches!(feed, Feed::PrimaryCurrent | Feed::PrimaryVoltage);
        self.link(!is_primary);
        let is_linked = self.linked_core.is_some();
        if let Some(ohm) = unit.primary_loop_ohm.filter(|_| !is_primary && !is_linked) {
            branches.push(Branch::closed(self.primary_turns, ohm, 0.0));
        }
        if self.primary_shorted && !is_primary {
            let (ohm, henry) = unit.primary;
            branches.push(Branch::closed(self.primary_turns, ohm.max(1e-9), henry));
        }
        let circuit = &mut self.circuits[self.at.0];
        // A current in a leaky winding goes on where only what drives it changes.
        if let (Some(before), Some(first)) = (circuit.branches.first(), branches.first_mut())
            && before.turns == first.turns
            && first.henry > 0.0
        {
            (first.i, first.v) = (before.i, before.v);
        }
        circuit.change(branches, forced);
        let of_burden = |w: &Wave| {
            let b = unit.burden.unwrap_or(Burden { resistance_ohm: 0.0, inductance_h: 0.0 });
            Wave { a: w.a * (b.resistance_ohm + w.s * b.inductance_h), ..*w }
        };
        let volts = burden.iter().map(of_burden).collect();
        self.fed = Fed { feed, burden: [Source::new(burden), Source::new(volts)], beside_ohm };
        self.history.begin(self.now, self.step);
        let first = self.first();
        self.history.push(first);
    }

    /// What is seen in the first moment: a step of almost nothing, after which what is driven has its
    /// value and what is stored is as it was.
    fn first(&mut self) -> [f64; KEPT] {
        let before = (self.circuits[self.at.0].clone(), self.fed.clone());
        self.circuits[self.at.0].step(1e-9);
        let seen = self.kept(1e-9);
        (self.circuits[self.at.0], self.fed) = before;
        seen
    }
}

/// Where a rig's outputs of one kind feed in.
fn outlets<Q: Measure>(channels: &[Channel<Q>]) -> impl Iterator<Item = Result<Outlet, Name>> {
    channels.iter().map(|channel| {
        let found = Feed::NAMES.iter().find(|(name, _)| channel.meaning == *name);
        let is_current = Q::DIMENSION == waltron_core::quantity::Dimension::CURRENT;
        // A voltage cannot be fed in as a current.
        let found = found.filter(|(name, _)| name.ends_with("current") == is_current);
        let (_, feed) = found.ok_or_else(|| channel.meaning.clone())?;
        let (channel, compliance) = (channel.id.clone(), channel.ability.compliance);
        Ok(Outlet { channel, feed: *feed, compliance_v: compliance.filter(|_| is_current) })
    })
}

impl Specimen for Transformer {
    fn begin(&mut self, shot: u64) {
        self.solve();
        self.shot = shot;
        (self.now, self.solved) = (0.0, 0.0);
        self.clock = PhaseClock::default();
        self.history.clear();
        self.feed(Feed::Off, Vec::new(), None, Vec::new());
    }

    fn connect(&mut self, rig: &Capability) -> Result<(), Unconnected> {
        let has = |names: Vec<&'static str>| names;
        let outlets = outlets(&rig.currents).chain(outlets(&rig.voltages));
        let outlets = outlets.collect::<Result<Vec<_>, _>>().map_err(|meaning| Unconnected {
            meaning,
            has: has(Feed::NAMES.iter().map(|(n, _)| *n).collect()),
        })?;
        let mut looks = Vec::new();
        for meter in &rig.meters {
            let found = Look::NAMES.iter().find(|(name, _)| meter.meaning == *name);
            let is_current = meter.dimension == waltron_core::quantity::Dimension::CURRENT;
            match found.filter(|(name, _)| name.ends_with("current") == is_current) {
                Some((_, look)) => looks.push((meter.meaning.clone(), *look)),
                None => {
                    let has = has(Look::NAMES.iter().map(|(n, _)| *n).collect());
                    return Err(Unconnected { meaning: meter.meaning.clone(), has });
                }
            }
        }
        if let Some(switch) = rig.switches.first() {
            return Err(Unconnected { meaning: switch.meaning.clone(), has: Vec::new() });
        }
        (self.outlets, self.looks) = (outlets, looks);
        Ok(())
    }

    fn lead(&mut self, place: &Name) -> Result<(), Unconnected> {
        let (at, shorted) = match place.as_str().strip_suffix(SHORTED) {
            Some(at) => (at.trim_end_matches(", "), true),
            None => (place.as_str(), false),
        };
        self.primary_shorted = shorted;
        let meter =
            at.split_once(", ").and_then(|(at, meter)| Some((at, meter.strip_prefix(METER_AT)?)));
        let (at, meter) = meter.map_or((at, None), |(at, meter)| (at, Some(meter)));
        // `1S1-1S2, 2 primary turns`: how its halves are linked.
        let linked = at.split_once(", ").and_then(|(at, linked)| {
            Some((at, linked.strip_suffix(" primary turns")?.parse::<f64>().ok()?))
        });
        let (at, turns) = linked.unwrap_or((at, 1.0));
        self.primary_turns = turns;
        let found = self.truth.units.iter().enumerate();
        let found = found.filter_map(|(k, unit)| Some((k, unit.at(at)?)));
        let unnamed =
            self.truth.units.len() == 1 && self.truth.units[0].terminals[0].name.is_empty();
        let unnamed = unnamed || at.is_empty();
        match found.into_iter().next() {
            Some(at) => self.at = at,
            // Of a single winding without names, or as the sheet says, there is no doubt.
            None if unnamed => self.at = (0, self.truth.units[0].whole()),
            None => return Err(Unconnected { meaning: place.clone(), has: Vec::new() }),
        }
        self.meter_at = match meter {
            None => None,
            Some(meter) => {
                let phase = self.unit().phase.clone();
                let of_phase = self.truth.units.iter().enumerate();
                let mut of_phase = of_phase.filter(|(_, unit)| unit.phase == phase);
                let found = of_phase.find_map(|(k, unit)| Some((k, unit.between(meter)?)));
                let unknown = || Unconnected { meaning: place.clone(), has: Vec::new() };
                Some(found.ok_or_else(unknown)?)
            }
        };
        Ok(())
    }

    fn apply(&mut self, stimulus: &Stimulus) {
        self.clock.apply(self.now, stimulus);
        let mut burden = Vec::new();
        let mut fed: Option<(Feed, Vec<Wave>, Option<f64>)> = None;
        for outlet in &self.outlets {
            let current = stimulus.currents.iter().find(|d| d.channel == outlet.channel);
            let voltage = stimulus.voltages.iter().find(|d| d.channel == outlet.channel);
            let waves = match (current, voltage) {
                (Some(drive), _) => wave::of_drive(&self.clock, drive),
                (None, Some(drive)) => wave::of_drive(&self.clock, drive),
                (None, None) => continue,
            };
            match outlet.feed {
                _ if waves.is_empty() => {}
                Feed::BurdenCurrent => burden = waves,
                // Of two sources on one winding the stiffer one, the voltage, tells.
                feed if fed.is_none() || matches!(feed, Feed::SecondaryVoltage) => {
                    fed = Some((feed, waves, outlet.compliance_v));
                }
                _ => {}
            }
        }
        match fed {
            None => self.feed(Feed::Off, Vec::new(), None, burden),
            Some((feed, waves, compliance)) => self.feed(feed, waves, compliance, burden),
        }
    }

    fn advance(&mut self, to: Time) -> Option<Edge> {
        self.now = self.now.max(to.si());
        self.solve();
        None
    }

    fn closed(&self) -> Vec<Name> {
        Vec::new()
    }

    fn samples(&self, of: &Name, window: Window) -> Option<Vec<f64>> {
        let (_, look) = self.looks.iter().find(|(name, _)| name == of)?;
        let Window { start_s, rate_hz, count } = window;
        let mut samples = self.history.samples(start_s, 1.0 / rate_hz, count, *look as usize);
        if self.truth.noise > 0.0 {
            let largest = samples.iter().fold(0.0f64, |a, b| a.max(b.abs()));
            // Each stretch of samples has its own scatter, the same whenever it is looked at.
            let place = (window.start_s * 1e6) as u64 ^ ((*look as u64) << 56);
            let mut noise = Noise::of_shot(self.seed ^ place, self.shot);
            samples.iter_mut().for_each(|s| *s += largest * noise.draw(self.truth.noise));
        }
        Some(samples)
    }
}
