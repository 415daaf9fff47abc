//! A simulated power transformer: three limbs with coils around them, whatever is fed where.

mod change;
mod dielectric;
mod form;
mod insulated;
mod insulation_form;
mod leads;
mod limbs;
mod motor;
mod network;
#[cfg(test)]
mod tests;
mod truth;

pub use dielectric::{Dielectric, Insulation, Loss};
pub(crate) use form::{ChangerForm, PowerForm, PowerParts, PowerWindingForm};
pub(crate) use insulation_form::InsulationForm;
pub use truth::{Changer, CoilTruth, PowerTruth, Winding};

use crate::history::History;
use crate::iron::Core;
use crate::wave::{self, Source};
use crate::{Noise, Specimen, Unconnected, Window};
use change::Change;
use insulated::{Insulated, Looks};
use leads::Leads;
use limbs::{Coil, Feed, Limbs, MOST_LOOPS};
use motor::Motor;
use network::{Edge, loops, way};
use std::f64::consts::TAU;
use waltron_core::injection::capability::Capability;
use waltron_core::injection::observation::Edge as ContactEdge;
use waltron_core::injection::program::Stand;
use waltron_core::injection::samples::PhaseClock;
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::{Dimension, Measure, Time};
use waltron_core::text::name::Name;

/// Steps in a period, and fewest a second, while something alternates.
const IN_A_PERIOD: f64 = 128.0;
const RATE_HZ: f64 = 6_400.0;

/// The shortest and the longest step while nothing alternates, in s; and the shortest one while a tap
/// changer's contacts change over, and for how long after that.
const STEPS_S: [f64; 2] = [1e-3, 0.2];
const FINE_S: f64 = 2e-4;
const AFTERWARDS_S: f64 = 0.05;

/// After how many steps that were all good a longer one is tried.
const GOOD: u32 = 8;

/// By how much a step may bend what is kept, as a share.
const BEND: f64 = 2e-3;

/// How long a source takes to make good what its current is off by, in s.
const REGULATES_S: f64 = 1.0;

/// The voltage of an arc where a lead falls off, in V.
const ARC_V: f64 = 800.0;

/// What is smaller than this share of the largest value may bend as it likes.
const FLOOR: f64 = 0.01;

/// What is kept of each moment: volts and current of what feeds, volts of what is measured, and of the first winding of a
/// circuit.
const KEPT: usize = 4;

/// What the rig's outputs are connected to.
const FEEDS: [(&str, Dimension); 4] = [
    ("test voltage", Dimension::VOLTAGE),
    ("winding current", Dimension::CURRENT),
    ("high voltage", Dimension::VOLTAGE),
    ("insulation voltage", Dimension::VOLTAGE),
];

/// What meters look at, and where it is kept.
const LOOKS: [(&str, Dimension, usize); 11] = [
    ("test voltage", Dimension::VOLTAGE, 0),
    ("test current", Dimension::CURRENT, 1),
    ("induced voltage", Dimension::VOLTAGE, 2),
    ("winding voltage", Dimension::VOLTAGE, 3),
    ("second winding voltage", Dimension::VOLTAGE, 2),
    (MOTOR, Dimension::CURRENT, 1),
    ("winding current", Dimension::CURRENT, 1),
    ("high voltage", Dimension::VOLTAGE, 0),
    ("measured current", Dimension::CURRENT, 1),
    ("insulation voltage", Dimension::VOLTAGE, 0),
    ("leakage current", Dimension::CURRENT, 1),
];

/// The meter of a tap changer's motor.
const MOTOR: &str = "motor current";

/// What alone looks at insulation, and is seen there in place of what windings take.
const AT_INSULATION: [(&str, Looks); 4] = [
    ("high voltage", Looks::Volts),
    ("measured current", Looks::Current),
    ("insulation voltage", Looks::Volts),
    ("leakage current", Looks::Current),
];

/// An output of the rig.
#[derive(Clone, Debug)]
struct Outlet {
    channel: Name,
    is_current: bool,
    /// The voltage at which a current output can do no more.
    most: f64,
}

