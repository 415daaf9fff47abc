//! Cores of current transformers, windings of voltage transformers, and their taps.

use crate::instrument::analysis::{Class, Duty, Plate};
use crate::material::Material;
use waltron_core::quantity::{Quantity, significant};

/// A core with its secondary winding, or a secondary winding of a voltage transformer.
#[derive(Clone, Debug, PartialEq)]
pub struct Secondary {
    /// Its name: `1`.
    pub id: String,
    /// Rated secondary current or voltage.
    pub secondary: Quantity,
    /// What its winding is made of.
    pub material: Material,
    /// The temperature at which resistances are told, in K.
    pub reference_k: f64,
    /// Its taps, at least one; the whole winding is the one of the largest ratio.
    pub taps: Vec<Tap>,
}

/// A part of a winding with a ratio of its own, as its nameplate tells it.
#[derive(Clone, Debug, PartialEq)]
pub struct Tap {
    /// The terminals, such as `1S1-1S3`; empty where the file names none.
    pub terminals: String,
    /// Rated primary current or voltage at this tap.
    pub primary: Option<Quantity>,
    /// Turns of the primary there: 2 where its halves are in series.
    pub primary_turns: f64,
    /// Accuracy class.
    pub class: Option<Class>,
    /// Rated burden, in VA.
    pub burden_va: Option<f64>,
    /// Its power factor, where it is not the standard's.
    pub power_factor: Option<f64>,
    /// Rated continuous current of a measuring class, as a share of the rated one.
    pub extended: f64,
    /// Rated instrument security factor.
    pub security_factor: Option<f64>,
    /// Rated voltage factor of a voltage transformer's protection class.
    pub voltage_factor: Option<f64>,
    /// Rated knee-point e.m.f., in V.
    pub knee_v: Option<f64>,
    /// The largest exciting current in A, and at which share of the rated knee point.
    pub exciting: Option<(f64, f64)>,
    /// Resistance of the winding at the reference temperature as its maker tells it, in ohms.
    pub resistance_ohm: Option<f64>,
    /// What a transient class is rated for.
    pub duty: Option<Duty>,
    /// The largest voltage that may be put on it for a test, in V: at other taps it induces the winding's.
    pub test_voltage_v: Option<f64>,
    /// The largest current that its winding carries in a test, in A.
    pub test_current_a: Option<f64>,
}

impl Default for Tap {
    fn default() -> Self {
        Self {
            terminals: String::new(),
            primary: None,
            primary_turns: 1.0,
            class: None,
            burden_va: None,
            power_factor: None,
            extended: 1.2,
            security_factor: None,
            voltage_factor: None,
            knee_v: None,
            exciting: None,
            resistance_ohm: None,
            duty: None,
            test_voltage_v: None,
            test_current_a: None,
        }
    }
}

impl Tap {
    /// What goes with its secondary turns: ampere-turns, or volts a turn of the primary.
    pub(super) fn span(&self) -> Option<f64> {
        Some(self.primary?.si * self.primary_turns)
    }
}

impl Secondary {
    /// Rated primary over rated secondary of a tap, where it is known.
    pub fn ratio(&self, tap: &Tap) -> Option<f64> {
        Some(tap.primary?.si / self.secondary.si)
    }

    /// The tap of the most turns.
    pub fn whole(&self) -> &Tap {
        let of = |tap: &&Tap| tap.span().unwrap_or(0.0);
        let first = &self.taps[0];
        self.taps.iter().fold(first, |most, tap| if of(&tap) > of(&most) { tap } else { most })
    }

    /// A tap's nameplate as a class asks for it; `None` where its ratio is not known.
    pub fn plate(&self, tap: &Tap, hertz: f64) -> Option<Plate> {
        Some(Plate {
            primary_a: tap.primary?.si,
            secondary_a: self.secondary.si,
            hertz,
            burden_va: tap.burden_va,
            power_factor: tap.power_factor,
            extended: tap.extended,
            security_factor: tap.security_factor,
            knee_v: tap.knee_v,
            exciting: tap.exciting,
            resistance_ohm: tap.resistance_ohm,
            duty: tap.duty,
        })
    }

    /// A tap as its nameplate tells it: `600 A / 1 A, class 5P20, 15 VA`.
    pub fn words(&self, tap: &Tap) -> String {
        let mut all = match tap.primary {
            Some(primary) => format!("{primary} / {}", self.secondary),
            None => format!("ratio not known, {}", self.secondary),
        };
        let mut add = |text: String| {
            all.push_str(", ");
            all.push_str(&text);
        };
        if let Some(class) = tap.class {
            add(format!("class {class}"));
        }
        if let Some(factor) = tap.security_factor {
            add(format!("FS {factor}"));
        }
        if let Some(va) = tap.burden_va {
            add(format!("{} VA", significant(va, 4)));
        }
        if let Some(v) = tap.knee_v {
            add(format!("knee point {} V", significant(v, 4)));
        }
        all
    }
}
