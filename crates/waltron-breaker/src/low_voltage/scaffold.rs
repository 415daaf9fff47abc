//! Files to begin with: an asset to fill in, and the tests that follow from one.

use super::asset::{Acts, LvBreaker};
use waltron_core::wing::Depth;

const LOW_VOLTAGE: &str = r#"# A low-voltage breaker: fill in frame, sensor or plug, and the settings of its trip unit.

[asset]
kind = "lv-breaker"
tag = "NS1-Q1"
operator = "Tidewell Grid"
site = "Brackwater 110/20 kV"
bay = "NS1"
maker = "Halden Switchworks"
model = "LT-16"
serial = "HL-40077"

[ratings]
voltage = "400 V"
frequency = "50 Hz"

[breaker]
frame = "1600 A"
sensor = "1600 A"           # sensor or plug; multiples of pickups refer to it
poles = ["L1", "L2", "L3"]  # with "N" where it has a fourth one
neutral_sensor = false

[trip_unit]
model = "LT"
band = "halden-lt"          # or "generic", "halden-mk"; or type your own as [[region]] below
thermal_memory = true
setting_group = "A"

[[function]]
id = "long-time"
pickup = "0.8 x"
delay = "12 s"              # at 6 x of its pickup

[[function]]
id = "short-time"
pickup = "4 x"
delay = "300 ms"            # definite; with `at` it follows I²t up to there

[[function]]
id = "instantaneous"
pickup = "10 x"

[[function]]
id = "ground-fault"
pickup = "0.3 x"
delay = "200 ms"
enabled = true

# A band of your own, from the curve sheet: multiples of the pickup, and times.
# [[region]]
# function = "long-time"
# pickup = ["105 %", "130 %"]
# shape = "points"
# lower = [["1.3 x", "420 s"], ["3 x", "22 s"], ["10 x", "1.2 s"]]
# upper = [["1.3 x", "7200 s"], ["3 x", "75 s"], ["10 x", "6 s"]]

# What is written at its terminals, for the hook-up sheet.
[terminals]
"pole current" = "upper and lower terminal of the pole, bolted"
"pole voltage" = "the same terminals, inside the current leads"
"52a" = "X3: 1, 2"
"#;

/// A new asset file.
pub(crate) fn asset() -> String {
    LOW_VOLTAGE.to_owned()
}

/// The tests of a day's work, in its order: what heats most comes last.
pub(crate) fn tests(of: &LvBreaker, depth: Depth) -> String {
    let mut out = String::new();
    let mut add = |why: &str, id: &str, procedure: &str, more: &str| {
        out.push_str(&format!(
            "# {why}\n[[test]]\nid = \"{id}\"\nprocedure = \"{procedure}\"\n{more}\n"
        ));
    };
    let has = |acts: Acts| of.function(acts).is_some();
    if has(Acts::GroundFault) {
        let words = "The current at which the poles do not add up, timed; a sensor in the neutral is looked at, too.";
        add(words, "ground-fault", "ground-fault", "");
    }
    if has(Acts::Instantaneous) {
        let words = "Pulses of a few cycles that rise until it opens within one.";
        add(words, "instantaneous", "instantaneous", "");
    }
    let (instant, short) = (of.function(Acts::Instantaneous), of.function(Acts::ShortTime));
    if let Some(short) = short {
        // Below what is instantaneous.
        let most = instant.map_or(f64::INFINITY, |f| 0.85 * f.pickup_a / short.pickup_a);
        let at = if most < 1.5 {
            format!("at = [\"{:.2} x\"]\n", most.max(1.15))
        } else {
            String::new()
        };
        add("A current above its pickup, timed.", "short-time", "short-time", &at);
    }
    if has(Acts::LongTime) {
        add("Three times its pickup, timed, pole by pole.", "long-time", "long-time", "");
        if depth == Depth::Commissioning {
            let words = "The conventional non-tripping current: two hours a pole by the standard.";
            add(words, "no-trip", "no-trip", "time = \"2 h\"\npoles = [\"L1\"]\n");
        }
    }
    out
}
