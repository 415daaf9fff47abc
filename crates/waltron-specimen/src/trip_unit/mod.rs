//! A simulated low-voltage breaker: a trip unit that looks at the current through its own sensors, with heat
//! and memory, and a mechanism that opens. What is put out is constant in pieces, so that every trip is known
//! when its piece begins.

mod form;
#[cfg(test)]
mod tests;

pub(crate) use form::{FunctionForm, TripUnitForm};

use crate::{Noise, Specimen, Unconnected, Window};
use std::f64::consts::{PI, SQRT_2};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::observation::Edge;
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::{Measure, Time, seconds};
use waltron_core::text::name::Name;

/// What a function looks at, and how.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Acts {
    /// Root mean square, with heat.
    LongTime,
    /// Root mean square.
    ShortTime,
    /// Peaks.
    Instantaneous,
    /// What the poles and the neutral do not add up to.
    GroundFault,
}

/// A function as it truly is.
#[derive(Clone, Debug, PartialEq)]
pub struct TripFunction {
    /// What it looks at.
    pub acts: Acts,
    /// The current above which it acts, in A.
    pub pickup_a: f64,
    /// How long it waits, in s.
    pub delay_s: f64,
    /// The current at which its delay holds where it follows I²t, in A; definite without.
    pub at_a: Option<f64>,
}

/// A low-voltage breaker as it truly is.
#[derive(Clone, Debug, PartialEq)]
pub struct TripUnitTruth {
    /// Its poles.
    pub poles: Vec<String>,
    /// Functions that are on.
    pub functions: Vec<TripFunction>,
    /// From the release to the contacts parting, in s.
    pub opening_s: f64,
    /// Resistance of a pole with its leads, in ohms.
    pub resistance_ohm: f64,
    /// Reactance of the same, in ohms.
    pub reactance_ohm: f64,
    /// The time constant with which heat is forgotten, in s.
    pub memory_s: f64,
    /// Whether the memory is discharged between two injections.
    pub is_discharged: bool,
    /// Whether the auxiliary contact follows.
    pub auxiliary_follows: bool,
    /// Whether the neutral's sensor is the wrong way round.
    pub neutral_reversed: bool,
    /// Standard deviation of levels and times from injection to injection, as a share.
    pub noise: f64,
    /// What stands for an ampere through a pole at its test port, in A or V; none without a port.
    pub port: Option<f64>,
    /// Whether somebody resets and closes it between two injections.
    pub is_reset: bool,
    /// What it shows of its settings and counters, by name in SI: what it does is another matter.
    pub display: Vec<(String, f64)>,
}

/// What the auxiliary contact is called, and the rig's own look at its current.
const AUXILIARY: &str = "52a";
const FLOWS: &str = "current flows";
/// What blocks the ground-fault function while it is closed.
const DEFEAT: &str = "ground-fault defeat";
const CURRENT: &str = "pole current";
const VOLTAGE: &str = "pole voltage";
/// The input that stands for the current through a pole.
const PORT: &str = "test port";
/// What its own readings begin with.
const UNIT: &str = "unit.";

/// Contacts part, and the auxiliary contact changes so much later, in s.
const AUXILIARY_S: f64 = 2e-3;

/// A stretch of one current.
#[derive(Clone, Copy, Debug)]
struct Piece {
    from_s: f64,
    /// Where it ends by interruption.
    to_s: f64,
    rms_a: f64,
    angle: f64,
    omega: f64,
    /// Whether it only stands for a current: nothing interrupts it.
    is_port: bool,
}

/// The simulated breaker in virtual time.
#[derive(Clone, Debug)]
pub struct TripUnit {
    truth: TripUnitTruth,
    seed: u64,
    /// Draws of this injection: of levels, and of times.
    scatter: [f64; 2],
    channels: Vec<Name>,
    /// Those at the test port.
    ports: Vec<Name>,
    /// Where the leads are: a pole, or a pole and the neutral.
    place: String,
    is_defeated: bool,
    is_closed: bool,
    is_tripped: bool,
    /// How often it has tripped.
    trips: u32,
    /// Heat of each function, in A²s.
    heat: Vec<f64>,
    pieces: Vec<Piece>,
    /// When the contacts will have parted, by what is put out now.
    parts_s: Option<f64>,
    edges: Vec<Edge>,
    flows: bool,
    now: f64,
}

