//! Files to begin with: an asset to fill in, and the tests that follow from one.

use super::asset::DcBreaker;
use waltron_core::wing::Depth;

const DIRECT_CURRENT: &str = r#"# A high-speed direct-current breaker: fill in its nameplate, the setting of its release, and the limits.

[asset]
kind = "dc-breaker"
tag = "TR1-Q1"
operator = "Tidewell Grid"
site = "Brackwater 110/20 kV"
bay = "TR1"
maker = "Halden Switchworks"
model = "DX-40"
serial = "HX-1180"

[ratings]
voltage = "750 V"
current = "2600 A"
most = "10 kA"              # no test drives more through it

[release]
setting = "4 kA"
tolerance = "5 %"

[limits]
opening_time = { max = "7 ms" }      # from the setting passed to the contacts parting
making_current = { min = "3.2 kA" }  # against which it closes and stays closed
level_spread = { max = "80 A" }      # between the pulses of one rate of rise

# In the order of the current's way.
[[joint]]
id = "main contacts"
resistance = { max = "40 uOhm" }

[[joint]]
id = "upper joint"
resistance = { max = "15 uOhm" }

[[joint]]
id = "lower joint"
resistance = { max = "15 uOhm" }

# What is written at its terminals, for the hook-up sheet.
[terminals]
"main voltage" = "upper and lower terminal, bolted; the meter inside of both"
"main current" = "nothing to connect: within the rig"
"joint current" = "on both sides of what is measured"
"joint voltage" = "on both sides of what is measured, inside the current"
"close command" = "X1: 1, 2"
"open command" = "X1: 3, 4"
"#;

/// A new asset file.
pub(crate) fn asset() -> String {
    DIRECT_CURRENT.to_owned()
}

/// The tests of a day's work, in its order: what loads it least comes first.
pub(crate) fn tests(of: &DcBreaker, depth: Depth) -> String {
    let mut out = String::new();
    let mut add = |why: &str, id: &str, more: &str| {
        out.push_str(&format!("# {why}\n[[test]]\nid = \"{id}\"\nprocedure = \"{id}\"\n{more}\n"));
    };
    if !of.joints.is_empty() {
        add("Contacts and joints, four wires, place by place.", "joint-resistance", "");
    }
    let more = match depth {
        Depth::Commissioning => "",
        _ => "rates = [\"200 A/s\", \"400 A/s\"]\ntimes = 2\n",
    };
    add("Ramps of several rates, extrapolated to none: the setting itself.", "trip-level", more);
    add("From the setting passed to the contacts parting, on a step.", "opening-time", "");
    if of.making_a.is_some() {
        add("It closes against rising currents, and must stay closed.", "making", "");
    }
    out
}
