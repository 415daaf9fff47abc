//! A simulated multi-stage overcurrent relay.

mod element;
mod form;
mod measure;
#[cfg(test)]
mod tests;

pub use element::TrueElement;
pub use measure::TrueMeasure;

pub(crate) use form::{ElementForm, elements};

use crate::noise::Noise;
use crate::{Specimen, Unconnected};
use element::Running;
use measure::{FrequencyHistory, RATE_WINDOW_S};
use std::collections::VecDeque;
use waltron_core::asset::readback::ReadSetting;
use waltron_core::injection::capability::Capability;
use waltron_core::injection::observation::Edge;
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::{Measure, Time, seconds};
use waltron_core::text::name::Name;

/// What the relay is really like.
#[derive(Clone, Debug, PartialEq)]
pub struct Truth {
    /// From a change of the input to the elements seeing it, in seconds.
    pub measuring_delay_s: f64,
    /// From a decision to the contact, in seconds.
    pub contact_delay_s: f64,
    /// Standard deviation of the measured current, as a share.
    pub current_noise: f64,
    /// Standard deviation of the operate time, in seconds.
    pub time_noise_s: f64,
    /// The elements.
    pub elements: Vec<TrueElement>,
}

/// A change of one element's output on its way to the contact.
#[derive(Clone, Debug)]
struct Pending {
    at: f64,
    element: usize,
    signal: Name,
    closes: bool,
}

/// The simulated relay in virtual time.
#[derive(Clone, Debug)]
pub struct Relay {
    truth: Truth,
    seed: u64,
    now: f64,
    /// What each element will see, and from when: the measuring delay's queue.
    inputs: VecDeque<(f64, Vec<f64>)>,
    frequency: FrequencyHistory,
    /// What is put out now.
    stimulus: Stimulus,
    /// Binary inputs that are on.
    blocking: Vec<Name>,
    /// When the rate of change of frequency fades, if nothing is applied meanwhile.
    rate_fades: Option<f64>,
    running: Vec<Running>,
    outputs: Vec<Pending>,
    /// How many elements hold each contact closed.
    held: Vec<(Name, usize)>,
    noise: Noise,
    /// Share by which this injection's measured current is off.
    gain: f64,
    display: Vec<ReadSetting>,
}

impl Relay {
    /// A relay at rest.
    pub fn new(truth: Truth, seed: u64) -> Self {
        let mut held: Vec<(Name, usize)> = Vec::new();
        for name in truth.elements.iter().flat_map(|e| [&e.trip, &e.start]) {
            if !held.iter().any(|(n, _)| n == name) {
                held.push((name.clone(), 0));
            }
        }
        let running = truth.elements.iter().map(Running::at_rest).collect();
        Self {
            truth,
            seed,
            now: 0.0,
            inputs: VecDeque::new(),
            frequency: FrequencyHistory::default(),
            stimulus: Stimulus::off(),
            blocking: Vec::new(),
            rate_fades: None,
            running,
            outputs: Vec::new(),
            held,
            noise: Noise::of_shot(seed, 0),
            gain: 1.0,
            display: Vec::new(),
        }
    }

    /// A relay that tells these settings when it is asked.
    #[must_use]
    pub fn with_display(mut self, display: Vec<ReadSetting>) -> Self {
        self.display = display;
        self
    }

    /// Queues what the elements see of what is put out now.
    fn see(&mut self, rate: f64) {
        let multiple = |e: &TrueElement| {
            if e.blocked_by.as_ref().is_some_and(|input| self.blocking.contains(input)) {
                return 0.0;
            }
            e.measures.multiple(&self.stimulus, rate, e.pickup, self.gain)
        };
        let seen = self.truth.elements.iter().map(multiple).collect();
        self.inputs.push_back((self.now + self.truth.measuring_delay_s, seen));
    }

    /// Time of the first thing that will happen inside the relay if the input stays.
    fn next_inside(&self) -> f64 {
        let fades = self.rate_fades.unwrap_or(f64::INFINITY);
        let input = self.inputs.front().map_or(f64::INFINITY, |(at, _)| *at).min(fades);
        let decisions = self
            .truth
            .elements
            .iter()
            .zip(&self.running)
            .map(|(element, running)| running.next_decision(element));
        decisions.fold(input, f64::min)
    }

    /// Time and index of the first contact change on its way.
    fn next_output(&self) -> Option<(f64, usize)> {
        let times = self.outputs.iter().enumerate().map(|(i, p)| (p.at, i));
        times.min_by(|a, b| a.0.total_cmp(&b.0))
    }

