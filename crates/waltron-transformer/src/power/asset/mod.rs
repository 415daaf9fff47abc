//! A power transformer, as its file tells it.

mod form;
mod insulation;
mod tap_changer;
mod told;

pub use form::PowerTransformerForm;
pub(in crate::power) use insulation::LETTERS;
pub use insulation::{Bushing, Insulation, Known};
pub use tap_changer::{ChangerKind, Position, Stand, TapChanger};
pub(crate) use told::ratios;

use super::pairs::Windings;
use super::vector_group::VectorGroup;
use crate::material::Material;
use schemars::JsonSchema;
use serde::Deserialize;
use waltron_core::quantity::tolerance::AnyTolerance;
use waltron_core::quantity::{Dimension, Quantity};

/// A winding of three phases.
#[derive(Clone, Debug, PartialEq)]
pub struct Winding {
    /// Its number in terminal names: 1 of the high-voltage one.
    pub number: u8,
    /// Rated line voltage at the principal tapping, in V.
    pub voltage_v: f64,
    /// Rated power, in VA.
    pub power_va: f64,
    /// What it is made of.
    pub material: Material,
    /// The temperature at which resistances are told, in K.
    pub reference_k: f64,
    /// The largest direct current that a test may drive through it, in A, where the file says.
    pub test_current_a: Option<f64>,
    /// Resistances as the maker measured them at the reference temperature, in ohms, by the label of the
    /// position; empty of the principal one.
    pub maker_ohm: Vec<(String, f64)>,
}

impl Winding {
    /// Rated line current, in A.
    pub fn current_a(&self) -> f64 {
        self.power_va / (3f64.sqrt() * self.voltage_v)
    }
}

/// What measured values are held against.
#[derive(Clone, Debug, PartialEq)]
pub struct Allowed {
    /// Of the ratio.
    pub ratio: AnyTolerance,
    /// Whether that is the standard's, since the file gives none.
    pub is_ratio_usual: bool,
    /// By how much the exciting currents of phases that should be alike may differ, as a share.
    pub exciting: f64,
    /// Of a winding's resistance against the maker's.
    pub resistance: AnyTolerance,
    /// Of the difference between phases, as a share or in ohms, whichever is larger.
    pub difference: AnyTolerance,
    /// What that difference is told by.
    pub by: Difference,
    /// For how long the current of a tap changer may be gone, in s.
    pub interruption_s: f64,
    /// By how much it may dip, as a share, where that is limited.
    pub ripple: Option<f64>,
    /// The largest tan δ at 20 °C.
    pub tan_delta: f64,
    /// That of a bushing from its conductor to its tap.
    pub bushing_tan_delta: f64,
    /// The least insulation resistance after a minute at 20 °C, in ohms, where the file gives one.
    pub insulation_ohm: Option<f64>,
    /// The least polarisation index, where the file gives one.
    pub polarisation_index: Option<f64>,
    /// Of a capacitance against what is known of it.
    pub capacitance: AnyTolerance,
    /// Of the short-circuit impedance against the nameplate's.
    pub impedance: AnyTolerance,
}

/// What a difference between phases is told by.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Difference {
    /// The largest less the least, over the mean of all.
    #[default]
    Mean,
    /// The largest less the least, over the least.
    Least,
}

impl Difference {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Mean => "mean",
            Self::Least => "least",
        }
    }

    /// The difference of values, as a share.
    pub fn of(self, values: &[f64]) -> f64 {
        let (low, high) = values
            .iter()
            .fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), v| (l.min(*v), h.max(*v)));
        let mean = values.iter().sum::<f64>() / values.len() as f64;
        (high - low)
            / match self {
                Self::Mean => mean,
                Self::Least => low,
            }
    }
}

/// A power transformer of three phases.
#[derive(Clone, Debug, PartialEq)]
pub struct PowerTransformer {
    /// How its windings are connected.
    pub group: VectorGroup,
    /// Rated power, in VA.
    pub power_va: f64,
    /// Two or three windings, the high-voltage one first.
    pub windings: Vec<Winding>,
    /// Its tap changers, one of a winding at most.
    pub changers: Vec<TapChanger>,
    /// What measured values are held against.
    pub allowed: Allowed,
    /// Its insulation and its bushings.
    pub insulation: Insulation,
    /// Short-circuit impedances by the nameplate at the principal positions, as shares, by the numbers of the
    /// windings.
    pub impedances: Vec<(u8, u8, f64)>,
    /// What it is made for at terminals, in words of the nameplate: oil, cooling.
    pub told: Vec<(String, String)>,
}

