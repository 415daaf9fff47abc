//! Overcurrent functions.

use num_complex::Complex64;
use std::sync::Arc;
use waltron_core::asset::Function;
use waltron_core::characteristic::{Acceptance, Characteristic, Form, acceptance};
use waltron_core::injection::stimulus::Stimulus;
use waltron_core::quantity::measures::Measures;
use waltron_core::quantity::tolerance::{AnyTolerance, Tolerance};
use waltron_core::quantity::{
    Angle, Current, Dimension, Measure, Quantity, Ratio, Time, parse_as, seconds,
};

/// How far measured values may lie from the settings.
#[derive(Clone, Debug, PartialEq)]
pub struct Tolerances {
    /// Of currents: pickup, and carried through the time characteristic.
    pub current: Tolerance<Current>,
    /// Of operate times.
    pub time: Tolerance<Time>,
    /// Of angles, where given.
    pub angle: Option<Tolerance<Angle>>,
    /// Of the reset ratio.
    pub reset_ratio: Tolerance<Ratio>,
}

/// An overcurrent function with its settings: ANSI/IEEE C37.2 50, 51.
#[derive(Clone, Debug, PartialEq)]
pub struct Overcurrent {
    /// What it measures.
    pub measures: Measures,
    /// The setting, in secondary amperes.
    pub pickup: Current,
    /// Dropout as a share of pickup, where declared.
    pub reset_ratio: Option<Ratio>,
    /// Its time characteristic.
    pub characteristic: Characteristic,
    /// What its measured values are graded against.
    pub tolerances: Tolerances,
    /// The longest time from pickup to its start contact, where declared (start time, IEC
    /// 60255-151:2009, clause 3).
    pub start_time: Option<Time>,
}

impl Overcurrent {
    /// What the element should do with given phase currents.
    pub fn acceptance(&self, phases: [Complex64; 3]) -> Acceptance {
        self.band(self.measures.value(phases))
    }

    /// Whether the element may have picked up with given phase currents: its true pickup may lie as
    /// low as the tolerance of its pickup allows.
    pub fn may_pick_up(&self, phases: [Complex64; 3]) -> bool {
        self.measures.value(phases) > self.tolerances.current.lower(self.pickup)
    }

    /// How long a level lasts on which the start contact is to answer: twice its start time, since
    /// nobody is quick just above the setting; 200 ms where none is declared.
    pub fn start_dwell(&self) -> Time {
        self.start_time.map_or(seconds(0.2), |t| t * 2.0)
    }

    /// What it should do with what it sees.
    fn band(&self, seen: Current) -> Acceptance {
        let t = &self.tolerances;
        acceptance(&self.characteristic, self.pickup, seen, &t.current, &t.time)
    }
}

impl Function for Overcurrent {
    fn name(&self) -> &'static str {
        "overcurrent"
    }

    fn setting(&self) -> Quantity {
        Quantity::of(self.pickup)
    }

    fn values(&self) -> Vec<(&'static str, Quantity)> {
        let mut all = vec![("pickup", Quantity::of(self.pickup))];
        all.extend(self.reset_ratio.map(|r| ("reset_ratio", Quantity::of(r))));
        let c = &self.characteristic;
        match &c.form {
            Form::Definite { delay } => all.push(("delay", Quantity::of(*delay))),
            Form::Inverse { tms, .. } | Form::Table { tms, .. } => {
                all.push(("tms", Quantity::number(*tms)));
            }
            Form::SquaredCurrent { at_pickup } => all.push(("k", Quantity::of(*at_pickup))),
            Form::Thermal { tau, preload } => {
                all.push(("tau", Quantity::of(*tau)));
                all.push(("preload", Quantity::number(*preload)));
            }
        }
        if c.reset_time().si() > 0.0 {
            all.push(("reset_time", Quantity::of(c.reset_time())));
        }
        all
    }

    fn words(&self) -> Vec<(&'static str, String)> {
        let measures = self.measures.name().to_owned();
        vec![("measures", measures), ("curve", self.characteristic.words())]
    }

    fn tolerances(&self) -> Vec<(&'static str, AnyTolerance)> {
        let Tolerances { current, time, angle, reset_ratio } = &self.tolerances;
        let mut all = vec![("current", current.any()), ("time", time.any())];
        all.extend(angle.map(|angle| ("angle", angle.any())));
        all.push(("reset_ratio", reset_ratio.any()));
        all
    }

    fn with(&self, key: &str, value: &str) -> Option<Arc<dyn Function>> {
        let number = |dimension| parse_as(value, dimension).ok();
        let mut new = self.clone();
        match (key, &mut new.characteristic.form) {
            ("pickup", _) => {
                let pickup = number(Dimension::CURRENT).filter(|i| *i > 0.0)?;
                new.pickup = Measure::from_si(pickup);
            }
            ("reset_ratio", _) => {
                new.reset_ratio = Some(Measure::from_si(number(Dimension::NUMBER)?));
            }
            ("tms", Form::Inverse { tms, .. } | Form::Table { tms, .. }) => {
                *tms = number(Dimension::NUMBER).filter(|n| *n > 0.0)?;
            }
            ("delay", Form::Definite { delay }) => {
                *delay = Measure::from_si(number(Dimension::TIME)?);
            }
            _ => return None,
        }
        Some(Arc::new(new))
    }

    fn required(&self, out: &Stimulus) -> Acceptance {
        self.acceptance(out.complex_phase_currents())
    }

    fn required_at(&self, multiple: f64) -> Acceptance {
        self.band(self.pickup * multiple)
    }

    /// With a quarter in hand.
    fn settling(&self) -> Time {
        let reset = self.characteristic.reset_time();
        if reset > Time::default() { self.tolerances.time.upper(reset) * 1.25 } else { reset }
    }
}
