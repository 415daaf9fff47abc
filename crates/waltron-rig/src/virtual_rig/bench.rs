//! A specimen with what is put out on it: what the player plays on in virtual time.

use super::errors::Errors;
use super::input::Moment;
use super::look::Look;
use super::output::Outputs;
use crate::player::{Charge, Device, Here};
use waltron_core::injection::capability::Capability;
use waltron_core::injection::measuring::{Probe, Reading};
use waltron_core::injection::observation::Edge;
use waltron_core::injection::program::Stand;
use waltron_core::injection::samples::PhaseClock;
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::{Measure, Time};
use waltron_core::text::name::Name;
use waltron_specimen::{Noise, Specimen, Window};

/// The specimen on its bench.
pub(super) struct Bench {
    pub(super) specimen: Box<dyn Specimen>,
    capability: Capability,
    errors: Errors,
    /// What is asked for now.
    pub(super) out: Stimulus,
    pub(super) energised: bool,
    clock: PhaseClock,
    noise: Noise,
    /// Switches that are closed.
    closed: Vec<Name>,
    charge: Charge,
    /// How far the injection is, by the rig's clock, and by the world's.
    at: Time,
    passed: Time,
}

impl Bench {
    /// A specimen on a rig that is off as this seed says.
    pub(super) fn new(specimen: Box<dyn Specimen>, capability: Capability, seed: u64) -> Self {
        let errors = Errors::new(&capability, seed);
        Self {
            noise: errors.noise(0),
            specimen,
            capability,
            errors,
            out: Stimulus::off(),
            energised: false,
            clock: PhaseClock::default(),
            closed: Vec::new(),
            charge: Charge::default(),
            at: Time::default(),
            passed: Time::default(),
        }
    }

    /// From now on it is off as this seed says.
    pub(super) fn err_by(&mut self, seed: u64) {
        self.errors = Errors::new(&self.capability, seed);
        self.noise = self.errors.noise(0);
    }

    /// Begins an injection that gets this draw of scatter.
    pub(super) fn begin(&mut self, draw: u64) {
        self.specimen.begin(draw);
        (self.at, self.passed) = (Time::default(), Time::default());
        self.clock = PhaseClock::default();
        self.noise = self.errors.noise(draw);
        self.energised = true;
    }

    /// Lets so much more time pass with what is on; nobody counts the contacts' changes meanwhile.
    pub(super) fn pass(&mut self, time: Time) {
        let until = self.at + time;
        while self.advance(until).is_some() {}
    }

    /// Looks at everything that can be measured.
    fn look<T>(&mut self, here: Here<'_>, look: impl FnOnce(&mut Look<'_>, &mut Noise) -> T) -> T {
        let outputs = match here.pieces {
            Some(pieces) => Outputs::of_last(here.capability, pieces),
            None => Outputs::of_now(here.capability, &self.out),
        };
        let moment = Moment {
            now: self.errors.true_time(here.now.si()),
            level_start: self.errors.true_time(here.level_start.si()),
            nominal: self.out.frequency().map_or(50.0, Measure::si).max(1.0),
            clock: &self.clock,
        };
        let mut all = Look::new(here.capability, &*self.specimen, moment, outputs, &self.errors);
        look(&mut all, &mut self.noise)
    }
}

impl Device for Bench {
    fn put_out(&mut self, now: Time, stimulus: Stimulus) {
        let really = self.errors.put_out(&self.capability, &stimulus);
        self.specimen.apply(&really);
        self.clock.apply(self.errors.true_time(now.si()), &really);
        self.out = stimulus;
    }

    fn out(&self) -> &Stimulus {
        &self.out
    }

    fn advance(&mut self, until: Time) -> Option<Edge> {
        let true_until = Time::from_si(self.errors.true_time(until.si())).max(self.passed);
        let change = self.specimen.advance(true_until);
        self.passed = change.as_ref().map_or(true_until, |edge| edge.time);
        // Told late or early, but never in another order.
        let told = |edge: Edge| {
            let time = self.errors.told_change(&edge.signal, edge.time).max(self.at);
            Edge { time, ..edge }
        };
        let change = change.map(told);
        self.at = change.as_ref().map_or(until, |edge| edge.time);
        change
    }

    fn switch(&mut self, output: &Name, closed: bool) {
        self.closed.retain(|name| name != output);
        if closed {
            self.closed.push(output.clone());
        }
        self.specimen.switch(output, closed);
    }

    fn hand(&mut self, to: &Stand) {
        self.specimen.hand(to);
    }

    fn values(&mut self, probes: &[&Probe], here: Here<'_>) -> Vec<Option<f64>> {
        self.look(here, |look, noise| probes.iter().map(|p| look.value(p, noise)).collect())
    }

    fn read(&mut self, probes: &[&Probe], here: Here<'_>) -> Vec<Reading> {
        let place = here.place;
        self.look(here, |look, noise| {
            probes.iter().map(|p| look.reading(p, place, noise)).collect()
        })
    }

    fn samples(&self, of: &Name, start_s: f64, rate_hz: f64, count: usize) -> Option<Vec<f64>> {
        let window = Window {
            start_s: self.errors.true_time(start_s),
            rate_hz: self.errors.told_time(rate_hz),
            count,
        };
        let mut samples = self.specimen.samples(of, window)?;
        if let Some(meter) = self.capability.meter(of.as_str()) {
            self.errors.sampled(meter, &mut samples);
            // Its scatter is of the injection, and the same again where it is looked at again.
            let mut noise = self.noise.clone();
            if let Some(width) = meter.noise {
                samples
                    .iter_mut()
                    .for_each(|s| *s += noise.draw(width.limits(s.abs()).1 - s.abs()));
            }
        }
        Some(samples)
    }

    fn off(&mut self) {
        self.out = Stimulus::off();
        self.specimen.apply(&self.out);
        for name in std::mem::take(&mut self.closed) {
            self.specimen.switch(&name, false);
        }
        self.energised = false;
    }

    fn charge(&self) -> Charge {
        self.charge
    }

    fn note_charge(&mut self, charge: Charge) {
        self.charge = charge;
    }
}
