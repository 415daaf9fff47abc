//! A simulated circuit breaker: coils with plungers let latches go, springs move a mass, the mass moves
//! contacts. Stepped in time while anything moves or flows; at rest, time costs nothing.

mod coil;
mod control;
mod drive;
mod form;
mod motor;
#[cfg(test)]
mod tests;
mod truth;
mod wired;

pub(crate) use form::{AuxiliaryForm, BreakerForm, CoilForm, ContactForm, MotorForm, Parts};
pub use truth::{AuxiliaryTruth, BreakerTruth, CoilTruth, ContactTruth, DriveTruth, MotorTruth};

use crate::history::History;
use crate::{Noise, Specimen};
use coil::Coil;
use control::Alternating;
use drive::{Drive, Motion};
use motor::Motor;
use waltron_core::injection::observation::Edge;
use waltron_core::quantity::{Measure, seconds};
use waltron_core::text::name::Name;

/// A step while something moves, in s: twenty thousand a second.
const STEP_S: f64 = 5e-5;

/// A step while nothing but the motor runs, in s.
const MOTOR_STEP_S: f64 = 1e-3;

/// Most coils that a breaker has.
const MOST_COILS: usize = 6;

/// What is kept of each moment: coil currents, then these.
const KEPT: usize = MOST_COILS + 5;
const MOTOR: usize = MOST_COILS;
const TRAVEL: usize = MOST_COILS + 1;
const CONTROL: usize = MOST_COILS + 2;
const POLE_A: usize = MOST_COILS + 3;
const POLE_V: usize = MOST_COILS + 4;

/// The voltage of a direct current source whose circuit is open, in V.
const OPEN_V: f64 = 6.0;

/// Everything that a step changes.
#[derive(Clone, Debug)]
struct State {
    drives: Vec<Drive>,
    /// Of each drive its coils.
    coils: Vec<Vec<Coil>>,
    motor: Motor,
    is_charged: bool,
    /// Whether each main contact touches, as its position says; bounces come besides.
    touching: Vec<bool>,
    auxiliary: Vec<bool>,
    /// Changes of contacts that are still to come: bounces, and what lags.
    coming: Vec<Edge>,
}

/// The simulated breaker in virtual time.
#[derive(Clone, Debug)]
pub struct Breaker {
    truth: BreakerTruth,
    seed: u64,
    shot: u64,
    /// Draws of this injection.
    noise: Noise,
    state: State,
    /// Changes that were not told yet, in time order.
    edges: Vec<Edge>,
    /// Contacts that are closed, as told.
    closed: Vec<Name>,
    /// Which coils' commands the rig holds closed.
    commands: Vec<bool>,
    /// Whether the rig feeds the motor.
    feeds_motor: bool,
    /// How long the last step was, in s.
    stepped: f64,
    /// What the rig puts out: control voltage where it has that output, current through a pole.
    control_v: Option<f64>,
    control_ac: Option<Alternating>,
    pole_a: f64,
    /// Channels of the rig by what they are: control voltage, pole current.
    channels: [Option<Name>; 2],
    /// The main contact that the leads of the pole current are at.
    at: usize,
    history: History<KEPT>,
    now: f64,
    solved: f64,
    /// The state one step before the solved one, with its time, to come back to.
    before: Option<(f64, State)>,
}

impl Breaker {
    /// A breaker at rest.
    ///
    /// # Panics
    /// Without drives or contacts, or with more than six coils; files never have that.
    pub fn new(truth: BreakerTruth, seed: u64) -> Self {
        assert!(!truth.drives.is_empty() && !truth.contacts.is_empty());
        assert!(truth.coils.len() <= MOST_COILS);
        let drives = vec![Drive::new(truth.is_closed); truth.drives.len()];
        let coils = vec![vec![Coil::new(); truth.coils.len()]; truth.drives.len()];
        let state = State {
            drives,
            coils,
            motor: Motor::default(),
            is_charged: truth.is_charged,
            touching: vec![truth.is_closed; truth.contacts.len()],
            auxiliary: truth.auxiliaries.iter().map(|a| a.follows == truth.is_closed).collect(),
            coming: Vec::new(),
        };
        let mut all = Self {
            seed,
            shot: 0,
            noise: Noise::of_shot(seed, 0),
            edges: Vec::new(),
            closed: Vec::new(),
            commands: vec![false; truth.coils.len()],
            feeds_motor: false,
            stepped: STEP_S,
            control_v: None,
            control_ac: None,
            pole_a: 0.0,
            channels: [None, None],
            at: 0,
            history: History::default(),
            now: 0.0,
            solved: 0.0,
            before: None,
            state,
            truth,
        };
        all.closed = all.contacts();
        all.begin(0);
        all
    }

