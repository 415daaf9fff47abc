//! Breakers as text, and tests played on them.

#![allow(dead_code, unused_imports, reason = "each test uses its part")]

use waltron_breaker::BreakerWing;
use waltron_core::asset::Asset;
use waltron_core::procedure::{Answer, Question};
use waltron_core::wing::Wings;
pub(crate) use waltron_test_support::wing::{Played, Seen, capability, failed, of};

pub(crate) const WINGS: Wings = Wings(&[&BreakerWing]);

pub(crate) fn asset(text: &str) -> Asset {
    waltron_test_support::wing::asset(WINGS, text)
}

/// What nobody there to answer says.
pub(crate) fn nobody(question: &Question) -> Answer {
    question.default_answer().unwrap_or(Answer::Stop)
}

/// Three poles, one drive, two trip coils; its limits are those of a maker's report.
pub(crate) const ASSET: &str = r#"
[asset]
kind = "circuit-breaker"
tag = "B"
[ratings]
voltage = "24 kV"
current = "1250 A"
frequency = "50 Hz"
[breaker]
mechanism = "spring"
earthed = "cable side"
[[coil]]
id = "close"
does = "close"
voltage = "110 V"
resistance = "55 Ohm"
[[coil]]
id = "trip 1"
does = "trip"
voltage = "110 V"
resistance = "55 Ohm"
[[coil]]
id = "trip 2"
does = "trip"
voltage = "110 V"
resistance = "55 Ohm"
[[auxiliary]]
id = "52a"
follows = true
[[auxiliary]]
id = "52b"
follows = false
[motor]
voltage = "110 V"
[transducer]
stroke = "60 deg"
shows = "10 V"
[limits]
opening_time = { min = "18 ms", max = "32 ms" }
closing_time = { min = "30 ms", max = "55 ms" }
close_open_time = { max = "60 ms" }
open_close_time = { min = "300 ms", max = "400 ms" }
pole_spread_opening = { max = "2 ms" }
pole_spread_closing = { max = "2 ms" }
bounce_time = { max = "2 ms" }
auxiliary_lag = { min = "-5 ms", max = "12 ms" }
coil_peak = { min = "0.8 A", max = "2 A" }
coil_plateau = { min = "1.8 A", max = "2.2 A" }
notch_time = { max = "16 ms" }
stroke = { min = "57 deg", max = "63 deg" }
overtravel = { max = "6 deg" }
"#;

/// The same breaker as it is, with further keys of its mechanism.
pub(crate) fn specimen(mechanism: &str, more: &str) -> String {
    let contact = |name: &str| {
        format!("[[contact]]\nat = \"{name}\"\nbounce = \"0.6 ms\"\nresistance = \"30 uOhm\"\n")
    };
    let coil = |name: &str, closes: bool| {
        format!(
            "[[coil]]\nat = \"{name}\"\ncloses = {closes}\nvoltage = \"110 V\"\nresistance = \"55 Ohm\"\ntime_constant = \"5 ms\"\nplunger = \"5 ms\"\n"
        )
    };
    let text = [
        "[specimen]\nkind = \"breaker\"\n[breaker]\nclosing = \"28 ms\"\nopening = \"14 ms\"\nclosing_latch = \"3 ms\"\nopening_latch = \"2 ms\"\nbattery = \"110 V\"\ntransducer = \"10 V\"\n",
        mechanism,
        &["L1", "L2", "L3"].map(contact).concat(),
        &coil("close", true),
        &coil("trip 1", false),
        &coil("trip 2", false),
        "[[auxiliary]]\nat = \"52a\"\nfollows = true\n[[auxiliary]]\nat = \"52b\"\nfollows = false\n",
        "[motor]\nvoltage = \"110 V\"\ninrush = \"12 A\"\ncurrent = \"3 A\"\ntime = \"6 s\"\n",
        more,
    ];
    text.concat()
}

/// A rig with a control voltage, a direct current, commands, contacts and meters.
pub(crate) fn rig() -> String {
    let mut text = String::from(
        "[rig]\nkind = \"virtual\"\nname = \"r\"\nspecimen = \"s\"\nswitches_leads = true\ntiming_resolution = \"50 us\"\ntiming_accuracy = \"0.1 ms\"\n\
         [[voltage]]\nid = \"vc\"\nmeaning = \"control voltage\"\nrange = \"250 V\"\nkind = \"dc\"\n\
         [[current]]\nid = \"ip\"\nmeaning = \"pole current\"\nrange = \"200 A\"\nkind = \"dc\"\ncompliance = \"6 V\"\n",
    );
    for name in ["close command", "trip 1 command", "trip 2 command", "motor supply"] {
        text += &format!("[[switch]]\nid = \"{name}\"\nmeaning = \"{name}\"\n");
    }
    for name in ["L1", "L2", "L3", "52a", "52b", "spring charged"] {
        text += &format!("[[input]]\nid = \"{name}\"\nmeaning = \"{name}\"\n");
    }
    for (name, measures, range) in [
        ("close coil current", "current", "20 A"),
        ("trip 1 coil current", "current", "20 A"),
        ("trip 2 coil current", "current", "20 A"),
        ("motor current", "current", "50 A"),
        ("travel", "voltage", "12 V"),
        ("pole current", "current", "200 A"),
        ("pole voltage", "voltage", "50 mV"),
    ] {
        let least = if measures == "current" { "1 mA" } else { "10 uV" };
        text += &format!(
            "[[meter]]\nid = \"{name}\"\nmeaning = \"{name}\"\nmeasures = \"{measures}\"\nrange = \"{range}\"\naccuracy = \"0.1 % + {least}\"\n"
        );
    }
    text
}
