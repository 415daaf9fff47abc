//! The wing of breakers.
#![forbid(unsafe_code)]
#![warn(clippy::unwrap_used)]

pub mod circuit_breaker;
pub mod direct_current;
mod four_wire;
mod ledger;
pub mod low_voltage;
mod span;
mod traces;

use circuit_breaker::{
    CircuitBreakerForm, ContactResistanceKeys, CounterKeys, DynamicResistanceKeys,
    LowestPickupKeys, MotorKeys, OperationKeys,
};
use direct_current::{
    DcBreakerForm, JointResistanceKeys, MakingKeys, OpeningTimeKeys, TripLevelKeys,
};
use low_voltage::{
    GroundFaultKeys, InstantaneousKeys, LongTimeKeys, LvBreakerForm, NoTripKeys, ReadBackKeys,
    ShortTimeKeys,
};
use waltron_core::asset::Asset;
use waltron_core::defaults::Defaults;
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
        &["circuit-breaker", "lv-breaker", "dc-breaker"]
    }

    fn asset_schema(&self) -> serde_json::Value {
        let circuit = waltron_core::text::document::schema::<CircuitBreakerForm>();
        let low = waltron_core::text::document::schema::<LvBreakerForm>();
        let direct = waltron_core::text::document::schema::<DcBreakerForm>();
        waltron_core::wing::joined(&[circuit, low, direct])
    }

    fn asset(&self, source: &Source) -> Result<Asset, DocumentError> {
        match waltron_core::wing::kind_of(source).as_deref() {
            Some("lv-breaker") => LvBreakerForm::load(source),
            Some("dc-breaker") => DcBreakerForm::load(source),
            _ => CircuitBreakerForm::load(source),
        }
    }

    fn beside(&self, source: &Source) -> Vec<String> {
        low_voltage::band_file(source).into_iter().collect()
    }

    fn looks_at_injections(&self) -> bool {
        true
    }

    fn draws_captures(&self, _kind: &str) -> bool {
        true
    }

    fn sections(&self, asset: &Asset, told: Told<'_>) -> Vec<Section> {
        match asset.kind {
            "lv-breaker" => low_voltage::sections(asset, told),
            "dc-breaker" => direct_current::sections(asset, told),
            _ => circuit_breaker::sections(asset, told),
        }
    }

    fn charts(&self, asset: &Asset, told: Told<'_>) -> Vec<Chart> {
        match asset.kind {
            "lv-breaker" => low_voltage::charts(asset, told),
            "dc-breaker" => direct_current::charts(asset, told),
            _ => circuit_breaker::charts(asset, told),
        }
    }

    fn new_asset(&self, kind: &str, _own: &Defaults) -> Option<String> {
        match kind {
            "lv-breaker" => Some(low_voltage::new_asset()),
            "dc-breaker" => Some(direct_current::new_asset()),
            _ => circuit_breaker::new_asset(kind),
        }
    }

    fn new_tests(
        &self,
        asset: &Asset,
        rig: Option<&Capability>,
        depth: Depth,
        _own: &Defaults,
    ) -> Option<String> {
        if let Some(of) = asset.family() {
            return Some(low_voltage::new_tests(of, depth));
        }
        if let Some(of) = asset.family() {
            return Some(direct_current::new_tests(of, depth));
        }
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
            Registration::of::<LongTimeKeys>(
                "long-time",
                "a multiple of the pickup, timed against the band",
            ),
            Registration::of::<ShortTimeKeys>(
                "short-time",
                "a current above the pickup, timed against the band",
            ),
            Registration::of::<InstantaneousKeys>(
                "instantaneous",
                "pulses of a few cycles that rise until the breaker opens",
            ),
            Registration::of::<GroundFaultKeys>(
                "ground-fault",
                "a current through one pole, timed; back through the neutral it must not trip",
            ),
            Registration::of::<NoTripKeys>("no-trip", "a current that must not trip for a time"),
            Registration::of::<ReadBackKeys>(
                "read-back",
                "settings and counters as the trip unit tells them, against the file and the run",
            ),
            Registration::of::<JointResistanceKeys>(
                "joint-resistance",
                "a direct current through contacts and joints of a direct-current breaker",
            ),
            Registration::of::<TripLevelKeys>(
                "trip-level",
                "ramps of several rates of rise until it opens, extrapolated to the setting itself",
            ),
            Registration::of::<OpeningTimeKeys>(
                "opening-time",
                "from the current passing the setting to the contacts parting, on a step",
            ),
            Registration::of::<MakingKeys>(
                "making",
                "closes against rising currents, and must stay closed",
            ),
            Registration::of::<MotorKeys>("motor", "how long a spring charges, with which current"),
        ]
    }
}