    /// The contacts that are closed at rest.
    fn contacts(&self) -> Vec<Name> {
        let (truth, state) = (&self.truth, &self.state);
        let mains = truth.contacts.iter().zip(&state.touching);
        let mains = mains.filter(|(_, is)| **is).map(|(c, _)| c.name.as_str());
        let others = truth.auxiliaries.iter().zip(&state.auxiliary);
        let others = others.filter(|(_, is)| **is).map(|(a, _)| a.name.as_str());
        let charged = (truth.motor.is_some() && state.is_charged).then_some(CHARGED);
        mains.chain(others).chain(charged).map(Name::from).collect()
    }

    /// The control voltage at a time.
    fn control(&self, at_s: f64) -> f64 {
        let direct = self.control_v.unwrap_or(self.truth.battery_v);
        direct + self.control_ac.map_or(0.0, |ac| ac.at(at_s))
    }

    /// Whether there is a control voltage at all.
    fn is_controlled(&self) -> bool {
        self.control_ac.is_some() || self.control_v.unwrap_or(self.truth.battery_v) != 0.0
    }

    /// The voltage at a coil's terminals, where its circuit is closed.
    fn at_coil(&self, drive: usize, coil: usize) -> Option<f64> {
        if !self.commands[coil] {
            return None;
        }
        let of = &self.truth.coils[coil];
        let moved = match of.closes {
            true => self.state.drives[drive].is_closed(),
            false => self.state.drives[drive].is_open(),
        };
        if of.cuts_off && moved {
            return None;
        }
        Some(self.control(self.solved))
    }

    fn is_still(&self) -> bool {
        !self.charges() && self.state.motor.is_still() && !self.moves()
    }

    /// Whether anything but the motor moves, or flows.
    fn moves(&self) -> bool {
        let state = &self.state;
        let fed = (0..self.truth.coils.len())
            .any(|coil| (0..state.drives.len()).any(|d| self.at_coil(d, coil).is_some()));
        (fed && self.is_controlled())
            || !state.coming.is_empty()
            || !state.drives.iter().all(Drive::is_still)
            || !state.coils.iter().flatten().all(Coil::is_still)
    }

    /// How long the next step is.
    fn next_step(&self) -> f64 {
        let starts = self.truth.motor.as_ref().is_some_and(|of| self.state.motor.starts(of));
        if starts || self.moves() { STEP_S } else { MOTOR_STEP_S }
    }

    /// Whether the motor runs.
    fn charges(&self) -> bool {
        let fed = self.feeds_motor || !self.commands_motor();
        self.truth.motor.is_some() && !self.state.is_charged && fed
    }

    /// Whether the rig switches the motor's supply; else the station feeds it always.
    fn commands_motor(&self) -> bool {
        self.truth.motor.as_ref().is_some_and(|m| m.is_switched)
    }

    /// Solves up to now, and no more than a step beyond.
    fn solve(&mut self) {
        while self.solved < self.now - 1e-12 {
            if self.is_still() {
                // Nothing changes until something is put out.
                let kept = self.kept();
                self.history.begin(self.solved, (self.now - self.solved).max(1e-12));
                self.history.push(kept);
                self.history.push(kept);
                self.solved = self.now;
                self.before = None;
                self.stepped = STEP_S;
                self.history.begin(self.now, STEP_S);
                self.history.push(kept);
                return;
            }
            let dt = self.next_step();
            if dt != self.stepped {
                self.stepped = dt;
                let kept = self.kept();
                self.history.begin(self.solved, dt);
                self.history.push(kept);
            }
            self.before = Some((self.solved, self.state.clone()));
            self.step(dt);
            self.solved += dt;
            let kept = self.kept();
            self.history.push(kept);
        }
    }

