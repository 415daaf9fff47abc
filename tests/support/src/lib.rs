//! Set-up that the tests of several crates share: a bench of asset, rig and specimen, and runs on it.

#![allow(clippy::unwrap_used, reason = "a test that cannot be set up has failed")]

pub mod draw;
pub mod shown;
pub mod small;
pub mod wing;

use waltron_core::asset::Asset;
use waltron_core::injection::capability::{Capability, Channel, Input};
use waltron_core::plan::Plan;
use waltron_core::plan::PlanForm;
use waltron_core::quantity::tolerance::Tolerance;
use waltron_core::quantity::{Measure, Voltage, amperes, seconds};
use waltron_core::text::document::Source;
use waltron_relay::AssetForm;

/// Range of every current output of [`capability`], in A.
pub const CURRENT_RANGE_A: f64 = 64.0;

/// Range of every voltage output of [`capability`], in V.
pub const VOLTAGE_RANGE_V: f64 = 300.0;

/// A rig with three currents and three voltages, and an input for each of these contacts.
pub fn capability(meanings: &[&str]) -> Capability {
    let current = |id: &str| {
        let accuracy = Tolerance::larger_of(0.001, amperes(0.001));
        Channel::new(id, amperes(CURRENT_RANGE_A), accuracy)
    };
    let voltage = |id: &str| {
        let accuracy = Tolerance::larger_of(0.001, Voltage::from_si(0.005));
        Channel::new(id, Voltage::from_si(VOLTAGE_RANGE_V), accuracy)
    };
    let input = |m: &&str| Input { id: (*m).into(), meaning: (*m).into(), debounce: seconds(0.0) };
    Capability {
        currents: ["ia", "ib", "ic"].map(current).to_vec(),
        voltages: ["va", "vb", "vc"].map(voltage).to_vec(),
        inputs: meanings.iter().map(input).collect(),
        timing_resolution: seconds(1e-4),
        timing_accuracy: Tolerance::larger_of(0.0, seconds(1e-4)).into(),
        ..Capability::none()
    }
}

/// Reads an asset, or fails with what is wrong with it.
pub fn asset(text: &str) -> Asset {
    AssetForm::load(&Source::new("asset", text)).unwrap_or_else(|e| panic!("{e:?}\n{text}"))
}

/// A relay of 1 A, 100 V and 50 Hz that withstands much, with these elements.
pub fn relay(elements: &str) -> Asset {
    asset(&format!("{RELAY}{elements}"))
}

const RELAY: &str = r#"
[asset]
kind = "relay"
tag = "Q01"
[ratings]
current = "1 A"
voltage = "100 V"
frequency = "50 Hz"
thermal = [{ current = "50 A" }, { current = "60 A", for = "1000 s" }, { voltage = "300 V" }]
"#;

/// Reads the tests of a plan, or fails with what is wrong with them.
pub fn plan(tests: &str, asset: &Asset) -> Plan {
    let source = Source::new("plan", format!("[plan]\ntitle = \"t\"\nasset = \"a\"\n{tests}"));
    let plan =
        PlanForm::load(&source, waltron_relay::WINGS).and_then(|form| form.resolve(&source, asset));
    plan.unwrap_or_else(|e| panic!("{e:?}\n{tests}"))
}
