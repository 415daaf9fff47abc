//! The linear circuit of a transformer, told on its secondary side.
//!
//! ```text
//!              R, L
//!   o----+----/\/\/---~~~----o    secondary terminals: a source, the burden, or a short circuit
//!        |
//!      Lm ‖ Rm                     e is the voltage here; the primary shows e over the turns ratio
//!        |
//!   o----+-------------------o
//! ```
//!
//! Every source is a sum of waves A·exp(s·t): s = jω for a sine, 0 for a direct value, -1/τ for a
//! decaying one. The current in Lm is the only state; what it is off from where the sources want it
//! dies away with the circuit's own time constant.

use num_complex::Complex64;

/// What the transformer is really like.
#[derive(Clone, Debug, PartialEq)]
pub struct TransformerTruth {
    /// Secondary over primary turns.
    pub turns: f64,
    /// Whether the secondary is connected the wrong way round.
    pub reversed: bool,
    /// Resistance of the secondary winding, in ohms; of a voltage transformer that of its short circuit.
    pub resistance_ohm: f64,
    /// Leakage inductance, in henries.
    pub leakage_h: f64,
    /// Magnetising inductance, in henries.
    pub magnetising_h: f64,
    /// Resistance beside it that stands for the core's losses, in ohms.
    pub losses_ohm: f64,
    /// The burden on the secondary; none: open.
    pub burden: Option<Burden>,
    /// Standard deviation of a sample, as a share of the largest one.
    pub noise: f64,
}

/// What is connected to the secondary.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Burden {
    /// In ohms.
    pub resistance_ohm: f64,
    /// In henries.
    pub inductance_h: f64,
}

/// A wave A·exp(s·t), of which the real part counts.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Wave {
    pub(super) s: Complex64,
    pub(super) a: Complex64,
}

/// Where something can be fed in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Feed {
    /// Nothing is fed in; the source shorts the secondary terminals.
    Off,
    PrimaryCurrent,
    PrimaryVoltage,
    SecondaryCurrent,
    SecondaryVoltage,
    BurdenCurrent,
}

/// What can be looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Look {
    PrimaryCurrent,
    PrimaryVoltage,
    SecondaryCurrent,
    SecondaryVoltage,
    BurdenCurrent,
    BurdenVoltage,
}

impl Feed {
    pub(super) const NAMES: [(&'static str, Self); 5] = [
        ("primary current", Self::PrimaryCurrent),
        ("primary voltage", Self::PrimaryVoltage),
        ("secondary current", Self::SecondaryCurrent),
        ("secondary voltage", Self::SecondaryVoltage),
        ("burden current", Self::BurdenCurrent),
    ];
}

impl Look {
    pub(super) const NAMES: [(&'static str, Self); 6] = [
        ("primary current", Self::PrimaryCurrent),
        ("primary voltage", Self::PrimaryVoltage),
        ("secondary current", Self::SecondaryCurrent),
        ("secondary voltage", Self::SecondaryVoltage),
        ("burden current", Self::BurdenCurrent),
        ("burden voltage", Self::BurdenVoltage),
    ];
}

/// What one wave of a source makes of the circuit: what each look shows, and the current in Lm.
struct Response {
    primary: [Complex64; 2],
    secondary: [Complex64; 2],
    burden: [Complex64; 2],
    magnetising: Complex64,
}

impl TransformerTruth {
    fn sign(&self) -> f64 {
        if self.reversed { -1.0 } else { 1.0 }
    }

    fn winding(&self, s: Complex64) -> Complex64 {
        self.resistance_ohm + s * self.leakage_h
    }

    fn core(&self, s: Complex64) -> Complex64 {
        let reactance = s * self.magnetising_h;
        reactance * self.losses_ohm / (reactance + self.losses_ohm)
    }

    fn load(&self, s: Complex64) -> Option<Complex64> {
        self.burden.map(|b| b.resistance_ohm + s * b.inductance_h)
    }

    /// The resistance that Lm sees where the source is gone.
    fn seen_by_core(&self, feed: Feed) -> f64 {
        let beside = |r: f64| r * self.losses_ohm / (r + self.losses_ohm);
        match feed {
            Feed::Off | Feed::SecondaryVoltage | Feed::BurdenCurrent => beside(self.resistance_ohm),
            Feed::SecondaryCurrent => self.losses_ohm,
            Feed::PrimaryCurrent => match self.burden {
                Some(burden) => beside(self.resistance_ohm + burden.resistance_ohm),
                None => self.losses_ohm,
            },
            Feed::PrimaryVoltage => beside(self.resistance_ohm),
        }
    }