impl TripUnit {
    /// A breaker that is closed and cold.
    pub fn new(truth: TripUnitTruth, seed: u64) -> Self {
        let place = truth.poles.first().cloned().unwrap_or_default();
        let heat = vec![0.0; truth.functions.len()];
        let mut all = Self {
            truth,
            seed,
            scatter: [0.0; 2],
            channels: Vec::new(),
            ports: Vec::new(),
            place,
            is_defeated: false,
            is_closed: true,
            is_tripped: false,
            trips: 0,
            heat,
            pieces: Vec::new(),
            parts_s: None,
            edges: Vec::new(),
            flows: false,
            now: 0.0,
        };
        all.begin(0);
        all
    }

    /// What the ground-fault function sees of a current through the leads.
    fn residual(&self, rms_a: f64) -> f64 {
        match (self.place.ends_with("-N"), self.truth.neutral_reversed) {
            (false, _) => rms_a,
            (true, false) => 0.0,
            // What goes out and comes back adds up.
            (true, true) => 2.0 * rms_a,
        }
    }

    fn tau_s(&self, omega: f64) -> f64 {
        (self.truth.reactance_ohm / omega / self.truth.resistance_ohm).max(1e-6)
    }

    /// The most of a current's first period, as the RMS value of a sine of that peak.
    fn peak(&self, piece: &Piece) -> f64 {
        let (tau, dc) = (self.tau_s(piece.omega), -piece.angle.cos());
        // A source of its own has no inductance before it.
        let dc = if piece.is_port { 0.0 } else { dc };
        let at = |k: u32| {
            let time = f64::from(k) / 200.0 * 2.0 * PI / piece.omega;
            ((piece.omega * time + piece.angle).cos() + dc * (-time / tau).exp()).abs()
        };
        piece.rms_a * (0..=200).map(at).fold(1.0, f64::max)
    }

    /// When the first function releases in a piece, in s since the injection began.
    fn releases(&self, piece: &Piece) -> Option<f64> {
        let [level, late] = self.scatter;
        let all = self.truth.functions.iter().zip(&self.heat).filter_map(|(of, heat)| {
            let seen = match of.acts {
                Acts::GroundFault if self.is_defeated => 0.0,
                Acts::GroundFault => self.residual(piece.rms_a),
                Acts::Instantaneous => self.peak(piece),
                _ => piece.rms_a,
            };
            if seen <= of.pickup_a * (1.0 + level) {
                return None;
            }
            let wait = match of.at_a {
                Some(at) => ((at * at * of.delay_s - heat) / (seen * seen)).max(0.0),
                None => of.delay_s,
            };
            Some(piece.from_s + wait * (1.0 + late))
        });
        all.reduce(f64::min)
    }

    /// Takes the heat of the stretch that ends now.
    fn settle(&mut self) {
        let Some(piece) = self.pieces.last().copied() else {
            // Nothing was put out: it cools.
            let decay = (-self.now / self.truth.memory_s).exp();
            self.heat.iter_mut().for_each(|heat| *heat *= decay);
            return;
        };
        let span = self.now.min(piece.to_s) - piece.from_s;
        let decay = (-span.max(0.0) / self.truth.memory_s).exp();
        for (of, heat) in self.truth.functions.iter().zip(&mut self.heat) {
            match of.at_a {
                Some(_) if piece.rms_a > of.pickup_a => *heat += piece.rms_a.powi(2) * span,
                _ => *heat *= decay,
            }
        }
    }

    /// What stands at the test port for a current through a pole: its RMS value in A, angle, frequency.
    fn at_port(&self, stimulus: &Stimulus) -> Option<(f64, f64, f64)> {
        let per_ampere = self.truth.port?;
        let of = |channel: &Name, rms: f64, angle: f64, hertz: f64| {
            let is_it = self.ports.contains(channel) && rms > 0.0;
            is_it.then_some((rms / per_ampere, angle, hertz))
        };
        let currents = stimulus
            .currents
            .iter()
            .map(|d| of(&d.channel, d.phasor.rms().si(), d.phasor.angle().si(), d.frequency.si()));
        let voltages = stimulus
            .voltages
            .iter()
            .map(|d| of(&d.channel, d.phasor.rms().si(), d.phasor.angle().si(), d.frequency.si()));
        currents.chain(voltages).flatten().next()
    }