/// What is fed in at present.
#[derive(Clone, Debug)]
enum Fed {
    Off,
    Voltage(Source),
    Current(Source, f64),
    /// A direct current: what regulates it has summed up to a voltage.
    Regulated {
        i: f64,
        most: f64,
        sum: f64,
    },
}

/// The simulated power transformer in virtual time. It has no contacts.
#[derive(Clone, Debug)]
pub struct PowerTransformer {
    truth: PowerTruth,
    nodes: Vec<String>,
    limbs: Limbs,
    /// Where each tap changer stands.
    at: Vec<usize>,
    /// One that is on its way.
    change: Option<Change>,
    /// Until when steps are fine, in s since the injection began.
    fine_until: f64,
    /// For how long a direct current was driven, in s.
    driven_s: f64,
    leads: Leads,
    insulated: Insulated,
    /// The edges between the ends of what is measured.
    measured: Vec<(usize, f64)>,
    first: Vec<(usize, f64)>,
    motor: Motor,
    seed: u64,
    shot: u64,
    outlets: Vec<Outlet>,
    looks: Vec<(Name, usize)>,
    fed: Fed,
    history: History<KEPT>,
    clock: PhaseClock,
    now: f64,
    solved: f64,
    step: f64,
    good: u32,
    /// The two latest of what is kept, to see how it bends.
    before: [[f64; KEPT]; 2],
    /// The largest of what is kept since the injection began.
    most: [f64; KEPT],
}

impl PowerTransformer {
    /// A transformer with nothing put on it.
    pub fn new(truth: PowerTruth, seed: u64) -> Self {
        let cores = [0, 1, 2].map(|k| {
            let mut core = Core::new(truth.limbs[k]);
            if truth.remanence[k] != 0.0 {
                core.magnetise(truth.remanence[k]);
            }
            core
        });
        let mut nodes: Vec<String> = Vec::new();
        let ends = truth.windings.iter().flat_map(|w| &w.coils).flat_map(|c| &c.ends);
        for end in ends {
            if !nodes.contains(end) {
                nodes.push(end.clone());
            }
        }
        let at = truth.changers.iter().map(|c| c.at).collect();
        let limbs = Limbs::new(cores, truth.tank);
        let mut all = Self {
            truth,
            nodes,
            limbs,
            at,
            change: None,
            fine_until: 0.0,
            driven_s: 0.0,
            leads: Leads::default(),
            insulated: Insulated::default(),
            measured: Vec::new(),
            first: Vec::new(),
            motor: Motor::default(),
            seed,
            shot: 0,
            outlets: Vec::new(),
            looks: Vec::new(),
            fed: Fed::Off,
            history: History::default(),
            clock: PhaseClock::default(),
            now: 0.0,
            solved: 0.0,
            step: STEPS_S[0],
            good: 0,
            before: [[0.0; KEPT]; 2],
            most: [0.0; KEPT],
        };
        all.connect();
        all.begin(0);
        all
    }

    /// The flux that is left in each limb, as a share of saturation.
    pub fn remanence(&self) -> [f64; 3] {
        [0, 1, 2].map(|k| self.limbs.cores[k].remanence())
    }

    /// The largest current that flows in any coil, in A.
    pub fn flowing(&self) -> f64 {
        self.limbs.coils.iter().map(|c| c.i.abs()).fold(0.0, f64::max)
    }

    fn node(&self, name: &str) -> Option<usize> {
        self.nodes.iter().position(|n| n == name)
    }

    /// The coils as they are with the tap changers where they stand, and the edges that they are.
    fn coils(&self) -> (Vec<Coil>, Vec<Edge>) {
        let (mut coils, mut edges) = (Vec::new(), Vec::new());
        for (w, winding) in self.truth.windings.iter().enumerate() {
            for (c, of) in winding.coils.iter().enumerate() {
                let (turns, ohm) = self.truth.coil(w, c, &self.at, self.change);
                let share = turns / of.turns;
                coils.push(Coil::new(of.limb, turns, ohm, of.henry * share * share));
                let node = |k: usize| self.node(&of.ends[k]).unwrap_or_default();
                edges.push(Edge { from: node(0), to: node(1) });
            }
        }
        if let Some((limb, turns, ohm)) = self.truth.shorted {
            coils.push(Coil::new(limb, turns, ohm, 0.0));
            // Beside everything else, closed in itself.
            let own = self.nodes.len();
            edges.push(Edge { from: own, to: own });
        }
        (coils, edges)
    }