impl PowerTransformer {
    /// Its windings as the limbs see them.
    pub fn limbs(&self) -> Windings {
        Windings::new(&self.group.sides)
    }

    /// A winding by its number.
    pub fn winding(&self, number: u8) -> Option<&Winding> {
        self.windings.iter().find(|w| w.number == number)
    }

    /// The tap changer of a winding, with its place in the order of the file.
    pub fn changer_of(&self, winding: u8) -> Option<(usize, &TapChanger)> {
        self.changers.iter().enumerate().find(|(_, c)| c.winding == winding)
    }

    /// All tap changers at their principal position.
    pub fn principal(&self) -> Stand {
        Stand(self.changers.iter().map(|c| c.principal).collect())
    }

    /// The line voltage of a winding, in V, with the tap changers somewhere.
    pub fn volts(&self, winding: u8, stand: &Stand) -> f64 {
        let rated = self.winding(winding).map_or(f64::NAN, |w| w.voltage_v);
        let at = self.changer_of(winding).and_then(|(k, c)| c.positions.get(*stand.0.get(k)?));
        at.map_or(rated, |position| position.volts)
    }

    /// What the maker measured of a winding at a position, in ohms at the reference temperature.
    pub fn maker_ohm(&self, winding: u8, stand: &Stand) -> Option<f64> {
        let of = self.winding(winding)?;
        let changer = self.changer_of(winding);
        let label = changer.and_then(|(k, c)| c.positions.get(*stand.0.get(k)?));
        let by_label = label.and_then(|p| of.maker_ohm.iter().find(|(l, _)| *l == p.label));
        let is_principal = changer.is_none_or(|(k, c)| stand.0.get(k) == Some(&c.principal));
        let plain = of.maker_ohm.iter().find(|(l, _)| l.is_empty()).filter(|_| is_principal);
        by_label.or(plain).map(|(_, ohm)| *ohm)
    }

    /// The ratio of the line voltages of two windings, with the tap changers somewhere.
    pub fn ratio(&self, from: u8, to: u8, stand: &Stand) -> f64 {
        self.volts(from, stand) / self.volts(to, stand)
    }

    /// Between which values a ratio must lie. Where the file gives no tolerance, that of the first two windings at the
    /// principal position lies within a tenth of the short-circuit impedance, if that is less (IEC 60076-1, table 1).
    pub fn ratio_limits(&self, from: u8, to: u8, stand: &Stand, expected: f64) -> (f64, f64) {
        let (low, high) = self.allowed.ratio.limits(expected);
        let is_first = (from.min(to), from.max(to)) == (1, 2) && *stand == self.principal();
        match self.tenth().filter(|_| is_first) {
            Some(tenth) => (low.max(expected * (1.0 - tenth)), high.min(expected * (1.0 + tenth))),
            None => (low, high),
        }
    }

    /// What makes an impedance one of a share, seen from a winding's terminals, in ohms.
    pub fn base_ohm(&self, winding: u8, stand: &Stand) -> f64 {
        self.volts(winding, stand).powi(2) / self.power_va
    }

    /// The nameplate's first short-circuit impedance of a winding, as a share.
    pub fn any_impedance(&self, winding: u8) -> Option<f64> {
        self.impedances.iter().find(|(a, b, _)| *a == winding || *b == winding).map(|i| i.2)
    }

    /// A tenth of the short-circuit impedance of the first two windings, where the standard's tolerance holds.
    fn tenth(&self) -> Option<f64> {
        let found = self.impedances.iter().find(|(a, b, _)| (*a, *b) == (1, 2));
        found.map(|(.., share)| share / 10.0).filter(|_| self.allowed.is_ratio_usual)
    }

    /// Where the tap changers stand, in words: `OLTC 7`; nothing of a transformer without any.
    pub fn words(&self, stand: &Stand) -> String {
        let of = |(changer, at): (&TapChanger, &usize)| {
            let label = changer.positions.get(*at).map_or("?", |p| p.label.as_str());
            format!("{} {label}", changer.name)
        };
        self.changers.iter().zip(&stand.0).map(of).collect::<Vec<_>>().join(", ")
    }
}

fn volts(si: f64) -> Quantity {
    Quantity { si, dimension: Dimension::VOLTAGE }
}