    fn edge(&mut self, signal: &str, time: f64, closed: bool) {
        self.edges.push(Edge { signal: signal.into(), time: seconds(time), closed });
        self.edges.sort_by(|a, b| a.time.si().total_cmp(&b.time.si()));
    }

    /// The first zero of a piece's current after a time.
    fn zero_after(&self, piece: &Piece, time: f64) -> f64 {
        let step = 1e-5;
        let mut before = self.amps(piece, time);
        for k in 1..4000 {
            let at = time + f64::from(k) * step;
            let now = self.amps(piece, at);
            if before == 0.0 || before.signum() != now.signum() {
                return at;
            }
            before = now;
        }
        time
    }

    fn amps(&self, piece: &Piece, time: f64) -> f64 {
        if time < piece.from_s || time > piece.to_s {
            return 0.0;
        }
        let t = time - piece.from_s;
        let sine = (piece.omega * t + piece.angle).cos();
        let dc = piece.angle.cos() * (-t / self.tau_s(piece.omega)).exp();
        SQRT_2 * piece.rms_a * (sine - dc)
    }

    fn volts(&self, piece: &Piece, time: f64) -> f64 {
        if time < piece.from_s || time > piece.to_s {
            return 0.0;
        }
        let (r, x) = (self.truth.resistance_ohm, self.truth.reactance_ohm);
        // What decays drops nothing: its resistive and its inductive part cancel.
        let angle = piece.omega * (time - piece.from_s) + piece.angle;
        SQRT_2 * piece.rms_a * (r * angle.cos() - x * angle.sin())
    }
}

impl Specimen for TripUnit {
    fn begin(&mut self, shot: u64) {
        self.settle();
        // Between two injections somebody resets it and closes it.
        if self.truth.is_reset {
            (self.is_closed, self.is_tripped) = (true, false);
        }
        if self.truth.is_discharged {
            self.heat.fill(0.0);
        }
        let mut noise = Noise::of_shot(self.seed, shot);
        self.scatter = [noise.draw(self.truth.noise), noise.draw(self.truth.noise)];
        self.pieces.clear();
        self.edges.clear();
        (self.parts_s, self.flows, self.is_defeated, self.now) = (None, false, false, 0.0);
    }

    fn connect(&mut self, rig: &Capability) -> Result<(), Unconnected> {
        let unknown = |meaning: &Name, has: &[&'static str]| {
            Err(Unconnected { meaning: meaning.clone(), has: has.to_vec() })
        };
        let is_port = |meaning: &Name| self.truth.port.is_some() && *meaning == *PORT;
        let has = |known: &[&'static str]| {
            let port = self.truth.port.map(|_| PORT);
            known.iter().copied().chain(port).collect::<Vec<_>>()
        };
        for current in &rig.currents {
            match &current.meaning {
                meaning if *meaning == *CURRENT => self.channels.push(current.id.clone()),
                meaning if is_port(meaning) => self.ports.push(current.id.clone()),
                meaning => return unknown(meaning, &has(&[CURRENT])),
            }
        }
        for voltage in &rig.voltages {
            match &voltage.meaning {
                meaning if is_port(meaning) => self.ports.push(voltage.id.clone()),
                meaning => return unknown(meaning, &has(&[])),
            }
        }
        if let Some(switch) = rig.switches.iter().find(|s| s.meaning != *DEFEAT) {
            return unknown(&switch.meaning, &[DEFEAT]);
        }
        let mut meters = rig.meters.iter();
        if let Some(meter) = meters.find(|m| m.meaning != *CURRENT && m.meaning != *VOLTAGE) {
            return unknown(&meter.meaning, &[CURRENT, VOLTAGE]);
        }
        Ok(())
    }

    fn lead(&mut self, place: &Name) -> Result<(), Unconnected> {
        let pole = place.as_str().trim_end_matches("-N");
        if !pole.is_empty() && !self.truth.poles.iter().any(|p| p == pole) {
            return Err(Unconnected { meaning: place.clone(), has: Vec::new() });
        }
        self.place = place.to_string();
        Ok(())
    }

