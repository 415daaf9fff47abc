//! What a power transformer tells of itself: for expressions, records, reports and the panel.

use super::{ChangerKind, Insulation, Known, PowerTransformer, volts};
use crate::material::celsius;
use waltron_core::asset::{Called, Connected, Family, Precautions};
use waltron_core::quantity::{Dimension, Quantity, fixed, significant};
use waltron_core::section::Table;

fn power(si: f64) -> Quantity {
    Quantity { si, dimension: Dimension::POWER }
}

fn amps(si: f64) -> Quantity {
    Quantity { si, dimension: Dimension::CURRENT }
}

fn ohms(si: f64) -> Quantity {
    Quantity { si, dimension: Dimension::RESISTANCE }
}

fn time(si: f64) -> String {
    Quantity { si, dimension: Dimension::TIME }.to_string()
}

impl PowerTransformer {
    /// By how much phases may differ, and what that is told by.
    fn difference(&self) -> String {
        format!("{} of the {}", self.allowed.difference, self.allowed.by.word())
    }
}

/// The ratio that every position of every tap changer must give, the others at their principal position.
pub(crate) fn ratios(of: &PowerTransformer) -> Vec<(String, Table)> {
    let mut all = Vec::new();
    let pairs: Vec<(u8, u8)> = match of.windings.as_slice() {
        [a, b, c] => vec![(a.number, b.number), (a.number, c.number), (b.number, c.number)],
        [a, b] => vec![(a.number, b.number)],
        _ => Vec::new(),
    };
    let changers: Vec<_> = of.changers.iter().map(Some).collect();
    let changers = if changers.is_empty() { vec![None] } else { changers };
    for (k, changer) in changers.into_iter().enumerate() {
        let mut headings = vec!["Position".to_owned(), "#Voltage".to_owned()];
        headings.extend(pairs.iter().map(|(a, b)| format!("#Ratio {a}-{b}")));
        if changer.is_none() {
            headings.drain(..2);
        }
        let headings: Vec<&str> = headings.iter().map(String::as_str).collect();
        let mut table = Table::of(&headings);
        let count = changer.map_or(1, |c| c.positions.len());
        table.rows = (0..count)
            .map(|position| {
                let mut stand = of.principal();
                let mut row = Vec::new();
                if let Some(changer) = changer {
                    stand.0[k] = position;
                    let at = &changer.positions[position];
                    let mark = if position == changer.principal { " (principal)" } else { "" };
                    row = vec![format!("{}{mark}", at.label), volts(at.volts).exact()];
                }
                let ratio = |(a, b): &(u8, u8)| fixed(of.ratio(*a, *b, &stand), 5);
                row.extend(pairs.iter().map(ratio));
                row
            })
            .collect();
        let name = changer.map_or("Expected ratio".to_owned(), |changer| {
            format!("Expected ratio, {} on winding {}", changer.name, changer.winding)
        });
        all.push((name, table));
    }
    all
}

impl Called for PowerTransformer {
    const CALLED: &'static str = "power transformer";
}

impl Family for PowerTransformer {
    fn values(&self) -> Vec<(String, Quantity)> {
        let mut all = vec![("rated.power".to_owned(), power(self.power_va))];
        for winding in &self.windings {
            let n = winding.number;
            all.push((format!("winding_{n}.voltage"), volts(winding.voltage_v)));
            all.push((format!("winding_{n}.current"), amps(winding.current_a())));
        }
        all
    }