    /// Takes back what was solved beyond now: something else is put out from here on.
    fn cut(&mut self) {
        self.solve();
        if self.solved > self.now + 1e-12
            && let Some((from, state)) = self.before.take()
        {
            self.state = state;
            self.edges.retain(|edge| edge.time.si() <= from + 1e-15);
            self.solved = from;
            let part = self.now - from;
            self.step(part);
            self.solved = self.now;
        }
        self.begin_run();
    }

    fn step(&mut self, dt: f64) {
        let now = self.solved;
        self.coils_step(now, dt);
        let places: Vec<f64> = self.state.drives.iter().map(|d| d.place).collect();
        for (drive, of) in self.state.drives.iter_mut().zip(&self.truth.drives) {
            let was = drive.motion;
            drive.step(of, now, dt);
            // What closes has spent its spring.
            if drive.motion == Motion::Closing && was != Motion::Closing {
                self.state.is_charged = self.truth.motor.is_none();
                if self.truth.motor.is_some() {
                    self.edges.push(edge(CHARGED, now + dt, false));
                }
            }
        }
        self.contacts_step(&places, now, dt);
        if self.charges()
            && let Some(of) = &self.truth.motor
        {
            if let Some(at) = self.state.motor.step(of, dt) {
                self.state.is_charged = true;
                self.edges.push(edge(CHARGED, now + at, true));
            }
        } else if !self.charges() {
            self.state.motor.rest();
        }
        let (due, later): (Vec<Edge>, Vec<Edge>) = std::mem::take(&mut self.state.coming)
            .into_iter()
            .partition(|edge| edge.time.si() <= now + dt);
        self.state.coming = later;
        self.edges.extend(due);
        self.edges.sort_by(|a, b| a.time.si().total_cmp(&b.time.si()));
    }

    fn coils_step(&mut self, now: f64, dt: f64) {
        for drive in 0..self.state.drives.len() {
            for k in 0..self.truth.coils.len() {
                let volts = self.at_coil(drive, k);
                let of = &self.truth.coils[k];
                if !self.state.coils[drive][k].step(of, volts, dt) {
                    continue;
                }
                let it = &self.state.drives[drive];
                let [closing, opening] = self.truth.drives[drive].latch_s;
                let scatter = self.noise.draw(self.truth.scatter_s);
                let late = |latch: f64| now + dt + (latch + scatter).max(0.0);
                let can_close = it.is_open() && self.state.is_charged && !self.truth.held_off;
                let can_open = it.is_closed() || it.motion == Motion::Closing;
                match of.closes {
                    true if can_close && it.due.is_none() => {
                        self.state.drives[drive].due = Some((late(closing), Motion::Closing));
                    }
                    false if can_open && it.due.is_none() => {
                        self.state.drives[drive].due = Some((late(opening), Motion::Opening));
                    }
                    _ => {}
                }
            }
        }
    }

    fn contacts_step(&mut self, places: &[f64], now: f64, dt: f64) {
        for k in 0..self.truth.contacts.len() {
            let of = &self.truth.contacts[k];
            let (from, to) = (places[of.drive], self.state.drives[of.drive].place);
            let touches = if to > from { to >= of.touch } else { to > of.touch };
            if touches == self.state.touching[k] {
                continue;
            }
            self.state.touching[k] = touches;
            let at = now + dt * ((of.touch - from) / (to - from)).clamp(0.0, 1.0) + of.lag_s;
            let coming = &mut self.state.coming;
            // What parts does not bounce any more.
            coming.retain(|edge| edge.signal != *of.name.as_str() || edge.time.si() < at);
            coming.push(edge(&of.name, at, touches));
            if touches {
                let (mut open, less) = of.bounce;
                let mut time = at;
                while open > 5e-5 {
                    // It stays closed for about as long between.
                    let opens = time + 0.6 * open;
                    coming.push(edge(&of.name, opens, false));
                    coming.push(edge(&of.name, opens + open, true));
                    time = opens + open;
                    open *= less;
                }
            }
        }
        for (k, of) in self.truth.auxiliaries.iter().enumerate() {
            let (from, to) = (places[0], self.state.drives[0].place);
            let at = if to > from { of.at.0 } else { of.at.1 };
            let is_beyond = to >= at;
            let crosses = (from < at) == is_beyond && from != to;
            let closed = of.follows == is_beyond;
            if of.is_welded || !crosses || closed == self.state.auxiliary[k] {
                continue;
            }
            self.state.auxiliary[k] = closed;
            let time = now + dt * ((at - from) / (to - from)).clamp(0.0, 1.0);
            self.state.coming.push(edge(&of.name, time, closed));
        }
    }

