//! A specimen with what is put out on it: what the player plays on in virtual time.

use super::input::Moment;
use super::look::Look;
use super::output::Outputs;
use crate::player::{Charge, Device, Here};
use waltron_core::injection::measuring::{Probe, Reading};
use waltron_core::injection::observation::Edge;
use waltron_core::injection::program::Stand;
use waltron_core::injection::samples::PhaseClock;
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::{Measure, Time};
use waltron_core::text::name::Name;
use waltron_specimen::{Noise, Specimen, Window};

/// Seed of the rig's own measuring scatter, apart from the specimen's.
const METER_SEED: u64 = 0x5741_4c54;

/// The specimen on its bench.
pub(super) struct Bench {
    pub(super) specimen: Box<dyn Specimen>,
    /// What is out now.
    pub(super) out: Stimulus,
    pub(super) energised: bool,
    clock: PhaseClock,
    noise: Noise,
    /// Switches that are closed.
    closed: Vec<Name>,
    charge: Charge,
    /// How far the injection is.
    at: Time,
}

impl Bench {
    pub(super) fn new(specimen: Box<dyn Specimen>) -> Self {
        Self {
            specimen,
            out: Stimulus::off(),
            energised: false,
            clock: PhaseClock::default(),
            noise: Noise::of_shot(METER_SEED, 0),
            closed: Vec::new(),
            charge: Charge::default(),
            at: Time::default(),
        }
    }

    /// Begins an injection that gets this draw of scatter.
    pub(super) fn begin(&mut self, draw: u64) {
        self.specimen.begin(draw);
        self.at = Time::default();
        self.clock = PhaseClock::default();
        self.noise = Noise::of_shot(METER_SEED, draw);
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
            now: here.now.si(),
            level_start: here.level_start.si(),
            nominal: self.out.frequency().map_or(50.0, Measure::si).max(1.0),
            clock: &self.clock,
        };
        let mut all = Look::new(here.capability, &*self.specimen, moment, outputs);
        look(&mut all, &mut self.noise)
    }
}

impl Device for Bench {
    fn put_out(&mut self, now: Time, stimulus: Stimulus) {
        self.specimen.apply(&stimulus);
        self.clock.apply(now.si(), &stimulus);
        self.out = stimulus;
    }

    fn out(&self) -> &Stimulus {
        &self.out
    }

    fn advance(&mut self, until: Time) -> Option<Edge> {
        let change = self.specimen.advance(until);
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
        self.specimen.samples(of, Window { start_s, rate_hz, count })
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