    /// Makes the network of coils, joins and what feeds.
    fn connect(&mut self) {
        let (coils, mut edges) = self.coils();
        let count = coils.len();
        let inside: Vec<usize> = (0..count).collect();
        // What joined terminals have between them counts on the way of what is measured as well.
        edges.extend(self.leads.joins());
        let through: Vec<usize> = (0..edges.len()).collect();
        let between = |ends: Option<(usize, usize)>, through: &[usize]| {
            ends.and_then(|(from, to)| way(&edges, through, from, to)).unwrap_or_default()
        };
        self.measured = between(self.leads.measured, &inside);
        if self.measured.is_empty() {
            self.measured = between(self.leads.measured, &through);
        }
        self.first = between(self.leads.first, &inside);
        if let Some((from, to)) = self.leads.fed {
            // From the second end back to the first: what flows in at the first comes out at the second.
            edges.push(Edge { from: to, to: from });
        }
        let found = loops(&edges);
        // What flowed around in itself goes on.
        let before: Vec<f64> = self.limbs.coils.iter().map(|c| c.i).collect();
        let kept = |l: &network::Loop| {
            let own = l.edges.first().filter(|(k, _)| *k < count);
            own.map_or(0.0, |(k, _)| before.get(*k).copied().unwrap_or(0.0))
        };
        let j = found.iter().map(kept).collect();
        self.limbs.connect(coils, found, j);
    }

    /// The tap changers' turns and resistances in a network that stays.
    fn retap(&mut self) {
        let (coils, _) = self.coils();
        for (coil, new) in self.limbs.coils.iter_mut().zip(coils) {
            (coil.turns, coil.ohm, coil.henry) = (new.turns, new.ohm, new.henry);
        }
        self.limbs.jumped();
    }

    fn kept(&self) -> [f64; KEPT] {
        let (v, i) = self.limbs.fed;
        // What opens draws an arc, which bounds what is left across it.
        let first = match self.first.is_empty() {
            true => v,
            false => self.limbs.volts(&self.first).clamp(-ARC_V, ARC_V),
        };
        [v, i, self.limbs.volts(&self.measured), first]
    }

    /// One step of what is fed.
    fn once(&mut self, dt: f64) {
        let feed = match (&mut self.fed, self.leads.fed) {
            (_, None) => Feed::None,
            (Fed::Off, _) => Feed::Drain { drop: self.truth.off.0, ohm: self.truth.off.1 },
            (Fed::Voltage(source), _) => Feed::Voltage { v: source.next(dt), ohm: 0.0 },
            // What has fallen off drives an arc, and then nothing.
            (Fed::Regulated { .. }, _) if self.driven_s > self.truth.lead_off_s => {
                Feed::Drain { drop: ARC_V, ohm: 1.0 }
            }
            (Fed::Current(source, most), _) => Feed::Current { i: source.next(dt), most: *most },
            (Fed::Regulated { i, most, sum }, _) => {
                // As stiff as gives all volts for half of the current missing.
                let ohm = 2.0 * *most / i.abs();
                let (volts, flows) = self.limbs.fed;
                // What has far to go would overshoot.
                if volts.abs() < *most * 0.999 && (*i - flows).abs() < 0.1 * i.abs() {
                    *sum += ohm * (*i - flows) * dt.min(0.05) / REGULATES_S;
                }
                Feed::Regulated { v: *sum + ohm * *i, ohm, most: *most }
            }
        };
        self.limbs.step(dt, feed);
    }