    fn words(&self) -> Vec<(String, String)> {
        let mut all = vec![
            ("vector_group".to_owned(), self.group.to_string()),
            ("tolerance.ratio".to_owned(), self.allowed.ratio.to_string()),
            ("tolerance.exciting".to_owned(), percent(self.allowed.exciting)),
            ("tolerance.resistance".to_owned(), self.allowed.resistance.to_string()),
            ("tolerance.difference".to_owned(), self.difference()),
            ("tolerance.interruption".to_owned(), time(self.allowed.interruption_s)),
        ];
        if let Some(ripple) = self.allowed.ripple {
            all.push(("tolerance.ripple".to_owned(), percent(ripple)));
        }
        all.push(("tolerance.tan_delta".to_owned(), percent(self.allowed.tan_delta)));
        let of_bushings = percent(self.allowed.bushing_tan_delta);
        all.push(("tolerance.bushing_tan_delta".to_owned(), of_bushings));
        if let Some(least) = self.allowed.insulation_ohm {
            all.push(("tolerance.insulation_resistance".to_owned(), ohms(least).exact()));
        }
        if let Some(least) = self.allowed.polarisation_index {
            all.push(("tolerance.polarisation_index".to_owned(), significant(least, 6)));
        }
        all.push(("tolerance.capacitance".to_owned(), self.allowed.capacitance.to_string()));
        all.push(("tolerance.impedance".to_owned(), self.allowed.impedance.to_string()));
        for (a, b, share) in &self.impedances {
            all.push((format!("impedance {a}-{b}"), percent(*share)));
        }
        all.extend(self.insulation.words());
        for changer in &self.changers {
            let positions = changer.positions.iter();
            let positions: Vec<String> =
                positions.map(|p| format!("{} {}", p.label, volts(p.volts).exact())).collect();
            all.push((changer.name.clone(), positions.join(", ")));
            let principal = &changer.positions[changer.principal].label;
            all.push((format!("{}.principal", changer.name), principal.clone()));
        }
        for winding in &self.windings {
            let (n, at) = (winding.number, celsius(winding.reference_k));
            all.push((format!("winding_{n}.material"), winding.material.word().to_owned()));
            all.push((format!("winding_{n}.reference"), at));
            all.push((format!("winding_{n}.test_current"), amps(winding.most_a()).to_string()));
            for (label, si) in &winding.maker_ohm {
                let at = if label.is_empty() { String::new() } else { format!(" at {label}") };
                all.push((format!("winding_{n}.resistance{at}"), ohms(*si).exact()));
            }
        }
        all
    }

    fn facts(&self) -> Vec<(String, String)> {
        let mut all = vec![
            ("Kind".to_owned(), "power transformer".to_owned()),
            ("Vector group".to_owned(), self.group.to_string()),
            ("Rated power".to_owned(), power(self.power_va).to_string()),
        ];
        for winding in &self.windings {
            let (v, i) = (volts(winding.voltage_v), amps(winding.current_a()));
            let text = format!("{v}, {i}, {}", winding.material.word());
            all.push((format!("Winding {}", winding.number), text));
        }
        for changer in &self.changers {
            let kind = changer.kind.words();
            let ends = [changer.positions.first(), changer.positions.last()];
            let ends: Vec<String> = ends
                .into_iter()
                .flatten()
                .map(|p| format!("{} {}", p.label, volts(p.volts).exact()))
                .collect();
            let principal = &changer.positions[changer.principal].label;
            let text = format!(
                "{kind} on winding {}: {} positions, {}; principal {principal}",
                changer.winding,
                changer.positions.len(),
                ends.join(" … ")
            );
            all.push((changer.name.clone(), text));
        }
        for (a, b, share) in &self.impedances {
            let of = format!("Short-circuit impedance {a}-{b}");
            all.push((of, format!("{}, within {}", percent(*share), self.allowed.impedance)));
        }
        all.extend(self.told.iter().cloned());
        all.extend(self.insulation.facts());
        let of_bushings = match self.insulation.bushings.is_empty() {
            true => String::new(),
            false => format!(", of bushings {}", percent(self.allowed.bushing_tan_delta)),
        };
        let losses = format!("up to {} at 20 °C{of_bushings}", percent(self.allowed.tan_delta));
        all.push(("tan δ".to_owned(), losses));
        if let Some(least) = self.allowed.insulation_ohm {
            let text = format!("{} at 20 °C at least", ohms(least));
            all.push(("Insulation resistance".to_owned(), text));
        }
        if let Some(least) = self.allowed.polarisation_index {
            all.push((
                "Polarisation index".to_owned(),
                format!("{} at least", significant(least, 4)),
            ));
        }
        let tenth = self.tenth().filter(|tenth| *tenth < 0.005);
        let tenth = tenth.map_or(String::new(), |tenth| {
            format!("; {} at the principal position, a tenth of the impedance", percent(tenth))
        });
        let text = format!("{}{tenth}", self.allowed.ratio);
        all.push(("Tolerance of the ratio".to_owned(), text));
        all.push(("Exciting currents alike within".to_owned(), percent(self.allowed.exciting)));
        all.push(("Resistances alike within".to_owned(), self.difference()));
        if self.changers.iter().any(|c| c.kind == ChangerKind::OnLoad) {
            let gone = format!("gone for {} at most", time(self.allowed.interruption_s));
            let dips = self.allowed.ripple.map(|r| format!(", dips by {} at most", percent(r)));
            all.push(("Current while a tap changes".to_owned(), gone + &dips.unwrap_or_default()));
        }
        all
    }

