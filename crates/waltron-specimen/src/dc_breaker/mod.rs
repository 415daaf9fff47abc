//! A simulated high-speed direct-current breaker in the circuit of a source with a store: resistance and
//! inductance, a release that lags behind the current, contacts that part later, an arc that drives the current
//! down. Stepped in time while a current flows.

mod form;
#[cfg(test)]
mod tests;

pub(crate) use form::DcBreakerForm;

use crate::history::History;
use crate::{Noise, Specimen, Unconnected, Window};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::observation::Edge;
use waltron_core::injection::stimulus::{Drive, Stimulus};
use waltron_core::quantity::{Measure, Time};
use waltron_core::text::name::Name;

/// A direct-current breaker as it truly is.
#[derive(Clone, Debug, PartialEq)]
pub struct DcBreakerTruth {
    /// The current at which its release lets go when it rises slowly, in A.
    pub setting_a: f64,
    /// By how much its release lags behind the current, in s.
    pub lag_s: f64,
    /// From the release to the contacts parting, in s.
    pub opening_s: f64,
    /// From the close command to the contacts touching, in s.
    pub closing_s: f64,
    /// The arc's voltage once it is long, in V.
    pub arc_v: f64,
    /// The time constant with which it grows, in s.
    pub arc_s: f64,
    /// Resistance of the circuit, in ohms.
    pub resistance_ohm: f64,
    /// Inductance of the circuit, in H.
    pub henry: f64,
    /// Places whose resistance is measured, in ohms.
    pub places: Vec<(String, f64)>,
    /// The voltage of the full store, in V.
    pub store_v: f64,
    /// The share of the store that a second of a kiloampere takes.
    pub drain: f64,
    /// The time constant with which it is charged again, in s.
    pub recharge_s: f64,
    /// Standard deviation of levels and times from injection to injection, as a share.
    pub scatter: f64,
    /// Standard deviation of a sample, as a share of the largest.
    pub noise: f64,
}

/// A step while a current flows, in s.
const STEP_S: f64 = 2e-5;

/// What is kept of each moment.
const KEPT: usize = 3;

const CLOSE: &str = "close command";
const OPEN: &str = "open command";
const MAIN_A: &str = "main current";
const MAIN_V: &str = "main voltage";
const PLACE_A: &str = "joint current";
const PLACE_V: &str = "joint voltage";
const STORE: &str = "store.voltage";

/// The simulated breaker in virtual time.
#[derive(Clone, Debug)]
pub struct DcBreaker {
    truth: DcBreakerTruth,
    seed: u64,
    shot: u64,
    /// Draws of this injection: of the level, of the time.
    scatter: [f64; 2],
    channels: [Option<Name>; 2],
    /// Whether the rig closes it; else somebody does between two injections.
    is_commanded: bool,
    volts: f64,
    joint_a: f64,
    amps: f64,
    /// What its release sees, in A.
    seen_a: f64,
    is_closed: bool,
    touches_s: Option<f64>,
    parts_s: Option<f64>,
    parted_s: Option<f64>,
    charge: f64,
    place: usize,
    history: History<KEPT>,
    now: f64,
    solved: f64,
}

impl DcBreaker {
    /// A breaker that is closed, its store full.
    pub fn new(truth: DcBreakerTruth, seed: u64) -> Self {
        let mut all = Self {
            truth,
            seed,
            shot: 0,
            scatter: [0.0; 2],
            channels: [None, None],
            is_commanded: false,
            volts: 0.0,
            joint_a: 0.0,
            amps: 0.0,
            seen_a: 0.0,
            is_closed: true,
            touches_s: None,
            parts_s: None,
            parted_s: None,
            charge: 1.0,
            place: 0,
            history: History::default(),
            now: 0.0,
            solved: 0.0,
        };
        all.begin(0);
        all
    }

    fn is_still(&self) -> bool {
        let flows = self.volts != 0.0 && self.is_closed;
        !flows && self.amps == 0.0 && self.touches_s.is_none() && self.parts_s.is_none()
    }

    fn solve(&mut self) {
        while self.solved < self.now - 1e-12 {
            let dt = if self.is_still() {
                self.now - self.solved
            } else {
                STEP_S.min(self.now - self.solved)
            };
            self.step(dt);
            self.solved += dt;
            if dt != STEP_S {
                let kept = self.kept();
                self.history.begin(self.solved, STEP_S);
                self.history.push(kept);
            } else {
                let kept = self.kept();
                self.history.push(kept);
            }
        }
    }

    fn step(&mut self, dt: f64) {
        let now = self.solved + dt;
        let of = &self.truth;
        if self.touches_s.is_some_and(|at| at <= now) {
            (self.touches_s, self.is_closed, self.parted_s) = (None, true, None);
        }
        if self.parts_s.is_some_and(|at| at <= now) {
            (self.parts_s, self.is_closed, self.parted_s) = (None, false, Some(now));
        }
        let arc = self.parted_s.map(|at| of.arc_v * (1.0 - (-(now - at) / of.arc_s).exp()));
        let conducts = self.is_closed || (arc.is_some() && self.amps > 0.0);
        let is_still = self.volts == 0.0 && self.amps == 0.0;
        if conducts && !is_still {
            // The store gives what it has.
            let source = self.volts.min(of.store_v * self.charge);
            let drop = source - arc.unwrap_or(0.0);
            let before = self.amps;
            self.amps = (before + dt * drop / of.henry) / (1.0 + dt * of.resistance_ohm / of.henry);
            if self.amps <= 0.0 {
                self.amps = 0.0;
            }
            self.charge -= of.drain * self.amps / 1000.0 * dt;
            self.charge = self.charge.max(0.0);
        } else {
            self.amps = 0.0;
        }
        if self.volts == 0.0 {
            self.charge = 1.0 - (1.0 - self.charge) * (-dt / of.recharge_s).exp();
        }
        let lag = of.lag_s.max(1e-9);
        self.seen_a += (self.amps - self.seen_a) * (1.0 - (-dt / lag).exp());
        let level = of.setting_a * (1.0 + self.scatter[0]);
        if self.is_closed && self.parts_s.is_none() && self.seen_a > level {
            self.parts_s = Some(now + of.opening_s * (1.0 + self.scatter[1]));
        }
    }

