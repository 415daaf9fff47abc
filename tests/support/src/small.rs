//! A power transformer so small that it charges in tenths of a second: its files.

/// What it is really like.
pub const SPECIMEN: &str = r#"
[specimen]
kind = "power-transformer"
[power_transformer]
frequency = "50 Hz"
volts_per_turn = "2 V"
exciting = "2 A"
yoke = "1 A"
losses = "1 A"
saturation = "115 %"
coercive = "1 A"
off_drop = "1 V"
[[winding]]
turns = 300
resistance = "0.8 Ohm"
coils = [{ at = "1U-1N", limb = 1 }, { at = "1V-1N", limb = 2 }, { at = "1W-1N", limb = 3 }]
[[winding]]
turns = 100
resistance = "0.2 Ohm"
coils = [{ at = "2W-2U", limb = 1 }, { at = "2U-2V", limb = 2 }, { at = "2V-2W", limb = 3 }]
[[tap_changer]]
id = "OLTC"
winding = 1
positions = 3
principal = 2
step = 9
takes = "120 ms"
resistor = "2 Ohm"
"#;

/// What it is told to be.
pub const ASSET: &str = r#"
[asset]
kind = "power-transformer"
tag = "T9"
[ratings]
frequency = "50 Hz"
power = "2 MVA"
vector_group = "YNd5"
[[winding]]
voltage = "6 kV"
test_current = "10 A"
[[winding]]
voltage = "2 kV"
[[tap_changer]]
kind = "on-load"
winding = 1
positions = 3
step = "3 %"
"#;

/// Its winding resistances, in a hurry.
pub const PLAN: &str = r#"
[plan]
title = "Short readings"
asset = "t9.asset.toml"
rig = "bench.rig.toml"
[[test]]
id = "w"
procedure = "winding-resistance"
temperature = "20 degC"
current = "8 A"
steady = "1 %"
steady_for = "250 ms"
at_most = "20 s"
"#;

/// The sample rig for power transformers with this one on it, in `t9.specimen.toml`; its source has so many volts.
pub fn rig(volts: f64) -> String {
    let text = include_str!("../../../examples/t2.rig.toml");
    let text = text.replace("t2.specimen.toml", "t9.specimen.toml");
    text.replace("compliance = \"50 V\"", &format!("compliance = \"{volts} V\""))
}
