//! Assets, specimens and rigs as text, and tests played on them.

#![allow(dead_code, unused_imports, reason = "each test uses its part")]

use waltron_core::asset::Asset;
use waltron_core::grading::Finding;
use waltron_core::plan::Plan;
use waltron_core::wing::Wings;
pub(crate) use waltron_test_support::wing::{Played, Seen, capability, failed, of};
use waltron_transformer::TransformerWing;

pub(crate) const WINGS: Wings = Wings(&[&TransformerWing]);

pub(crate) fn asset(text: &str) -> Asset {
    waltron_test_support::wing::asset(WINGS, text)
}

pub(crate) fn plan(asset: &Asset, test: &str) -> Plan {
    waltron_test_support::wing::plan(WINGS, asset, test)
}

pub(crate) fn plan_refused(asset: &Asset, test: &str) -> String {
    waltron_test_support::wing::plan_refused(WINGS, asset, test)
}

/// What a test finds on a simulated transformer, with what it did.
pub(crate) fn play(
    asset: &Asset,
    rig: &str,
    specimen: &str,
    seed: u64,
    test: &str,
) -> (Vec<Finding>, Seen) {
    let nobody = |question: &waltron_core::procedure::Question| panic!("asks {}", question.text);
    Played::new(WINGS, rig, specimen, seed).play(asset, test, &nobody)
}

/// A rig for transformers of a rated secondary current: its meters are as good as a good test set's.
pub(crate) fn rig(volts: f64, amps: f64) -> String {
    let meter = |id: &str, meaning: &str, measures: &str, range: String, accuracy: String| {
        format!(
            "[[meter]]\nid = \"{id}\"\nmeaning = \"{meaning}\"\nmeasures = \"{measures}\"\nrange = \"{range}\"\naccuracy = \"{accuracy}\"\nangle_accuracy = \"0.01 deg\"\n"
        )
    };
    let mut text = format!(
        "[rig]\nkind = \"virtual\"\nname = \"r\"\nspecimen = \"s\"\nswitches_leads = true\n\
         [[voltage]]\nid = \"vs\"\nmeaning = \"secondary voltage\"\nrange = \"{volts} V\"\naccuracy = \"0.1 % + 0.1 mV\"\nkind = \"ac\"\nfrequency = [\"15 Hz\", \"400 Hz\"]\n\
         [[current]]\nid = \"is\"\nmeaning = \"secondary current\"\nrange = \"{} A\"\nkind = \"dc\"\ncompliance = \"30 V\"\n",
        2.0 * amps
    );
    let micro = |v: f64| format!("0.03 % + {v} uA");
    text += &meter(
        "M1",
        "secondary voltage",
        "voltage",
        format!("{} V", (volts * 1.2).max(40.0)),
        "0.03 % + 0.1 mV".into(),
    );
    text += &meter(
        "M2",
        "secondary current",
        "current",
        format!("{} A", 15.0 * amps),
        micro(0.3 * amps),
    );
    text += &meter("M3", "primary voltage", "voltage", "30 V".into(), "0.03 % + 2 uV".into());
    text
}
