//! An instrument transformer as its nameplate tells it.

use std::any::Any;
use waltron_core::asset::Family;
use waltron_core::asset::Precautions;
use waltron_core::quantity::tolerance::AnyTolerance;
use waltron_core::quantity::{Dimension, Quantity, significant};
use waltron_core::text::name::Name;

/// Which kind of instrument transformer.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// IEC 61869-2.
    Current,
    /// IEC 61869-3, inductive.
    Voltage,
}

impl Kind {
    /// Its word in files.
    pub fn word(self) -> &'static str {
        match self {
            Self::Current => "current-transformer",
            Self::Voltage => "voltage-transformer",
        }
    }
}

/// What a file says of an instrument transformer.
#[derive(Clone, Debug, PartialEq)]
pub struct InstrumentTransformer {
    /// Which kind.
    pub kind: Kind,
    /// Rated primary current or voltage.
    pub primary: Quantity,
    /// Rated secondary current or voltage.
    pub secondary: Quantity,
    /// Rated burden, in VA.
    pub burden_va: Option<f64>,
    /// The largest voltage that may be put on the secondary of a current transformer for a test, in V.
    pub test_voltage_v: Option<f64>,
    /// The secondary winding as its maker measured it.
    pub winding: Option<Winding>,
    /// What its winding is made of.
    pub material: Material,
    /// The temperature at which resistances are told, in K.
    pub reference_k: f64,
    /// Of the ratio.
    pub ratio_tolerance: AnyTolerance,
    /// Of the winding's resistance.
    pub resistance_tolerance: AnyTolerance,
}

/// A winding's resistance as it should be.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Winding {
    /// At the reference temperature, in ohms.
    pub resistance_ohm: f64,
}

/// What a winding is made of.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Material {
    /// Copper.
    #[default]
    Copper,
    /// Aluminium.
    Aluminium,
}

impl Material {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Copper => "copper",
            Self::Aluminium => "aluminium",
        }
    }

    /// The temperature below 0 °C at which its resistance would vanish, in K (IEC 60076-1, 11.2: 235 of
    /// copper, 225 of aluminium).
    fn vanishes(self) -> f64 {
        match self {
            Self::Copper => 235.0,
            Self::Aluminium => 225.0,
        }
    }

    /// By how much a resistance at one temperature is larger at another, both in K.
    pub fn factor(self, from_k: f64, to_k: f64) -> f64 {
        let above = |kelvin: f64| self.vanishes() + kelvin - 273.15;
        above(to_k) / above(from_k)
    }
}

/// A temperature in K as people say it: `23 °C`.
pub(crate) fn celsius(kelvin: f64) -> String {
    format!("{} °C", significant(kelvin - 273.15, 4))
}

impl InstrumentTransformer {
    /// Rated primary over rated secondary.
    pub fn ratio(&self) -> f64 {
        self.primary.si / self.secondary.si
    }

    /// What is said of it, as its nameplate does: `600 A / 1 A`.
    pub fn plate(&self) -> String {
        format!("{} / {}", self.primary, self.secondary)
    }
}

impl Family for InstrumentTransformer {
    fn values(&self) -> Vec<(String, Quantity)> {
        let va = |si: f64| Quantity { si, dimension: Dimension::POWER };
        let volts = |si: f64| Quantity { si, dimension: Dimension::VOLTAGE };
        let all = [
            ("rated.primary", Some(self.primary)),
            ("rated.secondary", Some(self.secondary)),
            ("rated.ratio", Some(Quantity::number(self.ratio()))),
            ("rated.burden", self.burden_va.map(va)),
            ("test_voltage", self.test_voltage_v.map(volts)),
            (
                "winding.resistance",
                self.winding
                    .map(|w| Quantity { si: w.resistance_ohm, dimension: Dimension::RESISTANCE }),
            ),
        ];
        all.into_iter().filter_map(|(name, value)| Some((name.to_owned(), value?))).collect()
    }

    fn words(&self) -> Vec<(String, String)> {
        vec![
            ("winding.material".to_owned(), self.material.word().to_owned()),
            ("winding.reference".to_owned(), celsius(self.reference_k)),
            ("tolerance.ratio".to_owned(), self.ratio_tolerance.to_string()),
            ("tolerance.resistance".to_owned(), self.resistance_tolerance.to_string()),
        ]
    }

    fn facts(&self) -> Vec<(String, String)> {
        let kind = match self.kind {
            Kind::Current => "current transformer",
            Kind::Voltage => "voltage transformer",
        };
        let mut all =
            vec![("Kind".to_owned(), kind.to_owned()), ("Rated".to_owned(), self.plate())];
        if let Some(va) = self.burden_va {
            all.push(("Rated burden".to_owned(), format!("{} VA", significant(va, 4))));
        }
        if let Some(winding) = self.winding {
            let ohms = Quantity { si: winding.resistance_ohm, dimension: Dimension::RESISTANCE };
            let at = celsius(self.reference_k);
            let text = format!("{ohms} at {at}, {}", self.material.word());
            all.push(("Secondary winding".to_owned(), text));
        }
        all.push(("Tolerance of the ratio".to_owned(), self.ratio_tolerance.to_string()));
        if self.winding.is_some() {
            let tolerance = self.resistance_tolerance.to_string();
            all.push(("Tolerance of the resistance".to_owned(), tolerance));
        }
        all
    }

    fn precautions(&self, connected: &[Name]) -> Precautions {
        let uses = |what: &str| connected.iter().any(|c| *c == *what);
        let mut p = Precautions::default();
        let line = |text: &str| text.to_owned();
        p.first.push(line("See that the primary is dead, isolated and earthed"));
        let secondary = uses("secondary voltage") || uses("secondary current");
        match self.kind {
            Kind::Current if secondary => {
                p.before.push(line("Lift the primary earth on one side: the primary must be open"));
                p.before.push(line("Take the burden off the secondary terminals"));
                p.before.push(line("Short the secondaries of the other cores of the same unit"));
                p.after
                    .push(line("Earth the primary again, and take the shorts off the other cores"));
            }
            Kind::Voltage if secondary || uses("primary voltage") => {
                p.before
                    .push(line("Take the secondary fuses out: nothing may be fed back or fed on"));
                p.after.push(line("Put the secondary fuses back"));
            }
            _ => {}
        }
        if uses("burden current") {
            p.before.push(line(
                "Part the burden from the transformer, and short the transformer's side",
            ));
        }
        if self.kind == Kind::Current {
            p.after.push(line(
                "Close the secondary circuit before the primary carries current: it must never be open",
            ));
        }
        p
    }

    fn as_any(&self) -> &dyn Any {
        self
    }

    fn is_same(&self, other: &dyn Family) -> bool {
        other.as_any().downcast_ref() == Some(self)
    }
}