    fn kept(&self) -> [f64; KEPT] {
        let arc = self.parted_s.filter(|_| self.amps > 0.0).map_or(0.0, |at| {
            self.truth.arc_v * (1.0 - (-(self.solved - at) / self.truth.arc_s).exp())
        });
        let open = !self.is_closed && self.amps == 0.0;
        let volts = if open { self.volts } else { arc };
        let place = self.truth.places.get(self.place).map_or(0.0, |(_, ohm)| *ohm);
        let joint = if self.is_closed || self.place > 0 { self.joint_a * place } else { 0.0 };
        [self.amps, volts, joint]
    }

    fn begin_run(&mut self) {
        let kept = self.kept();
        self.history.begin(self.now, STEP_S);
        self.history.push(kept);
    }
}

fn direct<Q: Measure>(drives: &[Drive<Q>], channel: Option<&Name>) -> f64 {
    let found = drives.iter().find(|d| Some(&d.channel) == channel);
    found.and_then(|d| d.dc.as_ref()).map_or(0.0, |dc| dc.value().si())
}

impl Specimen for DcBreaker {
    fn begin(&mut self, shot: u64) {
        self.shot = shot;
        let mut noise = Noise::of_shot(self.seed, shot);
        self.scatter = [noise.draw(self.truth.scatter), noise.draw(self.truth.scatter)];
        (self.volts, self.joint_a, self.amps, self.seen_a) = (0.0, 0.0, 0.0, 0.0);
        (self.touches_s, self.parts_s, self.parted_s) = (None, None, None);
        // Without a command somebody closes it.
        self.is_closed |= !self.is_commanded;
        (self.now, self.solved) = (0.0, 0.0);
        self.history.clear();
        self.begin_run();
    }

    fn connect(&mut self, rig: &Capability) -> Result<(), Unconnected> {
        let unknown = |meaning: &Name, has: &[&'static str]| {
            Err(Unconnected { meaning: meaning.clone(), has: has.to_vec() })
        };
        for voltage in &rig.voltages {
            if voltage.meaning != *MAIN_V {
                return unknown(&voltage.meaning, &[MAIN_V]);
            }
            self.channels[0] = Some(voltage.id.clone());
        }
        for current in &rig.currents {
            if current.meaning != *PLACE_A {
                return unknown(&current.meaning, &[PLACE_A]);
            }
            self.channels[1] = Some(current.id.clone());
        }
        if let Some(switch) =
            rig.switches.iter().find(|s| ![CLOSE, OPEN].iter().any(|c| s.meaning == **c))
        {
            return unknown(&switch.meaning, &[CLOSE, OPEN]);
        }
        self.is_commanded = rig.switches.iter().any(|s| s.meaning == *CLOSE);
        let known = [MAIN_A, MAIN_V, PLACE_A, PLACE_V];
        let mut meters = rig.meters.iter();
        if let Some(meter) = meters.find(|m| !known.iter().any(|k| m.meaning == **k)) {
            return unknown(&meter.meaning, &known);
        }
        Ok(())
    }

    fn lead(&mut self, place: &Name) -> Result<(), Unconnected> {
        if place.as_str().is_empty() {
            return Ok(());
        }
        let found = self.truth.places.iter().position(|(name, _)| *place == **name);
        let unknown = || Unconnected { meaning: place.clone(), has: Vec::new() };
        self.place = found.ok_or_else(unknown)?;
        Ok(())
    }

    fn apply(&mut self, stimulus: &Stimulus) {
        self.solve();
        self.volts = direct(&stimulus.voltages, self.channels[0].as_ref());
        self.joint_a = direct(&stimulus.currents, self.channels[1].as_ref());
        self.begin_run();
    }

    fn switch(&mut self, meaning: &Name, closed: bool) {
        self.solve();
        if *meaning == *CLOSE && closed && !self.is_closed {
            self.touches_s = Some(self.now + self.truth.closing_s);
        }
        if *meaning == *OPEN && closed && self.is_closed {
            self.parts_s = Some(self.now + self.truth.opening_s);
        }
        self.begin_run();
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
        let what = match of.as_str() {
            MAIN_A => 0,
            MAIN_V => 1,
            PLACE_V => 2,
            PLACE_A => return Some(vec![self.joint_a; window.count]),
            _ => return None,
        };
        let Window { start_s, rate_hz, count } = window;
        let mut samples = self.history.samples(start_s, 1.0 / rate_hz, count, what);
        if self.truth.noise > 0.0 {
            let largest = samples.iter().fold(0.0f64, |a, b| a.max(b.abs()));
            let place = (start_s * 1e6) as u64 ^ ((what as u64) << 56);
            let mut noise = Noise::of_shot(self.seed ^ place, self.shot);
            samples.iter_mut().for_each(|s| *s += largest * noise.draw(self.truth.noise));
        }
        Some(samples)
    }

    fn reading(&self, name: &str) -> Option<f64> {
        (name == STORE).then_some(self.truth.store_v * self.charge)
    }
}
