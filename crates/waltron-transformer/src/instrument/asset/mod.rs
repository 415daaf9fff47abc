//! An instrument transformer as its nameplate tells it.

mod form;
mod limits;
mod place;
mod secondary;

pub use form::InstrumentTransformerForm;
pub(super) use limits::Limits;
pub use place::{Spot, Wanted};
pub use secondary::{Secondary, Tap};

use crate::material::celsius;
use waltron_core::asset::{Called, Connected, Family, Precautions, Ratings};
use waltron_core::procedure::Also;
use waltron_core::quantity::tolerance::AnyTolerance;
use waltron_core::quantity::{Dimension, Quantity, Voltage};
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

    /// What its secondary sides are called.
    pub fn core(self) -> &'static str {
        match self {
            Self::Current => "core",
            Self::Voltage => "winding",
        }
    }
}

/// What a file says of an instrument transformer.
#[derive(Clone, Debug, PartialEq)]
pub struct InstrumentTransformer {
    /// Which kind.
    pub kind: Kind,
    /// Phases that stand side by side; none of a single unit.
    pub phases: Vec<Phase>,
    /// Its cores or secondary windings, at least one.
    pub secondaries: Vec<Secondary>,
    /// Of the ratio.
    pub ratio_tolerance: AnyTolerance,
    /// Of the winding's resistance.
    pub resistance_tolerance: AnyTolerance,
    /// What its file says of what the whole unit withstands.
    pub(crate) limits: Limits,
}

/// One of the phases that stand side by side.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Phase {
    /// Its name: `A`.
    pub id: String,
    /// Its serial number.
    pub serial: Option<String>,
}

impl InstrumentTransformer {
    /// What arises on the primary of a voltage transformer that is fed from its secondary with this.
    pub fn arises(&self, spot: &Spot, secondary: Voltage) -> Vec<Also> {
        let ratio = self.secondary(spot).ratio(self.tap(spot));
        let Some(ratio) = ratio.filter(|_| self.kind == Kind::Voltage) else { return Vec::new() };
        let at = "the primary terminals, open".to_owned();
        vec![Also::Arises { at, most: secondary * ratio }]
    }

    /// The first core, or winding.
    pub fn first(&self) -> &Secondary {
        &self.secondaries[0]
    }

    /// Every tap with its core and what both are called.
    fn taps(&self) -> impl Iterator<Item = (&Secondary, &Tap, String)> {
        let single = self.secondaries.len() == 1 && self.secondaries[0].taps.len() == 1;
        self.secondaries.iter().flat_map(move |s| {
            s.taps.iter().map(move |tap| {
                let name = match tap.terminals.as_str() {
                    "" if single => String::new(),
                    "" => format!("{} {}", self.kind.core(), s.id),
                    at if tap.primary_turns == 1.0 => at.to_owned(),
                    at => format!("{at}, {} primary turns", tap.primary_turns),
                };
                (s, tap, name)
            })
        })
    }
}

impl Called for InstrumentTransformer {
    const CALLED: &'static str = "instrument transformer";
}

impl Family for InstrumentTransformer {
    fn values(&self) -> Vec<(String, Quantity)> {
        let (secondary, tap) = (self.first(), self.first().whole());
        let of = |dimension| move |si: f64| Quantity { si, dimension };
        let all = [
            ("rated.primary", tap.primary),
            ("rated.secondary", Some(secondary.secondary)),
            ("rated.ratio", secondary.ratio(tap).map(Quantity::number)),
            ("rated.burden", tap.burden_va.map(of(Dimension::POWER))),
            ("test_voltage", tap.test_voltage_v.map(of(Dimension::VOLTAGE))),
            ("winding.resistance", tap.resistance_ohm.map(of(Dimension::RESISTANCE))),
        ];
        all.into_iter().filter_map(|(name, value)| Some((name.to_owned(), value?))).collect()
    }

    fn words(&self) -> Vec<(String, String)> {
        let mut all = vec![
            ("winding.material".to_owned(), self.first().material.word().to_owned()),
            ("winding.reference".to_owned(), celsius(self.first().reference_k)),
            ("tolerance.ratio".to_owned(), self.ratio_tolerance.to_string()),
            ("tolerance.resistance".to_owned(), self.resistance_tolerance.to_string()),
        ];
        let of = |dimension, si: f64| Quantity { si, dimension }.exact();
        for (s, tap, name) in self.taps() {
            let name = if name.is_empty() { "rated".to_owned() } else { name };
            let entries = [
                (
                    "ratio",
                    s.ratio(tap).map(|_| s.words(&Tap { primary: tap.primary, ..Tap::default() })),
                ),
                ("class", tap.class.map(|c| c.to_string())),
                ("burden", tap.burden_va.map(|va| of(Dimension::POWER, va))),
                ("power_factor", tap.power_factor.map(|f| f.to_string())),
                ("extended", (tap.extended != 1.2).then(|| format!("{} %", tap.extended * 100.0))),
                ("security_factor", tap.security_factor.map(|f| f.to_string())),
                ("voltage_factor", tap.voltage_factor.map(|f| f.to_string())),
                ("knee", tap.knee_v.map(|v| of(Dimension::VOLTAGE, v))),
                (
                    "exciting_current",
                    tap.exciting.map(|(i, at)| {
                        format!("{} at {} %", of(Dimension::CURRENT, i), at * 100.0)
                    }),
                ),
                ("resistance", tap.resistance_ohm.map(|r| of(Dimension::RESISTANCE, r))),
                (
                    "duty",
                    tap.duty.map(|d| format!("Kssc {}, Ktd {}", d.symmetrical, d.dimensioning)),
                ),
            ];
            let known = entries.into_iter().filter_map(|(key, v)| Some((key, v?)));
            all.extend(known.map(|(key, v)| (format!("{name}.{key}"), v)));
        }
        all
    }

    fn facts(&self) -> Vec<(String, String)> {
        let kind = match self.kind {
            Kind::Current => "current transformer",
            Kind::Voltage => "voltage transformer",
        };
        let mut all = vec![("Kind".to_owned(), kind.to_owned())];
        for phase in &self.phases {
            let serial = phase.serial.clone().unwrap_or_else(|| "no serial number".to_owned());
            all.push((format!("Phase {}", phase.id), serial));
        }
        for (s, tap, name) in self.taps() {
            let name = if name.is_empty() { "Rated".to_owned() } else { name };
            all.push((name, s.words(tap)));
            if let Some(si) = tap.resistance_ohm {
                let ohms = Quantity { si, dimension: Dimension::RESISTANCE };
                let text = format!("{ohms} at {}, {}", celsius(s.reference_k), s.material.word());
                all.push(("Secondary winding".to_owned(), text));
            }
        }
        all.push(("Tolerance of the ratio".to_owned(), self.ratio_tolerance.to_string()));
        if self.taps().any(|(_, tap, _)| tap.resistance_ohm.is_some()) {
            let tolerance = self.resistance_tolerance.to_string();
            all.push(("Tolerance of the resistance".to_owned(), tolerance));
        }
        all
    }

    fn ratings_at(&self, place: &Name, known: &Ratings) -> Option<Ratings> {
        self.ratings_of_place(place, known)
    }

    fn precautions(&self, connected: &Connected<'_>) -> Precautions {
        let uses = |what: &str| connected.has(what);
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
                p.after.push(line("Take the short off the primary, where one was put there"));
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
}