    /// Solves up to now.
    fn solve(&mut self) {
        // A step that ends now belongs to it, whatever was rounded.
        while self.solved + self.step <= self.now + 1e-9 {
            if self.changes_over() {
                continue;
            }
            let saved = self.limbs.is_direct.then(|| (self.limbs.clone(), self.fed.clone()));
            self.once(self.step);
            let kept = self.kept();
            if let Some(saved) = saved
                && self.bends(&kept)
                && self.step > self.shortest()
            {
                (self.limbs, self.fed) = saved;
                self.stride(self.step / 4.0);
                continue;
            }
            self.solved += self.step;
            if matches!(self.fed, Fed::Regulated { .. }) {
                self.driven_s += self.step;
            }
            self.history.push(kept);
            self.before = [self.before[1], kept];
            self.most = [0, 1, 2, 3].map(|k| self.most[k].max(kept[k].abs()));
            self.good += 1;
            if self.limbs.is_direct && self.good >= GOOD && self.step < STEPS_S[1] {
                self.stride(self.step * 2.0);
            }
        }
    }

    /// Goes up to where the tap changer's contacts change over, if the next step would pass that; whether it
    /// did.
    fn changes_over(&mut self) -> bool {
        let Some(mut change) = self.change else { return false };
        let changer = &self.truth.changers[change.of];
        let moments = change.moments(changer);
        let end = self.solved + self.step;
        // What has passed meanwhile, whoever let the time pass, comes first.
        if change.by(changer, self.solved) == change.passed {
            let next = moments.get(change.passed).filter(|m| **m < end);
            let Some(moment) = next.copied() else { return false };
            self.once((moment - self.solved).max(1e-9));
            self.solved = self.solved.max(moment);
        }
        change.passed = change.by(&self.truth.changers[change.of], self.solved);
        self.change = Some(change);
        if change.passed == moments.len() {
            self.at[change.of] = change.to;
            self.change = None;
            self.fine_until = self.solved + AFTERWARDS_S;
        }
        self.retap();
        let kept = self.kept();
        self.before = [kept; 2];
        if self.limbs.is_direct {
            self.stride(FINE_S);
        } else {
            self.history.begin(self.solved, self.step);
            self.history.push(kept);
        }
        true
    }

    /// The shortest step that is worth it at present.
    fn shortest(&self) -> f64 {
        let is_on = self.change.is_some_and(|change| self.solved >= change.at_s - 1e-9);
        if is_on || self.solved < self.fine_until { FINE_S } else { STEPS_S[0] }
    }

    /// Whether a step has bent what is kept more than a straight line would show.
    fn bends(&self, kept: &[f64; KEPT]) -> bool {
        (0..KEPT).any(|k| {
            let (a, b, c) = (self.before[0][k], self.before[1][k], kept[k]);
            let size = a.abs().max(b.abs()).max(c.abs()).max(FLOOR * self.most[k]);
            (a - 2.0 * b + c).abs() > BEND * size + 1e-9
        })
    }

    /// Goes on with steps of another length.
    fn stride(&mut self, step: f64) {
        self.step = step.clamp(self.shortest(), STEPS_S[1]);
        self.good = 0;
        let last = self.before[1];
        self.history.begin(self.solved, self.step);
        self.history.push(last);
        self.before[0] = last;
    }

    /// Puts something else on the transformer, from now on.
    fn feed(&mut self, fed: Fed, hertz: f64) {
        self.solve();
        // What is solved may be a fraction of a step behind.
        let late = self.now - self.solved;
        if late > 1e-9 {
            self.once(late);
        }
        self.solved = self.now;
        self.fed = fed;
        self.limbs.is_direct = hertz == 0.0;
        self.limbs.jumped();
        self.step =
            if self.limbs.is_direct { STEPS_S[0] } else { 1.0 / RATE_HZ.max(IN_A_PERIOD * hertz) };
        self.good = 0;
        // What is seen in the first moment: a step of almost nothing.
        let saved = (self.limbs.clone(), self.fed.clone());
        self.once(1e-9);
        let first = self.kept();
        (self.limbs, self.fed) = saved;
        self.before = [first; 2];
        self.history.begin(self.now, self.step);
        self.history.push(first);
    }

    /// What a meter sees of insulation, where its leads are there.
    fn at_insulation(&self, of: &Name, window: Window) -> Option<Vec<f64>> {
        let (_, look) = AT_INSULATION.iter().find(|(name, _)| *of == *name)?;
        self.insulated.samples(&self.truth.insulation, *look, window)
    }