    fn apply(&mut self, stimulus: &Stimulus) {
        self.settle();
        if let Some(last) = self.pieces.last_mut() {
            last.to_s = last.to_s.min(self.now);
        }
        let main = stimulus
            .currents
            .iter()
            .find(|d| self.channels.contains(&d.channel) && d.phasor.rms().si() > 0.0);
        self.parts_s = None;
        let flows = main.is_some() && self.is_closed;
        if flows != self.flows {
            self.flows = flows;
            self.edge(FLOWS, self.now, flows);
        }
        let main = main.filter(|_| self.is_closed);
        let main = main.map(|d| (d.phasor.rms().si(), d.phasor.angle().si(), d.frequency.si()));
        let port = self.at_port(stimulus);
        let Some((rms_a, angle, hertz)) = main.or(port) else { return };
        let piece = Piece {
            from_s: self.now,
            to_s: f64::INFINITY,
            rms_a,
            angle,
            omega: 2.0 * PI * hertz,
            is_port: main.is_none(),
        };
        self.pieces.push(piece);
        self.parts_s = self.releases(&piece).map(|at| at + self.truth.opening_s);
        // What has tripped is not tripped again before it was reset.
        self.parts_s = self.parts_s.filter(|_| !self.is_tripped);
    }

    fn switch(&mut self, meaning: &Name, closed: bool) {
        if *meaning == *DEFEAT {
            self.is_defeated = closed;
            if let Some(piece) = self.pieces.last().copied().filter(|p| p.to_s.is_infinite()) {
                self.parts_s = self.releases(&piece).map(|at| at + self.truth.opening_s);
            }
        }
    }

    fn advance(&mut self, to: Time) -> Option<Edge> {
        let to = to.si();
        let parts = self.parts_s.filter(|at| *at <= to);
        let first = self.edges.first().map(|e| e.time.si());
        if let Some(at) = parts.filter(|at| first.is_none_or(|first| *at < first)) {
            self.parts_s = None;
            let was_closed = std::mem::replace(&mut self.is_closed, false);
            (self.is_tripped, self.trips) = (true, self.trips + 1);
            if let Some(piece) = self.pieces.last().copied().filter(|p| !p.is_port) {
                let zero = self.zero_after(&piece, at);
                if let Some(last) = self.pieces.last_mut() {
                    last.to_s = zero;
                }
                self.flows = false;
                self.edge(FLOWS, zero, false);
            }
            if self.truth.auxiliary_follows && was_closed {
                self.edge(AUXILIARY, at + AUXILIARY_S, false);
            }
        }
        let is_due = self.edges.first().is_some_and(|edge| edge.time.si() <= to);
        if !is_due {
            self.now = self.now.max(to);
            return None;
        }
        let first = self.edges.remove(0);
        self.now = self.now.max(first.time.si());
        Some(first)
    }

    fn closed(&self) -> Vec<Name> {
        let auxiliary = (self.is_closed || !self.truth.auxiliary_follows).then_some(AUXILIARY);
        let flows = self.flows.then_some(FLOWS);
        auxiliary.into_iter().chain(flows).map(Name::from).collect()
    }

    fn samples(&self, of: &Name, window: Window) -> Option<Vec<f64>> {
        let value = |time: f64| {
            let mut poles = self.pieces.iter().rev().filter(|p| !p.is_port);
            let piece = poles.find(|p| p.from_s <= time && time <= p.to_s);
            piece.map_or(0.0, |piece| match of.as_str() {
                CURRENT => self.amps(piece, time),
                _ => self.volts(piece, time),
            })
        };
        let is_known = matches!(of.as_str(), CURRENT | VOLTAGE);
        let at = |k: usize| value(window.start_s + k as f64 / window.rate_hz);
        is_known.then(|| (0..window.count).map(at).collect())
    }

    fn reading(&self, name: &str) -> Option<f64> {
        let name = name.strip_prefix(UNIT)?;
        let flag = |is: bool| Some(f64::from(u8::from(is)));
        let shown = self.truth.display.iter().find(|(of, _)| of == name).map(|(_, si)| *si);
        match name {
            "closed" => flag(self.is_closed),
            "tripped" => flag(self.is_tripped),
            // A counter that shows something began there.
            "trips" => Some(shown.unwrap_or(0.0) + f64::from(self.trips)),
            _ => shown,
        }
    }
}