    fn step_inside(&mut self, to: f64) {
        self.now = to;
        for (element, running) in self.truth.elements.iter().zip(&mut self.running) {
            running.pass(element, to);
        }
        if self.rate_fades.is_some_and(|at| at <= to) {
            self.rate_fades = None;
            self.see(0.0);
        }
        if self.inputs.front().is_some_and(|(at, _)| *at <= to)
            && let Some((_, seen)) = self.inputs.pop_front()
        {
            for (running, multiple) in self.running.iter_mut().zip(seen) {
                running.sees(multiple);
            }
        }
        for (index, element) in self.truth.elements.iter().enumerate() {
            if !element.enabled {
                continue;
            }
            for (signal, closes) in self.running[index].decide(element) {
                // The timing scatter of an operation sits in its output stage.
                let scatter = if closes { self.noise.draw(self.truth.time_noise_s) } else { 0.0 };
                let at = to + (self.truth.contact_delay_s + scatter).max(0.0);
                let own = |p: &Pending| p.element == index && p.signal == signal && p.at > at;
                // What is taken back before the contact has followed never shows.
                if let Some(overtaken) = self.outputs.iter().position(own) {
                    self.outputs.remove(overtaken);
                    continue;
                }
                self.outputs.push(Pending { at, element: index, signal, closes });
            }
        }
    }

    /// Applies a contact change; returns an edge if the contact itself changes.
    fn step_output(&mut self, index: usize) -> Option<Edge> {
        let Pending { at, signal, closes, .. } = self.outputs.remove(index);
        self.now = self.now.max(at);
        let held = self.held.iter_mut().find(|(n, _)| *n == signal)?;
        let before = held.1;
        held.1 = if closes { before + 1 } else { before.saturating_sub(1) };
        let changed = (before == 0) != (held.1 == 0);
        changed.then(|| Edge { signal, time: seconds(self.now), closed: closes })
    }
}

impl Specimen for Relay {
    fn begin(&mut self, shot: u64) {
        let shift = self.now;
        self.now = 0.0;
        self.inputs.iter_mut().for_each(|(at, _)| *at -= shift);
        self.outputs.iter_mut().for_each(|p| p.at -= shift);
        self.frequency.shift(shift);
        self.rate_fades = self.rate_fades.map(|at| at - shift);
        self.running.iter_mut().for_each(|r| r.shift(shift));
        self.noise = Noise::of_shot(self.seed, shot);
        self.gain = 1.0 + self.noise.draw(self.truth.current_noise);
    }

    fn settings(&self) -> Vec<ReadSetting> {
        self.display.clone()
    }

    fn connect(&mut self, rig: &Capability) -> Result<(), Unconnected> {
        let inputs = || self.truth.elements.iter().filter_map(|e| e.blocked_by.as_ref());
        let unknown = rig.switches.iter().map(|s| &s.meaning).find(|m| !inputs().any(|i| i == *m));
        // A relay measures for itself: there is nothing at it that a meter could be connected to.
        match unknown.or_else(|| rig.meters.first().map(|m| &m.meaning)) {
            Some(meaning) => Err(Unconnected { meaning: meaning.clone(), has: Vec::new() }),
            None => Ok(()),
        }
    }

    fn switch(&mut self, meaning: &Name, closed: bool) {
        self.blocking.retain(|input| input != meaning);
        if closed {
            self.blocking.push(meaning.clone());
        }
        self.see(self.frequency.rate());
    }

    fn apply(&mut self, stimulus: &Stimulus) {
        self.frequency.see(self.now, stimulus.frequency().map(Measure::si));
        self.stimulus = stimulus.clone();
        let rate = self.frequency.rate();
        self.rate_fades = (rate != 0.0).then_some(self.now + RATE_WINDOW_S);
        self.see(rate);
    }

    fn advance(&mut self, to: Time) -> Option<Edge> {
        let to = to.si();
        loop {
            let inside = self.next_inside();
            if let Some((at, index)) = self.next_output()
                && at <= inside
                && at <= to
            {
                if let Some(edge) = self.step_output(index) {
                    return Some(edge);
                }
            } else if inside <= to {
                self.step_inside(inside.max(self.now));
            } else {
                for (element, running) in self.truth.elements.iter().zip(&mut self.running) {
                    running.pass(element, to);
                }
                self.now = self.now.max(to);
                return None;
            }
        }
    }

    fn closed(&self) -> Vec<Name> {
        self.held.iter().filter(|(_, n)| *n > 0).map(|(name, _)| name.clone()).collect()
    }
}
