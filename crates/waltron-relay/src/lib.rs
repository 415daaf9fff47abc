//! The wing of protection relays, and of the auxiliary supplies that sequences test.

mod family;
mod form;
mod keys;
mod overcurrent;
mod pickup;
mod scaffold;
mod sections;
mod setup;
mod show;
mod stage;
mod time_current;
mod trip_time;

pub use form::AssetForm;
pub use keys::{PickupKeys, TripTimeKeys};
pub use overcurrent::{Overcurrent, Tolerances};
pub use pickup::{PICKUP, Pickup, PickupSettings, RESET_RATIO};
pub use stage::{Stage, StageFunction};
pub use trip_time::{Level, TripTime, TripTimeSettings};

use serde_json::Value;
use waltron_core::asset::Asset;
use waltron_core::defaults::Defaults;
use waltron_core::injection::capability::Capability;
use waltron_core::procedure::Registration;
use waltron_core::section::{Chart, Section};
use waltron_core::text::document::{DocumentError, Source};
use waltron_core::wing::{Depth, Told, Wing, Wings};

/// Protection relays.
#[derive(Clone, Copy, Debug)]
pub struct RelayWing;

/// The relays' wing alone.
pub const WINGS: Wings = Wings(&[&RelayWing]);

impl Wing for RelayWing {
    fn kinds(&self) -> &'static [&'static str] {
        &["relay", "supply"]
    }

    fn asset_schema(&self) -> Value {
        waltron_core::text::document::schema::<AssetForm>()
    }

    fn asset(&self, source: &Source) -> Result<Asset, DocumentError> {
        AssetForm::load(source)
    }

    fn procedures(&self) -> Vec<Registration> {
        vec![
            Registration::of::<PickupKeys>("pickup", "ramp up to operation and down to reset"),
            Registration::of::<TripTimeKeys>("trip-time", "pre-fault, fault, time until trip"),
        ]
    }

    fn sections(&self, asset: &Asset, told: Told<'_>) -> Vec<Section> {
        sections::sections(asset, told.points)
    }

    fn charts(&self, asset: &Asset, told: Told<'_>) -> Vec<Chart> {
        time_current::charts(asset, told.points)
    }

    fn new_asset(&self, kind: &str, _own: &Defaults) -> Option<String> {
        scaffold::asset(kind)
    }

    fn new_tests(
        &self,
        asset: &Asset,
        rig: Option<&Capability>,
        _depth: Depth,
        _own: &Defaults,
    ) -> Option<String> {
        let tests = scaffold::tests(asset, rig);
        (asset.family::<family::Relay>().is_some() && !tests.is_empty()).then_some(tests)
    }
}