    fn precautions(&self, connected: &Connected<'_>) -> Precautions {
        let uses = |what: &str| connected.has(what);
        let mut p = Precautions::default();
        let mut first = |text: &str| p.first.push(text.to_owned());
        first("See that the transformer is dead, isolated and earthed on all sides");
        first("Take lines and cables off all bushings: what stays connected is measured too");
        first(
            "Block the protection: Buchholz relay and temperature trips must not operate anything",
        );
        let mut before = |text: &str| p.before.push(text.to_owned());
        before("Fence the bushings off: every winding carries voltage while one is fed");
        if uses("test voltage") {
            before("Take the earths off the windings that are tested; the tank stays earthed");
            before(
                "Keep off all windings: those that are not fed carry the fed voltage by their ratio, as told with the maxima",
            );
        }
        if uses("high voltage") || uses("insulation voltage") {
            before("High voltage: fence the whole transformer off");
            before("Earth the tank, and the rig at the same point");
        }
        if uses("winding current") {
            before(
                "Connect current and voltage to the windings by leads of their own (four wires)",
            );
            before(
                "NEVER open a circuit that carries direct current: a charged winding kills; wait until the rig says discharged",
            );
        }
        if !self.changers.is_empty() {
            before("Write down where the tap changers stand");
            p.after.push("Put the tap changers back to where they stood".to_owned());
        }
        p.after_first.push("Earth all bushings before any lead is taken off".to_owned());
        p.after.push("Put the protection back into service".to_owned());
        p
    }
}

fn farads(si: f64) -> String {
    Quantity { si, dimension: Dimension::CAPACITANCE }.to_string()
}

impl Known {
    fn words(&self) -> String {
        let mut all: Vec<String> = self.farad.iter().map(|si| farads(*si)).collect();
        all.extend(self.tan_delta.map(|share| format!("tan δ {}", percent(share))));
        all.extend(self.sweep.as_ref().map(|(kelvin, sweep)| {
            let rows = sweep.iter().map(|l| {
                let hertz = Quantity { si: l.hertz, dimension: Dimension::FREQUENCY };
                format!("{hertz} {}", percent(l.tan_delta))
            });
            format!("at {}: {}", celsius(*kelvin), rows.collect::<Vec<_>>().join(", "))
        }));
        all.join(", ")
    }
}

impl Insulation {
    /// All that was told, by name.
    fn words(&self) -> Vec<(String, String)> {
        let mut all = Vec::new();
        if let Some((table, class)) = &self.correction {
            let rows = class.factors.iter();
            let rows = rows.map(|(k, times)| format!("{} {}", celsius(*k), significant(*times, 6)));
            let rows: Vec<String> = rows.collect();
            let name = format!("insulation.correction {} {}", table.name, class.id);
            all.push((name, rows.join(", ")));
            let conditions = table.conditions.iter().map(|c| {
                let most = c.up_to.map_or("above".to_owned(), |m| format!("to {}", percent(m)));
                format!("{most}: {}{}", c.word, if c.fails { " (fails)" } else { "" })
            });
            let conditions: Vec<String> = conditions.collect();
            all.push(("insulation.conditions".to_owned(), conditions.join(", ")));
        }
        if let Some(ev) = self.energy_ev {
            let text = format!("{} eV", significant(ev, 4));
            all.push(("insulation.activation_energy".to_owned(), text));
        }
        if let Some(si) = self.test_voltage_v {
            all.push(("insulation.test_voltage".to_owned(), volts(si).to_string()));
        }
        for known in &self.known {
            all.push((format!("insulation.{}", known.of), known.words()));
        }
        for bushing in &self.bushings {
            let mut words: Vec<String> = Vec::new();
            words.extend(bushing.c1_farad.map(|si| format!("C1 {}", farads(si))));
            words.extend(bushing.c2_farad.map(|si| format!("C2 {}", farads(si))));
            words.extend(bushing.tan_delta.map(|share| format!("tan δ {}", percent(share))));
            words.push(format!("tap up to {}", volts(bushing.tap_voltage_v)));
            all.push((format!("bushing.{}", bushing.at), words.join(", ")));
        }
        all
    }

    /// What a report shows of it.
    fn facts(&self) -> Vec<(String, String)> {
        let mut all = Vec::new();
        if let Some((table, class)) = &self.correction {
            let note = table.note.as_ref().map_or(String::new(), |note| format!(" ({note})"));
            let text = format!("{}, class {}{note}", table.name, class.id);
            all.push(("Correction for temperature".to_owned(), text));
        }
        for known in &self.known {
            all.push((format!("Insulation {} was", known.of), known.words()));
        }
        all
    }
}

fn percent(share: f64) -> String {
    format!("{} %", significant(share * 100.0, 4))
}