    /// Each stretch of samples has its own scatter, the same whenever it is looked at.
    fn noise(&self, of: &Name, start_s: f64) -> Noise {
        let name = of.as_str().bytes().fold(7u64, |s, b| s.wrapping_mul(31) ^ u64::from(b));
        let place = (start_s * 1e6) as u64 ^ (name << 40);
        Noise::of_shot(self.seed ^ place, self.shot)
    }
}

impl Specimen for PowerTransformer {
    fn begin(&mut self, shot: u64) {
        self.solve();
        self.shot = shot;
        if let Some(change) = &mut self.change {
            change.at_s -= self.now;
        }
        self.motor.begin(self.now);
        self.fine_until = 0.0;
        (self.now, self.solved) = (0.0, 0.0);
        self.most = [0.0; KEPT];
        self.clock = PhaseClock::default();
        self.insulated.begin();
        self.history.clear();
        // What was left on goes on until something else is put out, which happens at once.
        let goes_on = self.fed.clone();
        let is_direct = self.limbs.is_direct;
        self.feed(if is_direct { goes_on } else { Fed::Off }, 0.0);
    }

    fn connect(&mut self, rig: &Capability) -> Result<(), Unconnected> {
        let mut outlets = Vec::new();
        let currents = rig.currents.iter().map(|c| (&c.id, &c.meaning, true, c.ability.compliance));
        let voltages = rig.voltages.iter().map(|c| (&c.id, &c.meaning, false, None));
        for (channel, meaning, is_current, compliance) in currents.chain(voltages) {
            let wanted = if is_current { Dimension::CURRENT } else { Dimension::VOLTAGE };
            if !FEEDS.iter().any(|(name, of)| *meaning == *name && *of == wanted) {
                let has = FEEDS.iter().map(|(name, _)| *name).collect();
                return Err(Unconnected { meaning: meaning.clone(), has });
            }
            let most = compliance.unwrap_or(f64::INFINITY);
            outlets.push(Outlet { channel: channel.clone(), is_current, most });
        }
        let mut looks = Vec::new();
        for meter in &rig.meters {
            let fits = |(name, of, _): &&(&str, Dimension, usize)| {
                meter.meaning == *name && *of == meter.dimension
            };
            let Some((_, _, kept)) = LOOKS.iter().find(fits) else {
                let has = LOOKS.iter().map(|(name, ..)| *name).collect();
                return Err(Unconnected { meaning: meter.meaning.clone(), has });
            };
            looks.push((meter.meaning.clone(), *kept));
        }
        if let Some(switch) = rig.switches.first() {
            return Err(Unconnected { meaning: switch.meaning.clone(), has: Vec::new() });
        }
        (self.outlets, self.looks) = (outlets, looks);
        Ok(())
    }

    fn lead(&mut self, place: &Name) -> Result<(), Unconnected> {
        let unknown = || Unconnected { meaning: place.clone(), has: Vec::new() };
        self.insulated.leads = self.truth.insulation.leads(place.as_str());
        let leads = match place.as_str() {
            "" => Leads::default(),
            _ if self.insulated.leads.is_some() => Leads::default(),
            text => Leads::parse(text, &|name| self.node(name)).ok_or_else(unknown)?,
        };
        // What closes more ways than are solved is no way to feed anything.
        let (_, mut edges) = self.coils();
        edges.extend(leads.joins());
        if leads.fed.is_some() && loops(&edges).len() + 1 > MOST_LOOPS {
            return Err(unknown());
        }
        if leads != self.leads {
            self.solve();
            self.leads = leads;
            self.connect();
        }
        Ok(())
    }

    fn stand(&mut self, stand: &Stand) -> Result<(), Unconnected> {
        let unknown = || Unconnected { meaning: stand.of.clone(), has: Vec::new() };
        let changers = &self.truth.changers;
        let k = changers.iter().position(|c| stand.of == *c.name).ok_or_else(unknown)?;
        let at = changers[k].labels.iter().position(|l| stand.at == **l).ok_or_else(unknown)?;
        if self.at[k] != at || self.change.is_some() {
            self.solve();
            self.at[k] = at;
            self.change = None;
            self.retap();
        }
        Ok(())
    }