    /// The pole of the circuit: what is left of a disturbance goes with exp(pole·t).
    pub(super) fn pole(&self, feed: Feed) -> f64 {
        -self.seen_by_core(feed) / self.magnetising_h
    }

    fn response(&self, feed: Feed, Wave { s, a }: Wave) -> Response {
        let (sign, zero) = (self.sign(), Complex64::ZERO);
        let (core, winding) = (self.core(s), self.winding(s));
        // What the core takes at a voltage; a direct voltage stays on no core.
        let taken = |e: Complex64| if s == zero { zero } else { e / (s * self.magnetising_h) };
        let up = |e: Complex64| e * sign / self.turns;
        let mut r = Response {
            primary: [zero; 2],
            secondary: [zero; 2],
            burden: [zero; 2],
            magnetising: zero,
        };
        match feed {
            Feed::Off => {}
            Feed::SecondaryVoltage => {
                let i = a / (winding + core);
                r.secondary = [i, a];
                r.primary[1] = up(i * core);
                r.magnetising = if s == zero { i } else { taken(i * core) };
            }
            Feed::SecondaryCurrent => {
                r.secondary = [a, a * (winding + core)];
                r.primary[1] = up(a * core);
                r.magnetising = if s == zero { a } else { taken(a * core) };
            }
            Feed::PrimaryCurrent => {
                let ideal = a * sign / self.turns;
                r.primary[0] = a;
                let e = match self.load(s) {
                    Some(load) => {
                        let i = ideal * core / (core + winding + load);
                        r.secondary = [i, i * load];
                        r.burden = r.secondary;
                        i * (winding + load)
                    }
                    None => {
                        r.secondary[1] = ideal * core;
                        ideal * core
                    }
                };
                r.primary[1] = up(e);
                r.magnetising = if s == zero { ideal } else { taken(e) };
            }
            Feed::PrimaryVoltage => {
                let e = a * sign * self.turns;
                let i = self.load(s).map_or(zero, |load| e / (winding + load));
                r.secondary = [i, e - i * winding];
                r.burden = if self.burden.is_some() { r.secondary } else { r.burden };
                let core_takes = if s == zero { zero } else { e / core };
                r.primary = [(i + core_takes) * sign * self.turns, a];
            }
            Feed::BurdenCurrent => {
                r.burden = [a, a * self.load(s).unwrap_or(zero)];
            }
        }
        r
    }

    /// What a look shows of one wave of a source.
    pub(super) fn shown(&self, feed: Feed, wave: Wave, look: Look) -> Complex64 {
        let r = self.response(feed, wave);
        match look {
            Look::PrimaryCurrent => r.primary[0],
            Look::PrimaryVoltage => r.primary[1],
            Look::SecondaryCurrent => r.secondary[0],
            Look::SecondaryVoltage => r.secondary[1],
            Look::BurdenCurrent => r.burden[0],
            Look::BurdenVoltage => r.burden[1],
        }
    }

    /// The current in Lm that one wave of a source wants.
    pub(super) fn magnetising(&self, feed: Feed, wave: Wave) -> Complex64 {
        self.response(feed, wave).magnetising
    }

    /// What a look shows of one ampere too much in Lm while it dies away.
    pub(super) fn left(&self, feed: Feed, look: Look) -> f64 {
        let e = -self.seen_by_core(feed);
        let to_short = -e / self.resistance_ohm;
        let through = match (feed, self.burden) {
            (Feed::PrimaryCurrent, Some(b)) => e / (self.resistance_ohm + b.resistance_ohm),
            _ => 0.0,
        };
        let burden = self.burden.map_or(0.0, |b| b.resistance_ohm);
        match (look, feed) {
            (_, Feed::PrimaryVoltage) => 0.0,
            (Look::PrimaryVoltage, _) => e * self.sign() / self.turns,
            (Look::SecondaryCurrent, Feed::Off | Feed::SecondaryVoltage | Feed::BurdenCurrent) => {
                to_short
            }
            (Look::SecondaryCurrent | Look::BurdenCurrent, Feed::PrimaryCurrent) => through,
            (Look::SecondaryVoltage, Feed::SecondaryCurrent) => e,
            (Look::SecondaryVoltage, Feed::PrimaryCurrent) if self.burden.is_none() => e,
            (Look::SecondaryVoltage | Look::BurdenVoltage, Feed::PrimaryCurrent) => {
                through * burden
            }
            _ => 0.0,
        }
    }
}
