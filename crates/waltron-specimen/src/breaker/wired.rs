//! The breaker as a rig sees it: wired, fed, commanded, looked at.

use super::control::{Alternating, direct};
use super::motor::Motor;
use super::{Breaker, MOTOR_SUPPLY, POLE_V, STEP_S};
use crate::{Noise, Specimen, Unconnected, Window};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::observation::Edge;
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::{Measure, Time};
use waltron_core::text::name::Name;

impl Specimen for Breaker {
    fn begin(&mut self, shot: u64) {
        // What still moves comes to rest between two injections, and the station charges the spring.
        self.commands.fill(false);
        self.feeds_motor = false;
        if shot > 0 && self.charges() {
            self.state.motor = Motor::default();
            self.state.is_charged = true;
        }
        while shot > 0 && !self.is_still() {
            self.step(STEP_S);
            self.solved += STEP_S;
        }
        self.edges.clear();
        self.closed = self.contacts();
        self.shot = shot;
        self.noise = Noise::of_shot(self.seed, shot);
        (self.now, self.solved, self.before) = (0.0, 0.0, None);
        self.history.clear();
        self.begin_run();
    }

    fn connect(&mut self, rig: &Capability) -> Result<(), Unconnected> {
        let lacks = |meaning: &Name| Unconnected { meaning: meaning.clone(), has: Vec::new() };
        for current in &rig.currents {
            if current.meaning != *"pole current" {
                return Err(Unconnected { has: vec!["pole current"], ..lacks(&current.meaning) });
            }
            self.channels[1] = Some(current.id.clone());
        }
        for voltage in &rig.voltages {
            if voltage.meaning != *"control voltage" {
                return Err(Unconnected {
                    has: vec!["control voltage"],
                    ..lacks(&voltage.meaning)
                });
            }
            self.channels[0] = Some(voltage.id.clone());
            self.control_v = Some(0.0);
        }
        for switch in &rig.switches {
            let commands =
                self.truth.coils.iter().any(|c| switch.meaning == *format!("{} command", c.name));
            if switch.meaning == *MOTOR_SUPPLY {
                if let Some(motor) = &mut self.truth.motor {
                    motor.is_switched = true;
                }
            } else if !commands {
                return Err(lacks(&switch.meaning));
            }
        }
        rig.meters.iter().try_for_each(|meter| {
            self.look(&meter.meaning).map(|_| ()).ok_or_else(|| lacks(&meter.meaning))
        })
    }

    fn lead(&mut self, place: &Name) -> Result<(), Unconnected> {
        let found = self.truth.contacts.iter().position(|c| *place == *c.name.as_str());
        match found {
            Some(at) => self.at = at,
            None if place.as_str().is_empty() => self.at = 0,
            None => return Err(Unconnected { meaning: place.clone(), has: Vec::new() }),
        }
        Ok(())
    }

    fn apply(&mut self, stimulus: &Stimulus) {
        self.cut();
        if let Some(channel) = &self.channels[0] {
            self.control_v = Some(direct(&stimulus.voltages, channel));
            let alternating = Alternating::of(&stimulus.voltages, channel, self.now);
            self.control_ac = alternating;
        }
        if let Some(channel) = &self.channels[1] {
            self.pole_a = direct(&stimulus.currents, channel);
        }
        self.begin_run();
    }

    fn switch(&mut self, meaning: &Name, closed: bool) {
        self.cut();
        if *meaning == *MOTOR_SUPPLY {
            self.feeds_motor = closed;
        }
        for (coil, on) in self.truth.coils.iter().zip(&mut self.commands) {
            if *meaning == *format!("{} command", coil.name) {
                *on = closed;
            }
        }
        self.begin_run();
    }

    fn advance(&mut self, to: Time) -> Option<Edge> {
        let to = to.si();
        // Step by step, so that a change is told before anything else is put out.
        while self.edges.first().is_none_or(|edge| edge.time.si() > self.now) && self.now < to {
            self.now = if self.is_still() { to } else { (self.solved + self.next_step()).min(to) };
            self.solve();
        }
        let is_due = self.edges.first().is_some_and(|edge| edge.time.si() <= to);
        if !is_due {
            self.now = self.now.max(to);
            return None;
        }
        let first = self.edges.remove(0);
        self.now = self.now.min(first.time.si());
        self.tell(&first);
        Some(first)
    }

    fn closed(&self) -> Vec<Name> {
        self.closed.clone()
    }

    fn samples(&self, of: &Name, window: Window) -> Option<Vec<f64>> {
        let what = self.look(of)?;
        let Window { start_s, rate_hz, count } = window;
        let mut samples = self.history.samples(start_s, 1.0 / rate_hz, count, what);
        if self.truth.noise > 0.0 {
            // A voltage that jumps a thousandfold when the contact opens is told by ranges of its own.
            let by_itself = what == POLE_V;
            let largest = samples.iter().fold(0.0f64, |a, b| a.max(b.abs()));
            let place = (window.start_s * 1e6) as u64 ^ ((what as u64) << 56);
            let mut noise = Noise::of_shot(self.seed ^ place, self.shot);
            samples.iter_mut().for_each(|s| {
                let size = if by_itself { s.abs() } else { largest };
                *s += size * noise.draw(self.truth.noise);
            });
        }
        Some(samples)
    }
}
