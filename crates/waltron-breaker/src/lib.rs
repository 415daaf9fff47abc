//! The wing of breakers.
#![forbid(unsafe_code)]
#![warn(clippy::unwrap_used)]

pub mod circuit_breaker;

use circuit_breaker::{
    CircuitBreakerForm, ContactResistanceKeys, CounterKeys, DynamicResistanceKeys,
    LowestPickupKeys, MotorKeys, OperationKeys,
};
use waltron_core::asset::Asset;
use waltron_core::injection::capability::Capability;
use waltron_core::procedure::Registration;
use waltron_core::section::{Chart, Section};
use waltron_core::text::document::{DocumentError, Source};
use waltron_core::wing::{Depth, Told, Wing};

/// Breakers.
#[derive(Clone, Copy, Debug)]
pub struct BreakerWing;

impl Wing for BreakerWing {
    fn kinds(&self) -> &'static [&'static str] {
        &["circuit-breaker"]
    }

    fn asset_schema(&self) -> serde_json::Value {
        waltron_core::text::document::schema::<CircuitBreakerForm>()
    }

    fn asset(&self, source: &Source) -> Result<Asset, DocumentError> {
        CircuitBreakerForm::load(source)
    }

    fn looks_at_injections(&self) -> bool {
        true
    }

    fn draws_captures(&self) -> bool {
        true
    }

    fn sections(&self, asset: &Asset, told: Told<'_>) -> Vec<Section> {
        circuit_breaker::sections(asset, told)
    }

    fn charts(&self, asset: &Asset, told: Told<'_>) -> Vec<Chart> {
        circuit_breaker::charts(asset, told)
    }

    fn new_asset(&self, kind: &str) -> Option<String> {
        circuit_breaker::new_asset(kind)
    }

    fn new_tests(&self, asset: &Asset, rig: Option<&Capability>, depth: Depth) -> Option<String> {
        Some(circuit_breaker::new_tests(asset.family()?, rig, depth))
    }

    fn procedures(&self) -> Vec<Registration> {
        vec![
            Registration::of::<OperationKeys>(
                "operation",
                "C, O, CO, OC, O-C-O: times of every pole, coil currents, auxiliary contacts, travel",
            ),
            Registration::of::<ContactResistanceKeys>(
                "contact-resistance",
                "a direct current through each pole that is closed",
            ),
            Registration::of::<DynamicResistanceKeys>(
                "dynamic-resistance",
                "a direct current through each pole while it opens: what the arcing contacts still carry",
            ),
            Registration::of::<LowestPickupKeys>(
                "lowest-pickup",
                "pulses from below until a coil operates",
            ),
            Registration::of::<CounterKeys>(
                "counter",
                "reads the operations counter, and compares it with what the run has operated since the last reading",
            ),
            Registration::of::<MotorKeys>("motor", "how long a spring charges, with which current"),
        ]
    }
}