    fn hand(&mut self, to: &Stand) {
        let found = self.truth.changers.iter().position(|c| to.of == *c.name);
        let Some(k) = found else { return };
        let changer = &self.truth.changers[k];
        let Some(wanted) = changer.labels.iter().position(|l| to.at == **l) else { return };
        let from = self.at[k];
        // Whoever presses the button twice is a position too far.
        let further = match changer.way.oversteps {
            Some(position) if position == from && wanted > from => wanted + 1,
            Some(position) if position == from && wanted < from => wanted.saturating_sub(1),
            _ => wanted,
        };
        let to = further.min(changer.labels.len() - 1);
        if to != from {
            let at_s = self.now + changer.way.takes_s;
            if let Some(amps) = changer.way.motor_a {
                self.motor.run(self.now, at_s, amps);
            }
            self.change = Some(Change { of: k, from, to, at_s, passed: 0 });
        }
    }

    fn apply(&mut self, stimulus: &Stimulus) {
        self.clock.apply(self.now, stimulus);
        let mut fed = (Fed::Off, 0.0);
        for outlet in &self.outlets {
            let current = stimulus.currents.iter().find(|d| d.channel == outlet.channel);
            let voltage = stimulus.voltages.iter().find(|d| d.channel == outlet.channel);
            let waves = match (current, voltage) {
                (Some(drive), _) => wave::of_drive(&self.clock, drive),
                (None, Some(drive)) => wave::of_drive(&self.clock, drive),
                (None, None) => continue,
            };
            if waves.is_empty() {
                continue;
            }
            let hertz = waves.iter().map(|w| w.s.im.abs() / TAU).fold(0.0, f64::max);
            let dc: f64 = waves.iter().filter(|w| w.s.norm() == 0.0).map(|w| w.a.re).sum();
            if self.insulated.leads.is_some() {
                self.insulated.apply(self.now, waves);
                // What the windings carried is off.
                return self.feed(Fed::Off, 0.0);
            }
            let source = Source::new(waves);
            fed = match outlet.is_current {
                true if hertz == 0.0 && dc != 0.0 && outlet.most.is_finite() => {
                    // What goes on at the same current has found its voltage already.
                    let sum = match self.fed {
                        Fed::Regulated { i, sum, .. } if i == dc => sum,
                        _ => 0.0,
                    };
                    (Fed::Regulated { i: dc, most: outlet.most, sum }, 0.0)
                }
                true => (Fed::Current(source, outlet.most), hertz),
                false => (Fed::Voltage(source), hertz),
            };
        }
        if self.insulated.leads.is_some() {
            self.insulated.apply(self.now, Vec::new());
        }
        self.feed(fed.0, fed.1);
    }

    fn advance(&mut self, to: Time) -> Option<ContactEdge> {
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
        let special = if *of == *MOTOR { Some(self.motor.samples(window)) } else { None };
        let mut samples = match special.or_else(|| self.at_insulation(of, window)) {
            Some(samples) => samples,
            None => self.history.samples(start_s, 1.0 / rate_hz, count, *look),
        };
        if self.truth.noise > 0.0 {
            // By what is there most of the time: a moment's arc scatters nothing before it.
            let size = samples.iter().map(|s| s.abs()).sum::<f64>() / samples.len().max(1) as f64;
            let mut noise = self.noise(of, start_s);
            samples.iter_mut().for_each(|s| *s += size * noise.draw(self.truth.noise));
        }
        Some(samples)
    }

    fn mean(&self, of: &Name, window: Window) -> Option<f64> {
        if !self.limbs.is_direct || self.insulated.leads.is_some() || *of == *MOTOR {
            return None;
        }
        let (_, look) = self.looks.iter().find(|(name, _)| name == of)?;
        let Window { start_s, rate_hz, count } = window;
        let mean = self.history.mean(start_s, count as f64 / rate_hz, count, *look);
        // As much as is left of the scatter of so many samples.
        let noise = self.noise(of, start_s).draw(self.truth.noise);
        Some(mean * (1.0 + noise / (count as f64).sqrt()))
    }

    fn reading(&self, name: &str) -> Option<f64> {
        (name == "flowing").then(|| self.flowing())
    }
}
