//! A simulated auxiliary supply: it settles to its set voltage and may limit its current.

mod form;

pub(crate) use form::SupplyForm;

use crate::{Noise, Specimen};
use waltron_core::injection::capability::ParameterValue;
use waltron_core::injection::observation::Edge;
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::{Measure, Time};
use waltron_core::text::name::Name;

/// What the supply is really like.
#[derive(Clone, Debug, PartialEq)]
pub struct SupplyTruth {
    /// Set voltage when it is switched on, in volts.
    pub voltage_v: f64,
    /// Time constant with which it settles, in seconds.
    pub settling_s: f64,
    /// The load, in ohms.
    pub load_ohm: f64,
    /// More current than the load's, decaying with `settling_s` from switching on, in amperes.
    pub inrush_a: f64,
    /// The current it limits to, in amperes; infinite where it does not.
    pub limit_a: f64,
    /// Gain of the output against the set value.
    pub gain: f64,
    /// Standard deviation of a reading, as a share.
    pub noise: f64,
}

/// The simulated supply in virtual time. It has no contacts.
#[derive(Clone, Debug)]
pub struct Supply {
    truth: SupplyTruth,
    seed: u64,
    on: bool,
    set_v: f64,
    /// Open-circuit voltage now.
    source_v: f64,
    inrush_a: f64,
    now: f64,
    shot: u64,
    reads: std::cell::Cell<u64>,
}

impl Supply {
    /// A supply that is switched off.
    pub fn new(truth: SupplyTruth, seed: u64) -> Self {
        let set_v = truth.voltage_v;
        let reads = std::cell::Cell::new(0);
        Self {
            truth,
            seed,
            on: false,
            set_v,
            source_v: 0.0,
            inrush_a: 0.0,
            now: 0.0,
            shot: 0,
            reads,
        }
    }

    fn pass(&mut self, to: f64) {
        let target = if self.on { self.set_v * self.truth.gain } else { 0.0 };
        let kept = (-(to - self.now).max(0.0) / self.truth.settling_s).exp();
        self.source_v = target + (self.source_v - target) * kept;
        self.inrush_a *= kept;
        self.now = to;
    }

    /// Voltage and current at the terminals: the limit lowers the voltage, as a limiter does.
    fn terminals(&self) -> (f64, f64) {
        let wanted = self.source_v / self.truth.load_ohm + self.inrush_a;
        if wanted > self.truth.limit_a {
            let share = self.truth.limit_a / wanted;
            return (self.source_v * share, self.truth.limit_a);
        }
        (self.source_v, wanted)
    }
}

impl Specimen for Supply {
    fn begin(&mut self, shot: u64) {
        self.shot = shot;
        self.now = 0.0;
        self.reads.set(0);
    }

    fn apply(&mut self, _stimulus: &Stimulus) {}

    fn advance(&mut self, to: Time) -> Option<Edge> {
        self.pass(to.si());
        None
    }

    fn closed(&self) -> Vec<Name> {
        Vec::new()
    }

    fn reading(&self, name: &str) -> Option<f64> {
        let (voltage, current) = self.terminals();
        let value = match name {
            "supply.voltage" => voltage,
            "supply.current" => current,
            _ => return None,
        };
        // Each reading of an injection has its own scatter.
        self.reads.set(self.reads.get() + 1);
        let mut noise = Noise::of_shot(self.seed ^ self.reads.get(), self.shot);
        Some(value * (1.0 + noise.draw(self.truth.noise)))
    }

    fn set(&mut self, name: &str, value: ParameterValue) -> bool {
        match (name, value) {
            ("supply.output", ParameterValue::Switch(on)) => {
                if on && !self.on {
                    self.inrush_a = self.truth.inrush_a;
                }
                self.on = on;
                true
            }
            ("supply.voltage", ParameterValue::Si(volts)) => {
                self.set_v = volts;
                true
            }
            _ => false,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use waltron_core::quantity::seconds;

    fn supply(limit_a: f64) -> Supply {
        let truth = SupplyTruth {
            voltage_v: 24.0,
            settling_s: 0.5,
            load_ohm: 24.0,
            inrush_a: 0.0,
            limit_a,
            gain: 1.0,
            noise: 0.0,
        };
        let mut supply = Supply::new(truth, 1);
        supply.begin(1);
        assert!(supply.set("supply.output", ParameterValue::Switch(true)));
        supply
    }

    #[test]
    fn it_settles_exponentially_and_keeps_its_state_between_injections() {
        let mut s = supply(f64::INFINITY);
        s.advance(seconds(0.5));
        let expected = 24.0 * (1.0 - (-1f64).exp());
        assert!((s.reading("supply.voltage").unwrap() - expected).abs() < 1e-9);
        s.begin(2);
        s.advance(seconds(0.5));
        let expected = 24.0 * (1.0 - (-2f64).exp());
        assert!((s.reading("supply.voltage").unwrap() - expected).abs() < 1e-9);
        assert!(s.set("supply.output", ParameterValue::Switch(false)));
        s.advance(seconds(20.0));
        assert!(s.reading("supply.voltage").unwrap() < 1e-9);
    }

    #[test]
    fn the_limit_holds_the_current_and_lowers_the_voltage() {
        let mut s = supply(0.6);
        s.advance(seconds(10.0));
        assert!((s.reading("supply.current").unwrap() - 0.6).abs() < 1e-9);
        assert!((s.reading("supply.voltage").unwrap() - 14.4).abs() < 1e-6);
        assert_eq!(s.reading("supply.power"), None);
        assert!(!s.set("supply.colour", ParameterValue::Switch(true)));
    }
}