    /// What is looked at now.
    fn kept(&self) -> [f64; KEPT] {
        let mut all = [0.0; KEPT];
        for (k, kept) in all.iter_mut().enumerate().take(self.truth.coils.len()) {
            *kept = self.state.coils.iter().map(|of_drive| of_drive[k].amps).sum();
        }
        let place = self.state.drives[0].place;
        all[MOTOR] = self.state.motor.amps;
        all[TRAVEL] = place * self.truth.transducer_v.unwrap_or(0.0);
        all[CONTROL] = self.control(self.solved);
        let ohm = self.resistance(self.at);
        let [amps, volts] = match ohm {
            Some(ohm) => [self.pole_a, self.pole_a * ohm],
            None => [0.0, if self.pole_a == 0.0 { 0.0 } else { OPEN_V.copysign(self.pole_a) }],
        };
        (all[POLE_A], all[POLE_V]) = (amps, volts);
        all
    }

    /// The resistance of a main contact where it is; nothing where it is open.
    fn resistance(&self, contact: usize) -> Option<f64> {
        let of = &self.truth.contacts[contact];
        let drive = &self.state.drives[of.drive];
        // Behind its drive by its lag.
        let force = match drive.motion {
            Motion::Closing => self.truth.drives[of.drive].closing,
            Motion::Opening => -self.truth.drives[of.drive].opening,
            Motion::Resting => 0.0,
        };
        // Before it began to move it rested.
        let moved_s = if force == 0.0 { 0.0 } else { (drive.speed / force).abs() };
        let back_s = of.lag_s.min(moved_s);
        let place = drive.place - drive.speed * back_s + 0.5 * force * back_s * back_s;
        // What lags behind touches when its own place says so.
        let touches = of.lag_s > 0.0 || self.state.touching[contact];
        if !touches || place < of.touch {
            return None;
        }
        let (ohm, over) = of.arcing;
        let near = if over > 0.0 { 1.0 - (place - of.touch) / over } else { 0.0 };
        // The main contact leaves its counterpart before the arcing one does.
        Some(of.resistance_ohm + (ohm - of.resistance_ohm).max(0.0) * smooth(near))
    }
}

/// From 0 to 1 without a corner.
fn smooth(x: f64) -> f64 {
    let x = x.clamp(0.0, 1.0);
    x * x * (3.0 - 2.0 * x)
}

/// What the limit switch of the spring is called.
const CHARGED: &str = "spring charged";

/// What the switch of the motor's supply is called.
const MOTOR_SUPPLY: &str = "motor supply";

fn edge(signal: &str, time: f64, closed: bool) -> Edge {
    Edge { signal: signal.into(), time: seconds(time), closed }
}

impl Breaker {
    /// Where what a meter is connected to is kept.
    fn look(&self, meaning: &Name) -> Option<usize> {
        let coil = |c: &CoilTruth| *meaning == *format!("{} coil current", c.name);
        match meaning.as_str() {
            "motor current" => self.truth.motor.as_ref().map(|_| MOTOR),
            "travel" => self.truth.transducer_v.map(|_| TRAVEL),
            "control voltage" => Some(CONTROL),
            "pole current" => Some(POLE_A),
            "pole voltage" => Some(POLE_V),
            _ => self.truth.coils.iter().position(coil),
        }
    }

    fn tell(&mut self, edge: &Edge) {
        self.closed.retain(|name| *name != edge.signal);
        if edge.closed {
            self.closed.push(edge.signal.clone());
        }
    }

    /// Steps go on from here with what is put out now.
    fn begin_run(&mut self) {
        let kept = self.kept();
        self.stepped = STEP_S;
        self.history.begin(self.now, STEP_S);
        self.history.push(kept);
    }
}
